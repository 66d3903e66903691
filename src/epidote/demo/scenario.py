"""The dome refit: which rows and columns there are, and the runs that fill them. Nothing here is a result."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

import platformdirs

from epidote.bench import open_for
from epidote.conductor import Order, add_column, measure, study_chain
from epidote.core.chain import Chain
from epidote.core.chain_file import chain_to_toml
from epidote.core.procedures.base import make_settings, procedure
from epidote.study.store import SUFFIX, Study, create_study

# raised whenever what is measured changes, so that an older demo on disk is left as it is and a new one made
EDITION = 3
TITLE = "Dome refit"

CHAIN = Chain(
    name="Dome bench", rate=96000, output_full_scale=4.0, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0, load_confirmed=False,
    calibrated_on=date(2026, 11, 21),
)  # fmt: skip

COLUMNS: tuple[tuple[str, Mapping[str, Any]], ...] = (
    ("response", {"stop_frequency": 40000, "level": -20}),
    ("tone", {"frequency": 1000, "level": -20}),
    ("tone", {"frequency": 6000, "level": -20, "band_high": 40000}),
    ("noise", {"reference_level": "12.65 V"}),
)


@dataclass(frozen=True)
class Row:
    maker: str
    model: str
    conditions: Mapping[str, str]
    device: str
    notes: str = ""


ROWS = (
    Row("Ostrel", "P40", {"gain": "high", "load": "8 Ω"}, "standin:ostrel-p40", "Front half of the dome. Two-channel class AB, on loan."),
    Row("Ostrel", "P40", {"gain": "low", "load": "8 Ω"}, "standin:ostrel-p40"),
    Row(
        "Havelmar", "A25", {"load": "8 Ω"}, "standin:havelmar-a25", "From the old installation: eleven years in the plinth, never serviced."
    ),
)


def demo_path() -> Path:
    """Where the demo study lives: the user's data folder."""
    return Path(platformdirs.user_data_path("epidote")) / f"{TITLE} {EDITION}{SUFFIX}"


def open_demo(path: Path | None = None) -> Study:
    """The demo study, made with its rows and columns if it is not there yet; see ``missing_orders`` for what is left to measure."""
    where = path or demo_path()
    if where.exists():
        return Study(where)
    where.parent.mkdir(parents=True, exist_ok=True)
    study = create_study(where, TITLE)
    study.set_setting("chain", chain_to_toml(CHAIN))
    units = {}
    for row in ROWS:
        if row.model not in units:
            units[row.model] = study.add_unit(row.maker, row.model, notes=row.notes)
        subject = study.add_subject(units[row.model], row.conditions, row.device)
        if row is ROWS[0]:
            study.set_setting("reference", str(subject.id))
    baseline = next(s for s in study.overview().subjects if s.is_baseline)
    study.update_subject(type(baseline)(baseline.id, None, {}, "standin:wire", 0, baseline.position))
    for key, settings in COLUMNS:
        add_column(study, key, make_settings(procedure(key).Settings, settings))
    return study


def missing_orders(study: Study) -> list[Order]:
    """What is still to be measured of the demo, in the order of rows: the baseline first, since the others use it."""
    overview = study.overview()
    orders = []
    for subject in sorted(overview.subjects, key=lambda s: not s.is_baseline):
        chain = study_chain(study, subject)
        for column in overview.columns:
            if (subject.id, column.id) not in overview.runs:
                settings = make_settings(procedure(column.procedure).Settings, column.settings)
                orders.append(Order(subject.id, column.id, column.procedure, settings, chain))
    return orders


def fill_demo(study: Study, said: Callable[[str], None]) -> None:
    """Measure what is missing, telling what is being done."""
    for order in missing_orders(study):
        subject = study.overview().subject(order.subject_id)
        assert subject is not None
        said(f"measuring {subject.full_name}: {procedure(order.procedure).title.lower()}")
        device = open_for(order.chain, subject.device, subject.conditions, seed=1)
        measure(study, order, device)
        device.close()
