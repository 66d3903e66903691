"""Settings of a microphone as the unit."""

from __future__ import annotations

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.chain.chain import Chain, SourceAtPoint
from epidote.core.chain.frequency_rows import interpolate_rows
from epidote.core.errors import SettingError
from epidote.core.procedures.common.gates import GateText, gate_setting
from epidote.core.procedures.common.stepped_tones import SteppedSettings
from epidote.core.settings import LabelledEnum, OnlyWith, require_rising, setting
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import Step
from epidote.core.stimuli.sweep import TAIL, shaped, sweep

_RISE, _STEP = 30.0, 2.0  # dB: from how far below the highest level the tones rise, and by how much each time
_BELOW, _LOWEST = 4.0, 10.0  # a gate mixes neighbouring frequencies: the sweep begins this far below, in Hz at least


class Task(LabelledEnum):
    """What is measured."""

    MICROPHONE = "microphone", "Microphone"
    SOURCE = "source", "Source, with the reference microphone"


_OF_MICROPHONE = OnlyWith("task", (Task.MICROPHONE,))


class MicrophoneSettings(SteppedSettings):
    """Settings of a microphone as the unit."""

    task: Task = setting(
        Task.MICROPHONE,
        "Measure",
        "The microphone, or first the source with the reference microphone at the measuring point",
        played=True,
    )
    unit_channel: int = setting(
        2, "Microphone channel", "Channel of the microphone to be measured", ge=1, le=64, only_with=_OF_MICROPHONE
    )
    reference_channel: int = setting(
        1,
        "Reference channel",
        "Channel of the calibrated reference microphone beside it (simultaneous comparison); 0 where the source kept"
        " with the chain stands for it (substitution). When the source is measured, 0 means channel 1",
        ge=0,
        le=64,
    )
    start_frequency: float = setting(
        100.0, "Start frequency", "Lowest frequency of the sweep", "Hz", played=True, ge=1, le=50000
    )
    stop_frequency: float = setting(
        10000.0, "Stop frequency", "Highest frequency of the sweep", "Hz", played=True, ge=20, le=180000
    )
    duration: float = setting(4.0, "Duration", "Duration of the sweep", "s", played=True, ge=0.2, le=120)
    level: float = setting(
        -20.0,
        "Level",
        "Generator level where no source is saved with the chain",
        "dBFS",
        played=True,
        ge=-140,
        le=0,
        affects=effects.LEVEL,
    )
    point_level: float = setting(
        94.0,
        "Level at the point",
        "Sound level at the measuring point at every frequency, if a source is saved with the chain; 94 dB is 1 Pa",
        "dB SPL",
        played=True,
        ge=0,
        le=150,
        affects=effects.LEVEL,
    )
    gate: GateText = gate_setting()
    noise_time: float = setting(
        5.0,
        "Silence for noise",
        "Recording time in silence for the self-noise; 0: none",
        "s",
        played=True,
        ge=0,
        le=120,
        only_with=_OF_MICROPHONE,
    )
    highest: float = setting(
        0.0,
        "Highest level",
        "Sound level up to which the tone is raised to find the distortion limit; 0: none. Needs a source saved"
        " with the"
        " chain",
        "dB SPL",
        played=True,
        ge=0,
        le=170,
        only_with=_OF_MICROPHONE,
    )
    frequency: float = setting(
        1000.0,
        "Tone frequency",
        "Frequency of the rising tone",
        "Hz",
        played=True,
        ge=20,
        le=20000,
        affects=effects.DISTORTION_FREQUENCY,
        only_with=OnlyWith("highest"),
    )
    distortion_limit: float = setting(
        1.0,
        "Distortion limit",
        "THD at which the tone stops",
        "%",
        played=True,
        ge=0.05,
        le=50,
        only_with=OnlyWith("highest"),
    )

    @model_validator(mode="after")
    def _fits_together(self) -> MicrophoneSettings:
        require_rising(self, "start_frequency", "stop_frequency")
        if self.reference_channel == self.unit_channel and self.task is Task.MICROPHONE:
            raise SettingError(
                "{reference_channel} and {unit_channel} cannot be the same. Set another one, or 0 for substitution.",
                "reference_channel",
                "unit_channel",
            )
        return self

    @property
    def reference(self) -> int:
        """Channel of the reference microphone; 0 for none."""
        if self.task is Task.SOURCE:
            return self.reference_channel or 1
        return self.reference_channel

    def read_channels(self, available: int) -> list[int]:
        """Return the channels that hear the tone of the distortion limit."""
        return [self.unit_channel]

    def sweep_for(self, chain: Chain) -> Stimulus:
        """Return the sweep: flat at the point where a source is kept, else flat at the output. Raises SettingError
        where the ceiling or the source's band stands in the way.
        """
        plain = sweep(
            rate=chain.rate,
            start=max(_LOWEST, self.start_frequency / _BELOW),
            stop=self.stop_frequency,
            duration=self.duration,
            level=min(self.level, chain.ceiling_dbfs),
            tail=TAIL,
            channels=chain.stimulus_channels,
        )
        if chain.source is None:
            return plain
        low, high = chain.source.band
        if self.start_frequency < low * 0.97 or self.stop_frequency > high * 1.03:
            raise SettingError(
                f"The source kept with the chain is known from {low:g} Hz to {high:g} Hz only. Set {{start_frequency}}"
                " and {stop_frequency} within that, or measure the source again and keep it.",
                "start_frequency",
                "stop_frequency",
            )
        # beyond the band the level stays as it is at its ends
        inside = [
            (f, v) for f, v in chain.source.points if self.start_frequency <= f * 1.03 and f <= self.stop_frequency
        ]
        levels = [self.point_level - level for _, level in inside]
        loudest = int(np.argmax(levels))
        if levels[loudest] > chain.ceiling_dbfs:
            raise SettingError(
                f"{self.point_level:g} dB SPL at the point is out of reach: at {inside[loudest][0]:.0f} Hz the source"
                f" would need {levels[loudest]:.1f} dBFS, above the chain's maximum of {chain.ceiling_dbfs:g} dBFS."
                " Nothing was played; lower {point_level}, or set a narrower band.",
                "point_level",
            )
        return shaped(plain, [f for f, _ in inside], levels)

    def rising_steps(self, chain: Chain) -> list[Step]:
        """Return the steps of the rising tone up to the highest level. Raises SettingError."""
        if chain.source is None:
            raise SettingError(
                "{highest} needs a source kept with the chain, whose level at the point is known. Measure the source"
                " and keep it, or set {highest} to 0.",
                "highest",
            )
        drive = self.highest - level_at(chain.source, self.frequency)
        if drive > chain.ceiling_dbfs:
            most = self.highest - drive + chain.ceiling_dbfs
            raise SettingError(
                f"{{highest}} {self.highest:g} dB SPL would need {drive:.1f} dBFS, above the chain's maximum of"
                f" {chain.ceiling_dbfs:g} dBFS. Nothing was played; use at most {most:.1f} dB SPL.",
                "highest",
            )
        count = round(_RISE / _STEP)
        return [Step(self.frequency, drive - _STEP * number, self.dwell) for number in range(count, -1, -1)]


def level_at(source: SourceAtPoint, frequency: float) -> float:
    """Return the level of a source in dB SPL at a generator level of 0 dBFS."""
    return float(interpolate_rows(source.points, np.array([frequency]))[0])
