"""Nothing, for so many seconds: what a procedure plays that only records."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus, register_stimulus

KIND = "silence"


def silence(rate: float, duration: float) -> Stimulus:
    """``duration`` seconds."""
    return Stimulus(KIND, rate, {"frames": round(duration * rate)})


@register_stimulus(KIND, "frames", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    return np.zeros(round(p["frames"]))
