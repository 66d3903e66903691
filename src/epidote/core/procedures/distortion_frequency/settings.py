"""The settings of distortion against frequency.

Frequencies are evenly spaced in octaves about 1 kHz (IEC 61260-1, base ten), or preferred numbers (ISO 3, R10 to R80).
"""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import model_validator

from epidote.core import effects
from epidote.core.chain.chain import Chain
from epidote.core.chain.level_setting import LevelString, is_power
from epidote.core.errors import SettingError
from epidote.core.procedures.common.shared_settings import upper_band_limit
from epidote.core.procedures.common.stepped_tones import SteppedSettings, least_dwell
from epidote.core.quantities.frequency_series import NOMINAL, fractional_octave_series, preferred_numbers
from epidote.core.quantities.units import QuantityError, parse_as, to_db
from epidote.core.settings import LabelledEnum, OnlyWith, require_rising, setting
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.stepped_tones import Step

_LEAST_CYCLES = 8.0


class Series(LabelledEnum):
    """How the frequencies are spaced."""

    OCTAVES = "points per octave"
    R10 = "R10", "R10 (ISO 3)"
    R20 = "R20", "R20 (ISO 3)"
    R40 = "R40", "R40 (ISO 3)"
    R80 = "R80", "R80 (ISO 3)"


class Order(LabelledEnum):
    """In which order they sound."""

    UP = "up", "Ascending"
    DOWN = "down", "Descending"


class Hold(LabelledEnum):
    """What stays the same from tone to tone."""

    DRIVE = "drive", "Generator level"
    OUTPUT = "output", "Unit output level"


class DistortionFrequencySettings(SteppedSettings):
    """Settings of distortion as a function of frequency."""

    start_frequency: float = setting(20.0, "Start frequency", "Lowest frequency", "Hz", played=True, ge=5, le=100000)
    stop_frequency: float = setting(20000.0, "Stop frequency", "Highest frequency", "Hz", played=True, gt=5, le=192000)
    points_per_octave: int = setting(
        3,
        "Points per octave",
        "Points per octave",
        played=True,
        ge=1,
        le=48,
        only_with=OnlyWith("series", (Series.OCTAVES,)),
    )
    series: Series = setting(
        Series.OCTAVES,
        "Frequency spacing",
        "Points per octave, or preferred frequencies to ISO 3 (10, 20, 40 or 80 per decade)",
        played=True,
        secondary=True,
    )
    order: Order = setting(
        Order.UP, "Sweep direction", "Ascending or descending frequency", played=True, secondary=True
    )
    level: LevelString = setting(
        "-20 dBFS",
        "Level",
        "Generator level, or the unit's output level if that is held constant; a power is always an output level",
        played=True,
        max_length=40,
        affects=effects.LEVEL,
    )
    hold: Hold = setting(
        Hold.DRIVE,
        "Hold constant",
        "What is held constant: the generator level, or the unit's output level (by adjusting the generator)",
        played=True,
    )
    band_high: float = upper_band_limit(40000.0)

    @model_validator(mode="after")
    def _a_range(self) -> DistortionFrequencySettings:
        require_rising(self, "start_frequency", "stop_frequency")
        return self

    @property
    def holds_output(self) -> bool:
        return self.hold is Hold.OUTPUT or is_power(self.level)

    def frequencies(self) -> Samples:
        """In Hz, rising."""
        if self.series is Series.OCTAVES:
            return fractional_octave_series(self.points_per_octave, self.start_frequency, self.stop_frequency)
        return preferred_numbers(
            int(self.series.value[1:]), self.start_frequency * (1 - NOMINAL), self.stop_frequency * (1 + NOMINAL)
        )

    def steps(self, levels: Sequence[float], dwell: float | None = None) -> list[Step]:
        """Low tones sound longer, so that each holds enough cycles."""
        if dwell is None:
            dwell_time = self.dwell
        else:
            dwell_time = dwell
        made = [
            Step(float(f), v, max(dwell_time, least_dwell(float(f), _LEAST_CYCLES)))
            for f, v in zip(self.frequencies(), levels, strict=True)
        ]
        if self.order is Order.DOWN:
            return made[::-1]
        return made

    def output_dbfs(self, chain: Chain) -> float:
        """Return the held output as dBFS of the input.

        Raises SettingError when the chain does not know what it takes.
        """
        if chain.unit_full_scale is None:
            return self._output_in(chain, "dBFS")  # then nothing but dBFS has a meaning
        return to_db(self._output_in(chain, "V") / chain.unit_full_scale)

    def _output_in(self, chain: Chain, unit: str) -> float:
        try:
            return parse_as(self.level, unit, chain.conversion())
        except QuantityError as error:
            raise SettingError(
                f"{{level}} cannot be “{self.level}” at the unit's output: {error} See the Chain page.", "level"
            ) from error
