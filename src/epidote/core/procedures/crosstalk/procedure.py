"""Crosstalk: one output driven, and what of it appears on every other channel, at one frequency and against frequency.

What is looked for is the driven tone itself, whose frequency is known from the driven channel, so that noise and hum do
not count. Relative to the driven channel's own output, as IEC 60268-3 has it (from memory).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.capture_checks import headroom
from epidote.core.analysis.quantisation import bits_of, follows_rounding
from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.sine.stepped_tone import locate_preamble, step_segment
from epidote.core.analysis.spectral.lines import lines_at
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4 as WINDOW
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, require_usable_recordings, without_spreads
from epidote.core.procedures.common.stepped_tones import OVERHEAD, least_dwell
from epidote.core.procedures.crosstalk.claim_answers import ANSWERS
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.statistics import RAYLEIGH_MEDIAN
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ChainShare, ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM
from epidote.core.settings import OnlyWith, Settings, require_rising, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import KIND, Step, stepped_tones, steps_of

_LEAST_CYCLES = 8.0
_STANDS_OUT = 3.0
MOST_CHANNELS = 8


_CURVE = OnlyWith("points_per_octave")  # 0 is no curve


class CrosstalkSettings(Settings):
    """Settings of crosstalk."""

    frequency: float = setting(
        1000.0,
        "Frequency",
        "Frequency of the crosstalk reading",
        "Hz",
        played=True,
        ge=5,
        le=100000,
        affects=effects.DISTORTION_FREQUENCY,
    )
    duration: float = setting(1.0, "Duration", "Duration of that tone", "s", played=True, ge=0.1, le=60, secondary=True)
    level: float = setting(
        -6.0, "Level", "Generator level at the driven output", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL
    )
    start_frequency: float = setting(
        20.0, "Start frequency", "Lowest frequency of the curve", "Hz", played=True, ge=5, le=50000, only_with=_CURVE
    )
    stop_frequency: float = setting(
        20000.0,
        "Stop frequency",
        "Highest frequency of the curve",
        "Hz",
        played=True,
        ge=10,
        le=190000,
        only_with=_CURVE,
    )
    points_per_octave: int = setting(
        1, "Points per octave", "Points per octave of the curve; 0 for no curve", played=True, ge=0, le=24
    )
    dwell: float = setting(
        0.3,
        "Dwell time",
        "Duration of each tone of the curve",
        "s",
        played=True,
        ge=0.02,
        le=10,
        only_with=_CURVE,
        secondary=True,
    )

    @model_validator(mode="after")
    def _a_range(self) -> CrosstalkSettings:
        require_rising(self, "start_frequency", "stop_frequency")
        if self.duration < least_dwell(self.frequency, _LEAST_CYCLES):
            raise SettingError(
                f"{{duration}} {self.duration:g} s is too short for {self.frequency:g} Hz. Use a longer duration or a"
                " higher frequency.",
                "duration",
            )
        return self

    def steps(self) -> list[Step]:
        """Return the reading's tone, then those of the curve."""
        curve: list[float] = []
        if self.points_per_octave:
            count = 1 + round(self.points_per_octave * math.log2(self.stop_frequency / self.start_frequency))
            curve = np.geomspace(self.start_frequency, self.stop_frequency, max(2, count)).tolist()
        return [
            Step(self.frequency, self.level, self.duration),
            *(Step(f, self.level, max(self.dwell, least_dwell(f, _LEAST_CYCLES))) for f in curve),
        ]


_HARMONICS = 9
_UNLIKE = 2.0  # times the noise of both sides
_BESIDE = range(8, 31, 3)  # bins from the line, apart from each other by what the window widens noise to


@dataclass(frozen=True)
class _Leak:
    """Of one step on one channel.

    frequency in Hz; ratio to the driven channel; spread: one standard deviation of the ratio; undithered: the samples
    of the driven channel were rounded without dither.
    """

    frequency: float
    ratio: float
    spread: float
    undithered: bool


class Crosstalk(ProcedureBase):
    """Crosstalk from each driven channel to the others."""

    key = "crosstalk"
    title = "Crosstalk"
    about = About(
        QuestionGroup.LEVEL,
        question="How much of one channel leaks into the other?",
        played="Tone, or stepped tones, in one channel after the other",
        gives="Crosstalk at one frequency and over frequency, per channel.",
        needs="Two outputs and two inputs",
        sketch=((0, 0.35), (0.3, 0.2), (0.55, 0.25), (1, 0.8)),
    )
    presets = (
        Preset("1 kHz only", {"points_per_octave": 0}, "As data sheets state it."),
        Preset("Third octaves", {"points_per_octave": 3}, "Capacitive and inductive paths show their slopes."),
    )
    Settings = CrosstalkSettings
    answers = ANSWERS
    views = (
        CurveView("crosstalk", "Crosstalk", "worst", "Crosstalk from the other channel", chain=ChainShare.ADDS),
        *(
            CurveView(f"crosstalk_from_{n}", "Crosstalk", f"from {n}", f"Crosstalk from channel {n}")
            for n in range(1, MOST_CHANNELS + 1)
        ),
    )
    readings = (
        ReadingKind(
            "crosstalk",
            "Crosstalk",
            chain=ChainShare.ADDS,
            meaning="Level of this channel while only the other plays, re the level of that one, at one frequency.",
        ),
        *(
            ReadingKind(
                f"crosstalk_from_{n}", f"Crosstalk from Ch {n}", meaning="Crosstalk from one of several channels."
            )
            for n in range(1, MOST_CHANNELS + 1)
        ),
        ReadingKind(
            "worst",
            "Worst crosstalk",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Highest crosstalk over all frequencies measured.",
        ),
        ReadingKind("worst_frequency", "Worst crosstalk at", meaning="Frequency of the highest crosstalk."),
        HEADROOM,
    )

    def conduct(self, settings: CrosstalkSettings, chain: Chain) -> Conduct:
        there = min(len(chain.outputs), len(chain.inputs))
        if there < 2:
            raise SettingError("Crosstalk needs two channels; the chain has one. Add one on the Chain page.")
        if there > MOST_CHANNELS:
            raise SettingError(
                f"Crosstalk supports up to {MOST_CHANNELS} channels; the chain has {there}. Reduce the channels on the"
                " Chain page."
            )
        for number in range(1, there + 1):
            yield stepped_tones(rate=chain.rate, steps=settings.steps(), channels=(number,))

    def duration(self, settings: CrosstalkSettings, chain: Chain) -> float:
        return len(chain.outputs) * (OVERHEAD + sum(s.dwell for s in settings.steps()))

    def headline(self, result: Result) -> Reading | None:
        return result.reading("crosstalk")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("crosstalk")

    def summary(self, settings: CrosstalkSettings) -> str:
        return format_plain(settings.frequency, "Hz") + (
            f", {settings.start_frequency:g} Hz–{settings.stop_frequency / 1000:g} kHz"
            if settings.points_per_octave
            else ""
        )

    def analyse(self, recordings: Sequence[Recording], settings: CrosstalkSettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, 1024)
        if channels < 2:
            raise UnusableInputError(
                "Crosstalk needs a recording of at least two channels. Nothing was computed; record two channels."
            )
        leaks: dict[tuple[int, int], list[_Leak]] = {}
        lost: list[int] = []
        for i, recording in enumerate(recordings):
            stimulus = recording.stimulus or stepped_tones(
                rate=recording.signal.rate, steps=settings.steps(), channels=(i + 1,)
            )
            if stimulus.kind != KIND or len(stimulus.channels) != 1:
                raise UnusableInputError(
                    "This is not a recording of one channel driven alone. Nothing was computed; use the stimulus file"
                    " exported for crosstalk."
                )
            driven = stimulus.channels[0]
            measured = _leaks(recording, stimulus, driven, channels)
            if not measured:
                lost.append(driven)
            leaks |= {(driven, number): several for number, several in measured.items()}
        results = [_channel(number, leaks, lost, recordings) for number in range(1, channels + 1)]
        return merge_channels(results, recordings, chain)


def _leaks(recording: Recording, stimulus: Stimulus, driven: int, channels: int) -> dict[int, list[_Leak]]:
    """By listening channel, the reading's step first; empty when the driven tone is not there."""
    signal = recording.signal
    start = locate_preamble(signal, stimulus)
    leaks: dict[int, list[_Leak]] = {}
    if start is None or driven > channels:
        return leaks
    for step in steps_of(stimulus):
        part = step_segment(signal.channel(driven), start, step, signal.rate)
        if part is None or not part.any():
            continue
        fit = fit_tone(part, signal.rate, step.frequency, 1, 1)
        if abs(fit.frequency / step.frequency - 1) > 0.02 or abs(fit.amplitudes[0]) < 10 * fit.amplitude_spread:
            continue
        # both by the same window, against which hum beside the tone does not leak
        main, main_spread = _line(part, signal.rate, fit.frequency)
        undithered = _is_undithered(part, signal.rate, fit.frequency)
        for number in range(1, channels + 1):
            other = step_segment(signal.channel(number), start, step, signal.rate)
            if number != driven and other is not None:
                size, spread = _line(other, signal.rate, fit.frequency)
                ratio = size / main
                leak_spread = math.hypot(spread, ratio * main_spread) / main
                leaks.setdefault(number, []).append(_Leak(step.frequency, ratio, leak_spread, undithered))
    return leaks


def _is_undithered(x: Samples, rate: float, frequency: float) -> bool:
    """Whether a recorded tone x (frames,) was rounded without dither; its harmonics are fitted, too."""
    if bits_of(x) is None:
        return False
    return follows_rounding(x, fit_tone(x, rate, frequency, _HARMONICS, 1).residual) is not None


def _line(x: Samples, rate: float, frequency: float) -> tuple[float, float]:
    """Peak of a line at a known frequency in x (frames,), and its standard deviation from the noise beside it."""
    weighted, width = WINDOW.weighted(x - x.mean()), rate / x.size
    places = [[f for k in _BESIDE if 0 < (f := frequency + sign * k * width) < rate / 2] for sign in (-1, 1)]
    heights = [float(h) for h in lines_at(weighted, np.array([frequency, *places[0], *places[1]]), rate)]
    sides = [heights[1 : 1 + len(places[0])], heights[1 + len(places[0]) :]]
    # the median of a Rayleigh distribution is 1.177 of one component's standard deviation; both sides together scatter
    # less, but at the edge of a band of noise one of them says nothing
    together = float(np.median(heights[1:]))
    most = max(float(np.median(side)) for side in sides if side)
    if most > _UNLIKE * together:
        neighbours = most
    else:
        neighbours = together
    return heights[0], neighbours / RAYLEIGH_MEDIAN


def _channel(
    number: int, leaks: dict[tuple[int, int], list[_Leak]], lost: Sequence[int], recordings: Sequence[Recording]
) -> Result:
    sources = [d for d, n in leaks if n == number]
    missing = (Caution.STIMULUS_NOT_FOUND,)
    if not sources:
        return Result((), (Reading("crosstalk", number, None, "dB", cautions=missing),), missing if lost else ())
    pairs = {d: _reading(f"crosstalk_from_{d}", number, d, leaks[d, number][0]) for d in sources}
    worst = max(pairs.values(), key=lambda r: r.value if r.value is not None else -400.0)
    readings = [Reading("crosstalk", number, worst.value, "dB", worst.at, worst.floor, worst.spread, worst.cautions)]
    if len(sources) > 1:
        readings += list(pairs.values())
    curves = {
        d: _curve(f"crosstalk_from_{d}", number, leaks[d, number][1:]) for d in sources if len(leaks[d, number]) > 2
    }
    shown: list[Curve] = []
    if curves:
        first = next(iter(curves.values()))
        stacked = np.stack([c.y for c in curves.values() if c.y.size == first.y.size])
        floors = np.stack([c.floor for c in curves.values() if c.floor is not None and c.y.size == first.y.size])
        shown = [Curve("crosstalk", number, first.x, stacked.max(axis=0), "Hz", "dB", floors.max(axis=0))]
        if len(curves) > 1:
            shown += list(curves.values())
        top = int(np.argmax(shown[0].y))
        worst_of = max(
            (leaks[d, number][1:][top] for d in curves if len(leaks[d, number]) > top + 1), key=lambda leak: leak.ratio
        )
        if worst_of.ratio > 0:
            spread = DB_PER_NEPER * worst_of.spread / worst_of.ratio
        else:
            spread = None
        faint = caution_when(worst_of.ratio < _STANDS_OUT * worst_of.spread, Caution.NOISE_DOMINATED)
        at: dict[str, float | str] = {"frequency_hz": float(first.x[top])}
        readings.append(Reading("worst", number, float(shown[0].y[top]), "dB", at, None, spread, faint))
        readings.append(Reading("worst_frequency", number, float(first.x[top]), "Hz"))
    driven = next((r for r in recordings if r.stimulus is not None and r.stimulus.channels == (number,)), recordings[0])
    readings.append(headroom(driven.signal, number))
    if number in lost:
        cautions = [Caution.STIMULUS_NOT_FOUND]
    else:
        cautions = []
    if any(leak.undithered for source in sources for leak in leaks[source, number]):
        # a faint tone among the steps' own products is moved by a fixed pattern, not by noise
        cautions.append(Caution.UNDITHERED)
        readings = without_spreads(readings)
    return Result(tuple(shown), tuple(readings), unique(cautions))


def _db(ratio: float) -> float:
    return 20 * math.log10(max(ratio, 1e-15))


def _reading(key: str, number: int, driven: int, leak: _Leak) -> Reading:
    at: dict[str, float | str] = {"frequency_hz": leak.frequency, "driven_channel": float(driven)}
    faint = caution_when(leak.ratio < _STANDS_OUT * leak.spread, Caution.NOISE_DOMINATED)
    if leak.ratio > 0:
        spread = DB_PER_NEPER * leak.spread / leak.ratio
    else:
        spread = None
    return Reading(key, number, _db(leak.ratio), "dB", at, _db(2 * leak.spread), spread, faint)


def _curve(key: str, number: int, leaks: Sequence[_Leak]) -> Curve:
    x, y, floor = (
        np.array(v) for v in zip(*((k.frequency, _db(k.ratio), _db(2 * k.spread)) for k in leaks), strict=True)
    )
    return Curve(key, number, x, y, "Hz", "dB", floor)
