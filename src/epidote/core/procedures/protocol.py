"""What a procedure is, and what all settings models share."""

from __future__ import annotations

from collections.abc import Callable, Generator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, TypeVar

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.claims.answer import ClaimAnswer
from epidote.core.errors import SettingError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.results.kinds import (
    ChainShare,
    CurveKind,
    CurveRole,
    Microphone,
    ReadingKind,
    declare_curves,
    declare_readings,
)
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.settings import Settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.sample_source import SampleSource
from epidote.core.signals.signal import Signal
from epidote.core.signals.stimulus import Stimulus


def precheck_level(settings: Settings, chain: Chain) -> float:
    """DBFS that a look before a run may use: that at which a procedure plays, or near which it begins, under the
    chain's ceiling.
    """
    from epidote.core.chain.level_setting import drive_dbfs

    given = getattr(settings, "level", None)
    begins = getattr(settings, "start_level", None)
    try:
        if begins is not None:
            level = min(drive_dbfs(begins, chain) + _LOOK_ABOVE_DB, drive_dbfs(settings.stop_level, chain), _LOOK)  # type: ignore[attr-defined]
        elif given is None:
            level = _LOOK
        elif isinstance(given, (int, float)):
            level = float(given)
        else:
            level = drive_dbfs(given, chain)
    except SettingError:
        level = _LOOK
    return min(level, chain.ceiling_dbfs)


@dataclass(frozen=True)
class InterruptibleStimulus:
    """A stimulus that ends early once ``enough`` says so of the signal that came back so far."""

    stimulus: Stimulus
    enough: Callable[[Signal], bool]


Conduct = Generator[Stimulus | InterruptibleStimulus, Recording, None]
_LOOK, _LOOK_ABOVE_DB = -20.0, 20.0


@dataclass(frozen=True)
class CurveView:
    """A procedure's curves of one key: how they are shown, and what they are.

    group: a button; title: within it; axis: title of the axis; log_x: whether x is logarithmic; compared: whether a
    difference between two of them says anything (that of two noise floors, bin by bin, does not); former: keys
    under which earlier versions kept it; places: the setting whose value, a time, can be placed on it by a pin. The
    others: see CurveKind.
    """

    key: str
    group: str
    title: str
    axis: str
    log_x: bool = True
    compared: bool = True
    chain: ChainShare = ChainShare.NONE
    ratio: bool = False
    microphone: Microphone = Microphone.NONE
    less_reading: str = ""
    former: tuple[str, ...] = ()
    role: CurveRole = CurveRole.PLAIN
    places: str = ""

    @property
    def kind(self) -> CurveKind:
        return CurveKind(self.key, self.chain, self.ratio, self.microphone, self.less_reading, self.role)


@dataclass(frozen=True)
class RunSound:
    """A sound that can be made of a run's recordings, to be heard or kept: its key, and a title for a menu."""

    key: str
    title: str


S = TypeVar("S", bound=Settings)


class Procedure(Protocol[S]):
    """One kind of measurement. ``analyse`` is pure: the same recordings, settings and chain give the same result."""

    key: str
    title: str
    about: About
    presets: tuple[Preset, ...]  # that ship with it
    Settings: type[S]
    of_the_chain: bool  # whether it says something about a chain with its output wired to its input
    of_levels: bool  # whether the load bears on what it says
    of_any_recording: bool  # whether a recording says something of which nobody knows what was played
    first_look: bool  # whether it is the one with which such a recording is looked at first
    measures_power: bool  # whether results into different loads cannot be compared
    in_new_study: bool  # whether a new study has a column for it
    reads_sources: bool  # whether sound of any length can be analysed piece by piece
    takes_background: bool  # whether a recording of the background alone can be compared with
    takes_original: bool  # whether a recording made elsewhere can be compared with the file that was played
    differences: tuple[str, ...]  # readings that say at a glance how far a sound comes back changed
    worst_moment: str  # the one of them whose place in time is where the difference is greatest; "" for none
    aligns_paths: bool  # whether its runs hold two paths that can be aligned by hand
    keeps_part: bool  # whether a run that is stopped half-way is worth keeping
    views: tuple[CurveView, ...]
    readings: tuple[ReadingKind, ...]
    answers: tuple[ClaimAnswer, ...]  # to published figures

    def conduct(self, settings: S, chain: Chain) -> Conduct:
        """Yield each stimulus and be sent its recording. Raises SettingError for settings that do not fit the chain."""

    step_views: tuple[CurveView, ...]
    maps: tuple[CurveKind, ...]  # curves that are drawn as maps
    sounds: tuple[RunSound, ...]

    def make_sound(self, key: str, recordings: Sequence[Recording], settings: S, chain: Chain, channel: int) -> Signal:
        """Return one of ``sounds`` of a channel (from 1), as loud as it was recorded. Raises UnusableInputError."""

    def wired(self, settings: S) -> S:
        """Return the settings with which the baseline is measured."""

    def step_curves(self, recordings: Sequence[Recording], settings: S, chain: Chain, x: float) -> tuple[Curve, ...]:
        """One step of a staircase as curves, for those that have steps."""

    def plan(self, settings: S, chain: Chain) -> list[Stimulus]:
        """Return what is played where nobody can listen meanwhile, such as from a file. Raises SettingError."""

    def analyse(self, recordings: Sequence[Recording], settings: S, chain: Chain) -> Result:
        """Return the result of the recordings. Raises UnusableInputError."""

    def duration(self, settings: S, chain: Chain) -> float:
        """Estimated time of the sound, in s."""

    def headline(self, result: Result) -> Reading | None:
        """Return the reading that stands for the run in the matrix."""

    def thumbnail(self, result: Result) -> Curve | None:
        """Return the curve whose small drawing stands in the matrix."""

    def summary(self, settings: S) -> str:
        """Return the settings in a few words, for a column head."""

    def for_existing_sound(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """Return the settings with which sound is analysed that was recorded for another purpose."""

    def analyse_sources(self, sources: Sequence[SampleSource], settings: S) -> Result:
        """Return the result of every source of samples against the first, read piece by piece, where
        ``reads_sources``.
        """

    def details(self, result: Result) -> dict[str, Any]:
        """Return what a result's JSON holds besides readings and curves."""


class ProcedureBase:
    """What most procedures have in common; a procedure that differs says so."""

    about = About(QuestionGroup.OTHER, question="", played="", gives="")
    presets: tuple[Preset, ...] = ()
    of_the_chain = True
    of_levels = True
    of_any_recording = False
    first_look = False
    in_new_study = False
    measures_power = False
    keeps_part = False
    views: tuple[CurveView, ...] = ()
    step_views: tuple[CurveView, ...] = ()
    maps: tuple[CurveKind, ...] = ()
    sounds: tuple[RunSound, ...] = ()
    readings: tuple[ReadingKind, ...] = ()
    answers: tuple[ClaimAnswer, ...] = ()
    takes_background = False
    takes_original = False
    differences: tuple[str, ...] = ()
    worst_moment = ""
    aligns_paths = False
    reads_sources = False

    def __init_subclass__(cls) -> None:
        """Make known what the procedure's readings and curves are."""
        super().__init_subclass__()
        declare_readings(cls.readings)
        declare_curves(view.kind for view in (*cls.views, *cls.step_views))
        declare_curves(cls.maps)

    def conduct(self, settings: Any, chain: Chain) -> Conduct:
        raise NotImplementedError

    def plan(self, settings: Any, chain: Chain) -> list[Stimulus]:
        """Return what ``conduct`` plays when everything comes back as it went out."""
        conduct = self.conduct(settings, chain)
        stimuli: list[Stimulus] = []
        try:
            request = next(conduct)
            while len(stimuli) < _MOST_STIMULI:
                stimulus = stimulus_of(request)
                stimuli.append(stimulus)
                samples = np.repeat(stimulus.samples()[:, None], len(chain.inputs), axis=1)
                request = conduct.send(Recording(Signal(samples, stimulus.rate), stimulus))
        except StopIteration:
            pass
        return stimuli

    def for_existing_sound(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """Return the settings with which sound is analysed that was recorded for another purpose."""
        return dict(settings)

    def analyse_sources(self, sources: Sequence[SampleSource], settings: Any) -> Result:
        """Return the result of every source of samples against the first, read piece by piece, where
        ``reads_sources``.
        """
        raise NotImplementedError

    def details(self, result: Result) -> dict[str, Any]:
        """Return what a result's JSON holds besides readings and curves."""
        return {}

    def make_sound(
        self, key: str, recordings: Sequence[Recording], settings: Any, chain: Chain, channel: int
    ) -> Signal:
        """Return one of ``sounds`` of a channel (from 1), as loud as it was recorded. Raises UnusableInputError."""
        raise NotImplementedError

    def wired(self, settings: Any) -> Any:
        """Return the settings as they are for the baseline, where a wire stands in the unit's place."""
        return settings

    def step_curves(self, recordings: Sequence[Recording], settings: Any, chain: Chain, x: float) -> tuple[Curve, ...]:
        """Return the curves of ``step_views`` of the step nearest to ``x``, computed from the kept recordings."""
        return ()


_MOST_STIMULI = 1000


def stimulus_of(request: Stimulus | InterruptibleStimulus) -> Stimulus:
    """Return the stimulus of what a procedure asks for."""
    if isinstance(request, InterruptibleStimulus):
        return request.stimulus
    return request
