"""Settings of band levels."""

from __future__ import annotations

import math

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.spectral.fractional_octave import edges
from epidote.core.chain.chain import Chain
from epidote.core.chain.level_setting import LevelString
from epidote.core.effects import Effect, Severity
from epidote.core.errors import SettingError
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.settings import LabelledEnum, OnlyWith, Settings, require_rising, setting
from epidote.core.stimuli.noise import Colour

LONGEST = 3600.0  # s


class Bandwidth(LabelledEnum):
    """Width of the bands in octaves (IEC 61260-1)."""

    OCTAVE = "1/1", "1/1 octave"
    HALF = "1/2", "1/2 octave"
    THIRD = "1/3", "1/3 octave"
    SIXTH = "1/6", "1/6 octave"
    TWELFTH = "1/12", "1/12 octave"
    TWENTYFOURTH = "1/24", "1/24 octave"

    @property
    def fraction(self) -> int:
        """Bands in an octave."""
        return int(self.value.partition("/")[2])


class LengthBy(LabelledEnum):
    """What the length of the noise follows from."""

    DURATION = "duration"
    UNCERTAINTY = "uncertainty", "Standard deviation"


class Outputs(LabelledEnum):
    """Whether the outputs play one noise or each its own."""

    SAME = "same", "Same noise"
    INDEPENDENT = "independent", "Uncorrelated noise"


class Background(LabelledEnum):
    """What is done with the background that was measured before."""

    SUBTRACT = "subtract"
    KEEP = "keep", "Do not subtract"


class BandLevelSettings(Settings):
    """Settings of band levels."""

    level: LevelString = setting(
        "-20",
        "Level",
        "Generator level, stated as that of a sine with the same peak",
        "dBFS",
        played=True,
        max_length=40,
        affects=effects.LEVEL,
    )
    noise: Colour = setting(
        Colour.PINK, "Noise spectrum", "Pink noise has equal power in each octave, white in each hertz", played=True
    )
    outputs: Outputs = setting(
        Outputs.SAME,
        "Outputs",
        "All outputs play the same noise, or uncorrelated noise",
        played=True,
        affects=Effect(
            "The same noise on both channels interferes; uncorrelated noise does not.", Severity.SIGNIFICANT
        ),
    )
    length_by: LengthBy = setting(
        LengthBy.DURATION, "Duration from", "Enter the duration, or derive it from the standard deviation", played=True
    )
    duration: float = setting(
        30.0,
        "Duration",
        "Duration of the noise",
        "s",
        played=True,
        ge=1,
        le=LONGEST,
        only_with=OnlyWith("length_by", (LengthBy.DURATION,)),
    )
    uncertainty: float = setting(
        0.3,
        "Standard deviation",
        "Statistical standard deviation of the level in the narrowest band, which sets the duration",
        "dB",
        played=True,
        ge=0.02,
        le=3,
        only_with=OnlyWith("length_by", (LengthBy.UNCERTAINTY,)),
    )
    bandwidth: Bandwidth = setting(
        Bandwidth.THIRD,
        "Bandwidth",
        "Width of the bands (IEC 61260-1)",
        affects=Effect("Levels of bands of different width cannot be compared.", Severity.BLOCKS),
    )
    band_low: float = setting(20.0, "Lowest band", "Nominal frequency of the lowest band", "Hz", ge=1, le=100000)
    band_high: float = setting(20000.0, "Highest band", "Nominal frequency of the highest band", "Hz", gt=1, le=192000)
    band_limited: bool = setting(
        False, "Limit to bands", "Band-limit the noise to the measured bands", played=True, secondary=True
    )
    background: float = setting(
        5.0,
        "Background",
        "Recording time of the background before the noise; 0: none",
        "s",
        played=True,
        ge=0,
        le=600,
    )
    background_use: Background = setting(
        Background.SUBTRACT,
        "Background power",
        "Subtract the background power where the level exceeds it by 3 dB or more",
        secondary=True,
        affects=Effect("The background is subtracted in one and not in the other.", Severity.MINOR),
    )
    left_out: str = setting(
        "",
        "Exclude from average",
        "Channels excluded from the average, separated by commas",
        max_length=200,
        secondary=True,
    )

    @model_validator(mode="after")
    def _fits(self) -> BandLevelSettings:
        require_rising(self, "band_low", "band_high")
        self.channels_left_out()
        return self

    def channels_left_out(self) -> frozenset[int]:
        """Return the channels that are not averaged. Raises SettingError for text that names none."""
        try:
            return frozenset(int(part) for part in self.left_out.replace(";", ",").split(",") if part.strip())
        except ValueError as error:
            raise SettingError(
                f"{{left_out}} cannot be “{self.left_out}”. Enter channel numbers separated by commas.", "left_out"
            ) from error

    def seconds(self) -> float:
        """Return the duration of the noise; what an uncertainty asks for follows from the narrowest band.

        The standard deviation of the level of noise of bandwidth B over a time T is 4.34/sqrt(B T) dB (chi-square
        distribution of its power; common practice in acoustics).
        """
        if self.length_by is LengthBy.DURATION:
            return self.duration
        low, high = edges(np.array([self.band_low]), self.bandwidth.fraction)
        needed = (DB_PER_NEPER / 2 / self.uncertainty) ** 2 / float(high[0] - low[0])
        return min(LONGEST, max(1.0, math.ceil(10 * needed) / 10))

    def noise_band(self, chain: Chain) -> tuple[float, float] | None:
        """Return the limits in Hz within which noise is played; None for all that the rate allows."""
        if not self.band_limited:
            return None
        low, high = edges(np.array([self.band_low, self.band_high]), self.bandwidth.fraction)
        return float(low[0]), min(float(high[1]), chain.rate / 2)
