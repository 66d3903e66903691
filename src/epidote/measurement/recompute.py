"""A run computed again from its recordings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Protocol

from epidote.core.analysis.delay.clock_offset import ClockOffset, with_clock
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution, unique
from epidote.core.results.result import Result
from epidote.core.settings import Settings, analysis_settings, labelled, make_settings
from epidote.measurement.processing import analyse, baseline_of, with_baseline
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import finished_run
from epidote.study.models import FinishedRun, RunSummary
from epidote.study.store import Study

_PRECHECK_CAUTIONS = (
    Caution.CALIBRATION_STALE,
    Caution.WRONG_CHANNEL,
    Caution.TOO_QUIET,
    Caution.UNSTEADY,
    Caution.PROCESSING,
    Caution.HUM,
)


class ClocksOfRecorders(Protocol):
    """clocks: of recorders that ran by themselves, at ``rate`` Hz."""

    @property
    def clocks(self) -> Sequence[ClockOffset]: ...

    @property
    def rate(self) -> float: ...


def recompute(study: Study, run_id: int, changes: Mapping[str, Any]) -> RunSummary:
    """Return a new run from the kept recordings of another, with some settings changed, against the baseline there is
    now; nothing is played.
    """
    old = study.run(run_id)
    model = procedure(old.procedure).Settings
    with labelled(model):
        return _recompute(study, old, model, changes)


def _recompute(study: Study, old: RunSummary, model: type[Settings], changes: Mapping[str, Any]) -> RunSummary:
    order = recompute_order(old, model, changes)
    acquired = study.acquired(old.id)
    result = analyse(order.procedure, acquired.recordings, order.settings, order.chain)
    return study.add_run(recomputed_run(study, old, order, result, clocks=acquired))


def recompute_order(old: RunSummary, model: type[Settings], changes: Mapping[str, Any]) -> RunPlan:
    """Return the order by which a run is computed again. Raises SettingError for what cannot be changed so."""
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
    return RunPlan(old.subject_id, old.column_id, old.procedure, settings, old.chain)


def recomputed_run(
    study: Study, old: RunSummary, order: RunPlan, analysed: Result, *, clocks: ClocksOfRecorders, digest: str = ""
) -> FinishedRun:
    """Return a run as it is kept, from what its recordings say by themselves: against the baseline there is now.

    clocks: of the recorders, as the recordings told them.
    """
    compared = with_baseline(analysed, order.chain, baseline_of(study, order))
    result = with_clock(compared, clocks.clocks, clocks.rate)
    kept_cautions = [
        c for c in _PRECHECK_CAUTIONS if str(c) in old.cautions
    ]  # what only the bench could tell stays true
    result = replace(result, cautions=unique((*result.cautions, *kept_cautions)))
    kept = finished_run(order, old.device, result, (), source=old.recomputed_from or old.id)
    return replace(kept, digest=digest)
