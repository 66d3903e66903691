"""Settings of programme material."""

from __future__ import annotations

from dataclasses import replace

from epidote.core import effects
from epidote.core.settings import LabelledEnum, OnlyWith, Settings, setting
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.equaliser import equalise, read_gains
from epidote.core.stimuli.music import LEAD, TAIL, music
from epidote.core.stimuli.noise import from_samples, material
from epidote.core.stimuli.speech import speech


class Piece(LabelledEnum):
    """What comes with Epidote, made by the project itself."""

    MUSIC = "music"
    SPEECH = "spoken line"


class ChannelUse(LabelledEnum):
    """What is done with the channels of a file."""

    SEPARATE = "separate"
    AS_ONE = "as one"


class ProgrammeSettings(Settings):
    """Settings of programme material."""

    material: str = setting(
        "",
        "Audio file",
        "Audio file to play; empty: built-in material",
        played=True,
        max_length=1000,
        affects=effects.STIMULUS,
    )
    piece: Piece = setting(
        Piece.MUSIC,
        "Built-in sound",
        "What is played without a file: a short piece of music, or a spoken line",
        played=True,
        affects=effects.STIMULUS,
    )
    channels: ChannelUse = setting(
        ChannelUse.SEPARATE,
        "Channels of the file",
        "Play each channel of the file on its own output, or a mono sum on all outputs",
        played=True,
        affects=effects.STIMULUS,
        only_with=OnlyWith("material"),
    )
    start: float = setting(
        0.0,
        "Start in the file",
        "Start of the section that is played",
        "s",
        played=True,
        ge=0,
        le=36000,
        only_with=OnlyWith("material"),
    )
    duration: float = setting(
        10.0, "Duration", "Duration of the section that is played", "s", played=True, ge=1, le=120
    )
    level: float = setting(
        -12.0, "Level", "Generator level of the highest peak", "dBFS", played=True, ge=-80, le=0, affects=effects.LEVEL
    )
    equaliser: str = setting(
        "",
        "Equalise with",
        "Text file of frequency in Hz and gain in dB, applied before playback; the recording is compared with the sound"
        " before it was equalised",
        played=True,
        max_length=1000,
        affects=effects.STIMULUS,
        secondary=True,
    )
    listening_level: float = setting(
        92.0,
        "Listening level",
        "Sound pressure level of a full-scale sine, for the masking estimate",
        "dB SPL",
        ge=40,
        le=120,
        secondary=True,
    )

    @property
    def title(self) -> str:
        """What is played, in a word."""
        if not self.material.strip():
            return f"built-in {self.piece}"
        return self.material.replace("\\", "/").rsplit("/", 1)[-1]

    @property
    def equalised_with(self) -> str:
        """The name of the equaliser's file; "" without one."""
        return self.equaliser.strip().replace("\\", "/").rsplit("/", 1)[-1]

    def played(self, rate: float) -> Stimulus:
        """Return the programme. Raises SettingError, UnusableInputError."""
        if self.equaliser.strip():
            return self._equalised(rate)
        if not self.material.strip():
            made = speech if self.piece is Piece.SPEECH else music
            return made(rate=rate, duration=self.duration, level=self.level)
        return material(
            rate=rate,
            path=self.material,
            duration=self.duration,
            level=self.level,
            start=self.start,
            silence=(LEAD, TAIL),
            separate=self.channels is ChannelUse.SEPARATE,
        )

    def _equalised(self, rate: float) -> Stimulus:
        """Return the programme through the equaliser, with the sound before it as what it is compared with."""
        frequency, gain = read_gains(self.equaliser)
        plain = self.model_copy(update={"equaliser": ""}).played(rate)
        original = plain.by_output()
        changed = equalise(original, rate, frequency, gain)
        # silence is part of both already, and the filter must not be cut off at the end of the sound
        made = from_samples(changed, rate=rate, level=self.level, channels=plain.channels, silence=(0.0, 0.0))
        return replace(made, original=original)

    def sounding(self) -> float:
        """Return the time of the sound with its silence, in s."""
        return LEAD + self.duration + TAIL
