"""Settings of the frequency response."""

from __future__ import annotations

from epidote.core import effects
from epidote.core.analysis.spectral.smoothing import Smoothing
from epidote.core.procedures.common.gates import GateText, gate_setting
from epidote.core.procedures.common.swept import SweepSettings
from epidote.core.settings import LabelledEnum, OnlyWith, setting
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.noise import Colour, material, noise
from epidote.core.stimuli.sweep import LEAD, TAIL, sweep


class ImpulseWindow(LabelledEnum):
    """How much of the impulse response counts."""

    BY_FREQUENCY = "by frequency", "Frequency-dependent"
    FIXED = "fixed"


class Excitation(LabelledEnum):
    """What is played."""

    SWEEP = "sweep"
    NOISE = "noise"
    FILE = "file", "Audio file"


class ResponseSettings(SweepSettings):
    """Settings of the frequency response."""

    stimulus: Excitation = setting(
        Excitation.SWEEP, "Stimulus", "Test signal: sweep, noise or audio file", played=True, affects=effects.STIMULUS
    )
    colour: Colour = setting(
        Colour.PINK,
        "Noise spectrum",
        "Noise spectrum: pink or white",
        played=True,
        only_with=OnlyWith("stimulus", (Excitation.NOISE,)),
    )
    material: str = setting(
        "",
        "Audio file",
        "Audio file to play",
        played=True,
        max_length=1000,
        only_with=OnlyWith("stimulus", (Excitation.FILE,)),
    )
    reference_channel: int = setting(
        0,
        "Reference channel",
        "For noise or a file: input channel connected before the unit; 0 uses the played signal",
        ge=0,
        le=64,
        only_with=OnlyWith("stimulus", (Excitation.NOISE, Excitation.FILE)),
        secondary=True,
    )
    smoothing: Smoothing = setting(
        Smoothing.NONE, "Smoothing", "Smoothing of the level curves, in octaves", affects=effects.SMOOTHING
    )
    window: ImpulseWindow = setting(
        ImpulseWindow.BY_FREQUENCY,
        "Time window",
        "Time window applied to the impulse response",
        affects=effects.IMPULSE_WINDOW,
        only_with=OnlyWith("stimulus", (Excitation.SWEEP,)),
        secondary=True,
    )

    gate: GateText = gate_setting(only_with=OnlyWith("stimulus", (Excitation.SWEEP,)))
    tail: float = setting(
        TAIL,
        "Silence after",
        "Silence after the sweep for the decay of a room; set it to the reverberation time",
        "s",
        played=True,
        ge=0.1,
        le=30,
        secondary=True,
        only_with=OnlyWith("stimulus", (Excitation.SWEEP,)),
    )
    distance: float = setting(
        0.0,
        "Distance",
        "Distance of the microphone from the loudspeaker, for the sensitivity at 1 m; 0: unknown",
        "m",
        ge=0,
        le=1000,
        secondary=True,
    )
    rated_ohms: float = setting(
        8.0,
        "Rated impedance",
        "Rated impedance of the loudspeaker, for the sensitivity at 1 W",
        "Ω",
        gt=0,
        le=10000,
        secondary=True,
        only_with=OnlyWith("distance"),
    )

    def sounding(self) -> float:
        """All sweeps with their silence, in s."""
        return self.averages * (self.duration + LEAD + self.tail)

    def played(self, rate: float) -> Stimulus:
        """One sweep, the noise, or the material. Raises SettingError, UnusableInputError."""
        if self.stimulus is Excitation.NOISE:
            return noise(rate=rate, colour=self.colour, duration=self.duration, level=self.level)
        if self.stimulus is Excitation.FILE:
            return material(rate=rate, path=self.material, duration=self.duration, level=self.level)
        return sweep(
            rate=rate,
            start=self.start_frequency,
            stop=self.stop_frequency,
            duration=self.duration,
            level=self.level,
            tail=self.tail,
        )
