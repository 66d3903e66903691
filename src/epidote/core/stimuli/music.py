"""A short piece of music that the project made itself: plucked notes over a bass, with soft strokes of noise."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from scipy import signal as sp

from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus

KIND = "music"
LEAD, TAIL = 0.5, 0.8  # s of silence before and after it
_SEED = 20261128
_BEAT = 0.3  # s
_SCALE = (0, 2, 3, 5, 7, 8, 10)  # semitones of a minor scale
_ROOT = 110.0  # Hz
_BASS = (0, 0, 5, 3, 0, 0, 4, 6)  # steps of the scale, a bar of four beats each


def music(*, rate: float, duration: float, level: float, channels: tuple[int, ...] = (1, 2)) -> Stimulus:
    """Return so many seconds of it, its peak at ``level`` dBFS, with silence before and after."""
    lead, sounding = round(LEAD * rate), round(duration * rate)
    parameters = {
        "level": level,
        "lead": lead,
        "sounding": sounding,
        "frames": lead + sounding + round(TAIL * rate),
    }
    return Stimulus(KIND, rate, parameters, channels)


@register_stimulus(KIND, "level lead sounding", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    lead, sounding = round(p["lead"]), round(p["sounding"])
    rng = np.random.default_rng(_SEED)
    whole = np.zeros(sounding + round(3 * rate))
    for beat in range(int(sounding / rate / _BEAT) + 1):
        start = round(beat * _BEAT * rate)
        bar = _BASS[beat // 4 % len(_BASS)]
        if beat % 4 == 0:
            _add(whole, start, _note(rate, _pitch(bar) / 2, 8, 1.2), 0.9)
        if rng.random() < 0.85:
            step = bar + int(rng.choice((0, 2, 4, 7, 9)))
            _add(whole, start, _note(rate, 2 * _pitch(step), 16, 0.8), 0.35 + 0.4 * rng.random())
        if beat % 2:
            _add(whole, start, _stroke(rate, rng), 0.12 + 0.1 * rng.random())
    x = whole[:sounding]
    fade = round(0.05 * rate)
    x[sounding - fade :] *= np.linspace(1, 0, fade)
    out = np.zeros(round(p["frames"]))
    out[lead : lead + sounding] = x * (from_db(p["level"]) / max(float(np.abs(x).max()), 1e-12))
    return out


def _pitch(step: int) -> float:
    """Return the frequency of a step of the scale in Hz."""
    octave, degree = divmod(step, len(_SCALE))
    return float(_ROOT * 2 ** (octave + _SCALE[degree] / 12))


def _note(rate: float, frequency: float, partials: int, seconds: float) -> Samples:
    """Return a plucked note (frames,): harmonics that die away sooner the higher they are."""
    t = np.arange(round(2 * rate)) / rate
    out = np.zeros(t.size)
    for k in range(1, partials + 1):
        f = k * frequency * (1 + 2e-4 * k * k)  # a string's stiffness
        if f < 0.45 * rate:
            out += np.sin(2 * np.pi * f * t) * np.exp(-t * (1 + 0.35 * k) / seconds) / k
    attack = min(t.size, round(0.003 * rate))
    out[:attack] *= np.linspace(0, 1, attack)
    return out


def _stroke(rate: float, rng: np.random.Generator) -> Samples:
    """Return a soft stroke of a brush (frames,)."""
    t = np.arange(round(0.25 * rate)) / rate
    noise = rng.standard_normal(t.size) * np.exp(-t / 0.05)
    return np.asarray(sp.lfilter(*sp.butter(1, min(3000.0, 0.2 * rate), "high", fs=rate), noise))


def _add(whole: Samples, start: int, part: Samples, share: float) -> None:
    end = min(whole.size, start + part.size)
    if end > start:
        whole[start:end] += share * part[: end - start]
