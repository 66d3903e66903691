"""The response procedure by noise, by a sound file, or against a channel that listens before the unit: averaged
cross-spectra.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from epidote.core.analysis.capture_checks import headroom, is_clipped
from epidote.core.analysis.spectral.smoothing import log_bins, smoothed_power
from epidote.core.analysis.spectral.transfer_function import TransferFunction, estimate_transfer_function
from epidote.core.analysis.sweep_deconvolution import best_delay
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.procedures.common.channels import merge_channels, per_channel
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, unique
from epidote.core.results.curve_features import normalise_phase
from epidote.core.results.level_readings import evaluation_band, level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.signals.recording import REFERENCE, Recording
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus

if TYPE_CHECKING:
    from epidote.core.procedures.response.settings import ResponseSettings

_LEAST = 1e-20
_HANN_BINS = 1.5  # bins of a Hann window that say the same
_WEAK = 0.5  # coherence below which a figure says more about noise than about the unit


def reference_of(
    recording: Recording, stimulus: Stimulus | None, settings: ResponseSettings
) -> tuple[Samples, list[int]]:
    """Return what the unit was given (frames,), and the channels that listen to what it made of it.

    Raises SettingError.
    """
    signal = recording.signal
    if recording.stimulus is not None:
        reference_channel = round(recording.stimulus.parameters.get(REFERENCE, 0))
    else:
        reference_channel = 0
    number = settings.reference_channel or reference_channel
    if 0 < number <= signal.channels:
        others = [c for c in range(1, signal.channels + 1) if c not in (number, reference_channel)]
        return signal.channel(number), others
    if stimulus is not None:
        made = stimulus
    else:
        made = settings.played(signal.rate)
    return made.samples(), list(range(1, signal.channels + 1))


def analysed_by_cross_spectrum(recordings: Sequence[Recording], settings: ResponseSettings, chain: Chain) -> Result:
    """Return the response as a transfer function from averaged cross spectra."""
    recording = recordings[0]
    if recording.stimulus is not None and recording.stimulus.playable:
        stimulus = recording.stimulus
    else:
        stimulus = None
    played, numbers = reference_of(recording, stimulus, settings)
    results = per_channel(len(numbers), lambda i: _channel(recording, played, numbers[i - 1], settings, chain))
    return merge_channels(results, recordings, chain)


def _channel(recording: Recording, played: Samples, number: int, settings: ResponseSettings, chain: Chain) -> Result:
    signal = recording.signal
    x = signal.channel(number)
    if is_clipped(x, signal.unit) and float(np.abs(x).max()) > 0.99:
        cautions = [Caution.CLIPPED]
    else:
        cautions = []
    if x.any():
        path = estimate_transfer_function(played, x, signal.rate)
    else:
        path = None
    if path is None:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        nothing = tuple(
            Reading(k, number, None, u, cautions=missing)
            for k, u in (("gain_1k", "dB"), ("flatness", "dB"), ("delay", "s"))
        )
        return Result((), nothing, unique((*cautions, *missing)))
    start, stop = settings.start_frequency, min(settings.stop_frequency, 0.48 * signal.rate)
    index = log_bins(path.response.size, path.width, start, stop)
    at = index * path.width
    bins = index.astype(int)
    # against a channel of the recording the gain is that between both inputs; against what was played, that of the
    # whole chain
    between = settings.reference_channel > 0
    if between:
        offset = 0.0
    else:
        offset = chain.offset_db(number) or 0.0
    level, plain = _level(path, at, bins, settings, (start, stop), offset=offset, number=number)
    weak = path.coherence[bins] < _WEAK
    if bool(np.mean(weak) > 0.1):
        cautions.append(Caution.NOISE_DOMINATED)
    delay, spread = _delay(path, signal.rate, start, stop)
    turns = 2 * np.pi * at / signal.rate
    phase = np.angle(path.response[bins])
    straight = normalise_phase(np.unwrap(phase + turns * (delay - path.delay)), at.size // 2, path.polarity)
    whole = straight - turns * delay
    low, high = evaluation_band(plain)
    band = (at >= low) & (at <= high)
    # half of the noise lies along the response
    spreads = DB_PER_NEPER * np.sqrt(path.variance[bins] / 2)
    readings = [
        *level_readings(plain, spreads),
        Reading("delay", number, delay / signal.rate, "s", {"samples": delay}, None, spread / signal.rate),
        Reading("polarity", number, float(path.polarity), "ratio"),
        Reading(
            "coherence", number, float(path.coherence[bins][band].mean()), "ratio", {"low_hz": low, "high_hz": high}
        ),
        headroom(signal, number),
    ]
    curves = (
        level,
        Curve("phase", number, at, np.degrees(np.angle(np.exp(1j * whole))), "Hz", "°"),
        Curve("phase_unwrapped", number, at, np.degrees(whole), "Hz", "°"),
        Curve(
            "phase_delay_removed",
            number,
            at,
            np.degrees(straight),
            "Hz",
            "°",
            None,
            {"removed_delay_s": delay / signal.rate},
        ),
        _capture(path, at, bins, ChannelScale.at(signal, chain, number)),
        Curve("coherence", number, at, path.coherence[bins], "Hz", "ratio"),
    )
    return Result(curves, tuple(readings), unique(cautions))


def _capture(path: TransferFunction, at: Samples, bins: np.ndarray, terminal: ChannelScale) -> Curve:
    """Return the plain averaged spectrum of what came back, in 1 Hz."""
    level = 10 * np.log10(np.maximum(2 * path.density[bins], 1e-40)) + terminal.level_offset
    meta: dict[str, float | str] = {"bandwidth_hz": 1.0, "segments": path.segments, "bin_hz": path.width}
    return Curve("output_spectrum", terminal.channel, at, level, "Hz", terminal.level_unit, None, meta)


def _level(
    path: TransferFunction,
    at: Samples,
    bins: np.ndarray,
    settings: ResponseSettings,
    band: tuple[float, float],
    *,
    offset: float,
    number: int,
) -> tuple[Curve, Curve]:
    """Return the level as it is shown, and before smoothing."""
    power = np.square(np.abs(path.response))
    smooth = smoothed_power(power, path.width, at, settings.smoothing, low=band[0], high=band[1])
    noise = 10 * np.log10(np.maximum(power * path.variance, _LEAST)[bins]) + offset
    meta: dict[str, float | str] = {
        "smoothing": str(settings.smoothing),
        "segments": path.segments,
        "bin_hz": path.width,
    }
    shown = Curve("level", number, at, 10 * np.log10(np.maximum(smooth, _LEAST)) + offset, "Hz", "dB", noise, meta)
    return shown, Curve("level", number, at, 10 * np.log10(np.maximum(power[bins], _LEAST)) + offset, "Hz", "dB")


def _delay(path: TransferFunction, rate: float, start: float, stop: float) -> tuple[float, float]:
    """In frames, to fractions, with its standard deviation: the phase slope where coherence is high (Knapp, Carter
    1976).
    """
    first, last = math.ceil(start / path.width), math.floor(stop / path.width)
    size = 2 * (path.response.size - 1)
    c = np.clip(path.coherence[first : last + 1], 0, 1 - 1e-6)
    part = path.response[first : last + 1]
    weight = c / (1 - c) / np.maximum(np.square(np.abs(part)), _LEAST)
    weighted = part * np.sqrt(weight / weight.max())
    w, height = 2 * np.pi * np.arange(first, last + 1) / size, np.abs(weighted)
    across = np.square(w * height) * path.variance[first : last + 1] / 2
    spread = math.sqrt(_HANN_BINS * float(across.sum())) / max(float((w * w * height).sum()), 1e-300)
    return path.delay + best_delay(weighted, size, np.ones(part.size), first, rate), spread
