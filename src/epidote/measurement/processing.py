"""From recordings to a result, compared with the baseline."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from epidote.core.calibration.microphone_correction import apply_microphone_correction
from epidote.core.chain.chain import Chain
from epidote.core.comparison.baseline import against_baseline
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution, unique
from epidote.core.results.kinds import CurveRole, curve_kind
from epidote.core.results.level_readings import with_level_readings
from epidote.core.results.result import Curve, Result
from epidote.core.settings import Settings, make_settings
from epidote.core.signals.recording import Recording
from epidote.measurement.request import RunPlan
from epidote.study.models import RunSummary
from epidote.study.store import Study


@dataclass(frozen=True)
class Baseline:
    """What the chain itself did with the same settings.

    unfit: in what that chain differed, so that it cannot be used.
    """

    result: Result
    chain: Chain
    unfit: tuple[str, ...]


def analyse(key: str, recordings: Sequence[Recording], settings: Settings, chain: Chain) -> Result:
    """Analyse, take the microphone's own response out, and mark what the chain itself makes doubtful."""
    result: Result = apply_microphone_correction(procedure(key).analyse(recordings, settings, chain), chain)
    more = []
    if procedure(key).of_levels and chain.load_ohms is not None and not chain.load_confirmed and chain.calibrated:
        more.append(Caution.LOAD_UNCONFIRMED)
    if any(r.clock for r in recordings):
        more.append(Caution.OTHER_CLOCK)
    limits = [r.band_limit for r in recordings if r.band_limit is not None]
    if limits and any(c.x_unit == "Hz" and c.x[-1] > min(limits) for c in result.curves if c.x.size):
        more.append(Caution.RECORDER_RATE)
        result = _within(result, min(limits))
    if more:
        return replace(result, cautions=unique((*result.cautions, *more)))
    return result


def _within(result: Result, limit: float) -> Result:
    """Return the result without what its curves say above a frequency in Hz; what is read off a response is read
    again.
    """
    curves = tuple(cut for c in result.curves if (cut := _below(c, limit)) is not None)
    readings = with_level_readings(result.readings, (c for c in curves if curve_kind(c.key).role is CurveRole.RESPONSE))
    return replace(result, curves=curves, readings=readings)


def _below(curve: Curve, limit: float) -> Curve | None:
    """Return the part of a curve below a frequency; None where nothing is left."""
    if curve.x_unit != "Hz":
        return curve
    inside = curve.x <= limit
    if not inside.any():
        return None
    floor = None if curve.floor is None else curve.floor[inside]
    return replace(curve, x=curve.x[inside], y=curve.y[inside], floor=floor)


def baseline_of(study: Study, order: RunPlan) -> Baseline | None:
    """Return the baseline's latest run in the order's column.

    None when there is none, or when the order is the baseline's own.
    """
    run = study.queries.baseline_run(order.column_id)
    if run is None or run.subject_id == order.subject_id:
        return None
    return Baseline(result_of_run(study, run), run.chain, order.chain.differs_from(run.chain))


def result_of_run(study: Study, run: RunSummary) -> Result:
    """Return a stored run as a result, without the cautions of the whole."""
    return Result(study.curves(run.id), run.readings)


def with_baseline(result: Result, chain: Chain, baseline: Baseline | None) -> Result:
    """Return the result less the chain's own, or cautioned when the baseline does not apply."""
    if baseline is None:
        return result
    if baseline.unfit:
        return replace(result, cautions=unique((*result.cautions, Caution.BASELINE_UNFIT)))
    ours, theirs = chain.scale(1)[0], baseline.chain.scale(1)[0]
    return against_baseline(result, baseline.result, ours / theirs if ours and theirs else 1.0)


def process(study: Study, order: RunPlan, recordings: Sequence[Recording]) -> Result:
    """Return what an order's recordings say, read against the baseline there is now."""
    result = analyse(order.procedure, recordings, order.settings, order.chain)
    return with_baseline(result, order.chain, baseline_of(study, order))


def step_curves(study: Study, run: RunSummary, x: float) -> tuple[Curve, ...]:
    """One step of a run's staircase as curves, from its kept recordings; ``x``: what was stepped, dBFS or Hz."""
    proc = procedure(run.procedure)
    settings = make_settings(proc.Settings, run.settings)
    curves: tuple[Curve, ...] = proc.step_curves(study.recordings(run.id), settings, run.chain, x)
    return curves
