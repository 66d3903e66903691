"""A stimulus, or several, between two marks: for a unit that plays from its own storage, recorded by a device on
another clock.

A mark is a short sweep. The two are alike, so whatever the unit does to one it does to the other: the time between
them, found by laying the second over the first, tells the clock whatever the unit's phase, and the first tells the
start.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import MOST_FRAMES, Stimulus
from epidote.core.stimuli.every import stimulus_from_json
from epidote.core.stimuli.tone import fade_ends

SILENCE, MARK, GAP = 0.5, 0.6, 0.6  # seconds: at both ends; one mark; between a mark and what it marks
_LOW, _HIGH, _RAMP = 300.0, 9000.0, 0.01
PROBE_LEVELS_DB = (0.0, -20.0, -40.0)  # of its bursts of noise re the first
PROBE_BURST, PROBE_PAUSE = 0.5, 0.3  # s
_PROBE_SEED, _PROBE_CREST = 1701, 4.0


def marker_chirp(rate: float, level: float) -> Samples:
    """One mark (frames,): an exponential sweep from 300 Hz to 9 kHz, or 0.4 of the rate where that is lower."""
    high = min(_HIGH, 0.4 * rate)
    frames = round(MARK * rate)
    t = np.arange(frames) / rate
    length = MARK / math.log(high / _LOW)
    wave = from_db(level) * np.sin(2 * np.pi * _LOW * length * np.expm1(t / length))
    fade_ends(wave, round(_RAMP * rate))
    return np.asarray(wave)


def processing_probe(rate: float, level: float) -> Samples:
    """Return bursts of white noise (frames,), each 20 dB lower than the one before, the first with its peak at
    ``level`` dBFS: they show what a player does to levels and bands.
    """
    frames, pause = round(PROBE_BURST * rate), round(PROBE_PAUSE * rate)
    noise = np.clip(np.random.default_rng(_PROBE_SEED).standard_normal(frames), -_PROBE_CREST, _PROBE_CREST)
    noise *= from_db(level) / _PROBE_CREST
    fade_ends(noise, round(_RAMP * rate))
    parts = [np.concatenate([noise * from_db(step), np.zeros(pause)]) for step in PROBE_LEVELS_DB]
    return np.concatenate(parts)


@dataclass(frozen=True)
class MarkedSequence:
    """What a marked file holds: the stimuli in order, and in which frame each, and each mark, begins.

    probe: the frame at which the bursts begin that show a player's own processing; None for a file without them.
    """

    stimuli: tuple[Stimulus, ...]
    level: float
    first_mark: int
    starts: tuple[int, ...]
    last_mark: int
    frames: int
    probe: int | None = None

    @property
    def rate(self) -> float:
        return self.stimuli[0].rate

    @property
    def channels(self) -> int:
        """One, or as many as it takes where the stimuli do not all play on the same, or not the same on all."""
        every = {s.channels for s in self.stimuli}
        if len(every) == 1 and not any(s.parameters.get("independent") for s in self.stimuli):
            return 1
        return max(max(c) for c in every)

    def samples(self) -> Samples:
        """Return samples (frames, channels) in FS; the marks sound on every channel."""
        out = np.zeros((self.frames, self.channels))
        sound = marker_chirp(self.rate, self.level)
        for place in (self.first_mark, self.last_mark):
            out[place : place + sound.size] = sound[:, None]
        if self.probe is not None:
            bursts = processing_probe(self.rate, self.level)
            out[self.probe : self.probe + bursts.size] = bursts[:, None]
        for stimulus, place in zip(self.stimuli, self.starts, strict=True):
            if self.channels > 1:
                where = [c - 1 for c in stimulus.channels]
            else:
                where = [0]
            out[place : place + stimulus.frames, where] = stimulus.by_output()
        return out

    def to_json(self) -> dict[str, Any]:
        return {
            "level": self.level,
            "first_mark": self.first_mark,
            "last_mark": self.last_mark,
            "frames": self.frames,
            **({"probe": self.probe} if self.probe is not None else {}),
            "stimuli": [{"at": at, **s.to_json()} for s, at in zip(self.stimuli, self.starts, strict=True)],
        }

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> MarkedSequence:
        """Make a marked sequence of its JSON. Raises UnusableInputError."""
        try:
            stimuli = tuple(stimulus_from_json(s) for s in data["stimuli"])
            starts = tuple(int(s["at"]) for s in data["stimuli"])
            sequence = MarkedSequence(
                stimuli,
                float(data["level"]),
                int(data["first_mark"]),
                starts,
                int(data["last_mark"]),
                int(data["frames"]),
                int(data["probe"]) if data.get("probe") is not None else None,
            )
        except (KeyError, TypeError, ValueError, OverflowError) as error:
            raise UnusableInputError(
                "The sync markers in the stimulus description cannot be read. Export the stimulus again."
            ) from error
        inside = (
            bool(sequence.stimuli)
            and 0 <= sequence.first_mark < min(sequence.starts)
            and max(sequence.starts) < sequence.last_mark < sequence.frames
            and sequence.first_mark < (sequence.probe or min(sequence.starts)) <= min(sequence.starts)
        )
        if (
            not inside
            or sequence.frames > MOST_FRAMES
            or not abs(sequence.level) <= 1000
            or len({s.rate for s in sequence.stimuli}) > 1
        ):
            raise UnusableInputError(
                "The sync markers in the stimulus description do not enclose the stimuli. Export the stimulus again."
            )
        return sequence


def build_marked_sequence(stimuli: Sequence[Stimulus], level: float, *, probed: bool = False) -> MarkedSequence:
    """Return the stimuli, one after the other, between marks at ``level`` dBFS, with silence at both ends; probed:
    after the bursts that show a player's own processing.
    """
    rate = stimuli[0].rate
    first = round(SILENCE * rate)
    place = first + round((MARK + GAP) * rate)
    probe = None
    if probed:
        probe = place
        place += processing_probe(rate, level).size
    starts = []
    for stimulus in stimuli:
        starts.append(place)
        place += stimulus.frames
    last = place + round(GAP * rate)
    return MarkedSequence(
        tuple(stimuli), level, first, tuple(starts), last, last + round((MARK + SILENCE) * rate), probe
    )
