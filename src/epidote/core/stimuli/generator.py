"""What sounds without end while one looks or listens: a tone, two tones, noise, many tones, or a piece of sound over
and over.

Everything goes out through a gate that opens and closes as a raised cosine, so that nothing clicks, and under a
ceiling.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from functools import lru_cache
from typing import Any

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples, as_readonly

RAMP = 0.01  # seconds in which the gate opens or closes
NOISE_CREST = 4.0  # noise is cut at four times its RMS, which touches one sample in 16,000
_LOOP = 1 << 17
_TONES_PER_DECADE = 10


class Waveform(StrEnum):
    """What the generator plays."""

    NOTHING = "nothing"
    TONE = "tone"
    TWO_TONES = "two tones"
    NOISE = "noise"
    MULTITONE = "multitone"
    FILE = "file"


@dataclass(frozen=True)
class GeneratorSettings:
    """level in dBFS: of the tone; of a sine with the same RMS for noise; of a sine with the same peak for all others.

    frequency, second: Hz; outputs: positions among the chain's outputs that carry it, from 1.
    """

    kind: Waveform = Waveform.NOTHING
    level: float = -20.0
    frequency: float = 1000.0
    second: float = 1100.0
    outputs: tuple[int, ...] = (1, 2)

    @property
    def peak_db(self) -> float:
        """Greatest value in dB re full scale."""
        return self.level + (20 * math.log10(NOISE_CREST) - 3.01 if self.kind is Waveform.NOISE else 0.0)

    def below(self, ceiling_dbfs: float) -> GeneratorSettings:
        """Yield the same, as loud as the ceiling lets it be."""
        if self.peak_db <= ceiling_dbfs:
            return self
        return replace(self, level=self.level - (self.peak_db - ceiling_dbfs))

    def to_json(self) -> dict[str, Any]:
        return {**asdict(self), "kind": str(self.kind), "outputs": list(self.outputs)}

    @staticmethod
    def from_json(data: Mapping[str, Any]) -> GeneratorSettings:
        return GeneratorSettings(
            Waveform(data["kind"]), data["level"], data["frequency"], data["second"], tuple(data["outputs"])
        )


NOTHING = GeneratorSettings()


class SignalGenerator:
    """Makes a programme block by block.

    A change closes the gate, takes over, and opens it again; ``mute`` silences within one block.
    """

    def __init__(self, rate: float, channels: int, ceiling_dbfs: float = 0.0) -> None:
        self.rate, self.channels, self._ceiling = rate, channels, ceiling_dbfs
        self._now = self._next = NOTHING
        self._next_loop: Samples | None = None
        self._loop: Samples | None = None
        self._phases = [0.0, 0.0]
        self._place = 0
        self._gate = 0.0  # 0 shut, 1 open
        self._muted = False
        self._rng = np.random.default_rng()

    @property
    def sounding(self) -> bool:
        return self._gate > 0

    def play(self, programme: GeneratorSettings, samples: Samples | None = None) -> None:
        """Play ``samples`` (frames,) in FS: what a file holds, at this rate.

        Played over and over, its peak at the programme's level.

                Raises SettingError for a frequency that the rate cannot carry.
        """
        top = max(programme.frequency, programme.second if programme.kind is Waveform.TWO_TONES else 0.0)
        if programme.kind in (Waveform.TONE, Waveform.TWO_TONES) and not 0 < top < self.rate / 2:
            raise SettingError(
                f"{top:g} Hz cannot be played at a sample rate of {self.rate:g} Hz. Use less than {self.rate / 2:g} Hz."
            )
        loop = None
        if programme.kind is Waveform.MULTITONE:
            loop = multitone_loop(self.rate)
        elif programme.kind is Waveform.FILE:
            if samples is None or not samples.size or not np.abs(samples).max() > 0:
                raise SettingError("The file contains no audio. Use another file.")
            loop = samples / np.abs(samples).max()
        self._muted = False
        self._next_loop, self._next = loop, programme.below(self._ceiling)

    def mute(self) -> None:
        """Silence, within the next block, until something is played again."""
        self._muted = True

    def next(self, frames: int) -> Samples:
        """Return the next block (frames, channels) in FS."""
        out = np.zeros((frames, self.channels))
        if self._muted:
            if self._gate > 0:
                mono = self._made(frames) * np.linspace(_open(self._gate), 0.0, frames)
                self._put(out, mono)
            self._gate, self._now, self._next = 0.0, NOTHING, NOTHING
            return out
        changed = self._next is not self._now
        if changed and self._gate == 0:
            self._now, self._loop, changed = self._next, self._next_loop, False
            self._phases, self._place = [0.0, 0.0], 0
        if self._now.kind is Waveform.NOTHING:
            self._gate = 0.0
            return out
        step = 1 / (RAMP * self.rate) * (-1 if changed else 1)
        gate = np.clip(self._gate + step * np.arange(1, frames + 1), 0, 1)
        mono = self._made(frames)
        if gate[0] < 1 or gate[-1] < 1:
            mono = mono * _open(gate)
        self._gate = float(gate[-1])
        self._put(out, mono)
        return out

    def _put(self, out: Samples, mono: Samples) -> None:
        limit = from_db(self._ceiling)
        np.clip(mono, -limit, limit, out=mono)
        for number in self._now.outputs:
            if number <= self.channels:
                out[:, number - 1] = mono

    def _made(self, frames: int) -> Samples:
        p, scale = self._now, from_db(self._now.level)
        if p.kind is Waveform.TONE:
            return scale * self._sine(0, p.frequency, frames)
        if p.kind is Waveform.TWO_TONES:
            return 0.5 * scale * (self._sine(0, p.frequency, frames) + self._sine(1, p.second, frames))
        if p.kind is Waveform.NOISE:
            return np.asarray(
                np.clip(self._rng.standard_normal(frames), -NOISE_CREST, NOISE_CREST) * (scale / math.sqrt(2))
            )
        if self._loop is None:
            return np.zeros(frames)
        block = np.take(self._loop, np.arange(self._place, self._place + frames), mode="wrap")
        self._place = (self._place + frames) % self._loop.size
        return np.asarray(scale * block)

    def _sine(self, which: int, frequency: float, frames: int) -> Samples:
        turn = frequency / self.rate
        phase = self._phases[which]
        self._phases[which] = (phase + turn * frames) % 1.0
        return np.asarray(np.sin(2 * np.pi * (phase + turn * np.arange(frames))))


def _open(gate: Any) -> Any:
    """How much passes a gate that is on its way from 0 to 1: a raised cosine."""
    return 0.5 - 0.5 * np.cos(np.pi * gate)


@lru_cache(maxsize=2)
def multitone_loop(rate: float) -> Samples:
    """Ten tones a decade from 20 Hz to 20 kHz at bins of a loop (2^17,), peak 1, crest about 12 dB.

    Their phases are random, but always the same: tones so unevenly spaced pass through every constellation within the
    loop, so that no choice of phases gains more than a decibel.
    """
    width = rate / _LOOP
    top = min(20000.0, 0.45 * rate)
    frequencies = 20 * 10 ** (np.arange(math.floor(_TONES_PER_DECADE * math.log10(top / 20)) + 1) / _TONES_PER_DECADE)
    bins = np.unique(np.round(frequencies / width).astype(int))
    spectrum = np.zeros(_LOOP // 2 + 1, complex)
    spectrum[bins] = np.exp(2j * np.pi * np.random.default_rng(0).random(bins.size))
    loop = np.fft.irfft(spectrum)
    return as_readonly(loop / np.abs(loop).max())
