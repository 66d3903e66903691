"""A source measured at a point, kept with the chain, so that later runs can make its sound flat there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from epidote.core.chain.chain import Chain, SourceAtPoint
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import UnusableInputError
from epidote.core.results.kinds import CurveRole, curve_kind
from epidote.study.chain_settings import setting_in_use
from epidote.study.models import RunSummary, StudyError
from epidote.study.store import Study

_LEAST_POINTS = 8


@dataclass(frozen=True)
class ChainChange:
    """A study's setting that holds a chain, with its text before and after; words: what was kept."""

    setting: str
    before: str
    after: str
    words: str


def source_of_run(study: Study, run: RunSummary, place: str = "") -> SourceAtPoint:
    """Return the source that a run measured at the point. Raises UnusableInputError where it measured none."""
    found = [c for c in study.curves(run.id) if curve_kind(c.key).role is CurveRole.SOURCE and c.y_unit == "dB SPL"]
    if not found or found[0].x.size < _LEAST_POINTS or not np.isfinite(found[0].y).all():
        raise UnusableInputError(
            "This run did not measure a source at a point. Measure “Microphone” with “Source, with the reference"
            " microphone” first, then save its result."
        )
    curve = found[0]
    points = tuple((round(float(f), 4), round(float(v), 4)) for f, v in zip(curve.x, curve.y, strict=True))
    return SourceAtPoint(
        on=run.made.astimezone().date(),
        place=place,
        microphone=str(curve.meta.get("microphone_serial", "")),
        inverted=bool(curve.meta.get("inverted", 0.0)),
        points=points,
    )


def change_to_keep_source(study: Study, run: RunSummary, place: str = "") -> ChainChange:
    """Return the change that puts a run's source into the chain that its row uses. Raises EpidoteError."""
    overview = study.overview()
    subject = overview.subject(run.subject_id)
    if subject is None:
        raise StudyError("The row was deleted. Nothing was saved; undo the deletion, or select another run.")
    source = source_of_run(study, run, place)
    setting = setting_in_use(overview.settings, subject)
    before = study.setting(setting)
    chain: Chain = chain_from_toml(before).changed(source=source.model_dump())
    low, high = source.band
    words = f"Source saved with the chain “{chain.name}”: {low:.0f} Hz to {high:.0f} Hz, measured on {source.on}."
    return ChainChange(setting, before, chain_to_toml(chain), words)


def keep_source(study: Study, run_id: int, place: str = "") -> ChainChange:
    """Put a run's source into the chain that its row uses. Raises EpidoteError; then the chain is as it was."""
    change = change_to_keep_source(study, study.run(run_id), place)
    study.set_setting(change.setting, change.after)
    return change
