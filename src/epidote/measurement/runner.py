"""The one service that carries a run through: procedure, chain, device and study together, for desktop, demo and
command line alike.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from typing import Any

import epidote.audio.files.sound_file  # noqa: F401  procedures that play a sound file read it through this
from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.analysis.delay.clock_offset import MarkedRecording
from epidote.core.errors import CancelledError, UnusableInputError
from epidote.core.procedures.protocol import precheck_level
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution, unique
from epidote.core.results.reading import Reading
from epidote.core.results.result import Result
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording, Section
from epidote.core.signals.signal import Samples, Signal
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.device_setup import BenchNotReadyError, no_progress, not_cancelled, run_precheck
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import process
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.sound_level import parse_sound_level, with_sound_level
from epidote.study.curve_codec import thumbnail_points
from epidote.study.headline import Headline
from epidote.study.models import FinishedRun, ReadOnlyError, RunSummary, StudyError
from epidote.study.store import Study

_BYTES_PER_SAMPLE = 4
_SPARE_BYTES = 20 * 1024 * 1024


def measure(
    study: Study,
    order: RunPlan,
    device: Device,
    progress: Progress = no_progress,
    cancelled: Cancelled = not_cancelled,
    *,
    check: bool = False,
) -> RunSummary:
    """Play, record, keep the recordings, analyse against the baseline, keep the result.

    ``check``: a short shot first; the run is refused when it would be wasted. Raises EpidoteError; then nothing of the
    run is in the study.
    """
    if study.read_only:
        raise ReadOnlyError(f"{study.path.name} is read-only ({study.why_read_only}). Nothing was measured.")
    _require_room(study, order)
    order = replace(order, chain=order.chain.changed(device=device.info.name))
    cautions: tuple[Caution, ...] = ()
    if check:
        shot = run_precheck(device, order.chain, precheck_level(order.settings, order.chain), cancelled=cancelled)
        if shot.stops:
            raise BenchNotReadyError(
                f"{shot.words} Nothing was measured, and earlier runs are unchanged; correct this and measure again."
            )
        cautions = shot.cautions
    order, words = at_sound_level(order, device, cancelled)
    recordings = play_and_record(order.procedure, order.settings, order.chain, device, progress, cancelled=cancelled)
    try:
        result = result_of(study, order, recordings, cautions)
    except UnusableInputError:
        if cancelled():  # so early that there is nothing to analyse yet
            raise CancelledError("Stopped. This run was not saved.") from None
        raise
    if cancelled() and not (procedure(order.procedure).keeps_part and result.curves):
        raise CancelledError("Stopped. This run was not saved.")
    return store_run(study, order, f"{device.info.title}{words}", result, recordings, source=None)


def result_of(
    study: Study, order: RunPlan, recordings: Sequence[Recording], cautions: Sequence[Caution] = ()
) -> Result:
    """Return what an order's recordings say, with what the look before the run, and the calendar, have against it."""
    result = process(study, order, recordings)
    if order.chain.calibrated and order.chain.stale(date.today()):
        cautions = (*cautions, Caution.CALIBRATION_STALE)
    return replace(result, cautions=unique((*result.cautions, *cautions)))


def at_sound_level(order: RunPlan, device: Device, cancelled: Cancelled) -> tuple[RunPlan, str]:
    """Return the order at the generator level that gives its sound level, with what was found in words; the order as it
    is where it names none.
    """
    wanted = parse_sound_level(order.sound_level)
    if wanted is None:
        return order, ""
    found_order, found = with_sound_level(order, wanted, device, cancelled)
    return found_order, f"; {found.words}"


def store_recording(
    study: Study,
    subject_id: int,
    key: str,
    settings: Mapping[str, Any],
    samples: Samples,
    *,
    rate: float,
    device: str,
    faults: tuple[str, ...] = (),
) -> RunSummary:
    """Make samples (frames, channels) that were recorded elsewhere a run of a row, analysed by a procedure that
    plays nothing.

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
    return store_run(study, order, device, process(study, order, [recording]), [recording], source=None)


def store_run(
    study: Study,
    order: RunPlan,
    device: str,
    result: Result,
    recordings: Sequence[Recording | MarkedRecording | Section],
    *,
    source: int | None,
) -> RunSummary:
    """Put a finished run into its cell; ``source``: the run whose recordings it was computed from again."""
    return study.add_run(finished_run(order, device, result, recordings, source=source))


def finished_run(
    order: RunPlan,
    device: str,
    result: Result,
    recordings: Sequence[Recording | MarkedRecording | Section],
    *,
    source: int | None,
) -> FinishedRun:
    """Return all that a run yields, as a study keeps it."""
    proc = procedure(order.procedure)
    return FinishedRun(
        order.subject_id,
        order.column_id,
        order.procedure,
        order.settings.model_dump(mode="json"),
        order.chain,
        device,
        result,
        headline_of(proc, result),
        thumbnail_points(proc.thumbnail(result)),
        recordings,
        source,
    )


def _require_room(study: Study, order: RunPlan) -> None:
    seconds = procedure(order.procedure).duration(order.settings, order.chain)
    channels = len(order.chain.inputs) + 1  # what was played may be kept as one more
    needed = math.ceil(seconds * order.chain.rate * channels * _BYTES_PER_SAMPLE) + _SPARE_BYTES
    free = study.free_bytes()
    if free < needed:
        raise StudyError(
            f"Not enough disk space: {free / 1e6:.0f} MB free, about {needed / 1e6:.0f} MB needed. Nothing was"
            " measured; free some space and measure again."
        )


def headline_of(proc: Any, result: Result) -> Headline | None:
    """Return the reading that stands for a run of a procedure, with its title and how it is shown."""
    reading: Reading | None = proc.headline(result)
    if reading is None:
        return None
    kind = next(kind for kind in proc.readings if kind.key == reading.key)
    return Headline(reading, kind.title, kind.shown)
