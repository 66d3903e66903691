"""Recordings: what came back of a stimulus."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus


@dataclass(frozen=True)
class Recording:
    """What came back: the signal, the stimulus that was played (None for a recording made elsewhere), and what the
    device reported.

    ``faults`` are words of the sound device about this very recording, such as "2 dropouts reported"; ``clock``: what
    was done about a recorder that ran on a clock of its own; ``band_limit``: the frequency in Hz above which it holds
    nothing, None where that is half its rate.
    """

    signal: Signal
    stimulus: Stimulus | None = None
    faults: tuple[str, ...] = field(default=())
    clock: str = ""
    band_limit: float | None = None

    def with_reference(self) -> Recording:
        """Return the recording with what is compared with as its last channels, where nothing else could tell it
        later.
        """
        if self.stimulus is None or self.stimulus.material is None:
            return self
        compared = self.stimulus.original if self.stimulus.original is not None else self.stimulus.by_output()
        played = np.zeros((self.signal.frames, compared.shape[1]))
        count = min(played.shape[0], compared.shape[0])
        played[:count] = compared[:count]
        both = Signal(np.column_stack([self.signal.samples, played]), self.signal.rate, self.signal.unit)
        reference = Stimulus(
            self.stimulus.kind,
            self.stimulus.rate,
            {**self.stimulus.parameters, REFERENCE: self.signal.channels + 1},
            self.stimulus.channels,
        )
        return Recording(both, reference, self.faults, self.clock, self.band_limit)


REFERENCE = "reference_channel"  # of a stimulus: the first channel of its recording that holds what was played


def beside_original(recorded: Signal, original: Signal) -> Recording:
    """Return a recording with its original, at the same rate, as its last channels; the shorter one gets silence."""
    frames = max(recorded.frames, original.frames)
    columns = np.zeros((frames, recorded.channels + original.channels))
    columns[: recorded.frames, : recorded.channels] = recorded.samples
    columns[: original.frames, recorded.channels :] = original.samples
    parameters = {
        "level": 0.0,
        "lead": 0.0,
        "sounding": float(original.frames),
        "frames": float(original.frames),
        REFERENCE: float(recorded.channels + 1),
    }
    return Recording(Signal(columns, recorded.rate, recorded.unit), Stimulus("material", recorded.rate, parameters))


def recorded_and_original(recording: Recording, played: Callable[[], Stimulus]) -> tuple[Signal, Samples]:
    """Return what came back, and what was played (frames, originals): the recording's own last channels where it holds
    it, else its stimulus, else what ``played`` makes.
    """
    signal, stimulus = recording.signal, recording.stimulus
    first = round(stimulus.parameters.get(REFERENCE, 0)) if stimulus is not None else 0
    if 1 < first <= signal.channels:
        own = Signal(signal.samples[:, : first - 1], signal.rate, signal.unit)
        return own, signal.samples[:, first - 1 :]
    made = stimulus if stimulus is not None and stimulus.playable else played()
    return signal, made.samples()[:, None]


@dataclass(frozen=True)
class Section:
    """A section of a recording that was made elsewhere, which is kept whole: ``frames`` from ``first`` on are
    analysed.
    """

    signal: Signal
    first: int
    frames: int

    def cut(self) -> Recording:
        """Return the section as a recording of its own.

        Raises UnusableInputError where the recording does not hold it.
        """
        if not 0 <= self.first < self.first + self.frames <= self.signal.frames:
            raise UnusableInputError("The section lies outside its recording. Nothing was computed; select it again.")
        samples = self.signal.samples[self.first : self.first + self.frames]
        return Recording(Signal(samples, self.signal.rate, self.signal.unit))
