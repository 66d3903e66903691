"""Signals, stimuli and recordings: the numbers that go out to a device and come back."""

from __future__ import annotations

import importlib
import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from types import MappingProxyType
from typing import Any

import numpy as np
from numpy.typing import NDArray

from epidote.core.errors import UnusableInputError

Samples = NDArray[np.float64]


def as_readonly(values: Any) -> Samples:
    """A read-only float64 array of ``values``, copied only when it must be."""
    array = np.ascontiguousarray(values, dtype=np.float64)
    if array.flags.writeable:
        array = array.view()
        array.flags.writeable = False
    return array


BLOCK_FRAMES = 4096


def block_min_max(x: Samples) -> tuple[Samples, Samples]:
    """The greatest and the least of each ``EXTREMES_OVER`` samples of x (frames,), the last of fewer; 0 of nothing."""
    whole = x.size // BLOCK_FRAMES * BLOCK_FRAMES
    blocks, rest = x[:whole].reshape(-1, BLOCK_FRAMES), x[whole:] if whole < x.size else x[:0]
    last = [rest] if rest.size or whole else [np.zeros(1)]
    highs, lows = blocks.max(axis=1), blocks.min(axis=1)
    if last[0].size:
        highs, lows = np.append(highs, last[0].max()), np.append(lows, last[0].min())
    return highs, lows


@dataclass(frozen=True, eq=False)
class Signal:
    """Samples (frames, channels) in float64 at ``rate`` Hz; unit FS (a sine of peak 1 is 0 dBFS, AES17), V or Pa."""

    samples: Samples
    rate: float
    unit: str = "FS"

    def __post_init__(self) -> None:
        samples = self.samples[:, None] if self.samples.ndim == 1 else self.samples
        object.__setattr__(self, "samples", as_readonly(samples))

    @property
    def frames(self) -> int:
        return int(self.samples.shape[0])

    @property
    def channels(self) -> int:
        return int(self.samples.shape[1])

    @property
    def duration(self) -> float:
        """In seconds."""
        return self.frames / self.rate

    def channel(self, number: int) -> Samples:
        """Samples (frames,) of a channel; channels count from 1."""
        return np.asarray(self._by_channel[number - 1])

    def extremes(self, number: int) -> tuple[Samples, Samples]:
        """The greatest and the least (blocks,) of each block of ``EXTREMES_OVER`` samples of a channel."""
        found = self._extremes.get(number)
        if found is None:
            found = self._extremes[number] = block_min_max(self.channel(number))
        return found

    def peak(self, number: int) -> float:
        """The greatest absolute value of a channel; 0 where there is none."""
        highs, lows = self.extremes(number)
        return float(max(highs.max(), -lows.min()))

    @cached_property
    def _extremes(self) -> dict[int, tuple[Samples, Samples]]:
        return {}

    @cached_property
    def _by_channel(self) -> Samples:
        return as_readonly(self.samples.T)


@dataclass(frozen=True)
class Stimulus:
    """What is played, as data from which the samples can be made again at any time.

    ``kind`` names the maker (see ``stimulus_maker``); ``parameters`` are its arguments and hold all that an analysis needs; every
    output channel in ``channels`` (from 1) carries the same samples.
    """

    kind: str
    rate: float
    parameters: Mapping[str, float]
    channels: tuple[int, ...] = (1, 2)
    material: Samples | None = field(default=None, compare=False, repr=False)  # of a sound file, which no parameters can make again

    def __post_init__(self) -> None:
        object.__setattr__(self, "parameters", MappingProxyType(dict(self.parameters)))

    def __getitem__(self, name: str) -> float:
        return self.parameters[name]

    @property
    def playable(self) -> bool:
        """Whether its samples can be made; those of a sound file are gone once the stimulus was written down."""
        return self.material is not None or self.kind != "material"

    def samples(self) -> Samples:
        """Samples (frames,) in FS, locked."""
        if self.material is not None:
            return self.material
        try:
            return _made(self.kind, self.rate, tuple(sorted(self.parameters.items())))
        except (ValueError, IndexError, KeyError, OverflowError, ZeroDivisionError, StopIteration, MemoryError) as error:
            raise UnusableInputError(f"The description of this stimulus ({self.kind}) does not fit together. Export the stimulus again.") from error

    @property
    def frames(self) -> int:
        return round(self.parameters["frames"])

    def to_json(self) -> dict[str, Any]:
        return {"kind": self.kind, "rate": self.rate, "parameters": dict(self.parameters), "channels": list(self.channels)}

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> Stimulus:
        """Raises UnusableInputError when the data is not a stimulus of a known kind."""
        try:
            parameters = {str(k): float(v) for k, v in data["parameters"].items()}
            stimulus = Stimulus(str(data["kind"]), float(data["rate"]), parameters, tuple(int(c) for c in data["channels"]))
        except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
            raise UnusableInputError("This is not a stimulus description. Nothing was computed; export the stimulus again.") from error
        if _maker(stimulus.kind) is None:
            raise UnusableInputError(f"This version of Epidote does not support stimuli of type “{stimulus.kind}”. Update Epidote to use it.")
        _require_bounds(stimulus)
        return stimulus


MOST_FRAMES, MOST_COUNT, MOST_CHANNELS = 1.5e9, 100_000, 256  # an hour at 384 kHz
MOST_RATES = (1000.0, 1_000_000.0)  # Hz
Maker = Callable[[float, Mapping[str, float]], Samples]
Needs = Callable[[Mapping[str, float]], Iterable[str]]
_MAKERS: dict[str, Maker] = {}
_NEEDS: dict[str, Needs] = {}


def register_stimulus(kind: str, needs: str | Needs) -> Callable[[Maker], Maker]:
    """Register the function (rate, parameters) -> samples that makes stimuli of this kind.

    needs: names of the parameters without which neither it nor an analysis can do, or what gives them for the parameters there are.
    """

    def register(maker: Maker) -> Maker:
        _MAKERS[kind] = maker
        _NEEDS[kind] = needs if callable(needs) else lambda _: needs.split()
        return maker

    return register


def _maker(kind: str) -> Maker | None:
    """The maker of a kind; all are registered before one is said to be missing."""
    if kind not in _MAKERS:
        importlib.import_module("epidote.core.stimuli.every")
    return _MAKERS.get(kind)


_LENGTHS = {"lead", "ramp", "steady", "settle", "tail", "sounding", "chirp", "gap", "silence", "step", "period", "every"}  # in frames


def _require_bounds(stimulus: Stimulus) -> None:
    """A description from outside: refused, with the number and the bound, before anything is made of it. Raises UnusableInputError."""
    if not MOST_RATES[0] <= stimulus.rate <= MOST_RATES[1]:
        raise UnusableInputError(f"The stimulus has a sample rate of {stimulus.rate:g} Hz; {MOST_RATES[0]:g} to {MOST_RATES[1]:g} Hz are supported.")
    if not stimulus.channels or len(stimulus.channels) > MOST_CHANNELS or not all(1 <= c <= MOST_CHANNELS for c in stimulus.channels):
        raise UnusableInputError(f"The stimulus names {len(stimulus.channels)} channels; 1 to {MOST_CHANNELS} are supported.")
    missing = [name for name in (*_NEEDS[stimulus.kind](stimulus.parameters), "frames") if name not in stimulus.parameters]
    if missing:
        raise UnusableInputError(f"The stimulus description has no “{missing[0]}”. Nothing was computed; export the stimulus again.")
    frames = stimulus.parameters.get("frames", math.nan)
    for name, value in stimulus.parameters.items():
        if name in _LENGTHS and not 0 <= value <= frames:
            raise UnusableInputError(f"The stimulus has {name} = {value:g} of {frames:g} frames. Export the stimulus again.")
        most = MOST_COUNT if name in ("shots", "steps", "per_octave") else MOST_FRAMES
        if not abs(value) <= most:
            raise UnusableInputError(f"The stimulus has {name} = {value:g}; at most {most:g} is supported. Export the stimulus again.")
    if not 0 < frames <= MOST_FRAMES or len(stimulus.parameters) > 4 * MOST_COUNT:
        raise UnusableInputError(f"The stimulus has {frames:g} frames; 1 to {MOST_FRAMES:g} are supported. Export the stimulus again.")


@lru_cache(maxsize=2)
def _made(kind: str, rate: float, parameters: tuple[tuple[str, float], ...]) -> Samples:
    maker = _maker(kind)
    assert maker is not None
    values = dict(parameters)
    made = maker(rate, values)
    if made.shape != (round(values["frames"]),):
        raise ValueError("a stimulus of another length than it says")
    return as_readonly(made)


@dataclass(frozen=True)
class Recording:
    """What came back: the signal, the stimulus that was played (None for a recording made elsewhere), and what the device reported.

    ``faults`` are words of the sound device about this very recording, such as "2 dropouts reported"; ``clock``: what
    was done about a recorder that ran on a clock of its own.
    """

    signal: Signal
    stimulus: Stimulus | None = None
    faults: tuple[str, ...] = field(default=())
    clock: str = ""

    def with_reference(self) -> Recording:
        """The recording with what was played as its last channel, where nothing else could tell it later."""
        if self.stimulus is None or self.stimulus.material is None:
            return self
        played = np.zeros(self.signal.frames)
        count = min(played.size, self.stimulus.material.size)
        played[:count] = self.stimulus.material[:count]
        both = Signal(np.column_stack([self.signal.samples, played]), self.signal.rate, self.signal.unit)
        told = Stimulus(
            self.stimulus.kind, self.stimulus.rate, {**self.stimulus.parameters, "reference_channel": both.channels}, self.stimulus.channels
        )
        return Recording(both, told, self.faults, self.clock)


@dataclass(frozen=True)
class Section:
    """A section of a recording that was made elsewhere, which is kept whole: ``frames`` from ``first`` on are analysed."""

    signal: Signal
    first: int
    frames: int

    def cut(self) -> Recording:
        """The section as a recording of its own. Raises UnusableInputError where the recording does not hold it."""
        if not 0 <= self.first < self.first + self.frames <= self.signal.frames:
            raise UnusableInputError("The section lies outside its recording. Nothing was computed; select it again.")
        samples = self.signal.samples[self.first : self.first + self.frames]
        return Recording(Signal(samples, self.signal.rate, self.signal.unit))
