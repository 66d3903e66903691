"""The settings of “paths”."""

from __future__ import annotations

from enum import StrEnum

from pydantic import model_validator

from epidote.core.procedures.base import Settings, require_rising, setting


class Played(StrEnum):
    """What sounds meanwhile."""

    NOISE = "noise"
    NOTHING = "nothing"


class PathsSettings(Settings):
    stimulus: Played = setting(Played.NOISE, "pink noise, or nothing: what sounds anyway is recorded", played=True)
    level: float = setting(-20.0, "level at the chain's output", "dBFS", played=True, ge=-140, le=0)
    duration: float = setting(10.0, "length of the recording", "s", played=True, ge=0.1, le=3600)
    search: float = setting(1.0, "greatest delay that is looked for, either way", "s", gt=0, le=600)
    band_low: float = setting(20.0, "lower end of the band that is compared", "Hz", ge=0, le=100000)
    band_high: float = setting(20000.0, "upper end of the band that is compared", "Hz", gt=0, le=192000)
    events: bool = setting(True, "find each transient and its own delay")

    @model_validator(mode="after")
    def _band_is_one(self) -> PathsSettings:
        require_rising(self, "band_low", "band_high")
        return self
