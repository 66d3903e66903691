"""The one service that carries a run through: procedure, chain, device and study together, for desktop, demo and command line alike."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import epidote.audio.files.sound_file  # noqa: F401  procedures that play a sound file read it through this
from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.analysis.delay.clock_offset import MarkedRecording, with_clock
from epidote.core.calibration.microphone_correction import apply_microphone_correction
from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml
from epidote.core.comparison.baseline import against_baseline
from epidote.core.comparison.conditions.latency_table import Latency, latencies_of
from epidote.core.errors import CancelledError, MeasurementError, SettingError, UnusableInputError
from epidote.core.procedures.protocol import InterruptibleStimulus, precheck_level, procedure, procedures, stimulus_of
from epidote.core.results.caution import Caution, unique
from epidote.core.results.result import Curve, Reading, Result
from epidote.core.settings import Settings, analysis_settings, labelled, make_settings
from epidote.core.signals.signal import Recording, Samples, Section, Signal, Stimulus
from epidote.measurement.device_setup import BenchNotReadyError, no_progress, not_cancelled, run_precheck
from epidote.study.curve_codec import thumbnail_points
from epidote.study.models import Column, ReadOnlyError, RunSummary, StudyError, Subject
from epidote.study.store import Study

_BYTES_PER_SAMPLE = 4
_SPARE_BYTES = 20 * 1024 * 1024


@dataclass(frozen=True)
class RunPlan:
    """One run to carry out: which cell, with which settings, chain and device."""

    subject_id: int
    column_id: int
    procedure: str
    settings: Settings
    chain: Chain


@dataclass(frozen=True)
class Baseline:
    """What the chain itself did with the same settings; unfit: in what that chain differed, so that it cannot be used."""

    result: Result
    chain: Chain
    unfit: tuple[str, ...]


def add_column(study: Study, key: str, settings: Settings) -> Column:
    """A column for a procedure with these settings; the one that is there already if there is one."""
    values = settings.model_dump(mode="json")
    for column in study.overview().columns:
        if column.procedure == key and dict(column.settings) == values:
            return column
    carried = procedure(key)
    return study.add_column(key, values, carried.title, carried.summary(settings))


def chain_for_subject(study: Study, subject: Subject) -> Chain:
    """The chain that a row's new runs use: the study's own; for the baseline without probe and load, otherwise with the row's load, probe (as 10:1), rate and buffer."""
    chain = chain_from_toml(study.chain_toml)
    if subject.is_baseline:
        return chain.wired()
    return chain.with_conditions(subject.conditions)


def play_and_record(
    key: str, settings: Settings, chain: Chain, device: Device, progress: Progress = no_progress, cancelled: Cancelled = not_cancelled
) -> list[Recording]:
    """Conduct a procedure on a device. Raises what the device and the procedure raise; nothing is kept then.

    Where a part is worth keeping, what was recorded before it was cancelled is returned instead.
    """
    with labelled(type(settings)):
        return _play_and_record(key, settings, chain, device, progress, cancelled)


def _play_and_record(key: str, settings: Settings, chain: Chain, device: Device, progress: Progress, cancelled: Cancelled) -> list[Recording]:
    carried = procedure(key)
    conduct = carried.conduct(settings, chain)
    expected = max(carried.duration(settings, chain), 1e-3)
    recordings: list[Recording] = []
    done = 0.0
    try:
        wanted = next(conduct)
        while True:
            stimulus = stimulus_of(wanted)
            begun, share = done, stimulus.frames / stimulus.rate / expected
            recording = device.exchange(
                stimulus, ceiling_dbfs=chain.ceiling_dbfs, cancelled=not_cancelled if carried.keeps_part else cancelled,
                enough=_enough(wanted, carried.keeps_part, cancelled),
                progress=lambda part, b=begun, s=share: progress(min(1.0, b + part * s)),  # type: ignore[misc]
            )  # fmt: skip
            done += share
            recordings.append(recording.with_reference())
            if carried.keeps_part and cancelled():
                break
            wanted = conduct.send(recording)
    except StopIteration:
        pass
    if not recordings:
        raise MeasurementError(f"The procedure “{key}” played nothing. Nothing was saved; change its settings.")
    return recordings


def _enough(wanted: Stimulus | InterruptibleStimulus, keeps_part: bool, cancelled: Cancelled) -> Callable[[Signal], bool] | None:
    if not isinstance(wanted, InterruptibleStimulus) and not keeps_part:
        return None
    judged = wanted.enough if isinstance(wanted, InterruptibleStimulus) else lambda _: False
    return lambda signal: (keeps_part and cancelled()) or judged(signal)


def analyse(key: str, recordings: Sequence[Recording], settings: Settings, chain: Chain) -> Result:
    """Analyse, take the microphone's own response out, and mark what the chain itself makes doubtful."""
    result: Result = apply_microphone_correction(procedure(key).analyse(recordings, settings, chain), chain)
    more = []
    if procedure(key).of_levels and chain.load_ohms is not None and not chain.load_confirmed and chain.calibrated:
        more.append(Caution.LOAD_UNCONFIRMED)
    if any(r.clock for r in recordings):
        more.append(Caution.OTHER_CLOCK)
    return replace(result, cautions=unique((*result.cautions, *more))) if more else result


def baseline_of(study: Study, order: RunPlan) -> Baseline | None:
    """The baseline's latest run in the order's column; None when there is none, or when the order is the baseline's own."""
    overview = study.overview()
    row = next((s for s in overview.subjects if s.is_baseline), None)
    run = overview.runs.get((row.id, order.column_id)) if row is not None and row.id != order.subject_id else None
    if run is None:
        return None
    chain = Chain.model_validate(run.chain)
    readings = tuple(Reading.from_json(r) for r in run.readings)
    return Baseline(Result(study.curves(run.id), readings), chain, order.chain.differs_from(chain))


def with_baseline(result: Result, chain: Chain, baseline: Baseline | None) -> Result:
    """The result less the chain's own, or cautioned when the baseline does not apply."""
    if baseline is None:
        return result
    if baseline.unfit:
        return replace(result, cautions=unique((*result.cautions, Caution.BASELINE_UNFIT)))
    ours, theirs = chain.scale(1)[0], baseline.chain.scale(1)[0]
    return against_baseline(result, baseline.result, ours / theirs if ours and theirs else 1.0)


def process(study: Study, order: RunPlan, recordings: Sequence[Recording]) -> Result:
    """What an order's recordings say, read against the baseline there is now."""
    result = analyse(order.procedure, recordings, order.settings, order.chain)
    return with_baseline(result, order.chain, baseline_of(study, order))


def baseline_orders(study: Study) -> list[RunPlan]:
    """Every procedure that says something about a chain, on the baseline row: in each column there is, and in a new one where there is none."""
    row = next(s for s in study.overview().subjects if s.is_baseline)
    fitting = {k: p for k, p in procedures().items() if p.of_the_chain}
    present = {c.procedure for c in study.overview().columns}
    for key, carried in fitting.items():
        if key not in present:
            add_column(study, key, carried.Settings())
    chain = chain_for_subject(study, row)
    return [
        RunPlan(row.id, c.id, c.procedure, fitting[c.procedure]().wired(make_settings(fitting[c.procedure].Settings, c.settings)), chain)
        for c in study.overview().columns
        if c.procedure in fitting
    ]


def measure(
    study: Study, order: RunPlan, device: Device, progress: Progress = no_progress, cancelled: Cancelled = not_cancelled, *, check: bool = False
) -> RunSummary:
    """Play, record, keep the recordings, analyse against the baseline, keep the result.

    ``check``: a short shot first; the run is refused when it would be wasted. Raises EpidoteError; then nothing of the run is in the study.
    """
    if study.read_only:
        raise ReadOnlyError(f"{study.path.name} is read-only ({study.why_read_only}). Nothing was measured.")
    _require_room(study, order)
    order = replace(order, chain=order.chain.changed(device=device.info.name))
    found: tuple[Caution, ...] = ()
    if check:
        shot = run_precheck(device, order.chain, precheck_level(order.settings, order.chain), cancelled=cancelled)
        if shot.stops:
            raise BenchNotReadyError(f"{shot.words} Nothing was measured, and earlier runs are unchanged; correct this and measure again.")
        found = shot.cautions
    recordings = play_and_record(order.procedure, order.settings, order.chain, device, progress, cancelled)
    try:
        result = process(study, order, recordings)
    except UnusableInputError:
        if cancelled():  # so early that there is nothing to analyse yet
            raise CancelledError("Stopped. This run was not saved.") from None
        raise
    if order.chain.calibrated and order.chain.stale(date.today()):
        found = (*found, Caution.CALIBRATION_STALE)
    if cancelled() and not (procedure(order.procedure).keeps_part and result.curves):
        raise CancelledError("Stopped. This run was not saved.")
    return store_run(study, order, device.info.title, replace(result, cautions=unique((*result.cautions, *found))), recordings, None)


def store_recording(
    study: Study, subject_id: int, key: str, settings: Mapping[str, Any], samples: Samples, rate: float, device: str,
    faults: tuple[str, ...] = (),
) -> RunSummary:  # fmt: skip
    """Make samples (frames, channels) that were recorded elsewhere a run of a row, analysed by a procedure that plays nothing.

    ``faults``: what the device complained about meanwhile.
    """
    subject = study.overview().subject(subject_id)
    if subject is None:
        raise StudyError("The row was deleted. Nothing was saved; undo the deletion, or select another row.")
    made = make_settings(procedure(key).Settings, settings)
    column = add_column(study, key, made)
    chain = chain_for_subject(study, subject).changed(rate=rate)
    recording = Recording(Signal(samples, rate), faults=faults)
    order = RunPlan(subject_id, column.id, key, made, chain)
    return store_run(study, order, device, process(study, order, [recording]), [recording], None)


_PRECHECK_CAUTIONS = (
    Caution.CALIBRATION_STALE, Caution.WRONG_CHANNEL, Caution.TOO_QUIET, Caution.UNSTEADY, Caution.PROCESSING, Caution.HUM,
)  # fmt: skip


def recompute(study: Study, run_id: int, changes: Mapping[str, Any]) -> RunSummary:
    """A new run from the kept recordings of another, with some settings changed, against the baseline there is now; nothing is played."""
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
            f"Can be changed: {', '.join(f'{{{name}}}' for name in free)}.", *fixed[:1], *free,
        )  # fmt: skip
    chain = Chain.model_validate(old.chain)
    order = RunPlan(old.subject_id, old.column_id, old.procedure, settings, chain)
    acquired = study.acquired(old.id)
    result = with_clock(process(study, order, acquired.recordings), acquired.clocks, acquired.rate)
    kept = [c for c in _PRECHECK_CAUTIONS if str(c) in old.cautions]  # what only the bench could tell stays true
    result = replace(result, cautions=unique((*result.cautions, *kept)))
    return store_run(study, order, old.device, result, (), old.recomputed_from or old.id)


def step_curves(study: Study, run: RunSummary, x: float) -> tuple[Curve, ...]:
    """One step of a run's staircase as curves, from its kept recordings; ``x``: what was stepped, dBFS or Hz."""
    carried = procedure(run.procedure)
    settings = make_settings(carried.Settings, run.settings)
    curves: tuple[Curve, ...] = carried.step_curves(study.recordings(run.id), settings, Chain.model_validate(run.chain), x)
    return curves


def store_run(study: Study, order: RunPlan, device: str, result: Result, recordings: Sequence[Recording | MarkedRecording | Section], source: int | None) -> RunSummary:
    """Put a finished run into its cell; ``source``: the run whose recordings it was computed from again."""
    carried = procedure(order.procedure)
    headline = carried.headline(result)
    return study.add_run(
        order.subject_id, order.column_id, order.procedure, order.settings.model_dump(mode="json"), order.chain, device, result,
        {**headline.to_json(), "title": carried.reading_titles[headline.key]} if headline else None, thumbnail_points(carried.thumbnail(result)), recordings, source,
    )  # fmt: skip


def _require_room(study: Study, order: RunPlan) -> None:
    seconds = procedure(order.procedure).duration(order.settings, order.chain)
    channels = len(order.chain.inputs) + 1  # what was played may be kept as one more
    needed = math.ceil(seconds * order.chain.rate * channels * _BYTES_PER_SAMPLE) + _SPARE_BYTES
    free = study.room_left()
    if free < needed:
        raise StudyError(
            f"Not enough disk space: {free / 1e6:.0f} MB free, about {needed / 1e6:.0f} MB needed. Nothing was measured; free some space and measure again."
        )


def latencies(study: Study) -> list[Latency]:
    """Every latency in the matrix, each of the first channel that has one, less the baseline where that was taken out."""
    seen = study.overview()
    rows = []
    for subject in seen.subjects:
        for column in (c for c in seen.columns if c.procedure == "latency"):
            run = seen.runs.get((subject.id, column.id))
            told = next((r for r in run.readings if r["key"] == "latency" and r["value"] is not None), None) if run else None
            if run and told:
                rows.append((subject.name, dict(subject.conditions), float(run.chain["rate"]), told["value"], told.get("spread")))
    return latencies_of(rows)
