"""What the procedures that play an exponential sweep have in common."""

from __future__ import annotations

from pydantic import model_validator

from epidote.core import effects
from epidote.core.errors import SettingError
from epidote.core.settings import Settings, setting
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.sweep import LEAD, TAIL, sweep


class SweepSettings(Settings):
    """Settings of an exponential sweep."""

    start_frequency: float = setting(
        20.0, "Start frequency", "Lowest frequency of the sweep", "Hz", played=True, ge=1, le=50000
    )
    stop_frequency: float = setting(
        20000.0, "Stop frequency", "Highest frequency of the sweep", "Hz", played=True, ge=20, le=180000
    )
    duration: float = setting(4.0, "Duration", "Duration of one sweep", "s", played=True, ge=0.2, le=120)
    level: float = setting(-6.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL)
    averages: int = setting(1, "Averages", "Number of sweeps played and averaged", played=True, ge=1, le=64)

    @model_validator(mode="after")
    def _band_is_one(self) -> SweepSettings:
        if self.start_frequency * 1.5 > self.stop_frequency:
            raise SettingError(
                "{start_frequency} must be at least half an octave below {stop_frequency}.",
                "start_frequency",
                "stop_frequency",
            )
        return self

    def played(self, rate: float) -> Stimulus:
        """One sweep. Raises SettingError when its band does not fit the rate."""
        return sweep(
            rate=rate, start=self.start_frequency, stop=self.stop_frequency, duration=self.duration, level=self.level
        )

    def sounding(self) -> float:
        """All sweeps with their silence, in s."""
        return self.averages * (self.duration + LEAD + TAIL)
