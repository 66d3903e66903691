"""Analysis by channel: checks, threads, and results merged."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

from epidote.core.analysis.capture_checks import require_valid
from epidote.core.chain.chain import Chain
from epidote.core.concurrency import yield_to_others
from epidote.core.errors import UnusableInputError
from epidote.core.results.caution import Caution, unique
from epidote.core.results.reading import Reading
from epidote.core.results.result import Result, with_caution
from epidote.core.signals.recording import Recording


def merge_channels(results: Sequence[Result], recordings: Sequence[Recording], chain: Chain) -> Result:
    """Return the channels' results as one, with what holds for the whole run: dropouts that the device reported, a
    chain without volts.
    """
    cautions = [c for r in results for c in r.cautions]
    if any(r.faults for r in recordings):
        cautions.append(Caution.DROPOUT)
    if not chain.calibrated and any(r.signal.unit == "FS" for r in recordings):
        cautions.append(Caution.UNCALIBRATED)
    readings = _explained([g for r in results for g in r.readings], recordings)
    return Result(tuple(c for r in results for c in r.curves), readings, unique(cautions))


def _explained(readings: Sequence[Reading], recordings: Sequence[Recording]) -> tuple[Reading, ...]:
    """Say of readings without a value why: where nothing else did, because its channel holds nothing but equal
    samples.
    """
    is_explained: dict[int, bool] = {}

    def is_silent(channel: int) -> bool:
        if channel not in is_explained:
            own = [r.signal.channel(channel) for r in recordings if channel <= r.signal.channels]
            is_explained[channel] = any(x.size > 0 and bool((x == x[0]).all()) for x in own)
        return is_explained[channel]

    def explained(reading: Reading) -> Reading:
        unexplained = reading.value is None and not reading.cautions
        if unexplained and is_silent(reading.channel):
            return with_caution(reading, Caution.SILENT)
        return reading

    return tuple(explained(r) for r in readings)


def require_consistent_channels(recordings: Sequence[Recording]) -> int:
    """Channel count that all recordings of a run share, each at its stimulus' rate. Raises UnusableInputError."""
    if not recordings:
        raise UnusableInputError("There is no recording to analyse. Measure again, or select a recording.")
    for recording in recordings:
        if recording.stimulus is not None and recording.stimulus.rate != recording.signal.rate:
            raise UnusableInputError(
                f"The recording has a sample rate of {recording.signal.rate:g} Hz, its stimulus"
                f" {recording.stimulus.rate:g} Hz. Nothing was computed; record at the stimulus rate, or export the"
                " stimulus again at the rate of the recording."
            )
    counts = {r.signal.channels for r in recordings}
    rates = {r.signal.rate for r in recordings}
    if len(counts) > 1 or len(rates) > 1:
        raise UnusableInputError(
            "The recordings differ in number of channels or sample rate. Use the recordings of a single run."
        )
    return counts.pop()


def require_usable_recordings(recordings: Sequence[Recording], least_frames: int) -> int:
    """Return the channel count of a run's recordings, each of which is long enough and finite. Raises
    UnusableInputError.
    """
    channels = require_consistent_channels(recordings)
    for recording in recordings:
        require_valid(recording.signal, least_frames)
    return channels


def without_spreads(readings: Iterable[Reading]) -> list[Reading]:
    """Return the same where roundings repeat with the tone: their error is a fixed one, which no spread describes."""
    return [r if r.spread is None else replace(with_caution(r, Caution.UNDITHERED), spread=None) for r in readings]


def per_channel(channels: int, analyse: Callable[[int], Result]) -> list[Result]:
    """``analyse(number)`` of each channel (from 1), a thread for each: the transforms let go of the interpreter."""
    if channels == 1:
        return [analyse(1)]
    with ThreadPoolExecutor(min(channels, 8), initializer=yield_to_others) as pool:
        return list(pool.map(analyse, range(1, channels + 1)))
