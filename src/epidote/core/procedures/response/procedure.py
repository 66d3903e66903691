"""Response: what a unit does to level and time over frequency, and its harmonics, from one exponential sweep.

Or, without the harmonics, by noise or any material that was played: see ``by_cross_spectrum``.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.acoustics.disturbances import Disturbance
from epidote.core.analysis.capture_checks import capture_cautions, headroom
from epidote.core.analysis.spectral.smoothing import Smoothing, log_bins, smoothed_power
from epidote.core.analysis.spectral.spectrum import MAINS, MAINS_ORDERS, bin_frequencies
from epidote.core.chain.chain import Chain
from epidote.core.concurrency import start_in_thread
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.common.disturbed import disturbed_repeats, told
from epidote.core.procedures.common.gates import Gate, gate_of
from epidote.core.procedures.common.power_average import is_averaged
from epidote.core.procedures.common.views import GAIN_VIEW
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.procedures.response.claim_answers import ANSWERS
from epidote.core.procedures.response.settings import Excitation, ImpulseWindow, ResponseSettings
from epidote.core.procedures.response.through_air import READINGS as AIR_READINGS
from epidote.core.procedures.response.through_air import VIEWS as AIR_VIEWS
from epidote.core.procedures.response.through_air import (
    air_results,
    averaged_over_microphones,
    sensitivity_readings,
)
from epidote.core.procedures.response.transfer_function_method import analysed_by_cross_spectrum
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, unique
from epidote.core.results.channels import AVERAGE
from epidote.core.results.curve_features import normalise_phase
from epidote.core.results.kinds import ChainShare, Microphone, ReadingKind
from epidote.core.results.level_readings import KINDS as LEVEL_READINGS
from epidote.core.results.level_readings import evaluation_band, level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import DELAY, DISTURBED, HEADROOM, POLARITY
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples

LEAST_FRAMES = 2048
HARMONICS = (2, 3, 4, 5)
_LEAST = 1e-20
_HUM_MOVES = 0.1  # dB


@dataclass(frozen=True)
class _Averaged:
    """One channel: linear response on the grid, its delay, the harmonics, and the noise."""

    first: dc.Deconvolved
    linear_first: dc.Linear
    linear: NDArray[np.complex128]
    harmonics: dict[int, tuple[NDArray[np.complex128], int]]
    repeats_spread: Samples | None
    count: int


class Response(ProcedureBase):
    """Frequency response, distortion and delay."""

    key = "response"
    title = "Response"
    about = About(
        QuestionGroup.LEVEL,
        question="Is it flat, and how wide is its band?",
        played="A sweep, or noise, through the band",
        gives="Gain over frequency, phase, group delay, impulse response and distortion from one sweep.",
        needs="",
        sketch=((0, 0.1), (0.06, 0.55), (0.14, 0.7), (0.3, 0.72), (0.7, 0.72), (0.85, 0.66), (0.94, 0.45), (1, 0.1)),
    )
    presets = (
        Preset("Quick, 1 s", {"duration": 1.0}, "To check the connections."),
        Preset(
            "Wide, 5 Hz to 40 kHz",
            {"start_frequency": 5.0, "stop_frequency": 40000.0, "duration": 8.0},
            "Needs a sample rate of 96 kHz or more.",
        ),
        Preset("Low noise, 8 averages", {"averages": 8, "duration": 4.0}, "9 dB less noise than one sweep."),
        Preset(
            "Loudspeaker, before reflections",
            {"gate": "auto"},
            "Direct sound only, gated before the first reflection; states the lowest valid frequency.",
        ),
        Preset(
            "Room, with decay",
            {"gate": "none", "duration": 8.0, "tail": 3.0},
            "All reflections, with early decay time and reverberation time.",
        ),
        Preset(
            "Pink noise",
            {"stimulus": "noise", "duration": 10.0},
            "For units that react to a sweep, such as dynamics processors.",
        ),
    )
    Settings = ResponseSettings
    in_new_study = True
    answers = ANSWERS
    views = (
        GAIN_VIEW,
        CurveView("phase", "Phase", "wrapped", "Phase", chain=ChainShare.SUBTRACTS, microphone=Microphone.PHASE),
        CurveView(
            "phase_unwrapped",
            "Phase",
            "unwrapped",
            "Phase, unwrapped",
            chain=ChainShare.SUBTRACTS,
            microphone=Microphone.PHASE,
        ),
        CurveView(
            "phase_delay_removed",
            "Phase",
            "delay removed",
            "Phase, delay removed",
            chain=ChainShare.SUBTRACTS,
            microphone=Microphone.PHASE,
        ),
        CurveView(
            "group_delay", "Group delay", "group delay", "Group delay, delay removed", chain=ChainShare.SUBTRACTS
        ),
        CurveView("thd", "Distortion", "THD", "THD", chain=ChainShare.ADDS, ratio=True),
        *(
            CurveView(f"h{n}", "Distortion", f"H{n}", f"Harmonic {n}", chain=ChainShare.ADDS, ratio=True)
            for n in HARMONICS
        ),
        CurveView("coherence", "Coherence", "coherence", "Coherence", compared=False),
        CurveView("output_spectrum", "Spectrum", "averaged", "Level in 1 Hz bandwidth", former=("capture",)),
        CurveView("impulse", "Impulse", "impulse", "Impulse response", log_x=False, compared=False, places="gate"),
        *AIR_VIEWS,
    )
    readings = (
        *LEVEL_READINGS,
        DELAY,
        POLARITY,
        ReadingKind(
            "signal_to_noise", "Signal-to-noise ratio", meaning="Level of the response re the noise of the recording."
        ),
        ReadingKind(
            "coherence",
            "Coherence",
            meaning="Coherence of output and input, averaged over the band; 1: fully coherent.",
        ),
        ReadingKind(
            "insertion_loss",
            "Insertion loss",
            meaning="Loss of level with the unit inserted, compared with a direct connection.",
        ),
        *AIR_READINGS,
        DISTURBED,
        HEADROOM,
    )

    def conduct(self, settings: ResponseSettings, chain: Chain) -> Conduct:
        stimulus = settings.played(chain.rate)
        for _ in range(settings.averages if settings.stimulus is Excitation.SWEEP else 1):
            yield stimulus

    def duration(self, settings: ResponseSettings, chain: Chain) -> float:
        return settings.sounding()

    def headline(self, result: Result) -> Reading | None:
        return result.reading("flatness", AVERAGE) or result.reading("flatness")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("level", AVERAGE) or result.curve("level")

    def summary(self, settings: ResponseSettings) -> str:
        if settings.stimulus is Excitation.SWEEP:
            by = ""
        else:
            by = f" by {settings.stimulus}"
        if settings.smoothing is Smoothing.NONE:
            smooth = ""
        else:
            smooth = f", {settings.smoothing} oct"
        if settings.gate:
            gate = f", gate {settings.gate}"
        else:
            gate = ""
        return f"{settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz{by}{smooth}{gate}"

    def analyse(self, recordings: Sequence[Recording], settings: ResponseSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, LEAST_FRAMES)
        if settings.stimulus is not Excitation.SWEEP:
            return analysed_by_cross_spectrum(recordings, settings, chain)
        rate = recordings[0].signal.rate
        stimulus = recordings[0].stimulus or settings.played(rate)
        kernel = dc.kernel(stimulus, max(r.signal.frames for r in recordings))
        gate = gate_of(recordings[0], kernel, settings.gate, channels)
        results = per_channel(
            channels, lambda number: _analyse_channel(recordings, kernel, number, settings, chain, gate=gate)
        )
        if is_averaged(channels, chain):
            results.insert(0, averaged_over_microphones(results, settings, chain))
        return merge_channels(results, recordings, chain)


def _analyse_channel(
    recordings: Sequence[Recording],
    kernel: dc.Kernel,
    number: int,
    settings: ResponseSettings,
    chain: Chain,
    *,
    gate: Gate,
) -> Result:
    wrong_with_them = start_in_thread(lambda: [c for r in recordings for c in capture_cautions(r.signal, number)])
    # Step 1 (docs/methods.md, Response): impulse response of each repeat
    parts = [dc.deconvolve(r.signal.channel(number), kernel) for r in recordings]
    cautions = wrong_with_them()
    if not all(part.found for part in parts):
        cautions.append(Caution.STIMULUS_NOT_FOUND)
        units = {"bandwidth_low": "Hz", "bandwidth_high": "Hz", "delay": "s"}
        keys = ("gain_1k", "bandwidth_low", "bandwidth_high", "flatness", "delay")
        readings = (Reading(k, number, None, units.get(k, "dB"), cautions=(Caution.STIMULUS_NOT_FOUND,)) for k in keys)
        return Result((), tuple(readings), unique(cautions))
    # Step 2: what else sounded in the room, left out where another repeat remains
    disturbed: list[tuple[Disturbance, ...]] = [()]
    if chain.acoustic:
        disturbed = disturbed_repeats(recordings, parts, number)
    if any(disturbed):
        cautions.append(Caution.DISTURBED)
        undisturbed = [part for part, found in zip(parts, disturbed, strict=True) if not found]
        parts = undisturbed or parts
    # Step 3: window, and mean of the repeats
    by_frequency = settings.window is ImpulseWindow.BY_FREQUENCY
    averaged = _average(parts, kernel, lambda part: gate.response(part, by_frequency=by_frequency))
    # Step 4: what makes the result doubtful; a gate is there to cut the response off
    if gate.seconds is None and _unsettled(averaged.first, averaged.linear_first, kernel):
        cautions.append(Caution.UNSETTLED)
    if _hum_is_included(averaged, kernel):
        cautions.append(Caution.HUM_INCLUDED)
    lowest = max(kernel.stimulus["start"], gate.lowest or 0.0)
    result = _result(averaged, kernel, number, settings, chain, cautions=cautions, lowest=lowest)
    air = air_results(averaged.first, gate, recordings[0].signal.frames, number)
    sensitivity = sensitivity_readings(result.curves[0], settings, chain)
    head = headroom(recordings[0].signal, number)
    everything = (*result.readings, *air.readings, *sensitivity, *told(disturbed, number), head)
    return replace(result, curves=(*result.curves, *air.curves), readings=everything)


def _band_bins(kernel: dc.Kernel, size: int) -> tuple[int, int]:
    """First and last bin of the wanted band on the grid."""
    width = kernel.rate / size
    return math.ceil(kernel.stimulus["start"] / width - 1e-9), math.floor(kernel.stimulus["stop"] / width + 1e-9)


def _delay_near_peak(response: NDArray[np.complex128], kernel: dc.Kernel, size: int) -> float:
    """Delay beyond the peak's own sample; the weight is the sweep's power, which falls as 1/f inside the band."""
    first, last = _band_bins(kernel, size)
    bins = np.arange(first, last + 1)
    return dc.best_delay(response[first : last + 1], size, 1 / bins, first, kernel.rate)


def _delay_spread(
    response: NDArray[np.complex128], kernel: dc.Kernel, size: int, x: Samples, density: Samples
) -> float:
    """Return the standard deviation of that delay in samples, from the noise's density (points,) at the frequencies x
    (points,) in Hz.

    A window makes neighbouring bins share their noise as much as it lessens it: what counts is the noise of the impulse
    response's peak.
    """
    first, last = _band_bins(kernel, size)
    bins = np.arange(first, last + 1)
    w, weight = 2 * np.pi * bins / size, 1 / bins
    noise = np.interp(bins * (kernel.rate / size), x, density) * size / 2  # half of it lies across the response
    bend = float((weight * w * w * np.abs(response[first : last + 1])).sum())
    if bend:
        return math.sqrt(float((np.square(weight * w) * noise).sum())) / bend
    return math.inf


def _average(
    parts: list[dc.Deconvolved], kernel: dc.Kernel, response_of: Callable[[dc.Deconvolved], dc.Linear]
) -> _Averaged:
    """Mean of the repeats, each moved to the first one's delay (to fractions of a sample)."""
    size = dc.response_grid(kernel)
    first = parts[0]
    of_the_first = start_in_thread(lambda: {n: dc.harmonic_response(first, n) for n in HARMONICS})
    each = [response_of(p) for p in parts]
    linear, harmonics = [found.response for found in each], of_the_first()
    spread = None
    if len(parts) > 1:
        # repeats may begin a fraction of a sample apart: turn all to the first one's delay
        base = _delay_near_peak(linear[0], kernel, size)
        turns = 2 * np.pi * np.arange(linear[0].size) / size
        for i, response in enumerate(linear[1:], start=1):
            linear[i] = response * np.exp(1j * turns * (_delay_near_peak(response, kernel, size) - base))
        stacked = np.stack(linear)
        # standard error of the mean from how the repeats differ, bin by bin
        spread = stacked.std(axis=0, ddof=1) / math.sqrt(len(parts))
        for n in HARMONICS:
            every = [harmonics[n], *(dc.harmonic_response(p, n) for p in parts[1:])]
            power = np.mean([np.square(np.abs(r)) for r, _ in every], axis=0)
            harmonics[n] = (np.sqrt(power).astype(complex), every[0][1])
        return _Averaged(first, each[0], stacked.mean(axis=0), harmonics, spread, len(parts))
    return _Averaged(first, each[0], linear[0], harmonics, None, 1)


def _hum_is_included(a: _Averaged, kernel: dc.Kernel) -> bool:
    """Whether one of the mains' lines moves the response by more than 0.1 dB: a line goes on all through the window."""
    rate, size = kernel.rate, dc.response_grid(kernel)
    # lines of both mains frequencies inside the band
    lines = np.outer(MAINS, np.arange(1, MAINS_ORDERS + 1)).ravel()
    lines = lines[(lines >= kernel.stimulus["start"]) & (lines <= kernel.stimulus["stop"])]
    if not lines.size:
        return False
    places = np.round(lines * size / rate).astype(int)
    # a window that was lengthened lets more of it in
    window = 0.75 * (np.maximum(a.linear_first.after[places], dc.AFTER) + dc.BEFORE) * rate
    moved = dc.hum_amplitudes(a.first, lines) / 2 * window
    response = np.abs(a.linear[places])
    return bool(np.any(moved > (10 ** (_HUM_MOVES / 20) - 1) * response))


def _unsettled(d: dc.Deconvolved, linear: dc.Linear, kernel: dc.Kernel) -> bool:
    """Whether half a window would have given another response inside the band: then the whole one may be too short
    as well.
    """
    rate, size = kernel.rate, dc.response_grid(kernel)
    first, last = _band_bins(kernel, size)
    bins = log_bins(size // 2 + 1, rate / size, first * rate / size, last * rate / size)
    whole, half = (response[bins.astype(int)] for response in (linear.whole, linear.half))
    noise = np.sqrt(dc.noise_density(d, bins * (rate / size)) * linear.longest * rate)
    return bool(np.any(np.abs(whole - half) > 0.02 * np.abs(whole) + 5 * noise))


def _result(
    a: _Averaged,
    kernel: dc.Kernel,
    number: int,
    settings: ResponseSettings,
    chain: Chain,
    *,
    cautions: list[Caution],
    lowest: float,
) -> Result:
    rate, size = kernel.rate, dc.response_grid(kernel)
    width = rate / size
    start, stop = lowest, kernel.stimulus["stop"]
    # points of the curves: true bins, evenly over log frequency
    bins = log_bins(a.linear.size, width, start, stop)
    index = bins.astype(int)
    x = bins * width
    offset = chain.offset_db(number) or 0.0
    fraction = _delay_near_peak(a.linear, kernel, size)
    peak = a.first.peak
    # a peak later than anything that could have been recorded is an early one, seen round the circle
    latest = max(
        r
        for r in (
            kernel.frames - kernel.stimulus.frames + kernel.stimulus["tail"] + kernel.stimulus["lead"],
            kernel.frames / 2,
        )
    )
    delay = (peak if peak <= latest else peak - kernel.frames) + fraction

    # Noise of a response: the density outside it, times the length of its window (0.75: its flat half and its fades)
    density = dc.noise_density(a.first, x)
    noise_power = density * (0.75 * a.linear_first.after[index] + dc.BEFORE / 2) * rate / a.count
    if a.repeats_spread is not None:
        noise_power = np.maximum(noise_power, np.square(a.repeats_spread[index]))

    # Level, with and without smoothing
    power = np.square(np.abs(a.linear))
    plain = Curve("level", number, x, 10 * np.log10(np.maximum(power[index], _LEAST)) + offset, "Hz", "dB")
    smooth = smoothed_power(power, width, x, settings.smoothing, low=start, high=stop)
    floor = 10 * np.log10(np.maximum(noise_power, _LEAST)) + offset
    meta: dict[str, float | str] = {
        "smoothing": str(settings.smoothing),
        "window": f"gate {settings.gate}" if settings.gate else str(settings.window),
        "averages": float(a.count),
    }
    level = Curve("level", number, x, 10 * np.log10(np.maximum(smooth, _LEAST)) + offset, "Hz", "dB", floor, meta)

    # Phase: with the delay in it, without it, and its slope
    turns = 2 * np.pi * np.arange(a.linear.size) / size
    with_delay = np.unwrap(np.angle(a.linear))
    first, last = _band_bins(kernel, size)
    less_delay = with_delay + turns * fraction
    # settle the whole turns where the response is strongest and least dispersed: at the middle of the band
    middle = int(math.sqrt(first * last))
    if a.first.impulse[peak] > 0:
        polarity = 1
    else:
        polarity = -1
    less_delay = normalise_phase(less_delay, middle, polarity)
    unwrapped = less_delay - turns * delay
    if a.linear.size > 2:
        group = -np.gradient(less_delay, 2 * np.pi * width)
    else:
        group = np.zeros_like(less_delay)
    curves = [
        level,
        Curve("phase", number, x, np.degrees(np.angle(np.exp(1j * unwrapped[index]))), "Hz", "°"),
        Curve("phase_unwrapped", number, x, np.degrees(unwrapped[index]), "Hz", "°"),
        Curve(
            "phase_delay_removed",
            number,
            x,
            np.degrees(less_delay[index]),
            "Hz",
            "°",
            None,
            {"removed_delay_s": delay / rate},
        ),
        Curve("group_delay", number, x, group[index], "Hz", "s", None, {"removed_delay_s": delay / rate}),
        *_harmonic_curves(a, kernel, number, settings, power),
        _impulse_curve(a.first, number),
    ]
    spread = _delay_spread(a.linear, kernel, size, x, density / a.count)
    return Result(
        tuple(curves),
        _readings(plain, noise_power, number, chain, (delay / rate, spread / rate), polarity=polarity),
        unique(cautions),
    )


def _harmonic_curves(
    a: _Averaged, kernel: dc.Kernel, number: int, settings: ResponseSettings, linear_power: Samples
) -> list[Curve]:
    """Levels of H2...H5 and their sum re the fundamental, against the excitation's frequency, in dB, with the noise
    under each.
    """
    rate, size = kernel.rate, dc.response_grid(kernel)
    width, start, stop = rate / size, kernel.stimulus["start"], kernel.stimulus["stop"]
    curves, total, noise_total = [], None, None
    for n, (response, window_length) in a.harmonics.items():
        bins = log_bins(response.size, width, n * start, stop)
        excitation = bins * width / n
        if bins.size < 2:
            continue
        smooth = smoothed_power(
            np.square(np.abs(response)), width, bins * width, settings.smoothing, low=n * start, high=stop
        )
        main = np.interp(excitation, bin_frequencies(linear_power.size, width), linear_power)
        ratio = smooth / np.maximum(main, _LEAST)
        noise = dc.noise_density(a.first, bins * width) * 0.75 * window_length / np.maximum(main, _LEAST)
        curves.append(
            Curve(
                f"h{n}",
                number,
                excitation,
                10 * np.log10(np.maximum(ratio, _LEAST)),
                "Hz",
                "dB",
                10 * np.log10(np.maximum(noise, _LEAST)),
            )
        )
        if total is None or noise_total is None:
            grid, total, noise_total = excitation, ratio.copy(), noise.copy()
            continue
        # an order counts as far up as it is measured
        total += np.interp(grid, excitation, ratio, right=0.0)
        noise_total += np.interp(grid, excitation, noise, right=0.0)
    if total is not None and noise_total is not None:
        # the sum ends where the third harmonic leaves the band: beyond, it would fall for want of band, not of
        # distortion
        whole = grid <= stop / 3
        meta: dict[str, float | str] = {
            "orders": f"2 to {max(HARMONICS)}",
            "all_orders_up_to_hz": stop / max(HARMONICS),
        }
        level, floor = (10 * np.log10(np.maximum(p[whole], _LEAST)) for p in (total, noise_total))
        curves.insert(0, Curve("thd", number, grid[whole], level, "Hz", "dB", floor, meta))
    return curves


def _impulse_curve(d: dc.Deconvolved, number: int) -> Curve:
    """Return the impulse response from 5 ms before to 50 ms after its peak; time 0 is the peak's sample."""
    rate = d.kernel.rate
    steps = np.arange(-round(0.005 * rate), round(0.05 * rate))
    return Curve("impulse", number, steps / rate, np.take(d.impulse, d.peak + steps, mode="wrap"), "s", "ratio")


def _readings(
    level: Curve, noise_power: Samples, number: int, chain: Chain, delay: tuple[float, float], *, polarity: int
) -> tuple[Reading, ...]:
    """``level``: before smoothing, so that smoothing moves no reading; ``delay`` in s, with its standard deviation."""
    signal_power = 10 ** (level.y / 10) / 10 ** ((chain.offset_db(number) or 0.0) / 10)
    spreads = DB_PER_NEPER * np.sqrt(noise_power / 2 / np.maximum(signal_power, _LEAST))
    readings = list(level_readings(level, spreads))
    late, spread = delay
    readings.append(
        Reading("delay", number, late, "s", {"samples": late * chain.rate if chain.rate else 0.0}, None, spread)
    )
    readings.append(Reading("polarity", number, float(polarity), "ratio"))
    span_low, span_high = evaluation_band(level)
    band = (level.x >= span_low) & (level.x <= span_high)
    snr = float(10 * np.log10(signal_power[band].mean() / max(float(noise_power[band].mean()), _LEAST)))
    readings.append(Reading("signal_to_noise", number, snr, "dB", {"low_hz": span_low, "high_hz": span_high}))
    return tuple(readings)
