"""Settings of two tones: which pair, which convention."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.sine import intermodulation as intermod
from epidote.core.errors import SettingError
from epidote.core.settings import LabelledEnum, OnlyWith, Settings, require_rising, setting

SWEPT_DWELL = 0.5  # s of each step along the frequency of the upper tone


class Pair(LabelledEnum):
    """Two tones and the ratio of their amplitudes."""

    FREE = "as typed", "Custom"
    SMPTE = "60 Hz + 7 kHz, 4:1", "SMPTE: 60 Hz + 7 kHz, 4:1"
    DIN = "250 Hz + 8 kHz, 4:1", "DIN: 250 Hz + 8 kHz, 4:1"
    DIFFERENCE = "19 + 20 kHz, 1:1", "Difference-frequency: 19 + 20 kHz, 1:1"


PAIRS: Mapping[Pair, tuple[float, float, float]] = {
    Pair.SMPTE: (60.0, 7000.0, 4.0),
    Pair.DIN: (250.0, 8000.0, 4.0),
    Pair.DIFFERENCE: (19000.0, 20000.0, 1.0),
}


class Convention(LabelledEnum):
    """How modulation distortion is made of its sidebands."""

    ROOT_OF_SQUARES = "root of squares of d_m2 and d_m3", "Root sum square of d_m2 and d_m3"
    SIDEBANDS = "RMS sum of the sidebands", "RMS of sidebands"
    ENVELOPE = "RMS of the envelope", "RMS of envelope"


_CUSTOM = OnlyWith("pair", (Pair.FREE,))


class IntermodulationSettings(Settings):
    """Settings of intermodulation."""

    pair: Pair = setting(Pair.FREE, "Tone pair", "Standard tone pair, or tones of your own", played=True)
    frequency_1: float = setting(
        60.0,
        "Lower tone",
        "Frequency of the lower tone",
        "Hz",
        played=True,
        ge=5,
        le=100000,
        affects=effects.PRODUCT_FREQUENCIES,
        only_with=_CUSTOM,
    )
    frequency_2: float = setting(
        7000.0,
        "Upper tone",
        "Frequency of the upper tone",
        "Hz",
        played=True,
        ge=10,
        le=190000,
        affects=effects.PRODUCT_FREQUENCIES,
        only_with=_CUSTOM,
    )
    ratio: float = setting(
        4.0,
        "Amplitude ratio",
        "Amplitude of the lower tone relative to the upper",
        played=True,
        gt=0.001,
        le=1000,
        affects=effects.TONE_RATIO,
        only_with=_CUSTOM,
    )
    level: float = setting(
        -6.0,
        "Level",
        "Level of a sine with the same peak value as the two tones together",
        "dBFS",
        played=True,
        ge=-140,
        le=0,
        affects=effects.LEVEL,
    )
    duration: float = setting(2.0, "Duration", "Duration of the analysed section", "s", played=True, ge=0.1, le=600)
    sweep_from: float = setting(
        0.0,
        "Sweep from",
        "Frequency from which the upper tone is swept up to its own; 0 for no sweep",
        "Hz",
        played=True,
        ge=0,
        le=190000,
    )
    points_per_octave: int = setting(
        3,
        "Points per octave",
        "Tone pairs per octave of the sweep",
        played=True,
        ge=1,
        le=48,
        only_with=OnlyWith("sweep_from"),
    )
    convention: Convention = setting(
        Convention.ROOT_OF_SQUARES,
        "Definition",
        "Definition of modulation distortion",
        affects=effects.MODULATION_DEFINITION,
        secondary=True,
    )

    @model_validator(mode="before")
    @classmethod
    def _pair_decides(cls, values: Any) -> Any:
        if isinstance(values, dict) and values.get("pair") in list(PAIRS):
            first, second, ratio = PAIRS[Pair(values["pair"])]
            return {**values, "frequency_1": first, "frequency_2": second, "ratio": ratio}
        return values

    @model_validator(mode="after")
    def _tones_are_two(self) -> IntermodulationSettings:
        require_rising(self, "frequency_1", "frequency_2")
        if self.sweep_from and not self.frequency_1 < self.sweep_from < self.frequency_2:
            raise SettingError(
                "{sweep_from} must be between {frequency_1} and {frequency_2}.",
                "sweep_from",
                "frequency_1",
                "frequency_2",
            )
        words = intermod.too_close(self.frequency_1, self.frequency_2, self.duration)
        if words:
            raise SettingError(f"{words}. Use other frequencies or a longer duration.")
        return self

    @property
    def sweep_points(self) -> int:
        return max(2, 1 + round(self.points_per_octave * math.log2(self.frequency_2 / self.sweep_from)))

    def second_tones(self) -> list[float]:
        """Of the sweep, rising.

        Those whose products would fall upon each other are moved aside by as much as it takes.
        """
        tones = []
        for f in np.geomspace(self.sweep_from, self.frequency_2, self.sweep_points).tolist():
            moved = f
            while intermod.too_close(self.frequency_1, moved, 0.6 * SWEPT_DWELL) and moved < 1.2 * f:
                moved += 10.0
            tones.append(moved)
        return tones
