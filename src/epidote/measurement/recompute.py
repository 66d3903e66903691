"""A run computed again from its recordings."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from epidote.core.analysis.delay.clock_offset import with_clock
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution, unique
from epidote.core.settings import Settings, analysis_settings, labelled, make_settings
from epidote.measurement.processing import process
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import store_run
from epidote.study.models import RunSummary
from epidote.study.store import Study

_PRECHECK_CAUTIONS = (
    Caution.CALIBRATION_STALE,
    Caution.WRONG_CHANNEL,
    Caution.TOO_QUIET,
    Caution.UNSTEADY,
    Caution.PROCESSING,
    Caution.HUM,
)


def recompute(study: Study, run_id: int, changes: Mapping[str, Any]) -> RunSummary:
    """Return a new run from the kept recordings of another, with some settings changed, against the baseline there is
    now; nothing is played.
    """
    old = study.run(run_id)
    model = procedure(old.procedure).Settings
    with labelled(model):
        return _recompute(study, old, model, changes)


def _recompute(study: Study, old: RunSummary, model: type[Settings], changes: Mapping[str, Any]) -> RunSummary:
    settings = make_settings(model, {**old.settings, **changes})
    before, free = make_settings(model, old.settings), analysis_settings(model)
    fixed = [n for n in model.model_fields if n not in free and getattr(settings, n) != getattr(before, n)]
    if fixed:
        raise SettingError(
            f"“{{{fixed[0]}}}” affects what is played and cannot be changed by recomputing; measure again instead. "
            f"Can be changed: {', '.join(f'{{{name}}}' for name in free)}.",
            *fixed[:1],
            *free,
        )
    order = RunPlan(old.subject_id, old.column_id, old.procedure, settings, old.chain)
    acquired = study.acquired(old.id)
    result = with_clock(process(study, order, acquired.recordings), acquired.clocks, acquired.rate)
    kept_cautions = [
        c for c in _PRECHECK_CAUTIONS if str(c) in old.cautions
    ]  # what only the bench could tell stays true
    result = replace(result, cautions=unique((*result.cautions, *kept_cautions)))
    return store_run(study, order, old.device, result, (), source=old.recomputed_from or old.id)
