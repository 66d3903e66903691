"""The dome refit: which rows and columns there are, and the runs that fill them. Nothing here is a result."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import date
from pathlib import Path
from typing import Any

import platformdirs

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.comparison.claims.parser import parse_claim
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.demo.line import run_line
from epidote.demo.listening import HEARD_COLUMNS, HEARD_ROWS, hear_demo
from epidote.demo.rows import Row
from epidote.demo.through_air import AIR_COLUMNS, AIR_ROWS, await_player
from epidote.measurement.chain_for_row import chain_for_subject, set_chain_of_subject
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.service import carry_out
from epidote.study.models import Owner
from epidote.study.store import SUFFIX, Study, create_study

# raised whenever what is measured changes, so that an older demo on disk is left as it is and a new one made
EDITION = 13
TITLE = "Dome refit"

CHAIN = Chain(
    name="Dome bench",
    rate=96000,
    output_full_scale=4.0,
    input_full_scale=8.0,
    probe_ratio=4.0,
    load_ohms=8.0,
    load_confirmed=False,
    calibrated_on=date(2026, 11, 21),
)

# by a name of this file's own, in the order of the matrix
COLUMNS: Mapping[str, tuple[str, Mapping[str, Any]]] = {
    "response": ("response", {"stop_frequency": 40000, "level": -20}),
    "tone": ("tone", {"frequency": 1000, "level": -20}),
    "level": ("distortion-level", {"start_level": "-56 dBFS", "stop_level": "-8 dBFS", "steps": 24, "dwell": 0.25}),
    "frequency": ("distortion-frequency", {"level": "5 W", "points_per_octave": 2, "dwell": 0.25}),
    "noise": ("noise", {"reference_level": "12.65 V", "duration": 3}),
    "intermodulation": ("intermodulation", {"level": -18}),
    "swept": ("intermodulation", {"sweep_from": 1000, "frequency_2": 20000, "level": -18}),
    "by noise": (
        "response",
        {"stimulus": "noise", "start_frequency": 5, "stop_frequency": 40000, "duration": 4, "level": -26},
    ),
    "multitone": ("multitone", {"level": -14, "per_octave": 6}),
    "latency": ("latency", {"shots": 8, "restart": True, "longest": 0.1, "level": -20}),
    "paths": ("paths", {"duration": 5, "level": -26}),
    "crosstalk": ("crosstalk", {"level": -20}),
    "gain": ("gain", {"level": -26, "output_level": "1 V"}),
    **HEARD_COLUMNS,
    **AIR_COLUMNS,
}


# as the (invented) makers' leaflets have it
CLAIMS: Mapping[str, tuple[str, ...]] = {
    "P40": (
        "2 × 40 W at 1 %, 8 Ω",
        "THD+N < 0.01 %, 1 kHz, 5 W, 8 Ω",
        "frequency response 20 Hz-20 kHz ±0.2 dB",
        "SNR 110 dB(A) re 20 W",
        "Gain 26 dB",
    ),
    "A25": (
        "2 × 35 W into 8 Ω at 1 % THD+N",
        "THD+N < 0.03 %, 1 kHz, 5 W",
        "frequency response 20 Hz-20 kHz ±0.5 dB",
        "Signal-to-noise ratio > 100 dB, A-weighted",
    ),
    "C12": ("12 W at 2 %, 8 Ω",),
    "S60": ("60 W at 1 %, 8 Ω", "Frequency response 20 Hz to 20 kHz ±1 dB"),
    "I4": ("Crosstalk -90 dB at 1 kHz", "Channel matching < 0.3 dB"),
    "L8": ("latency 1.8 ms at 32 samples, 96 kHz", "latency < 3.5 ms at 128 samples, 96 kHz"),
}
LEAFLET = "manufacturer's data sheet, 2025"
NOTES = {
    "A25": "Left channel's speaker terminal was loose; tightened before the first run.",
    "K3": "Bias as received: 4 mV across the emitter resistors. Warm: 22 mV.",
}
REPEATED = {
    ("P40", "tone"): 4,
    ("A25", "tone"): 4,
}  # measured so often more, the first row of the unit: what is real needs repeats

_WHOLE = tuple(c for c in COLUMNS if c not in ("latency", "paths", *AIR_COLUMNS, *HEARD_COLUMNS))
ROWS = (
    Row(
        "Ostrel",
        "P40",
        {"gain": "high", "load": "8 Ω"},
        "standin:ostrel-p40",
        (*_WHOLE, *HEARD_COLUMNS),
        "Front half of the dome. Two-channel class AB, on loan.",
    ),
    Row("Ostrel", "P40", {"gain": "low", "load": "8 Ω"}, "standin:ostrel-p40", ("response", "tone", "noise", "gain")),
    Row(
        "Havelmar",
        "A25",
        {"load": "8 Ω"},
        "standin:havelmar-a25",
        (*_WHOLE, *HEARD_COLUMNS),
        "From the old installation: eleven years in use, never serviced.",
    ),
    Row(
        "Tamsel",
        "C12",
        {"load": "8 Ω"},
        "standin:tamsel-c12",
        ("level", "frequency"),
        "Visitors' foyer. Low loop gain by design, according to its data sheet.",
    ),
    Row(
        "Orvane",
        "K3",
        {"bias": "cold", "load": "8 Ω"},
        "standin:orvane-k3",
        ("tone", "level"),
        "Rear half of the dome, bias as it came back from repair.",
    ),
    Row("Orvane", "K3", {"bias": "warm", "load": "8 Ω"}, "standin:orvane-k3", ("tone", "level")),
    Row(
        "Quillmar",
        "S60",
        {"load": "8 Ω"},
        "standin:quillmar-s60",
        ("response", "level", "noise"),
        "Switching amplifier offered for the sub-bass.",
    ),
    Row(
        "Breskan",
        "R7",
        {"path": "direct", "load": "8 Ω"},
        "standin:breskan-r7",
        ("response", "noise"),
        "Control room monitor receiver.",
    ),
    Row("Breskan", "R7", {"path": "digital", "load": "8 Ω"}, "standin:breskan-r7", ("response", "noise")),
    Row(
        "Lunvik",
        "D2",
        {"filter": "fast", "load": "10 kΩ"},
        "standin:lunvik-d2",
        ("response", "multitone"),
        "Converter in the control room rack.",
    ),
    Row("Lunvik", "D2", {"filter": "slow", "load": "10 kΩ"}, "standin:lunvik-d2", ("response", "multitone")),
    Row("Lunvik", "D2", {"filter": "soft", "load": "10 kΩ"}, "standin:lunvik-d2", ("response", "multitone")),
    Row(
        "Pellworth",
        "I4",
        {"volume": "full", "load": "10 kΩ"},
        "standin:pellworth-i4",
        ("crosstalk", "gain"),
        "The presenter's interface.",
    ),
    Row("Pellworth", "I4", {"volume": "half", "load": "10 kΩ"}, "standin:pellworth-i4", ("gain",)),
    Row("Pellworth", "I4", {"volume": "quarter", "load": "10 kΩ"}, "standin:pellworth-i4", ("gain",)),
    Row(
        "Sorvane",
        "L8",
        {"connection": "short", "buffer": "32", "load": "10 kΩ", "probe": "1:1"},
        "standin:sorvane-l8",
        ("latency",),
        "Interface of the presenter's in-ear feed.",
    ),
    Row(
        "Sorvane",
        "L8",
        {"connection": "short", "buffer": "128", "load": "10 kΩ", "probe": "1:1"},
        "standin:sorvane-l8",
        ("latency",),
    ),
    Row(
        "Sorvane",
        "L8",
        {"connection": "long", "buffer": "32", "load": "10 kΩ", "probe": "1:1"},
        "standin:sorvane-l8",
        ("latency",),
    ),
    Row(
        "Tolmark",
        "X1",
        {"load": "10 kΩ", "probe": "1:1"},
        "standin:tolmark-x1",
        ("latency",),
        "Converter in the in-ear feed, behind a digital link.",
    ),
    Row(
        "Ferrin",
        "V9",
        {"output": "both", "load": "10 kΩ", "probe": "1:1"},
        "standin:ferrin-v9",
        ("latency",),
        "Voice effects of the night show.",
    ),
    Row(
        "Ferrin",
        "V9",
        {"output": "split", "program": "steady", "load": "10 kΩ", "probe": "1:1"},
        "standin:ferrin-v9",
        ("paths",),
    ),
    Row(
        "Ferrin",
        "V9",
        {"output": "split", "program": "moving", "load": "10 kΩ", "probe": "1:1"},
        "standin:ferrin-v9",
        ("paths",),
    ),
    Row(
        "Oskell",
        "N3",
        {"load": "10 kΩ", "probe": "1:1"},
        "standin:oskell-n3",
        ("paths",),
        "Audio-guide headphones, over the house network.",
    ),
    Row(
        "Velmora",
        "T2",
        {"inserted": "transformer", "load": "10 kΩ", "probe": "1:1"},
        "standin:velmora-t2",
        ("response", "by noise", "noise", *HEARD_COLUMNS),
        "Isolation box between desk and amplifier room: transformers, and 60 m of cable.",
    ),
    Row(
        "Velmora",
        "T2",
        {"inserted": "cable", "load": "10 kΩ", "probe": "1:1"},
        "standin:velmora-t2",
        ("response", "by noise", "noise"),
    ),
    Row(
        "Velmora",
        "T2",
        {"inserted": "transformer + cable", "load": "10 kΩ", "probe": "1:1"},
        "standin:velmora-t2",
        ("response", "by noise", "noise"),
    ),
    *HEARD_ROWS,
    *AIR_ROWS,
)


def demo_path() -> Path:
    """Where the demo study lives: the user's data folder."""
    return Path(platformdirs.user_data_path("epidote")) / f"{TITLE} {EDITION}{SUFFIX}"


def open_demo(path: Path | None = None) -> Study:
    """Return the demo study, made with its rows and columns if it is not there yet.

    See ``missing_orders`` for what is left to measure.
    """
    where = path or demo_path()
    if where.exists():
        return Study(where)
    where.parent.mkdir(parents=True, exist_ok=True)
    study = create_study(where, TITLE)
    study.set_setting("chain", chain_to_toml(CHAIN))
    study.set_setting("person", "dome workshop")
    units = {}
    for row in ROWS:
        if (row.maker, row.model) not in units:
            units[row.maker, row.model] = study.add_unit(row.maker, row.model, notes=row.notes)
        subject = study.add_subject(units[row.maker, row.model], row.conditions, row.device)
        if row.chain is not None:
            set_chain_of_subject(study, subject, row.chain)
        if row is ROWS[0]:
            study.set_setting("reference", str(subject.id))
    models = {unit.model: unit for unit in units.values()}  # no leaflet and no note is of a model that two makers have
    for model, texts in CLAIMS.items():
        for text in texts:
            claim = parse_claim(text, LEAFLET).claim
            assert claim is not None, text
            study.entries.add("claim", claim.model_dump(mode="json", exclude_none=True), Owner(unit=models[model].id))
    for model, note in NOTES.items():
        study.entries.add("note", {"text": note}, Owner(unit=models[model].id))
    baseline = next(s for s in study.overview().subjects if s.is_baseline)
    study.update_subject(type(baseline)(baseline.id, None, {}, "standin:wire", 0, baseline.position))
    for key, settings in COLUMNS.values():
        add_column(study, key, make_settings(procedure(key).Settings, settings))
    await_player(study)
    return study


def missing_orders(study: Study) -> list[RunPlan]:
    """Return what is still to be measured of the demo, in the order of rows: the baseline first, since the others use
    it.
    """
    overview = study.overview()
    names = {}
    for name, (key, values) in COLUMNS.items():
        names[key, str(make_settings(procedure(key).Settings, values).model_dump(mode="json"))] = name
    rows = {(row.maker, row.model, tuple(row.conditions.items())): row for row in ROWS}
    often = {
        (m, tuple(next(r for r in ROWS if r.model == m).conditions.items()), c): n for (m, c), n in REPEATED.items()
    }
    orders = []
    for subject in sorted(overview.subjects, key=lambda s: not s.is_baseline):
        if subject.unit is not None:
            row = rows.get((subject.unit.maker, subject.unit.model, tuple(subject.conditions.items())))
        else:
            row = None
        if subject.is_baseline:
            procedures_of_row = (*_WHOLE, "latency")
        elif row is not None:
            procedures_of_row = row.measured
        else:
            procedures_of_row = ()
        chain = chain_for_subject(study, subject)
        for column in overview.columns:
            proc = procedure(column.procedure)
            settings = make_settings(proc.Settings, column.settings)
            called = names.get((column.procedure, str(settings.model_dump(mode="json"))), "")
            if called not in procedures_of_row:
                continue
            if subject.unit is not None:
                more = often.get((subject.unit.model, tuple(subject.conditions.items()), called), 0)
            else:
                more = 0
            missing = 1 + more - overview.repeats.get((subject.id, column.id), 0)
            orders += [
                RunPlan(
                    subject.id,
                    column.id,
                    column.procedure,
                    proc.wired(settings) if subject.is_baseline else settings,
                    chain,
                )
            ] * max(0, missing)
    return orders


def telling_first(study: Study, orders: list[RunPlan]) -> list[RunPlan]:
    """Return the orders for somebody who watches: column by column, so that rows can be compared soon, the baseline
    of each column before the units, repeats at the end.
    """
    overview = study.overview()
    places = {c.id: n for n, c in enumerate(overview.columns)}
    rows = {s.id: n for n, s in enumerate(sorted(overview.subjects, key=lambda s: not s.is_baseline))}

    def rank(numbered: tuple[int, RunPlan]) -> tuple[bool, int, int]:
        number, order = numbered
        return order in orders[:number], places[order.column_id], rows[order.subject_id]

    return [order for _, order in sorted(enumerate(orders), key=rank)]


def fill_demo(study: Study, said: Callable[[str], None]) -> None:
    """Measure what is missing, telling what is being done: the baseline first, then two runs at a time."""

    def fill(order: RunPlan, seed: int) -> None:
        subject = study.overview().subject(order.subject_id)
        assert subject is not None
        said(f"Measuring {subject.full_name}: {procedure(order.procedure).title}")
        chain = order.chain.changed(device=subject.device)
        carry_out(study, replace(order, chain=chain), subject.conditions, seed=seed)

    orders = missing_orders(study)
    own = {s.id for s in study.overview().subjects if s.is_baseline}
    for chosen in ([o for o in orders if o.subject_id in own], [o for o in orders if o.subject_id not in own]):
        with ThreadPoolExecutor(2) as pool:
            for done in [pool.submit(fill, order, 1 + chosen[:n].count(order)) for n, order in enumerate(chosen)]:
                done.result()
    said("A simulated listener takes a blind test")
    hear_demo(study)
    run_line(study, said)
