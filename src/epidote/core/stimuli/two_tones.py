"""Two steady tones at once, ramped in and out together."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.tone import LEAD, RAMP, SETTLE, TAIL, fade_ends


def amplitudes(level: float, ratio: float) -> tuple[float, float]:
    """Peaks of both tones whose sum peaks at ``level`` dBFS; ``ratio``: of the first to the second."""
    peak = from_db(level)
    return peak * ratio / (1 + ratio), peak / (1 + ratio)


def two_tones(
    *,
    rate: float,
    first: float,
    second: float,
    ratio: float,
    duration: float,
    level: float,
    channels: tuple[int, ...] = (1, 2),
) -> Stimulus:
    """Make a stimulus of two tones. Raises SettingError for a tone at or above half the rate."""
    if second >= rate / 2:
        raise SettingError(
            f"A tone of {second:g} Hz cannot be played at a sample rate of {rate:g} Hz. Use less than {rate / 2:g} Hz.",
            "frequency_2",
        )
    lead, ramp = round(LEAD * rate), round(RAMP * rate)
    steady = round(duration * rate) + round((SETTLE + TAIL) * rate)
    parameters = {
        "first": first,
        "second": second,
        "ratio": ratio,
        "level": level,
        "lead": lead,
        "ramp": ramp,
        "steady": steady,
        "frames": 2 * lead + 2 * ramp + steady,
    }
    return Stimulus("two tones", rate, parameters, channels)


@register_stimulus("two tones", "first second ratio level lead ramp steady")
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    lead, ramp, frames = round(p["lead"]), round(p["ramp"]), round(p["frames"])
    n = np.arange(frames - 2 * lead)
    a, b = amplitudes(p["level"], p["ratio"])
    wave = a * np.sin(2 * np.pi * p["first"] / rate * n) + b * np.sin(2 * np.pi * p["second"] / rate * n)
    fade_ends(wave, ramp)
    out = np.zeros(frames)
    out[lead : lead + n.size] = wave
    return out
