"""What a procedure is, and what all settings models share."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any, Protocol, TypeVar

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.results.caution import Caution, unique
from epidote.core.results.result import Curve, Reading, Result, with_caution
from epidote.core.settings import Settings
from epidote.core.signals.signal import Recording, Signal, Stimulus


def precheck_level(settings: Settings, chain: Chain) -> float:
    """dBFS that a look before a run may use: that at which a procedure plays, or near which it begins, under the chain's ceiling."""
    from epidote.core.procedures.common.level_setting import drive_dbfs

    given = getattr(settings, "level", None)
    begins = getattr(settings, "start_level", None)
    try:
        if begins is not None:
            wanted = min(drive_dbfs(begins, chain) + _LOOK_ABOVE_DB, drive_dbfs(settings.stop_level, chain), _LOOK)  # type: ignore[attr-defined]
        else:
            wanted = _LOOK if given is None else float(given) if isinstance(given, (int, float)) else drive_dbfs(given, chain)
    except SettingError:
        wanted = _LOOK
    return min(wanted, chain.ceiling_dbfs)


@dataclass(frozen=True)
class InterruptibleStimulus:
    """A stimulus that ends early once ``enough`` says so of the signal that came back so far."""

    stimulus: Stimulus
    enough: Callable[[Signal], bool]


Conduct = Generator[Stimulus | InterruptibleStimulus, Recording, None]
_LOOK, _LOOK_ABOVE_DB = -20.0, 20.0


@dataclass(frozen=True)
class CurveView:
    """How a procedure's curves of one key are shown: group (a button), title within it, axis title, whether x is logarithmic, and
    whether a difference between two of them says anything (that of two noise floors, bin by bin, does not)."""

    key: str
    group: str
    title: str
    axis: str
    log_x: bool = True
    compared: bool = True


S = TypeVar("S", bound=Settings)


class Procedure(Protocol[S]):
    """One kind of measurement. ``analyse`` is pure: the same recordings, settings and chain give the same result."""

    key: str
    title: str
    Settings: type[S]
    of_the_chain: bool  # whether it says something about a chain with its output wired to its input
    of_levels: bool  # whether the load bears on what it says
    of_any_recording: bool  # whether a recording says something of which nobody knows what was played
    keeps_part: bool  # whether a run that is stopped half-way is worth keeping
    views: tuple[CurveView, ...]
    reading_titles: Mapping[str, str]

    def conduct(self, settings: S, chain: Chain) -> Conduct:
        """Yield each stimulus and be sent its recording. Raises SettingError for settings that do not fit the chain."""

    step_views: tuple[CurveView, ...]

    def wired(self, settings: S) -> S:
        """The settings with which the baseline is measured."""

    def step_curves(self, recordings: Sequence[Recording], settings: S, chain: Chain, x: float) -> tuple[Curve, ...]:
        """One step of a staircase as curves, for those that have steps."""

    def plan(self, settings: S, chain: Chain) -> list[Stimulus]:
        """What is played where nobody can listen meanwhile, such as from a file. Raises SettingError."""

    def analyse(self, recordings: Sequence[Recording], settings: S, chain: Chain) -> Result:
        """Result of the recordings. Raises UnusableInputError."""

    def duration(self, settings: S, chain: Chain) -> float:
        """Estimated time of the sound, in s."""

    def headline(self, result: Result) -> Reading | None:
        """The reading that stands for the run in the matrix."""

    def thumbnail(self, result: Result) -> Curve | None:
        """The curve whose small drawing stands in the matrix."""

    def summary(self, settings: S) -> str:
        """The settings in a few words, for a column head."""


class ProcedureBase:
    """What most procedures have in common; a procedure that differs says so."""

    of_the_chain = True
    of_levels = True
    of_any_recording = False
    keeps_part = False
    step_views: tuple[CurveView, ...] = ()

    def conduct(self, settings: Any, chain: Chain) -> Conduct:
        raise NotImplementedError

    def plan(self, settings: Any, chain: Chain) -> list[Stimulus]:
        """What ``conduct`` plays when everything comes back as it went out."""
        conduct = self.conduct(settings, chain)
        found: list[Stimulus] = []
        try:
            wanted = next(conduct)
            while len(found) < _MOST_STIMULI:
                stimulus = stimulus_of(wanted)
                found.append(stimulus)
                samples = np.repeat(stimulus.samples()[:, None], len(chain.inputs), axis=1)
                wanted = conduct.send(Recording(Signal(samples, stimulus.rate), stimulus))
        except StopIteration:
            pass
        return found

    def wired(self, settings: Any) -> Any:
        """The settings as they are for the baseline, where a wire stands in the unit's place."""
        return settings

    def step_curves(self, recordings: Sequence[Recording], settings: Any, chain: Chain, x: float) -> tuple[Curve, ...]:
        """The curves of ``step_views`` of the step nearest to ``x``, computed from the kept recordings."""
        return ()


_MOST_STIMULI = 1000


def stimulus_of(wanted: Stimulus | InterruptibleStimulus) -> Stimulus:
    return wanted.stimulus if isinstance(wanted, InterruptibleStimulus) else wanted


SHARED_TITLES = {"clock_offset": "Sample clock offset", "start": "Start in recording"}  # readings that every procedure may bring


def reading_titles(carried: Any) -> dict[str, str]:
    """The words for a procedure's readings, by key."""
    return {**carried.reading_titles, **SHARED_TITLES}


@lru_cache(maxsize=1)
def _registered() -> Mapping[str, EntryPoint]:
    """The entry points by key. What is installed is read from the disk, so it is asked for once in a process."""
    return {entry.name: entry for entry in sorted(entry_points(group="epidote.procedures"), key=lambda e: e.name)}


@cache
def _loaded(key: str) -> type[Any]:
    kind: type[Any] = _registered()[key].load()
    return kind


def procedures() -> dict[str, type[Any]]:
    """Every procedure there is by key, from the entry-point group ``epidote.procedures``, those of other packages included."""
    return {key: _loaded(key) for key in _registered()}


def procedure(key: str) -> Any:
    """A procedure by its key. Raises SettingError naming those there are."""
    if key not in _registered():
        raise SettingError(f"Unknown procedure “{key}”. Available: {', '.join(_registered())}.")
    return _loaded(key)()


def merge_channels(results: Sequence[Result], recordings: Sequence[Recording], chain: Chain) -> Result:
    """The channels' results as one, with what holds for the whole run: dropouts that the device reported, a chain without volts."""
    cautions = [c for r in results for c in r.cautions]
    if any(r.faults for r in recordings):
        cautions.append(Caution.DROPOUT)
    if not chain.calibrated and any(r.signal.unit == "FS" for r in recordings):
        cautions.append(Caution.UNCALIBRATED)
    readings = _explained([g for r in results for g in r.readings], recordings)
    return Result(tuple(c for r in results for c in r.curves), readings, unique(cautions))


def _explained(readings: Sequence[Reading], recordings: Sequence[Recording]) -> tuple[Reading, ...]:
    """A reading without a value says why: where nothing else did, because its channel holds nothing but equal samples."""
    told: dict[int, bool] = {}

    def is_silent(channel: int) -> bool:
        if channel not in told:
            own = [r.signal.channel(channel) for r in recordings if channel <= r.signal.channels]
            told[channel] = any(x.size > 0 and bool((x == x[0]).all()) for x in own)
        return told[channel]

    def explained(reading: Reading) -> Reading:
        unexplained = reading.value is None and not reading.cautions
        return with_caution(reading, Caution.SILENT) if unexplained and is_silent(reading.channel) else reading

    return tuple(explained(r) for r in readings)


def require_consistent_channels(recordings: Sequence[Recording]) -> int:
    """Channel count that all recordings of a run share, each at its stimulus' rate. Raises UnusableInputError."""
    if not recordings:
        raise UnusableInputError("There is no recording to analyse. Measure again, or select a recording.")
    for recording in recordings:
        if recording.stimulus is not None and recording.stimulus.rate != recording.signal.rate:
            raise UnusableInputError(
                f"The recording has a sample rate of {recording.signal.rate:g} Hz, its stimulus {recording.stimulus.rate:g} Hz. Nothing was computed; "
                "record at the stimulus rate, or export the stimulus again at the rate of the recording."
            )
    counts = {r.signal.channels for r in recordings}
    rates = {r.signal.rate for r in recordings}
    if len(counts) > 1 or len(rates) > 1:
        raise UnusableInputError("The recordings differ in number of channels or sample rate. Use the recordings of a single run.")
    return counts.pop()


def without_spreads(readings: Iterable[Reading]) -> list[Reading]:
    """The same where roundings repeat with the tone: their error is a fixed one, which no spread describes."""
    return [r if r.spread is None else replace(with_caution(r, Caution.UNDITHERED), spread=None) for r in readings]


def per_channel(channels: int, analyse: Callable[[int], Result]) -> list[Result]:
    """``analyse(number)`` of each channel (from 1), a thread for each: the transforms let go of the interpreter."""
    if channels == 1:
        return [analyse(1)]
    with ThreadPoolExecutor(min(channels, 8)) as pool:
        return list(pool.map(analyse, range(1, channels + 1)))
