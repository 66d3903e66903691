"""Tones in a row, each at its own frequency and level, after a chirp that tells where a recording of them begins."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import MOST_COUNT, Stimulus, register_stimulus
from epidote.core.stimuli.tone import fade_ends, raised_cosine

KIND = "staircase"
TAIL, RAMP = 0.2, 0.005  # seconds; TAIL is what the way through the device may take
_CHIRP_LOW, _CHIRP_HIGH = 200.0, 5000.0
_CHIRP_LEAST_DB = -60.0  # a chirp that no unit minds and that noise does not hide


@dataclass(frozen=True)
class Preamble:
    """What comes before the steps, in s: silence, the chirp, silence again."""

    lead: float
    chirp: float
    gap: float

    @property
    def seconds(self) -> float:
        return self.lead + self.chirp + self.gap


LONG_PREAMBLE = Preamble(0.05, 0.1, 0.05)
SHORT_PREAMBLE = Preamble(0.02, 0.05, 0.02)  # once the device runs and its level is known


@dataclass(frozen=True)
class Step:
    """frequency in Hz, level in dBFS, dwell in s."""

    frequency: float
    level: float
    dwell: float


@dataclass(frozen=True)
class ScheduledStep:
    """A step in the stimulus: first frame, frames, frequency in Hz, level in dBFS."""

    first: int
    frames: int
    frequency: float
    level: float


@dataclass(frozen=True)
class FixedTone:
    """A second tone that sounds beside all steps: frequency in Hz, level in dB re the step's own."""

    frequency: float
    relative_db: float


def stepped_tones(
    *,
    rate: float,
    steps: Sequence[Step],
    channels: tuple[int, ...] = (1, 2),
    opening: Preamble = LONG_PREAMBLE,
    fixed: FixedTone | None = None,
) -> Stimulus:
    """Return the steps in order, phase going on from each to the next, then silence for the device's latency.

    Raises SettingError for a tone at or above half the rate, or a dwell that holds no step.
    """
    highest = max([s.frequency for s in steps] + ([fixed.frequency] if fixed else []))
    if highest >= rate / 2:
        raise SettingError(
            f"A tone of {highest:g} Hz cannot be played at a sample rate of {rate:g} Hz. Use less than"
            f" {rate / 2:g} Hz.",
            "stop_frequency",
            "frequency",
        )
    loudest = max(s.level for s in steps)
    parameters = {
        "steps": float(len(steps)),
        "lead": round(opening.lead * rate),
        "chirp": round(opening.chirp * rate),
        "gap": round(opening.gap * rate),
        "chirp_level": min(loudest, max(steps[0].level, _CHIRP_LEAST_DB)),
        "ramp": round(RAMP * rate),
    }
    frames = sum(round(parameters[name]) for name in ("lead", "chirp", "gap"))
    for i, step in enumerate(steps):
        parameters |= {f"f{i}": step.frequency, f"l{i}": step.level, f"n{i}": round(step.dwell * rate)}
        frames += round(step.dwell * rate)
    if fixed is not None:
        parameters |= {"fixed_frequency": fixed.frequency, "fixed_db": fixed.relative_db}
    parameters["frames"] = frames + round(TAIL * rate)
    return Stimulus(KIND, rate, parameters, channels)


def steps_of(stimulus: Stimulus) -> list[ScheduledStep]:
    """Return the steps in the order in which they sound."""
    p = stimulus.parameters
    first = round(p["lead"]) + round(p["chirp"]) + round(p["gap"])
    steps = []
    for i in range(round(p["steps"])):
        steps.append(ScheduledStep(first, round(p[f"n{i}"]), p[f"f{i}"], p[f"l{i}"]))
        first += round(p[f"n{i}"])
    return steps


def chirp(rate: float, frames: int, level: float) -> Samples:
    """Return the chirp (frames,): an exponential sweep, faded at both ends. level in dBFS."""
    high = min(_CHIRP_HIGH, 0.4 * rate)
    t = np.arange(frames) / rate
    length = frames / rate / math.log(high / _CHIRP_LOW)
    wave = from_db(level) * np.sin(2 * np.pi * _CHIRP_LOW * length * np.expm1(t / length))
    fade_ends(wave, frames // 8)
    return np.asarray(wave)


def _needs(p: Mapping[str, float]) -> list[str]:
    count = int(min(max(p.get("steps", 0.0), 0.0), MOST_COUNT))
    if "fixed_frequency" in p:
        fixed = ["fixed_db"]
    else:
        fixed = []
    return [
        "steps",
        "lead",
        "chirp",
        "gap",
        "chirp_level",
        "ramp",
        *fixed,
        *(f"{name}{i}" for i in range(count) for name in "fln"),
    ]


@register_stimulus(KIND, _needs, found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    out = np.zeros(round(p["frames"]))
    lead, ramp = round(p["lead"]), round(p["ramp"])
    out[lead : lead + round(p["chirp"])] = chirp(rate, round(p["chirp"]), p["chirp_level"])
    fixed = p.get("fixed_frequency")
    phase, before, rise = 0.0, 0.0, raised_cosine(ramp)
    stimulus = Stimulus(KIND, rate, p)
    first = steps_of(stimulus)[0].first
    for step in steps_of(stimulus):
        n = np.arange(step.frames)
        amplitude = np.full(step.frames, from_db(step.level))
        amplitude[:ramp] = before + (amplitude[0] - before) * rise[: step.frames]
        turn = step.frequency / rate
        wave = np.sin(2 * np.pi * (phase + turn * n))
        if fixed is not None:
            wave += from_db(p["fixed_db"]) * np.sin(2 * np.pi * fixed / rate * (n + step.first - first))
        out[step.first : step.first + step.frames] = amplitude * wave
        phase, before = (phase + turn * step.frames) % 1.0, from_db(step.level)
    last = steps_of(stimulus)[-1]
    end = last.first + last.frames
    out[end - ramp : end] *= rise[::-1]
    return out
