"""A tone at several levels in a row, with silence before: what a short look at a path needs."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.tone import fade_ends

SILENCE, STEP, RAMP, TAIL = 0.25, 0.22, 0.02, 0.15  # seconds
FREQUENCY = 1000.0
BELOW_DB = (-20.0, 0.0, -20.0)  # of each step, re the level asked for


def level_check_tone(
    *, rate: float, level: float, frequency: float = FREQUENCY, channels: tuple[int, ...] = (1, 2)
) -> Stimulus:
    """Silence, then the tone 20 dB below ``level`` dBFS, at it, and 20 dB below again."""
    step, silence = round(STEP * rate), round(SILENCE * rate)
    parameters = {
        "frequency": frequency,
        "level": level,
        "silence": silence,
        "step": step,
        "frames": silence + len(BELOW_DB) * step + round(TAIL * rate),
    }
    return Stimulus("level steps", rate, parameters, channels)


@register_stimulus("level steps", "frequency level silence step")
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    out = np.zeros(round(p["frames"]))
    step = round(p["step"])
    for i, below in enumerate(BELOW_DB):
        first = round(p["silence"]) + i * step
        wave = from_db(p["level"] + below) * np.sin(2 * np.pi * p["frequency"] / rate * np.arange(step))
        fade_ends(wave, round(RAMP * rate))
        out[first : first + step] = wave
    return out
