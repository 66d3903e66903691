"""Settings of the maximum level."""

from __future__ import annotations

import math

from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.spectral.fractional_octave import nominal_centres
from epidote.core.chain.chain import Chain
from epidote.core.chain.level_setting import LevelString, drive_dbfs
from epidote.core.errors import SettingError
from epidote.core.procedures.common.stepped_tones import SteppedSettings
from epidote.core.settings import require_rising, setting
from epidote.core.signals.signal import Samples


class MaximumLevelSettings(SteppedSettings):
    """Settings of the maximum level."""

    dwell: float = setting(
        0.3, "Dwell time", "Duration of each tone, including settling time", "s", played=True, ge=0.05, le=5
    )
    lowest: float = setting(
        50.0, "Lowest band", "Nominal frequency of the lowest third octave", "Hz", played=True, ge=10, le=50000
    )
    highest: float = setting(
        8000.0, "Highest band", "Nominal frequency of the highest third octave", "Hz", played=True, ge=20, le=90000
    )
    start_level: LevelString = setting(
        "-40", "Start level", "Generator level at which each band begins", "dBFS", played=True, max_length=40
    )
    stop_level: LevelString = setting(
        "-10",
        "Max. generator level",
        "Generator level that is never exceeded, e.g. the rated voltage of the unit",
        "dBFS",
        played=True,
        max_length=40,
        affects=effects.LEVEL,
    )
    step: float = setting(2.0, "Step", "Step of the generator level", "dB", played=True, ge=0.5, le=6)
    distortion_limit: float = setting(
        3.0, "Distortion limit", "THD at which a band has reached its maximum", "%", played=True, ge=0.1, le=50
    )
    compression_limit: float = setting(
        3.0,
        "Compression limit",
        "Gain reduction, relative to low level, at which a band has reached its maximum",
        "dB",
        played=True,
        ge=0.2,
        le=12,
    )
    rest: float = setting(1.0, "Pause", "Pause between bands, to let the unit cool", "s", played=True, ge=0, le=60)

    @model_validator(mode="after")
    def _band_of_tones_is_one(self) -> MaximumLevelSettings:
        require_rising(self, "lowest", "highest")
        return self

    def frequencies(self) -> Samples:
        """Return the exact midband frequencies in Hz (bands,) of the third octaves (IEC 61260-1)."""
        return nominal_centres(3, self.lowest, self.highest)

    def levels(self, chain: Chain) -> list[float]:
        """Return the generator levels of a band in dBFS, rising, the last one the limit. Raises SettingError."""
        start, stop = (
            drive_dbfs(self.start_level, chain, "start_level"),
            drive_dbfs(self.stop_level, chain, "stop_level"),
        )
        stop = min(stop, chain.ceiling_dbfs)
        if start >= stop:
            raise SettingError(
                "{start_level} must be below {stop_level} and the chain's maximum output level.",
                "start_level",
                "stop_level",
            )
        count = math.ceil((stop - start) / self.step - 1e-9)
        return [*(start + self.step * n for n in range(count)), stop]
