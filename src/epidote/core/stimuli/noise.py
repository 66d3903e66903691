"""Noise, white or pink, that can be made again to the sample from its seed; and any material, whose samples are at hand
or are read anew.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.units import from_db
from epidote.core.settings import LabelledEnum
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples, Signal, as_readonly
from epidote.core.signals.stimulus import Stimulus, register_stimulus
from epidote.core.stimuli.tone import fade_ends

NOISE, MATERIAL = "noise", "material"
LEAD, RAMP, TAIL = 0.1, 0.02, 0.6  # seconds; the tail is for the response to die away
_LOW, _HIGH = 5.0, 0.48  # Hz; of the rate
_CREST = 4.0  # samples beyond four times the RMS are cut, one in 16,000


class Colour(LabelledEnum):
    """How a noise's power goes with frequency."""

    WHITE = "white"
    PINK = "pink"


def noise(
    *,
    rate: float,
    colour: Colour,
    duration: float,
    level: float,
    seed: int = 1,
    channels: tuple[int, ...] = (1, 2),
    independent: bool = False,
    band: tuple[float, float] | None = None,
) -> Stimulus:
    """level: dBFS of a sine with the same peak. independent: each output plays another noise. band: limits in Hz."""
    lead = round(LEAD * rate)
    parameters = {
        "pink": float(colour is Colour.PINK),
        "seed": float(seed),
        "level": level,
        "lead": lead,
        "sounding": round(duration * rate),
        "frames": lead + round(duration * rate) + round(TAIL * rate),
    }
    if independent:
        parameters["independent"] = 1.0
    if band is not None:
        parameters |= {"low": band[0], "high": band[1]}
    return Stimulus(NOISE, rate, parameters, channels)


@register_stimulus(NOISE, "pink seed level lead sounding", found=True)
def _make(rate: float, p: Mapping[str, float]) -> Samples:
    frames = round(p["sounding"])
    size = even_fast_len(frames)
    spectrum = transforms.rfft(np.random.default_rng(round(p["seed"])).standard_normal(size))
    f = transforms.rfftfreq(size, 1 / rate)
    low, high = max(_LOW, p.get("low", _LOW)), min(_HIGH * rate, p.get("high", _HIGH * rate))
    shape = np.where((f >= low) & (f <= high), 1.0, 0.0)
    if p["pink"]:
        shape /= np.sqrt(np.maximum(f, _LOW))
    x = transforms.irfft(spectrum * shape, size)[:frames]
    x = np.clip(x, -_CREST * x.std(), _CREST * x.std())
    return _fade_and_pad(x, p, rate)


def _fade_and_pad(x: Samples, p: Mapping[str, float], rate: float) -> Samples:
    """Faded, its peak at the level, with silence round it: x (frames,) or (frames, outputs)."""
    x = x * (from_db(p["level"]) / float(np.abs(x).max()))
    for column in x.reshape(x.shape[0], -1).T:
        fade_ends(column, min(round(RAMP * rate), x.shape[0] // 2))
    out = np.zeros((round(p["frames"]), *x.shape[1:]))
    lead = round(p["lead"])
    out[lead : lead + x.shape[0]] = x
    return out


Reader = Callable[[str, float], Signal]
_READER: list[Reader] = []


def set_material_reader(reader: Reader) -> None:
    """Who knows files says how a sound file (its path, the rate wanted) becomes a signal at that rate."""
    _READER[:] = [reader]


def material(
    *,
    rate: float,
    path: str,
    duration: float,
    level: float,
    channels: tuple[int, ...] = (1, 2),
    start: float = 0.0,
    silence: tuple[float, float] = (LEAD, TAIL),
    separate: bool = False,
) -> Stimulus:
    """Return a stretch of a sound file from ``start`` s on, its peak at ``level`` dBFS.

    silence: before and after it in s. separate: each channel on an output of its own; else all as one. Raises
    SettingError, UnusableInputError.
    """
    x = read_section(rate, path, duration, start)
    return from_samples(
        x if separate and x.shape[1] > 1 else x.mean(axis=1), rate=rate, level=level, channels=channels, silence=silence
    )


def read_section(rate: float, path: str, duration: float, start: float = 0.0) -> Samples:
    """Return a stretch of a sound file (frames, channels) at a rate. Raises SettingError, UnusableInputError."""
    if not path.strip():
        raise SettingError("An audio file is needed. Set it in “{material}”.", "material")
    if not _READER:
        raise SettingError("Audio files cannot be read here.")
    whole = _READER[0](path, rate)
    first = round(start * rate)
    x = whole.samples[first : first + max(1, math.ceil(duration * rate))].copy()
    if x.shape[0] < rate or not np.abs(x).max() > 0:
        where = f" from {start:g} s on" if start else ""
        raise SettingError(f"{path} contains less than 1 s of audio{where}. Use a longer file.")
    return x


def from_samples(
    x: Samples,
    *,
    rate: float,
    level: float,
    channels: tuple[int, ...] = (1, 2),
    silence: tuple[float, float] = (LEAD, TAIL),
) -> Stimulus:
    """Return samples (frames,) or (frames, outputs) that are at hand, faded, their peak at ``level`` dBFS, with silence
    before and after.
    """
    lead, tail = (round(seconds * rate) for seconds in silence)
    count = x.shape[0]
    parameters = {"level": level, "lead": lead, "sounding": float(count), "frames": lead + count + tail}
    return Stimulus(MATERIAL, rate, parameters, channels, as_readonly(_fade_and_pad(x, parameters, rate)))


@register_stimulus(MATERIAL, "level lead sounding", found=True)
def _not_at_hand(rate: float, p: Mapping[str, float]) -> Samples:
    raise SettingError("The audio file that was played is not available. Set its path in “{material}”.", "material")
