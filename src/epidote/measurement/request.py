"""What is to be measured: one run, its cell, settings and chain."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.settings import Settings, make_settings
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.study.models import Column
from epidote.study.store import Study, create_study


@dataclass(frozen=True)
class RunPlan:
    """One run to carry out: which cell, with which settings, chain and device.

    sound_level: such as "80 dB(A)", where the generator level is to be found that gives it.
    """

    subject_id: int
    column_id: int
    procedure: str
    settings: Settings
    chain: Chain
    sound_level: str = ""


def add_column(study: Study, key: str, settings: Settings) -> Column:
    """Return a column for a procedure with these settings; the one that is there already if there is one."""
    values = settings.model_dump(mode="json")
    column = study.queries.column_with(key, values)
    if column is not None:
        return column
    proc = procedure(key)
    added = study.add_column(key, values, proc.title, proc.summary(settings))
    study.title_columns(key)
    return study.queries.column_with(key, values) or added


def new_study(path: Path, title: str) -> Study:
    """Make a study with the columns that every new one has. Raises StudyError."""
    study = create_study(path, title)
    for key, proc in procedures().items():
        if proc.in_new_study:
            add_column(study, key, proc.Settings())
    return study


def baseline_orders(study: Study, *, only_present: bool = False) -> list[RunPlan]:
    """Every procedure that says something about a chain, on the baseline row: in each column there is, and in a new
    one where there is none, unless only those ``only_present`` are wanted.
    """
    row = next(s for s in study.overview().subjects if s.is_baseline)
    fitting = {k: p for k, p in procedures().items() if p.of_the_chain}
    present = {c.procedure for c in study.overview().columns}
    for key, proc in fitting.items():
        if key not in present and not only_present:
            add_column(study, key, proc.Settings())
    chain = chain_for_subject(study, row)
    return [
        RunPlan(
            row.id,
            c.id,
            c.procedure,
            fitting[c.procedure]().wired(make_settings(fitting[c.procedure].Settings, c.settings)),
            chain,
        )
        for c in study.overview().columns
        if c.procedure in fitting
    ]
