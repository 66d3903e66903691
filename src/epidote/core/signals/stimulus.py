"""Stimuli as data: kind and parameters, from which the samples can be made again at any time."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from types import MappingProxyType
from typing import Any

import numpy as np

from epidote.core.errors import UnusableInputError
from epidote.core.signals.signal import Samples, as_readonly


@dataclass(frozen=True)
class Stimulus:
    """What is played, as data from which the samples can be made again at any time.

    ``kind`` names the maker (see ``register_stimulus``); ``parameters`` are its arguments and hold all that an analysis
    needs; every output channel in ``channels`` (from 1) carries the same samples, unless the parameter
    ``independent`` is set: then each is made with a seed of its own.
    """

    kind: str
    rate: float
    parameters: Mapping[str, float]
    channels: tuple[int, ...] = (1, 2)
    # of a sound file, which no parameters can make again: (frames,), or (frames, outputs) with each its own
    material: Samples | None = field(default=None, compare=False, repr=False)
    # (frames, channels): what analyses compare with where the material was changed on purpose; None: the material
    original: Samples | None = field(default=None, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "parameters", MappingProxyType(dict(self.parameters)))

    def __getitem__(self, name: str) -> float:
        return self.parameters[name]

    @property
    def playable(self) -> bool:
        """Whether its samples can be made; those of a sound file are gone once the stimulus was written down."""
        return self.material is not None or self.kind != "material"

    def samples(self) -> Samples:
        """Return samples (frames,) in FS, locked; the mean of outputs that each have their own."""
        if self.material is not None and self.material.ndim > 1:
            return as_readonly(self.material.mean(axis=1))
        if self.material is not None:
            return self.material
        try:
            return _render(self.kind, self.rate, tuple(sorted(self.parameters.items())))
        except (
            ValueError,
            IndexError,
            KeyError,
            OverflowError,
            ZeroDivisionError,
            StopIteration,
            MemoryError,
        ) as error:
            raise UnusableInputError(
                f"The description of this stimulus ({self.kind}) does not fit together. Export the stimulus again."
            ) from error

    def by_output(self) -> Samples:
        """Return samples (frames, 1) that all outputs share, or (frames, outputs) where each has its own."""
        if self.material is not None and self.material.ndim > 1:
            return self.material
        if not self.parameters.get("independent") or len(self.channels) < 2:
            return self.samples()[:, None]
        seeds = [self.parameters["seed"] + number for number in range(len(self.channels))]
        others = [replace(self, parameters={**self.parameters, "seed": seed}) for seed in seeds]
        return np.stack([other.samples() for other in others], axis=1)

    @property
    def frames(self) -> int:
        return round(self.parameters["frames"])

    def to_json(self) -> dict[str, Any]:
        return {
            "kind": self.kind,
            "rate": self.rate,
            "parameters": dict(self.parameters),
            "channels": list(self.channels),
        }


MOST_FRAMES, MOST_COUNT, MOST_CHANNELS = 1.5e9, 100_000, 256  # an hour at 384 kHz
MOST_RATES = (1000.0, 1_000_000.0)  # Hz
Maker = Callable[[float, Mapping[str, float]], Samples]
Needs = Callable[[Mapping[str, float]], Iterable[str]]
_MAKERS: dict[str, Maker] = {}
_FOUND: set[str] = set()
_NEEDS: dict[str, Needs] = {}


def on_outputs(samples: Samples, channels: Sequence[int], outputs: int) -> Samples:
    """Return what each output plays (frames, outputs): samples (frames, 1) on all of ``channels`` (from 1), or (frames,
    channels) on each its own; channels that there are not are left out.
    """
    driven = np.zeros((samples.shape[0], outputs))
    for place, number in enumerate(channels):
        if number <= outputs:
            driven[:, number - 1] = samples[:, min(place, samples.shape[1] - 1)]
    return driven


def register_stimulus(kind: str, needs: str | Needs, *, found: bool = False) -> Callable[[Maker], Maker]:
    """Register the function (rate, parameters) -> samples that makes stimuli of this kind.

    needs: names of the parameters without which neither it nor an analysis can do, or what gives them for the
    parameters there are. found: whether its analysis finds it wherever it lies in a recording.
    """

    def register(maker: Maker) -> Maker:
        _MAKERS[kind] = maker
        if found:
            _FOUND.add(kind)
        if callable(needs):
            _NEEDS[kind] = needs
        else:
            _NEEDS[kind] = lambda _: needs.split()
        return maker

    return register


def finds_itself(kind: str) -> bool:
    """Whether the analysis of a kind finds the stimulus wherever it lies in a recording; else it has to stand where it
    was played.
    """
    return kind in _FOUND


def is_registered(kind: str) -> bool:
    """Whether the maker of a kind is registered: ``core/stimuli/every.py`` registers all."""
    return kind in _MAKERS


_COUNTS = ("shots", "steps", "per_octave")
_LENGTHS = {
    "lead",
    "ramp",
    "steady",
    "settle",
    "tail",
    "sounding",
    "chirp",
    "gap",
    "silence",
    "step",
    "period",
    "every",
}  # in frames


def require_bounds(stimulus: Stimulus) -> None:
    """Refuse a description from outside, with the number and the bound, before anything is made of it.

    Raises UnusableInputError.
    """
    if not MOST_RATES[0] <= stimulus.rate <= MOST_RATES[1]:
        raise UnusableInputError(
            f"The stimulus has a sample rate of {stimulus.rate:g} Hz; {MOST_RATES[0]:g} to {MOST_RATES[1]:g} Hz are"
            " supported."
        )
    if (
        not stimulus.channels
        or len(stimulus.channels) > MOST_CHANNELS
        or not all(1 <= c <= MOST_CHANNELS for c in stimulus.channels)
    ):
        raise UnusableInputError(
            f"The stimulus names {len(stimulus.channels)} channels; 1 to {MOST_CHANNELS} are supported."
        )
    missing = [
        name for name in (*_NEEDS[stimulus.kind](stimulus.parameters), "frames") if name not in stimulus.parameters
    ]
    if missing:
        raise UnusableInputError(
            f"The stimulus description has no “{missing[0]}”. Nothing was computed; export the stimulus again."
        )
    frames = stimulus.parameters.get("frames", math.nan)
    for name, value in stimulus.parameters.items():
        if name in _LENGTHS and not 0 <= value <= frames:
            raise UnusableInputError(
                f"The stimulus has {name} = {value:g} of {frames:g} frames. Export the stimulus again."
            )
        most = MOST_COUNT if name in _COUNTS else MOST_FRAMES
        if not abs(value) <= most:
            raise UnusableInputError(
                f"The stimulus has {name} = {value:g}; at most {most:g} is supported. Export the stimulus again."
            )
    if not 0 < frames <= MOST_FRAMES or len(stimulus.parameters) > 4 * MOST_COUNT:
        raise UnusableInputError(
            f"The stimulus has {frames:g} frames; 1 to {MOST_FRAMES:g} are supported. Export the stimulus again."
        )


@lru_cache(maxsize=2)
def _render(kind: str, rate: float, parameters: tuple[tuple[str, float], ...]) -> Samples:
    maker = _MAKERS.get(kind)
    assert maker is not None
    values = dict(parameters)
    made = maker(rate, values)
    if made.shape != (round(values["frames"]),):
        raise ValueError("a stimulus of another length than it says")
    return as_readonly(made)
