"""Shots: short sounds, each followed by silence in which it may come back late."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from epidote.core.quantities.units import from_db
from epidote.core.settings import LabelledEnum
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.tone import fade_ends

KIND = "shots"
LEAD, LENGTH, CLICK = 0.05, 0.2, 0.0005  # s
_LOW, _HIGH = 30.0, 0.45  # Hz; of the rate


class BurstKind(LabelledEnum):
    """What a shot sounds like."""

    SWEEP = "sweep"
    NOISE = "noise", "Noise burst"
    CLICK = "click"


_CODES = {
    BurstKind.SWEEP: 0.0,
    BurstKind.NOISE: 1.0,
    BurstKind.CLICK: 2.0,
}  # as stored: a new kind gets a number of its own, whatever its place in the list


def burst_train(
    *, rate: float, shot: BurstKind, count: int, level: float, longest: float, channels: tuple[int, ...] = (1, 2)
) -> Stimulus:
    """``count`` shots at ``level`` dBFS, ``longest`` s of silence after each."""
    every = round((LENGTH + longest) * rate)
    lead = round(LEAD * rate)
    parameters = {
        "shot": _CODES[shot],
        "shots": float(count),
        "level": level,
        "lead": float(lead),
        "length": float(round(LENGTH * rate)),
        "every": float(every),
        "frames": float(lead + count * every),
    }
    return Stimulus(KIND, rate, parameters, channels)


def burst_samples(stimulus: Stimulus) -> Samples:
    """Return what each shot is (frames,)."""
    return _render_burst(stimulus.rate, stimulus.parameters)


def burst_starts(stimulus: Stimulus) -> list[int]:
    """First frame of each shot."""
    return [round(stimulus["lead"] + n * stimulus["every"]) for n in range(round(stimulus["shots"]))]


def _render_burst(rate: float, p: Mapping[str, float]) -> Samples:
    frames, peak = round(p["length"]), from_db(p["level"])
    kind = next(shot for shot, code in _CODES.items() if code == p["shot"])
    if kind is BurstKind.CLICK:
        out = np.zeros(frames)
        size = max(3, round(CLICK * rate))
        out[:size] = peak * np.hanning(size + 2)[1:-1]
        return out
    if kind is BurstKind.NOISE:
        out = np.random.default_rng(1).standard_normal(frames)
    else:
        ratio = np.log(_HIGH * rate / _LOW)
        out = np.sin(2 * np.pi * _LOW * (LENGTH / ratio) * np.expm1(np.arange(frames) / frames * ratio))
    fade_ends(out, frames // 16)
    return np.asarray(out * (peak / np.abs(out).max()))


@register_stimulus(KIND, "shot shots level lead length every", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    out = np.zeros(round(p["frames"]))
    shot = _render_burst(rate, p)
    for n in range(round(p["shots"])):
        first = round(p["lead"] + n * p["every"])
        out[first : first + shot.size] = shot
    return out
