"""Settings of programme material."""

from __future__ import annotations

from epidote.core import effects
from epidote.core.settings import OnlyWith, Settings, setting
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.music import LEAD, TAIL, music
from epidote.core.stimuli.noise import material


class ProgrammeSettings(Settings):
    """Settings of programme material."""

    material: str = setting(
        "",
        "Audio file",
        "Audio file to play, its channels as one; empty for a short piece of music that comes with Epidote",
        played=True,
        max_length=1000,
        affects=effects.STIMULUS,
    )
    start: float = setting(
        0.0,
        "Start in the file",
        "Where the section begins that is played",
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
        -12.0, "Level", "Generator level of its highest peak", "dBFS", played=True, ge=-80, le=0, affects=effects.LEVEL
    )
    listening_level: float = setting(
        92.0,
        "Listening level",
        "Sound level that a full-scale sine stands for in the estimate of masking",
        "dB SPL",
        ge=40,
        le=120,
        secondary=True,
    )

    @property
    def title(self) -> str:
        """What is played, in a word."""
        if not self.material.strip():
            return "built-in music"
        return self.material.replace("\\", "/").rsplit("/", 1)[-1]

    def played(self, rate: float) -> Stimulus:
        """Return the programme. Raises SettingError, UnusableInputError."""
        if not self.material.strip():
            return music(rate=rate, duration=self.duration, level=self.level)
        return material(
            rate=rate,
            path=self.material,
            duration=self.duration,
            level=self.level,
            start=self.start,
            silence=(LEAD, TAIL),
        )

    def sounding(self) -> float:
        """Return the time of the sound with its silence, in s."""
        return LEAD + self.duration + TAIL
