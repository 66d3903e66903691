"""The settings of distortion against level."""

from __future__ import annotations

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.sine import distortion_limits as knee
from epidote.core.chain.chain import Chain
from epidote.core.chain.level_setting import LevelString, drive_dbfs
from epidote.core.errors import SettingError
from epidote.core.procedures.common.stepped_tones import SteppedSettings
from epidote.core.settings import LabelledEnum, setting

RATED, PRACTICAL = 0.01, 0.02


class StopOn(LabelledEnum):
    """Which distortion is held against the limit."""

    THD_N = "THD+N"
    THD = "THD"


class DistortionLevelSettings(SteppedSettings):
    """Settings of distortion as a function of level."""

    frequency: float = setting(
        1000.0, "Frequency", "Tone frequency", "Hz", played=True, ge=5, le=100000, affects=effects.DISTORTION_FREQUENCY
    )
    start_level: LevelString = setting(
        "-60 dBFS", "Start level", "First generator level, in dBFS, V, dBV or dBu", played=True, max_length=40
    )
    stop_level: LevelString = setting(
        "0 dBFS",
        "Stop level",
        "Last generator level, unless the distortion limit is reached first",
        played=True,
        max_length=40,
    )
    steps: int = setting(
        30,
        "Number of levels",
        "Number of levels, evenly spaced in dB; finer steps are added around each limit",
        played=True,
        ge=2,
        le=400,
    )
    stop_at: float = setting(
        5.0, "Stop at distortion", "Distortion at which the level sweep stops", "%", played=True, gt=0, le=100
    )
    stop_on: StopOn = setting(
        StopOn.THD_N,
        "Distortion measure",
        "Distortion measure compared with the limits",
        affects=effects.DISTORTION_MEASURE,
        secondary=True,
    )
    clean: float = setting(
        0.1, "Clean limit", "Distortion limit for the “clean” readings", "%", gt=0, le=100, secondary=True
    )

    @property
    def limits(self) -> tuple[float, ...]:
        """As ratios, rising."""
        return tuple(sorted({RATED, PRACTICAL, self.stop_at / 100}))

    @property
    def measure(self) -> knee.Measure:
        if self.stop_on is StopOn.THD:
            return lambda s: s.thd
        return lambda s: s.thd_n

    @model_validator(mode="after")
    def _holds_cycles(self) -> DistortionLevelSettings:
        self.require_cycles(self.frequency)
        return self

    def levels(self, chain: Chain) -> tuple[list[float], bool]:
        """Drive levels in dBFS, and whether the chain's ceiling cut them short. Raises SettingError."""
        first, last = (
            drive_dbfs(t, chain, n) for t, n in ((self.start_level, "start_level"), (self.stop_level, "stop_level"))
        )
        ceiling = chain.ceiling_dbfs
        if first >= min(last, ceiling):
            if last <= ceiling:
                what = f"{{stop_level}} {last:g} dBFS"
            else:
                what = f"the chain's maximum output of {ceiling:g} dBFS"
            raise SettingError(
                f"{{start_level}} {first:g} dBFS must be lower than {what}. Nothing was played.",
                "start_level",
                "stop_level",
            )
        all_levels = np.linspace(first, last, self.steps)
        under = [float(v) for v in all_levels if v <= ceiling + 1e-9]
        if len(under) < self.steps and under[-1] < ceiling - 0.01:
            under.append(ceiling)
        return under, len(under) < self.steps or last > ceiling
