"""A steady sine tone, ramped in and out."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus

LEAD, RAMP, SETTLE, TAIL = (
    0.1,
    0.02,
    0.3,
    0.3,
)  # seconds: silence, ramp, time to settle, tone beyond the window for latency


def snapped(frequency: float, rate: float, frames: int) -> float:
    """Return the frequency nearest to the wanted one at which ``frames`` samples hold whole cycles, in Hz."""
    cycles = max(1, round(frequency * frames / rate))
    return cycles * rate / frames


def tone(
    *, rate: float, frequency: float, duration: float, level: float, channels: tuple[int, ...] = (1, 2)
) -> Stimulus:
    """Return a tone whose analysis window of ``duration`` s holds whole cycles. level in dBFS.

    Raises SettingError above half the rate.
    """
    if frequency >= rate / 2:
        raise SettingError(
            f"A tone of {frequency:g} Hz cannot be played at a sample rate of {rate:g} Hz. Use less than"
            f" {rate / 2:g} Hz.",
            "frequency",
        )
    window = round(duration * rate)
    steady = window + round((SETTLE + TAIL) * rate)
    lead, ramp = round(LEAD * rate), round(RAMP * rate)
    parameters = {
        "frequency": snapped(frequency, rate, window),
        "level": level,
        "window": window,
        "lead": lead,
        "ramp": ramp,
        "steady": steady,
        "frames": 2 * lead + 2 * ramp + steady,
    }
    return Stimulus("tone", rate, parameters, channels)


def raised_cosine(frames: int) -> Samples:
    """Return a rise from 0 to 1 over ``frames`` samples (frames,), ends excluded."""
    return np.asarray(0.5 - 0.5 * np.cos(np.pi * (np.arange(frames) + 0.5) / frames))


def fade_ends(x: Samples, frames: int) -> None:
    """Let x (samples,) rise from 0 at its beginning and fall to 0 at its end, in place, over ``frames`` samples
    each.
    """
    if frames < 1:
        return
    rise = raised_cosine(frames)
    x[:frames] *= rise
    x[-frames:] *= rise[::-1]


@register_stimulus("tone", "frequency level window lead ramp steady")
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    lead, ramp, frames = round(p["lead"]), round(p["ramp"]), round(p["frames"])
    sounding = frames - 2 * lead
    samples = np.zeros(frames)
    sine = from_db(p["level"]) * np.sin(2 * np.pi * (p["frequency"] / rate) * np.arange(sounding))
    fade_ends(sine, ramp)
    samples[lead : lead + sounding] = sine
    return samples
