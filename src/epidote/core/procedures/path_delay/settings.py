"""The settings of “paths”."""

from __future__ import annotations

from pydantic import model_validator

from epidote.core import effects
from epidote.core.settings import LabelledEnum, OnlyWith, Settings, require_rising, setting


class Played(LabelledEnum):
    """What sounds meanwhile."""

    NOISE = "noise"
    NOTHING = "nothing", "Nothing (record only)"


class PathsSettings(Settings):
    """Settings of the comparison of paths."""

    stimulus: Played = setting(
        Played.NOISE,
        "Stimulus",
        "Pink noise, or nothing to record existing sound",
        played=True,
        affects=effects.STIMULUS,
    )
    level: float = setting(
        -20.0,
        "Level",
        "Generator level",
        "dBFS",
        played=True,
        ge=-140,
        le=0,
        affects=effects.LEVEL,
        only_with=OnlyWith("stimulus", (Played.NOISE,)),
    )
    duration: float = setting(10.0, "Duration", "Duration of the recording", "s", played=True, ge=0.1, le=3600)
    search: float = setting(
        1.0, "Search range", "Maximum delay searched for, in either direction", "s", gt=0, le=600, secondary=True
    )
    band_low: float = setting(
        20.0, "Lower band limit", "Lower limit of the analysed band", "Hz", ge=0, le=100000, secondary=True
    )
    band_high: float = setting(
        20000.0, "Upper band limit", "Upper limit of the analysed band", "Hz", gt=0, le=192000, secondary=True
    )
    events: bool = setting(True, "Find transients", "Find transients and the delay of each", secondary=True)

    @model_validator(mode="after")
    def _band_is_one(self) -> PathsSettings:
        require_rising(self, "band_low", "band_high")
        return self
