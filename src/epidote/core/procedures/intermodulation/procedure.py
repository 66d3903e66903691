"""Intermodulation: what two tones make of each other in a unit, by the standards' pairs or any other, and along a
swept second tone.

Definitions, from memory (IEC 60268-3; pairs of SMPTE RP 120, DIN 45403 and of the difference-frequency method): a(.)
are amplitudes at the output. Modulation: d_m2 = [a(f2+f1) + a(f2-f1)] / a(f2), d_m3 = [a(f2+2f1) + a(f2-2f1)] / a(f2);
together the root of the sum of their squares. Difference: d_d2 = a(f2-f1) / [a(f1) + a(f2)], d_d3 = [a(2f1-f2) +
a(2f2-f1)] / [a(f1) + a(f2)]. Other conventions for the modulation differ by up to a factor of sqrt 2, so the one used
is named beside the figure.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from epidote.core.analysis.capture_checks import capture_cautions, headroom, settled_segment
from epidote.core.analysis.sine import intermodulation as intermod
from epidote.core.analysis.sine.stepped_tone import locate_preamble, step_segment
from epidote.core.analysis.spectral.spectrum import bin_frequencies, line_levels, windowed_mean_squares
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.chain.chain import Chain
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.errors import SettingError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import (
    merge_channels,
    per_channel,
    require_usable_recordings,
    without_spreads,
)
from epidote.core.procedures.common.power_average import (
    average_reading,
    channel_numbers,
    is_averaged,
    summed_ratio_reading,
    summed_ratios,
)
from epidote.core.procedures.common.stepped_tones import OVERHEAD
from epidote.core.procedures.common.views import spectrum_view
from epidote.core.procedures.intermodulation.claim_answers import ANSWERS
from epidote.core.procedures.intermodulation.settings import SWEPT_DWELL, Convention, IntermodulationSettings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ChainShare, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result, encode_annotations
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import FixedTone, Step, stepped_tones, steps_of
from epidote.core.stimuli.tone import LEAD, RAMP, SETTLE, TAIL
from epidote.core.stimuli.two_tones import amplitudes, two_tones

_LEAST_FRAMES = 1024


class Intermodulation(ProcedureBase):
    """Intermodulation of two tones, also against the frequency of the upper one."""

    key = "intermodulation"
    title = "Intermodulation"
    about = About(
        QuestionGroup.DISTORTION,
        question="Which intermodulation products do two tones cause?",
        played="Two tones, or one of them swept",
        gives="Modulation and difference-frequency distortion by IEC 60268-3.",
        needs="",
        sketch=(
            (0, 0.12),
            (0.3, 0.12),
            (0.32, 0.9),
            (0.34, 0.12),
            (0.5, 0.12),
            (0.52, 0.35),
            (0.54, 0.12),
            (0.62, 0.12),
            (0.64, 0.85),
            (0.66, 0.12),
            (0.76, 0.12),
            (0.78, 0.35),
            (0.8, 0.12),
            (1, 0.12),
        ),
    )
    presets = (
        Preset(
            "SMPTE tones, 60 Hz and 7 kHz, 4:1",
            {"frequency_1": 60.0, "frequency_2": 7000.0, "ratio": 4.0},
            "Modulation distortion (SMPTE RP 120, IEC 60268-3).",
        ),
        Preset(
            "Twin tone, 19 kHz and 20 kHz, 1:1",
            {"frequency_1": 19000.0, "frequency_2": 20000.0, "ratio": 1.0},
            "Difference-frequency distortion at the upper end.",
        ),
    )
    Settings = IntermodulationSettings
    answers = ANSWERS
    views = (
        CurveView("modulation", "Swept", "modulation", "Modulation distortion", chain=ChainShare.ADDS, ratio=True),
        CurveView("d2", "Swept", "2nd order", "2nd-order products", chain=ChainShare.ADDS, ratio=True),
        CurveView("d3", "Swept", "3rd order", "3rd-order products", chain=ChainShare.ADDS, ratio=True),
        CurveView("output", "Swept", "output", "Reference level of the products"),
        spectrum_view(),
    )
    readings = (
        ReadingKind(
            "modulation_distortion",
            "Modulation distortion",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Products of 2nd and 3rd order around the upper tone, by the set definition, re that tone.",
        ),
        ReadingKind(
            "modulation_d2",
            "Modulation, 2nd order",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Products at f2 ± f1, re the upper tone (IEC 60268-3).",
        ),
        ReadingKind(
            "modulation_d3",
            "Modulation, 3rd order",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Products at f2 ± 2 f1, re the upper tone (IEC 60268-3).",
        ),
        ReadingKind(
            "difference_d2",
            "Difference, 2nd order",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Product at f2 - f1, re the sum of both tones (IEC 60268-3).",
        ),
        ReadingKind(
            "difference_d3",
            "Difference, 3rd order",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Products at 2 f1 - f2 and 2 f2 - f1, re the sum of both tones (IEC 60268-3).",
        ),
        ReadingKind(
            "total",
            "Total intermodulation",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="RMS of all products up to fifth order, re that of both tones.",
        ),
        ReadingKind("level_1", "Level of lower tone", meaning="Level of the lower tone at the output."),
        ReadingKind("level_2", "Level of upper tone", meaning="Level of the upper tone at the output."),
        HEADROOM,
    )

    def conduct(self, settings: IntermodulationSettings, chain: Chain) -> Conduct:
        yield two_tones(
            rate=chain.rate,
            first=settings.frequency_1,
            second=settings.frequency_2,
            ratio=settings.ratio,
            duration=settings.duration,
            level=settings.level,
            channels=chain.stimulus_channels,
        )
        if settings.sweep_from:
            level = 20 * math.log10(amplitudes(settings.level, settings.ratio)[1])
            steps = [Step(f, level, SWEPT_DWELL) for f in settings.second_tones()]
            yield stepped_tones(
                rate=chain.rate,
                steps=steps,
                channels=chain.stimulus_channels,
                fixed=FixedTone(settings.frequency_1, 20 * math.log10(settings.ratio)),
            )

    def duration(self, settings: IntermodulationSettings, chain: Chain) -> float:
        if settings.sweep_from:
            swept = OVERHEAD + SWEPT_DWELL * settings.sweep_points
        else:
            swept = 0.0
        return settings.duration + 2 * LEAD + 2 * RAMP + SETTLE + TAIL + swept

    def headline(self, result: Result) -> Reading | None:
        modulation, difference = result.reading("modulation_distortion"), result.reading("difference_d3")
        close = modulation is not None and float(modulation.at["ratio"]) < 2
        if close and difference is not None and difference.value is not None:
            return difference
        return modulation

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("modulation") or result.curve("spectrum")

    def summary(self, settings: IntermodulationSettings) -> str:
        swept = ""
        if settings.sweep_from:
            swept = f", from {format_plain(settings.sweep_from, 'Hz')}"
        return f"{settings.frequency_1:g} Hz + {settings.frequency_2 / 1000:g} kHz, {settings.ratio:g}:1{swept}"

    def analyse(self, recordings: Sequence[Recording], settings: IntermodulationSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, _LEAST_FRAMES)
        results = per_channel(channels, lambda number: _channel(recordings, number, settings, chain))
        if is_averaged(channels, chain):
            results.insert(0, _over_microphones(results))
        return merge_channels(results, recordings, chain)


def _channel(recordings: Sequence[Recording], number: int, settings: IntermodulationSettings, chain: Chain) -> Result:
    recording = recordings[0]
    signal = recording.signal
    cautions = list(capture_cautions(signal, number, gaps=False))
    if recording.stimulus is not None:
        seconds = settings.duration
    else:
        seconds = None
    x = settled_segment(signal.channel(number), signal.rate, SETTLE / 2, seconds, _LEAST_FRAMES)
    f1, f2 = settings.frequency_1, settings.frequency_2
    if f2 >= signal.rate / 2:
        raise SettingError(
            f"The upper tone of {f2:g} Hz is above half the sample rate of {signal.rate:g} Hz. Use a lower frequency or"
            " a higher sample rate."
        )
    if x.any():
        products = intermod.two_tones(x, signal.rate, f1, f2)
    else:
        products = None
    if products is None:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        keys = ("modulation_distortion", "difference_d2", "difference_d3", "total")
        at: dict[str, float | str] = {"ratio": settings.ratio}
        return Result(
            (), tuple(Reading(k, number, None, "dB", at, cautions=missing) for k in keys), unique((*cautions, *missing))
        )
    terminal = ChannelScale.at(signal, chain, number)
    curves = [_spectrum(x, signal.rate, products, terminal)]
    if len(recordings) > 1:
        curves += _swept(recordings[1], number, settings, terminal)
    readings = _readings(products, settings, terminal)
    if products.undithered:
        # the steps' own products are a fixed pattern, not noise
        cautions.append(Caution.UNDITHERED)
        readings = without_spreads(readings)
    return Result(tuple(curves), (*readings, headroom(signal, number)), unique(cautions))


def modulation(products: intermod.TwoTones, convention: Convention) -> float | None:
    """Modulation distortion as a ratio; None where a sideband lies above half the rate."""
    carrier = products.amplitudes[1]
    d2, d3 = (products.ratio_of_sums(o, carrier) for o in (intermod.SECOND, intermod.THIRD_ABOUT_F2))
    sides = [products.products[o] for o in (*intermod.SECOND, *intermod.THIRD_ABOUT_F2)]
    if d2 is None or d3 is None:
        return None
    if convention is Convention.ROOT_OF_SQUARES:
        return math.hypot(d2, d3)
    # sidebands in pairs: the envelope of a carrier with symmetrical ones has their RMS sum, too
    if convention is Convention.SIDEBANDS:
        return math.sqrt(sum(s**2 for s in sides if s is not None)) / carrier
    return math.hypot(d2, d3) / math.sqrt(2)


def _readings(products: intermod.TwoTones, settings: IntermodulationSettings, terminal: ChannelScale) -> list[Reading]:
    number = terminal.channel
    a1, a2 = products.amplitudes
    at: dict[str, float | str] = {
        "frequency_1_hz": products.frequencies[0],
        "frequency_2_hz": products.frequencies[1],
        "ratio": settings.ratio,
        "level_dbfs": settings.level,
    }

    def ratio(
        key: str, value: float | None, reference: float, orders: Sequence[intermod.Order], words: str = ""
    ) -> Reading:
        where = {**at, **({"convention": words} if words else {})}
        if value is None:
            return Reading(key, number, None, "dB", where, cautions=(Caution.OUTSIDE_BAND,))
        spread = products.spread_of(orders) / reference
        faint = caution_when(value < 3 * spread, Caution.NOISE_DOMINATED)
        if spread > 0:
            floor = 20 * math.log10(2 * spread)
        else:
            floor = None
        if value > 0:
            given = 20 * math.log10(value)
        else:
            given = None
        return Reading(
            key, number, given, "dB", where, floor, DB_PER_NEPER * spread / value if value > 0 else None, faint
        )

    sums = products.ratio_of_sums
    sides = (*intermod.SECOND, *intermod.THIRD_ABOUT_F2)
    # only what stands clear of the noise counts for the total: a sum of noise would grow with the number of products
    # looked for
    clear = {o: p for o, p in products.products.items() if p is not None and p > 3 * products.spreads[o]}
    power = sum(p**2 for p in clear.values())
    # of a root of a sum of squares: the products as they weigh in it
    if power:
        total_spread = math.sqrt(sum((p * products.spreads[o]) ** 2 for o, p in clear.items()) / power)
    else:
        total_spread = 0.0
    tones = math.hypot(a1, a2)
    total = ratio(
        "total",
        math.sqrt(power) / tones,
        tones,
        tuple(clear),
        "RMS of all products to the 5th order over that of both tones",
    )
    if power:
        total = replace(total, spread=DB_PER_NEPER * total_spread / math.sqrt(power))
    return [
        ratio("modulation_distortion", modulation(products, settings.convention), a2, sides, str(settings.convention)),
        ratio(
            "modulation_d2",
            sums(intermod.SECOND, a2),
            a2,
            intermod.SECOND,
            "sum of both sidebands over the higher tone",
        ),
        ratio(
            "modulation_d3",
            sums(intermod.THIRD_ABOUT_F2, a2),
            a2,
            intermod.THIRD_ABOUT_F2,
            "sum of both sidebands over the higher tone",
        ),
        ratio(
            "difference_d2",
            sums(intermod.SECOND[:1], a1 + a2),
            a1 + a2,
            intermod.SECOND[:1],
            "over the sum of both tones",
        ),
        ratio(
            "difference_d3",
            sums(intermod.THIRD_NEAR, a1 + a2),
            a1 + a2,
            intermod.THIRD_NEAR,
            "sum of both over the sum of both tones",
        ),
        total,
        terminal.level(
            "level_1",
            a1**2 / 2,
            {"frequency_hz": products.frequencies[0]},
            DB_PER_NEPER * products.tone_spreads[0] / a1,
        ),
        terminal.level(
            "level_2",
            a2**2 / 2,
            {"frequency_hz": products.frequencies[1]},
            DB_PER_NEPER * products.tone_spreads[1] / a2,
        ),
    ]


def _spectrum(x: Samples, rate: float, products: intermod.TwoTones, terminal: ChannelScale) -> Curve:
    power, width = windowed_mean_squares(x - x.mean(), rate, WINDOW)
    f, level = bin_frequencies(power.size, width), line_levels(2 * WINDOW.enbw * power, terminal.level_offset)
    meta: dict[str, float | str] = {
        "window": WINDOW.name,
        "enbw_hz": WINDOW.enbw * width,
        "frames": float(x.size),
        "frequency_1_hz": products.frequencies[0],
        "frequency_2_hz": products.frequencies[1],
        "marks": _marks(products, rate),
    }
    return Curve("spectrum", terminal.channel, f[1:], level[1:], "Hz", terminal.level_unit, None, meta)


_NAMES = {(-1, 1): "f2-f1", (1, 1): "f2+f1", (-2, 1): "f2-2f1", (2, 1): "f2+2f1", (2, -1): "2f1-f2", (-1, 2): "2f2-f1"}


def _marks(products: intermod.TwoTones, rate: float) -> str:
    """Where the tones and their products of 2nd and 3rd order lie."""
    f1, f2 = products.frequencies
    places = {"f1": f1, "f2": f2, **{name: intermod.place(order, f1, f2) for order, name in _NAMES.items()}}
    return encode_annotations((f, name) for name, f in places.items() if f < rate / 2)


def _swept(recording: Recording, number: int, settings: IntermodulationSettings, terminal: ChannelScale) -> list[Curve]:
    """Against the frequency of the second tone."""
    stimulus: Stimulus | None = recording.stimulus
    signal: Signal = recording.signal
    if stimulus is not None:
        start = locate_preamble(signal, stimulus)
    else:
        start = None
    if stimulus is None or start is None:
        return []
    rows = []
    for step in steps_of(stimulus):
        part = step_segment(signal.channel(number), start, step, signal.rate)
        if part is not None and part.any():
            products = intermod.two_tones(part, signal.rate, settings.frequency_1, step.frequency)
        else:
            products = None
        if products is None:
            continue
        a1, a2 = products.amplitudes
        if settings.ratio < 2:
            second, third, reference = intermod.SECOND[:1], intermod.THIRD_NEAR, a1 + a2
        else:
            second, third, reference = intermod.SECOND, intermod.THIRD_ABOUT_F2, a2
        d2, d3 = products.ratio_of_sums(second, reference), products.ratio_of_sums(third, reference)
        under = 2 * products.spread / a2
        rows.append((step.frequency, modulation(products, settings.convention), d2, d3, under, reference))
    if not rows:
        return []
    x = np.array([r[0] for r in rows])
    floor = np.array([20 * math.log10(max(r[4], 1e-20)) for r in rows])
    output = np.array([20 * math.log10(max(r[5], 1e-20)) for r in rows]) + terminal.level_offset

    def curve(key: str, place: int) -> Curve:
        there = np.array([bool(r[place]) for r in rows])
        y = np.array([20 * math.log10(float(r[place] or 1.0)) for r in rows])
        return Curve(key, number, x[there], y[there], "Hz", "dB", floor[there])

    level = Curve("output", number, x, output, "Hz", terminal.level_unit)
    return [curve("modulation", 1), curve("d2", 2), curve("d3", 3), level]


_RE_UPPER_TONE = ("modulation_distortion", "modulation_d2", "modulation_d3")
_RE_SUM_OF_TONES = ("difference_d2", "difference_d3")
_LEVELS = ("level_1", "level_2")
_OVER_MICROPHONES = (*_RE_UPPER_TONE, *_RE_SUM_OF_TONES, "total", *_LEVELS)


def _over_microphones(results: Sequence[Result]) -> Result:
    """Return the power sums over the channels: of the products over that of what each ratio refers to."""
    together = summed_ratios(results, ("modulation", "d2", "d3"), "output")
    every = {key: [g for r in results for g in r.readings if g.key == key] for key in _OVER_MICROPHONES}
    lower_tones, upper_tones = ([g.value or 0.0 for g in every[key]] for key in _LEVELS)
    tones = list(zip(lower_tones, upper_tones, strict=True))
    if len({g.unit for g in every["level_1"]}) > 1:
        tones = []  # a microphone that is not calibrated cannot be added to others
    references = {
        **{key: [upper**2 for _, upper in tones] for key in _RE_UPPER_TONE},
        **{key: [(lower + upper) ** 2 for lower, upper in tones] for key in _RE_SUM_OF_TONES},
        "total": [lower**2 + upper**2 for lower, upper in tones],
    }
    readings = [summed_ratio_reading(every[key], powers) for key, powers in references.items()]
    names = channel_numbers(results)
    readings += [average_reading(every[key], names) for key in _LEVELS]
    return replace(together, readings=tuple(r for r in readings if r is not None))
