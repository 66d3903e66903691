"""The exponential sweep whose harmonics stay in step with it.

x(t) = A sin(2 pi f1 L exp(t/L)), L = T / ln(f2/f1). For this form sin(n phi(t)) = sin(phi(t + L ln n)) holds at any L,
so that the n-th harmonic response is found L ln n before the linear one (Farina 2000; Novak, Lotton, Simon 2015).
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import MOST_COUNT, Stimulus, register_stimulus

LEAD, TAIL = 0.1, 0.6  # seconds of silence before, and after for the response to die away

SHAPED = "shaped-sweep"


def sweep(
    *,
    rate: float,
    start: float,
    stop: float,
    duration: float,
    level: float,
    tail: float = TAIL,
    channels: tuple[int, ...] = (1, 2),
) -> Stimulus:
    """Return a sweep of ``duration`` s for the wanted band from ``start`` to ``stop`` Hz. level in dBFS; tail: silence
    after it in s.

    It begins two octaves below the band and ends above it, at 0.48 of the rate at most; the fades lie outside the band
    only. Raises SettingError when the band does not fit below half the rate.
    """
    if stop > 0.47 * rate:
        raise SettingError(
            f"{{stop_frequency}} {stop:g} Hz is too high for {rate:g} Hz: at most {0.47 * rate:g} Hz. Lower it or raise"
            " the rate.",
            "stop_frequency",
        )
    if start * 1.5 > stop:
        raise SettingError(
            f"{{start_frequency}} {start:g} Hz must be at least half an octave below {{stop_frequency}} {stop:g} Hz.",
            "start_frequency",
            "stop_frequency",
        )
    first, last = start / 4, min(0.48 * rate, 1.25 * stop)
    length = duration / math.log(last / first)
    sounding = round(duration * rate)
    lead, silent = round(LEAD * rate), round(tail * rate)
    parameters = {
        "first": first,
        "last": last,
        "start": start,
        "stop": stop,
        "length": length,
        "level": level,
        "lead": lead,
        "tail": silent,
        "frames": lead + sounding + silent,
    }
    return Stimulus("sweep", rate, parameters, channels)


def sweep_samples(rate: float, p: Mapping[str, float]) -> Samples:
    """Return the samples (frames,) of a sweep by its parameters."""
    lead, tail, frames, length = round(p["lead"]), round(p["tail"]), round(p["frames"]), p["length"]
    sounding = frames - lead - tail
    # exp and sin over the whole sweep are its cost: the exponential is built from two short tables instead
    block = 1024
    coarse = np.exp(np.arange(-(-sounding // block)) * (block / rate / length)) * (2 * np.pi * p["first"] * length)
    fine = np.exp(np.arange(block) / (rate * length))
    samples = np.zeros(frames)
    wave = np.sin(np.outer(coarse, fine).ravel()[:sounding])
    wave *= from_db(p["level"])
    rise = round(rate * length * math.log(p["start"] / p["first"]))
    fall = round(rate * length * math.log(p["last"] / p["stop"]))
    wave[:rise] *= 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)
    wave[sounding - fall :] *= 0.5 + 0.5 * np.cos(np.pi * (np.arange(fall) + 0.5) / fall)
    samples[lead : lead + sounding] = wave
    return samples


@register_stimulus("sweep", "first last start stop length level lead tail", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    return sweep_samples(rate, p)


def shaped(whole: Stimulus, frequencies: Sequence[float], levels: Sequence[float]) -> Stimulus:
    """Return a sweep whose level follows rows of frequency in Hz, rising, and dBFS; the end values hold beyond them."""
    rows: dict[str, float] = {"rows": float(len(levels))}
    for number, (frequency, level) in enumerate(zip(frequencies, levels, strict=True)):
        rows |= {f"f{number}": frequency, f"l{number}": level}
    return Stimulus(SHAPED, whole.rate, {**whole.parameters, "level": max(levels), **rows}, whole.channels)


def _needs(p: Mapping[str, float]) -> list[str]:
    count = round(p.get("rows", 0.0))
    numbered = [f"{name}{number}" for number in range(min(count, MOST_COUNT)) for name in "fl"]
    return [*["first", "last", "start", "stop", "length", "level", "lead", "tail", "rows"], *numbered]


@register_stimulus(SHAPED, _needs, found=True)
def _make_shaped(rate: float, p: Mapping[str, float]) -> Samples:
    samples = sweep_samples(rate, {**p, "level": 0.0})
    lead, tail, count = round(p["lead"]), round(p["tail"]), round(p["rows"])
    sounding = samples.size - lead - tail
    frequencies = np.array([p[f"f{number}"] for number in range(count)])
    levels = np.array([p[f"l{number}"] for number in range(count)])
    at = np.log(p["first"]) + np.arange(sounding) / (rate * p["length"])
    samples[lead : lead + sounding] *= 10 ** (np.interp(at, np.log(frequencies), levels) / 20)
    return samples
