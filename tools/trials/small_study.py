"""A small measured study over stand-ins, for the trials."""

from __future__ import annotations

from pathlib import Path

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.runner import measure
from epidote.study.store import Study, create_study

COLUMNS = (("response", {"duration": 0.6, "level": -20}), ("tone", {"duration": 0.2, "level": -20}))


def make_small_study(path: Path) -> Path:
    """Three rows, two columns, four runs."""
    study = create_study(path, "Small")
    chain = Chain(name="Bench", rate=48000, output_full_scale=4.0, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0)
    study.set_setting("chain", chain_to_toml(chain))
    p40, a25 = study.add_unit("Ostrel", "P40"), study.add_unit("Havelmar", "A25")
    rows = [
        study.add_subject(p40, {"gain": "high"}, "standin:ostrel-p40"),
        study.add_subject(a25, {"load": "8 Ω"}, "standin:havelmar-a25"),
    ]
    study.add_subject(p40, {"gain": "low"}, "standin:ostrel-p40")
    for key, settings in COLUMNS:
        add_column(study, key, make_settings(procedure(key).Settings, settings))
    study.set_setting("reference", str(rows[0].id))
    for row in rows:
        for column in range(len(COLUMNS)):
            measure_cell(study, row.id, column, seed=3)
    study.close()
    return study.path


def measure_cell(study: Study, row: int, column: int, seed: int) -> int:
    """Measure one cell as fast as the stand-in can; the run's number."""
    overview = study.overview()
    subject, where = overview.subject(row), overview.columns[column]
    assert subject is not None
    chain = chain_for_subject(study, subject)
    settings = make_settings(procedure(where.procedure).Settings, where.settings)
    device = open_for_chain(chain, subject.device or "standin:wire", subject.conditions, seed=seed)
    return measure(study, RunPlan(subject.id, where.id, where.procedure, settings, chain), device).id
