"""Many tones at once, each at an exact bin of one period, so that everything between the bins is the unit's own."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.frequency_series import fractional_octave_series
from epidote.core.quantities.units import from_db
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples, as_readonly
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.tone import fade_ends

KIND = "multitone"
LEAD, RAMP, SETTLE, TAIL = 0.1, 0.02, 0.5, 0.3
LEAST_APART = 4  # bins between two tones
# tones so unevenly spaced meet in every way within a period: no choice of phases gains more than a decibel over the
# best of a few
_DRAWS = 12


def bins_of(start: float, stop: float, per_octave: float, period: int, rate: float) -> np.ndarray:
    """Rising bins of the tones (tones,), evenly spaced in octaves about 1 kHz; where the period is too short for the
    low ones, fewer of them.
    """
    bins = np.round(fractional_octave_series(per_octave, start, stop) * period / rate).astype(int)
    distinct: list[int] = []
    for b in bins.tolist():
        if b >= LEAST_APART and (not distinct or b - distinct[-1] >= LEAST_APART):
            distinct.append(b)
    return np.array(distinct)


def multitone(
    *,
    rate: float,
    start: float,
    stop: float,
    per_octave: float,
    duration: float,
    level: float,
    channels: tuple[int, ...] = (1, 2),
) -> Stimulus:
    """level: dBFS of a sine with the same peak.

    Raises SettingError when the band does not fit below half the rate, or holds no two tones.
    """
    period = 2 * transforms.next_fast_len(round(duration * rate / 2), real=True)
    if stop >= 0.49 * rate:
        raise SettingError(
            f"{{stop_frequency}} {stop:g} Hz is too high for {rate:g} Hz: at most {0.48 * rate:g} Hz. Lower it or raise"
            " the rate.",
            "stop_frequency",
        )
    if bins_of(start, stop, per_octave, period, rate).size < 2:
        raise SettingError(
            f"Fewer than two tones between {start:g} and {stop:g} Hz. Widen the band or use more tones per octave.",
            "per_octave",
        )
    lead, settle, tail = round(LEAD * rate), round(SETTLE * rate), round(TAIL * rate)
    parameters = {
        "start": start,
        "stop": stop,
        "per_octave": per_octave,
        "period": period,
        "level": level,
        "lead": lead,
        "ramp": round(RAMP * rate),
        "settle": settle,
        "tail": tail,
        "frames": 2 * lead + settle + period + tail,
    }
    return Stimulus(KIND, rate, parameters, channels)


def tones_of(stimulus: Stimulus) -> tuple[np.ndarray, float]:
    """Bins of the tones within the period (tones,), and the peak of each tone in FS."""
    p = stimulus.parameters
    bins = bins_of(p["start"], p["stop"], p["per_octave"], round(p["period"]), stimulus.rate)
    return bins, from_db(p["level"]) * _loop(tuple(bins.tolist()), round(p["period"]))[1]


@lru_cache(maxsize=2)
def _loop(bins: tuple[int, ...], period: int) -> tuple[Samples, float]:
    """One period of peak 1, and the peak of each tone in it."""
    rng = np.random.default_rng(0)
    best: tuple[float, Samples] | None = None
    for _ in range(_DRAWS):
        spectrum = np.zeros(period // 2 + 1, complex)
        spectrum[list(bins)] = np.exp(2j * np.pi * rng.random(len(bins))) * period / 2
        x = transforms.irfft(spectrum, period)
        peak = float(np.abs(x).max())
        if best is None or peak < best[0]:
            best = peak, x
    assert best is not None
    return as_readonly(best[1] / best[0]), 1 / best[0]


@register_stimulus(KIND, "start stop per_octave period level lead ramp settle tail")
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    period, lead = round(p["period"]), round(p["lead"])
    bins = bins_of(p["start"], p["stop"], p["per_octave"], period, rate)
    loop, _ = _loop(tuple(bins.tolist()), period)
    count = round(p["frames"]) - 2 * lead
    wave = from_db(p["level"]) * np.take(loop, np.arange(count) - round(p["settle"]), mode="wrap")
    fade_ends(wave, round(p["ramp"]))
    out = np.zeros(round(p["frames"]))
    out[lead : lead + count] = wave
    return out
