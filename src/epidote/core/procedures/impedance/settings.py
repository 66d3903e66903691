"""Settings of impedance."""

from __future__ import annotations

from pydantic import model_validator

from epidote.core import effects
from epidote.core.errors import SettingError
from epidote.core.procedures.common.swept import SweepSettings
from epidote.core.settings import OnlyWith, setting


class ImpedanceSettings(SweepSettings):
    """Settings of impedance."""

    level: float = setting(-20.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL)
    series_ohms: float = setting(10.0, "Series resistor", "Value of the series resistor", "Ω", gt=0, le=1e7)
    before_channel: int = setting(1, "Channel before resistor", "Input channel before the resistor", ge=1, le=64)
    after_channel: int = setting(
        2, "Channel after resistor", "Input channel after the resistor, at the unit", ge=1, le=64
    )
    mismatch: float = setting(
        0.1,
        "Channel mismatch",
        "Gain difference of the two inputs, measured with both connected to the same source",
        "dB",
        ge=0,
        le=3,
        secondary=True,
    )
    source_ohms: float = setting(
        0.0,
        "Source resistance",
        "Output resistance of the source that will drive the unit, for the loading loss",
        "Ω",
        ge=0,
        le=1e6,
        secondary=True,
    )

    rated_ohms: float = setting(
        0.0,
        "Rated impedance",
        "Rated impedance of the loudspeaker, for the minimum in relation to it; 0 where there is none",
        "Ω",
        ge=0,
        le=10000,
        secondary=True,
    )
    added_mass: float = setting(
        0.0,
        "Added mass",
        "Mass that was fixed to the diaphragm, in grams; 0 for none",
        ge=0,
        le=1000,
        secondary=True,
    )
    box_volume: float = setting(
        0.0,
        "Closed box",
        "Volume of the closed box that the driver is mounted in, in litres; 0 for free air",
        ge=0,
        le=10000,
        secondary=True,
    )
    free_resonance: float = setting(
        0.0,
        "Resonance in free air",
        "Resonance of the same driver in free air, from a run without mass and box",
        "Hz",
        ge=0,
        le=20000,
        secondary=True,
    )
    free_qes: float = setting(
        0.0,
        "Qes in free air",
        "Qes of the same driver in free air, for the equivalent volume by the box",
        ge=0,
        le=100,
        secondary=True,
        only_with=OnlyWith("box_volume"),
    )
    diaphragm_area: float = setting(
        0.0,
        "Diaphragm area",
        "Effective area of the diaphragm in square centimetres, for the equivalent volume by added mass",
        ge=0,
        le=20000,
        secondary=True,
        only_with=OnlyWith("added_mass"),
    )

    @model_validator(mode="after")
    def _channels_are_two(self) -> ImpedanceSettings:
        if self.before_channel == self.after_channel:
            raise SettingError(
                "{before_channel} and {after_channel} must be different.", "before_channel", "after_channel"
            )
        return self
