"""A spoken line that the project made itself: a voice's pulses and breath through the resonances of vowels.

Formant frequencies after tables of average vowels (Peterson, Barney 1952; from memory), the words invented.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from scipy import signal as sp

from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.music import LEAD, TAIL

KIND = "speech"
_SEED = 20261129
_PITCH = (128.0, 92.0)  # Hz, from the beginning of the line to its end
_BANDWIDTHS = (70.0, 100.0, 140.0, 200.0)  # Hz of the formants
_FOURTH = 3500.0  # Hz
_GLOTTIS, _LIPS = 120.0, 600.0  # Hz: corners of the voice's pulses, and of what the lips radiate
_LOWEST = 60.0  # Hz
_BREATH = 0.04  # of all breath, as resonances at high frequencies are strong
_GLIDE = 0.03  # s from one sound to the next
_PIECE = 64  # samples over which a filter stays as it is
# formants in Hz, time in s, share of voice and of breath
_SOUNDS: Mapping[str, tuple[tuple[float, float, float], float, float, float]] = {
    "a": ((730, 1090, 2440), 0.16, 1.0, 0.02),
    "e": ((530, 1840, 2480), 0.14, 1.0, 0.02),
    "i": ((270, 2290, 3010), 0.14, 0.9, 0.02),
    "o": ((570, 840, 2410), 0.16, 1.0, 0.02),
    "u": ((300, 870, 2240), 0.15, 0.9, 0.02),
    "m": ((250, 1100, 2200), 0.09, 0.4, 0.0),
    "n": ((250, 1500, 2500), 0.08, 0.4, 0.0),
    "l": ((360, 1200, 2800), 0.08, 0.6, 0.0),
    "r": ((420, 1300, 1650), 0.08, 0.6, 0.01),
    "s": ((3200, 5200, 7000), 0.11, 0.0, 0.30),
    "f": ((1400, 4200, 7500), 0.09, 0.0, 0.12),
    "t": ((1800, 3800, 5600), 0.05, 0.0, 0.35),
    "k": ((1300, 2200, 3000), 0.05, 0.0, 0.30),
    "d": ((400, 1700, 2600), 0.05, 0.5, 0.10),
    " ": ((500, 1500, 2500), 0.16, 0.0, 0.0),
}
_LINE = "alora domeni sul kanto  miraste elun fora  nokte lumina sale  torin amere du kasil  "


def speech(*, rate: float, duration: float, level: float, channels: tuple[int, ...] = (1, 2)) -> Stimulus:
    """Return so many seconds of it, its peak at ``level`` dBFS, with silence before and after."""
    lead, sounding = round(LEAD * rate), round(duration * rate)
    frames = lead + sounding + round(TAIL * rate)
    return Stimulus(KIND, rate, {"level": level, "lead": lead, "sounding": sounding, "frames": frames}, channels)


@register_stimulus(KIND, "level lead sounding", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    lead, sounding = round(p["lead"]), round(p["sounding"])
    x = _spoken(sounding, rate)
    fade = min(sounding, round(0.05 * rate))
    x[sounding - fade :] *= np.linspace(1, 0, fade)
    out = np.zeros(round(p["frames"]))
    out[lead : lead + sounding] = x * (from_db(p["level"]) / max(float(np.abs(x).max()), 1e-12))
    return out


def _spoken(frames: int, rate: float) -> Samples:
    """Return the line (frames,), said again until the time is over."""
    formants, voice, breath = _course(frames, rate)
    rng = np.random.default_rng(_SEED)
    share = (np.arange(frames) / rate % 5.0) / 5.0  # the pitch falls along the line, and wavers a little
    pitch = _PITCH[0] + (_PITCH[1] - _PITCH[0]) * share
    pitch *= 1 + 0.01 * np.sin(2 * np.pi * 4.7 * np.arange(frames) / rate)
    phase = np.cumsum(pitch) / rate
    pulses = np.where(np.diff(np.floor(phase), prepend=0.0) > 0, 1.0, 0.0)
    closing = np.exp(-2 * np.pi * _GLOTTIS / rate)
    radiated = [1.0, -np.exp(-2 * np.pi * _LIPS / rate)]
    glottis = sp.lfilter(radiated, np.poly([closing] * 2), pulses)
    glottis /= max(float(glottis.std()), 1e-12)
    source = voice * glottis + _BREATH * breath * rng.standard_normal(frames)
    # nothing is radiated below the voice
    high = sp.butter(2, _LOWEST, "high", fs=rate, output="sos")
    return np.asarray(sp.sosfilt(high, _through_formants(source, formants, rate)))


def _course(frames: int, rate: float) -> tuple[Samples, Samples, Samples]:
    """Return formants (3, frames), and shares of voice and breath (frames,), gliding from sound to sound."""
    glide = max(1, round(_GLIDE * rate))
    parts = []
    total = 0
    while total < frames + glide:
        for letter in _LINE:
            count = round(_SOUNDS[letter][1] * rate)
            parts.append((letter, count))
            total += count
    values = np.zeros((5, total))
    place = 0
    for letter, count in parts:
        where, _, voiced, breathed = _SOUNDS[letter]
        values[:, place : place + count] = np.array([*where, voiced, breathed])[:, None]
        place += count
    window = np.hanning(glide + 2)[1:-1]
    smooth = sp.fftconvolve(values, (window / window.sum())[None, :], mode="same", axes=1)[:, :frames]
    return smooth[:3], np.maximum(smooth[3], 0.0), np.maximum(smooth[4], 0.0)


def _through_formants(source: Samples, formants: Samples, rate: float) -> Samples:
    """Return the source (frames,) through resonances that move with the formants (3, frames)."""
    x = source
    for number, width in enumerate(_BANDWIDTHS):
        out = np.zeros_like(x)
        state = np.zeros(2)
        radius = np.exp(-np.pi * width / rate)
        for first in range(0, x.size, _PIECE):
            frequency = _FOURTH if number == len(formants) else float(formants[number, first])
            frequency = min(frequency, 0.45 * rate)
            a = np.array([1.0, -2 * radius * np.cos(2 * np.pi * frequency / rate), radius**2])
            part, state = sp.lfilter([a.sum()], a, x[first : first + _PIECE], zi=state)
            out[first : first + _PIECE] = part
        x = out
    return x
