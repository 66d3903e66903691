"""Units with a clock of their own: a wireless receiver, a player that answers a spoken command, a simple recorder."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Samples
from epidote.standins.coding import coded
from epidote.standins.filters import coloured_noise

_HEARD = 0.01  # V, above which the player takes a sound for a command
_QUIET_AFTER = 0.4  # s without sound that end a command


@dataclass(frozen=True)
class WirelessReceiver:
    """Sound over a lossy wireless link: late by its buffers, on a clock of its own."""

    maker: str
    model: str
    late: float = 1.45
    ppm: float = 60.0
    bit_rate: int = 192_000
    full_scale: float = 4.0
    noise_density: float = 4e-8

    def set_to(self, conditions: Mapping[str, str]) -> WirelessReceiver:
        """Return the receiver itself, which has no knobs."""
        return self

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        numbers = coded(volts / self.full_scale, rate, self.bit_rate)
        columns = [
            resample(numbers[:, c], 1 - self.ppm * 1e-6, -self.late * rate, volts.shape[0])
            for c in range(numbers.shape[1])
        ]
        out = self.full_scale * np.column_stack(columns)
        return np.asarray(out + coloured_noise(rng, out.shape, rate, self.noise_density, 0.0))


@dataclass(frozen=True)
class TalkingPlayer:
    """Waits for a command, then plays a file of its own library, coded, limited, on its own clock, at its own time.

    library: path of the file that somebody put into its library ("" for none: it never answers).
    """

    maker: str
    model: str
    library: str = ""
    answers_after: tuple[float, float] = (1.0, 2.0)
    ppm: float = 300.0
    bit_rate: int = 128_000
    volts: float = 0.5
    limit: float = 0.8
    noise_density: float = 2e-7

    def set_to(self, conditions: Mapping[str, str]) -> TalkingPlayer:
        return replace(self, library=conditions.get("library", self.library))

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V."""
        out = np.zeros_like(volts)
        end = self._end_of_command(volts, rate)
        if end is not None and self.library:
            answer = self._answer(rate)
            begin = end + round(rng.uniform(*self.answers_after) * rate)
            room = max(0, out.shape[0] - begin)
            out[begin : begin + answer.size] = answer[:room, None]
        return np.asarray(out + coloured_noise(rng, out.shape, rate, self.noise_density, 0.0))

    def _end_of_command(self, volts: Samples, rate: float) -> int | None:
        """Return the frame at which a command has ended; None where none was heard."""
        loud = np.flatnonzero(np.abs(volts).max(axis=1) > _HEARD)
        if not loud.size:
            return None
        gaps = np.flatnonzero(np.diff(loud) > _QUIET_AFTER * rate)
        return int(loud[gaps[0]] if gaps.size else loud[-1])

    def _answer(self, rate: float) -> Samples:
        """Return the file of the library (frames,) as the player gives it, in V."""
        import soundfile

        sound, own = soundfile.read(self.library, always_2d=True)
        numbers = coded(sound[:, :1], own, self.bit_rate)[:, 0]
        limited = np.tanh(numbers / self.limit) * self.limit if np.abs(numbers).max() > self.limit else numbers
        step = own / rate * (1 + self.ppm * 1e-6)
        return np.asarray(self.volts * resample(limited, step, 0.0, round(limited.size / step)))


@dataclass(frozen=True)
class FieldRecorder:
    """A recorder at 16 kHz whose gain follows the level."""

    maker: str
    model: str
    full_scale: float = 4.0
    rate: float = 16000.0
    ppm: float = -45.0
    target_db: float = -12.0
    attack: float = 0.02
    release: float = 0.8
    most_gain_db: float = 24.0

    def set_to(self, conditions: Mapping[str, str]) -> FieldRecorder:
        """Return the recorder itself, which has no knobs."""
        return self

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V: what its file holds, brought back to the rate."""
        columns = []
        for channel in range(volts.shape[1]):
            file = self.recorded(volts[:, channel] / self.full_scale, rate, rng)
            columns.append(resample(file, self.rate / rate, 0.0, volts.shape[0]))
        return self.full_scale * np.column_stack(columns)

    def recorded(self, x: Samples, rate: float, rng: np.random.Generator) -> Samples:
        """Return sound (frames,) in FS as the recorder's file holds it, at its own rate."""
        step = rate / self.rate * (1 + self.ppm * 1e-6)
        own = resample(x, step, 0.0, round(x.size / step))
        gained = own * self._gain(own)
        dither = rng.random(own.size) - rng.random(own.size)
        return np.asarray(np.clip(np.round(gained * 32767 + dither), -32768, 32767) / 32768)

    def _gain(self, x: Samples) -> Samples:
        """Return the gain (frames,): down quickly when it is too loud, up slowly when it is quiet."""
        block = round(0.01 * self.rate)
        count = -(-x.size // block)
        levels = np.sqrt(np.mean(np.square(np.pad(x, (0, count * block - x.size)).reshape(count, block)), axis=1))
        target, most = 10 ** (self.target_db / 20), 10 ** (self.most_gain_db / 20)
        down, up = np.exp(-0.01 / self.attack), np.exp(-0.01 / self.release)
        gains, gain = np.empty(count), 1.0
        for number, level in enumerate(levels):
            wanted = min(most, target / max(float(level), 1e-6))
            share = down if wanted < gain else up
            gain = share * gain + (1 - share) * wanted
            gains[number] = gain
        places = (np.arange(count) + 0.5) * block
        return np.asarray(np.interp(np.arange(x.size), places, gains))


LANDOR_W2 = WirelessReceiver("Landor", "W2")
MERRICK_T1 = TalkingPlayer("Merrick", "T1")
EBBLE_R1 = FieldRecorder("Ebble", "R1")
