"""A sound pressure level instead of a drive: short bursts find the generator level that gives it at the microphones.

The gain of the path is measured with a burst of the run's own kind: noise for noise, by third octaves, else a tone of
1 kHz. What is played is known, so that the burst's own chance does not count. A second burst at the level found shows
whether the source follows.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, replace

import numpy as np

from epidote.audio.device import Cancelled, Device
from epidote.core.analysis.spectral.spectrum import mean_square_in_band
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.errors import MeasurementError, SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import Settings, make_settings
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples, as_readonly
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.noise import MATERIAL, NOISE
from epidote.core.stimuli.silence import KIND as SILENCE
from epidote.core.stimuli.tone import fade_ends
from epidote.measurement.device_setup import no_progress
from epidote.measurement.request import RunPlan

_TYPED = re.compile(r"^\s*([+-]?\d+(?:[.,]\d+)?)\s*dB\s*(?:SPL)?\s*\(?\s*([ACZ]?)\s*\)?\s*$", re.IGNORECASE)
_ACOUSTIC = re.compile(r"SPL|[ACZ]\s*\)?\s*$", re.IGNORECASE)
WITHIN_DB, _NEAR_DB = 0.3, 1.0
_LEAD, _BURST, _TAIL, _FADE = 0.1, 0.85, 0.08, 0.01  # s
_FIRST_SHARE = 0.4  # of the burst: the first one only tells about where the level lies
_FILLS = 0.2  # s, in which a room fills with sound
_FIRST_DBFS, _RISE_DB = -45.0, 20.0  # of the first burst, and by how much the next is louder where nothing was heard
_CLEAR_DB = 10.0  # over the background
_BURSTS = 5
_TONE = 1000.0  # Hz
_HIGHEST = 140.0  # dB
_ALL = np.array([0.0, 1e6])  # Hz
# of noise the gain is found by band: by how much a short burst departs from the run's spectrum is chance
_BANDS = np.concatenate([[0.0], 16.0 * 2.0 ** (np.arange(33) / 3), [1e6]])


@dataclass(frozen=True)
class SoundLevel:
    """A level in dB re 20 µPa with a weighting: Z, A or C."""

    value: float
    weighting: Weighting

    @property
    def letter(self) -> str:
        return "Z" if self.weighting is Weighting.NONE else str(self.weighting).upper()

    def __str__(self) -> str:
        return f"{self.value:g} dB({self.letter})"


def parse_sound_level(text: str) -> SoundLevel | None:
    """Return a typed sound level such as "80 dB(A)", "75 dB SPL" or "70 dBC"; None for anything else."""
    match = _TYPED.match(text)
    if match is None or not _ACOUSTIC.search(text):
        return None
    value = float(match[1].replace(",", "."))
    weighting = {"A": Weighting.A, "C": Weighting.C}.get(match[2].upper(), Weighting.NONE)
    if not 0 <= value <= _HIGHEST:
        raise SettingError(f"A sound level of {value:g} dB is out of range: 0 to {_HIGHEST:g} dB.")
    return SoundLevel(value, weighting)


@dataclass(frozen=True)
class LevelFound:
    """What the bursts found: the generator level in dBFS, the sound level it gives, and the background's, in dB."""

    dbfs: float
    reached: float
    background: float
    wanted: SoundLevel

    @property
    def words(self) -> str:
        return (
            f"{self.reached:.1f} dB({self.wanted.letter}) at {self.dbfs:.1f} dBFS, background"
            f" {self.background:.0f} dB({self.wanted.letter})"
        )


def with_sound_level(
    order: RunPlan, wanted: SoundLevel, device: Device, cancelled: Cancelled
) -> tuple[RunPlan, LevelFound]:
    """Return the order at the generator level that gives the wanted sound level. Raises SettingError, MeasurementError
    with words where the chain, the ceiling, the noise or the source stands in the way.
    """
    chain = order.chain
    if not chain.acoustic or not chain.calibrated:
        raise SettingError(
            f"{wanted} needs microphones with a calibration. Calibrate them on the Chain page, or enter the level in"
            " dBFS."
        )
    if "level" not in type(order.settings).model_fields:
        title = procedure(order.procedure).title
        raise SettingError(f"“{title}” has no level of its own. Leave out the sound level {wanted}.")
    search = _Search.of(order, wanted)
    found = search.carry_out(device, cancelled)
    settings = _at_level(order, found.dbfs)
    return replace(order, settings=settings), found


def _at_level(order: RunPlan, dbfs: float) -> Settings:
    """Return the order's settings with another generator level, as a number or as text."""
    given = getattr(order.settings, "level")  # noqa: B009  only some settings have one
    values = order.settings.model_dump()
    values["level"] = f"{dbfs:.3f}" if isinstance(given, str) else round(dbfs, 3)
    return make_settings(type(order.settings), values)


@dataclass(frozen=True)
class _Search:
    """burst (frames,): what is played, its peak 1; own: weighted mean square of the run itself at a generator level of
    0 dBFS by band (bands,), all of it in one band for a tone.
    """

    wanted: SoundLevel
    chain: Chain
    burst: Samples
    own: Samples

    @staticmethod
    def of(order: RunPlan, wanted: SoundLevel) -> _Search:
        """Return the search for an order's run."""
        rate = order.chain.rate
        plan = procedure(order.procedure).plan(_at_level(order, -20.0), order.chain)
        loud = next((s for s in plan if s.kind != SILENCE), None)
        frames = round(_BURST * rate)
        if loud is None or loud.kind != NOISE:
            burst = np.sin(2 * np.pi * _TONE / rate * np.arange(frames))
            sounding, level = burst, 0.0
            edges = _ALL
        else:
            whole, level = loud.samples(), -20.0
            begin = round(loud["lead"] + loud["sounding"] / 2)
            burst = whole[begin : begin + frames] / float(np.abs(whole[begin : begin + frames]).max())
            sounding = whole[round(loud["lead"]) : round(loud["lead"] + loud["sounding"])]
            edges = _BANDS
        own = _mean_squares(sounding, rate, wanted.weighting, edges) * 10 ** (-level / 10)
        burst = burst.copy()
        fade_ends(burst, round(_FADE * rate))
        return _Search(wanted, order.chain, burst, own)

    @property
    def edges(self) -> Samples:
        """Edges in Hz of the bands in which the path's gain is found."""
        return _BANDS if self.own.size > 1 else _ALL

    def carry_out(self, device: Device, cancelled: Cancelled) -> LevelFound:
        """Play bursts until one at the level found gives what is wanted."""
        ceiling = self.chain.ceiling_dbfs
        level = min(_FIRST_DBFS, ceiling)
        reached = background = -math.inf
        for number in range(_BURSTS):
            share = _FIRST_SHARE if number == 0 else 1.0
            reached, background = self._heard(device, level, share, cancelled)
            clear = reached > background + _CLEAR_DB
            error = reached - self.wanted.value
            if number and clear and abs(error) <= _NEAR_DB and level - error <= ceiling:
                # so little is added or taken away without listening again
                return LevelFound(level - error, self.wanted.value, background, self.wanted)
            needed = level + self.wanted.value - reached if clear else level + _RISE_DB
            at_most = reached + ceiling - level
            if needed > ceiling + WITHIN_DB and (clear or level >= ceiling - 1e-9):
                self._refuse(at_most, background, ceiling)
            level = min(needed, ceiling)
        if abs(reached - self.wanted.value) <= WITHIN_DB:
            return LevelFound(level, reached, background, self.wanted)
        raise MeasurementError(
            f"{self.wanted} was not reached: the source gives {reached:.1f} dB({self.wanted.letter}) and does not"
            " follow its input. Nothing was measured. Switch off its limiter or automatic volume, or ask for a lower"
            " level."
        )

    def _refuse(self, most: float, background: float, ceiling: float) -> None:
        letter = self.wanted.letter
        if most < background + _CLEAR_DB:
            raise MeasurementError(
                f"{self.wanted} cannot be set: at the chain's maximum output level of {ceiling:g} dBFS nothing rises"
                f" over the background of {background:.0f} dB({letter}). Nothing was measured. Check the connection and"
                " the volume, or reduce the background."
            )
        raise MeasurementError(
            f"{self.wanted} is out of reach: the chain's maximum output level of {ceiling:g} dBFS gives"
            f" {most:.1f} dB({letter}). Nothing was measured. Raise the source's volume, or set a lower level."
        )

    def _heard(self, device: Device, level: float, share: float, cancelled: Cancelled) -> tuple[float, float]:
        """Return the sound level that the run would have at a generator level, by a share of the burst, and the
        background's. Its beginning lets the room fill with sound.
        """
        rate, lead = self.chain.rate, round(_LEAD * self.chain.rate)
        burst = self.burst[: round(share * self.burst.size)]
        fills = round(_FILLS * rate)
        samples = np.concatenate([np.zeros(lead), burst, np.zeros(round(_TAIL * rate))]) * 10 ** (level / 20)
        parameters = {"level": level, "lead": float(lead), "sounding": float(burst.size), "frames": samples.size}
        stimulus = Stimulus(MATERIAL, rate, parameters, self.chain.stimulus_channels, as_readonly(samples))
        heard = device.exchange(
            stimulus, ceiling_dbfs=self.chain.ceiling_dbfs, progress=no_progress, cancelled=cancelled
        ).signal
        played = _mean_squares(burst[fills:], rate, self.wanted.weighting, self.edges)
        powers, quiet = [], []
        for number in range(1, heard.channels + 1):
            scale = 2 * 10 ** (ChannelScale.at(heard, self.chain, number).level_offset / 10)
            x = heard.channel(number)
            begin = _arrival(x, burst)
            late = x[begin + fills : begin + burst.size]
            early = x[: max(lead // 2, begin - round(0.01 * rate))]
            gains = _mean_squares(late, rate, self.wanted.weighting, self.edges) / played
            powers.append(scale * float(gains @ self.own))
            quiet.append(scale * _mean_square(early, rate, self.wanted.weighting))
        return _decibels(float(np.mean(powers))), _decibels(float(np.mean(quiet)))


def _decibels(power: float) -> float:
    return 10 * math.log10(max(power, 1e-30))


def _arrival(x: Samples, burst: Samples) -> int:
    """Return the frame of x (frames,) at which the burst resembles it most."""
    size = even_fast_len(x.size + burst.size)
    cross = transforms.irfft(transforms.rfft(x, size) * np.conj(transforms.rfft(burst, size)), size)
    return int(np.argmax(np.abs(cross[: max(1, x.size - burst.size)])))


def _mean_squares(x: Samples, rate: float, weighting: Weighting, edges: Samples) -> Samples:
    """Return the weighted mean square of x (frames,) in each band between edges in Hz (bands + 1,)."""
    spectrum = transforms.rfft(x - x.mean(), x.size)
    bands = zip(edges[:-1], np.minimum(edges[1:], rate / 2), strict=True)
    powers = [mean_square_in_band(spectrum, x.size, rate, lo, hi, weighting=weighting) for lo, hi in bands if lo < hi]
    return np.maximum(powers, 1e-30)


def _mean_square(x: Samples, rate: float, weighting: Weighting) -> float:
    """Return the weighted mean square of x (frames,)."""
    if x.size < 2:
        return 1e-30
    spectrum = transforms.rfft(x - x.mean(), x.size)
    return max(mean_square_in_band(spectrum, x.size, rate, 0.0, rate / 2, weighting=weighting), 1e-30)
