"""Latency: how late what is played comes back, below a sample, and whether it is the same every time.

By short sweeps, noise bursts or clicks. The delay is that of the best alignment in the band (see ``analysis.delay``).
Buffers: what the device's own blocks take, one on the way out and one on the way in (common practice, no source), told
from the rest.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from pydantic import model_validator

from epidote.core import effects
from epidote.core.analysis.capture_checks import headroom, is_clipped
from epidote.core.analysis.delay.delay_estimation import Delay, delay_between
from epidote.core.analysis.delay.two_path_delay import two_arrivals
from epidote.core.analysis.spreads import median_spread
from epidote.core.chain.chain import Chain
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_usable_recordings
from epidote.core.procedures.latency.claim_answers import ANSWERS
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ChainShare, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM, SECOND_ARRIVAL
from epidote.core.settings import Settings, require_rising, setting
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.bursts import KIND, LEAD, LENGTH, BurstKind, burst_samples, burst_starts, burst_train

LEAST_FRAMES = 256
_JUMP = 0.5  # frames
_LEAST_SHARE = 0.25  # of the bursts: fewer are exceptions
_MISSING = (("latency", "s"), ("latency_samples", "samples"), ("polarity", "ratio"))


class LatencySettings(Settings):
    """Settings of latency."""

    shots: int = setting(10, "Number of bursts", "Number of bursts", played=True, ge=1, le=1000)
    shot: BurstKind = setting(
        BurstKind.SWEEP, "Burst signal", "Signal of a burst: short sweep, noise or click", played=True
    )
    restart: bool = setting(
        False,
        "Restart stream",
        "Restart the audio stream for each burst; some devices change latency by a block at each start",
        played=True,
    )
    longest: float = setting(
        0.5, "Maximum latency", "Longest latency that can be measured", "s", played=True, ge=0.01, le=30, secondary=True
    )
    level: float = setting(-12.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0, affects=effects.LEVEL)
    band_low: float = setting(
        100.0, "Lower band limit", "Lower limit of the analysed band", "Hz", ge=0, le=100000, secondary=True
    )
    band_high: float = setting(
        18000.0, "Upper band limit", "Upper limit of the analysed band", "Hz", gt=0, le=192000, secondary=True
    )

    @model_validator(mode="after")
    def _band_is_one(self) -> LatencySettings:
        require_rising(self, "band_low", "band_high")
        return self

    def played(self, rate: float) -> Stimulus:
        return burst_train(
            rate=rate, shot=self.shot, count=1 if self.restart else self.shots, level=self.level, longest=self.longest
        )


class Latency(ProcedureBase):
    """Latency of bursts, and its scatter."""

    key = "latency"
    title = "Latency"
    about = About(
        QuestionGroup.TIME,
        question="What is the latency, and is it constant?",
        played="Short bursts",
        gives="Latency in ms and samples, scatter between stream starts, contribution of the buffers.",
        needs="An output connected to an input",
        sketch=((0, 0.1), (0.2, 0.1), (0.2, 0.9), (0.24, 0.1), (0.7, 0.1), (0.7, 0.7), (0.74, 0.1), (1, 0.1)),
    )
    presets = (
        Preset(
            "Stream restarts",
            {"restart": True, "shots": 10},
            "Reopens the device before each burst: shows whether the latency changes between starts.",
        ),
        Preset("One burst", {"shots": 1}, "Quick check."),
    )
    of_levels = False
    Settings = LatencySettings
    answers = ANSWERS
    views = (
        CurveView("latency_by_shot", "Bursts", "bursts", "Latency per burst", log_x=False, less_reading="latency"),
        CurveView("arrival", "Arrival", "arrival", "First burst as received", log_x=False, compared=False),
    )
    readings = (
        ReadingKind(
            "latency",
            "Latency",
            chain=ChainShare.SUBTRACTS,
            total_latency=True,
            meaning="Time from the output to the input, median of all bursts.",
        ),
        ReadingKind(
            "latency_samples",
            "Latency in samples",
            chain=ChainShare.SUBTRACTS,
            meaning="The latency in samples of the chain.",
        ),
        ReadingKind(
            "latency_other", "Second latency", meaning="The second of two latencies between which the unit alternates."
        ),
        ReadingKind(
            "latency_share", "Share of bursts", meaning="Share of the bursts that have the first of two latencies."
        ),
        ReadingKind(
            "repeatability", "Standard deviation", meaning="Standard deviation of the latency over all bursts."
        ),
        ReadingKind(
            "latency_max",
            "Latency, maximum",
            meaning="Maximum latency of all bursts; decides whether live playing is disturbed.",
        ),
        ReadingKind(
            "latency_range",
            "Range (max. - min.)",
            former=("range",),
            meaning="Maximum minus minimum latency of all bursts.",
        ),
        ReadingKind(
            "buffer_latency",
            "Buffer contribution",
            former=("buffers",),
            meaning="Buffer part of the latency: twice the buffer size.",
        ),
        ReadingKind(
            "non_buffer_latency",
            "Latency beyond buffers",
            former=("beside_buffers",),
            meaning="Latency minus the buffer contribution: converters, drivers, connections.",
        ),
        ReadingKind(
            "polarity",
            "Polarity",
            shown=Shown.POLARITY,
            compared=False,
            meaning="Whether a positive burst comes back positive.",
        ),
        ReadingKind(
            "correlation",
            "Correlation (aligned)",
            meaning="Correlation coefficient of the recording and the aligned stimulus; 1: identical.",
        ),
        ReadingKind(
            "second_arrival",
            "Second arrival",
            chain=ChainShare.SUBTRACTS,
            former=("second",),
            meaning="Latency of a second arrival of the same burst.",
        ),
        *SECOND_ARRIVAL,
        HEADROOM,
    )

    def conduct(self, settings: LatencySettings, chain: Chain) -> Conduct:
        stimulus = settings.played(chain.rate)
        for _ in range(settings.shots if settings.restart else 1):
            yield stimulus

    def duration(self, settings: LatencySettings, chain: Chain) -> float:
        return settings.shots * (LENGTH + settings.longest) + LEAD * (settings.shots if settings.restart else 1)

    def headline(self, result: Result) -> Reading | None:
        return next((r for r in result.readings if r.key == "latency"), None)

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key == "arrival"), None)

    def summary(self, settings: LatencySettings) -> str:
        anew = ""
        if settings.restart:
            anew = ", stream restarted"
        return f"{settings.shots} × {settings.shot}{anew}"

    def analyse(self, recordings: Sequence[Recording], settings: LatencySettings, chain: Chain) -> Result:
        channels = require_usable_recordings(recordings, LEAST_FRAMES)
        for recording in recordings:
            if recording.stimulus is not None and recording.stimulus.kind != KIND:
                raise UnusableInputError(
                    f"This recording is of a {recording.stimulus.kind} stimulus, not of latency bursts. Nothing was"
                    " computed; analyse it with the procedure that made the stimulus."
                )
        result = merge_channels(
            per_channel(channels, lambda number: _channel(recordings, number, settings, chain)), recordings, chain
        )
        return replace(
            result, cautions=tuple(c for c in result.cautions if c is not Caution.UNCALIBRATED)
        )  # a time needs no volts


def _heard(recording: Recording, number: int, settings: LatencySettings) -> tuple[Samples, list[Samples]]:
    """Return what each shot is, and what was recorded from its beginning to that of the next."""
    signal = recording.signal
    stimulus = recording.stimulus or settings.played(signal.rate)
    x, every = signal.channel(number), round(stimulus["every"])
    return burst_samples(stimulus), [x[place : place + every] for place in burst_starts(stimulus)]


def _found(recordings: Sequence[Recording], number: int, settings: LatencySettings) -> tuple[list[Delay], int]:
    """Return the delay of every shot that came back, and how many did not."""
    delays: list[Delay] = []
    missing = 0
    for recording in recordings:
        signal = recording.signal
        emitted, stretches = _heard(recording, number, settings)
        for stretch in stretches:
            if stretch.size > emitted.size // 2 and stretch.any():
                one = delay_between(
                    emitted, stretch, signal.rate, (settings.band_low, settings.band_high), settings.longest
                )
            else:
                one = None
            if isinstance(one, Delay):
                delays.append(one)
            else:
                missing += 1
    return delays, missing


def _channel(recordings: Sequence[Recording], number: int, settings: LatencySettings, chain: Chain) -> Result:
    signal = recordings[0].signal
    rate = signal.rate
    shot_delays, missing = _found(recordings, number, settings)
    clipped = any(is_clipped(r.signal.channel(number), signal.unit) for r in recordings)
    cautions = list(caution_when(clipped, Caution.CLIPPED))
    if not shot_delays:
        none = (Caution.STIMULUS_NOT_FOUND,)
        return Result(
            (), tuple(Reading(k, number, None, u, cautions=none) for k, u in _MISSING), unique((*cautions, *none))
        )
    delays = np.array([d.frames for d in shot_delays])
    jumped = float(np.ptp(delays)) > _JUMP
    usual, other = delays, delays[:0]
    if jumped:
        usual, other = _groups(delays)
    middle = float(np.median(usual))
    # dispersion acts on every burst alike: no median makes it less
    shift = float(np.median([d.shift for d in shot_delays]))
    spread = math.hypot(_spread_of_median(usual, [d.spread for d in shot_delays]), shift)
    if jumped:  # the next start may give any of them, so their scatter counts and not that of a median
        spread = math.hypot(float(delays.std(ddof=1)), shift)
    cautions += [
        *caution_when(missing > 0, Caution.PARTIAL),
        *caution_when(jumped, Caution.DELAY_JUMPS),
        *caution_when(other.size > 0, Caution.TWO_LATENCIES),
        *caution_when(any(d.ambiguous for d in shot_delays), Caution.AMBIGUOUS),
        *caution_when(any(d.dispersed for d in shot_delays), Caution.DISPERSED),
    ]
    at: dict[str, float | str] = {
        "rate_hz": rate,
        "shots": float(delays.size),
        "band_low_hz": settings.band_low,
        "band_high_hz": min(settings.band_high, rate / 2),
    }
    own = caution_when(jumped, Caution.DELAY_JUMPS)
    readings = [
        Reading("latency", number, middle / rate, "s", at, None, spread / rate, own),
        Reading("latency_samples", number, middle, "samples", at, None, spread, own),
    ]
    if other.size:
        shares = {"share_of_bursts": usual.size / delays.size}
        readings[0] = replace(readings[0], at={**at, **shares})
        second: dict[str, float | str] = {**at, "share_of_bursts": other.size / delays.size}
        other_spread = _spread_of_median(other, [d.spread for d in shot_delays]) / rate
        readings.append(
            Reading("latency_other", number, float(np.median(other)) / rate, "s", second, None, other_spread, own)
        )
        readings.append(Reading("latency_share", number, usual.size / delays.size, "ratio", at))
    if delays.size > 1:
        readings.append(Reading("repeatability", number, float(delays.std(ddof=1)) / rate, "s", at))
        worst = float(delays.max()) / rate
        readings.append(Reading("latency_max", number, worst, "s", at, None, spread / rate, own))
        readings.append(Reading("latency_range", number, float(np.ptp(delays)), "samples", at, cautions=own))
    if chain.buffer is not None:
        share = 2 * chain.buffer / rate
        each: dict[str, float | str] = {"buffer": float(chain.buffer), "rate_hz": rate}
        readings.append(Reading("buffer_latency", number, share, "s", each))
        readings.append(Reading("non_buffer_latency", number, middle / rate - share, "s", each, None, spread / rate))
    # a single shot's sign may be chance in noise
    readings.append(Reading("polarity", number, float(np.sign(sum(d.polarity for d in shot_delays)) or 1), "ratio"))
    readings.append(Reading("correlation", number, float(np.mean([d.correlation for d in shot_delays])), "ratio", at))
    readings += _second_arrival(recordings[0], number, settings)
    readings.append(headroom(signal, number))
    return Result(_curves(recordings[0], delays, number, settings), tuple(readings), unique(cautions))


def _spread_of_median(delays: Samples, spreads: Sequence[float]) -> float:
    """Return the standard deviation of the median of some shots (shots,), each with the spread that the noise leaves
    it.

        A few shots say little about their scatter; the noise is known from each.
    """
    known = [s for s in spreads if math.isfinite(s)]
    of_one = math.sqrt(float(np.mean(np.square(known)))) if known else 0.0
    if delays.size > 1:
        of_one = max(of_one, float(delays.std(ddof=1)))
    return median_spread(of_one, delays.size)


def _groups(delays: Samples) -> tuple[Samples, Samples]:
    """Return the bursts of the usual latency, and those of the other where there are just two and the second is no
    exception; else all, and none.

        Two groups: on either side of the widest gap, each narrower than that.
    """
    ordered = np.sort(delays)
    gaps = np.diff(ordered)
    cut = int(np.argmax(gaps)) + 1
    low, high = ordered[:cut], ordered[cut:]
    narrow = max(float(np.ptp(low)), float(np.ptp(high))) < 0.5 * float(gaps.max())
    if not narrow or min(low.size, high.size) < _LEAST_SHARE * delays.size:
        return delays, delays[:0]
    if low.size >= high.size:
        return (low, high)
    return (high, low)


def _second_arrival(recording: Recording, number: int, settings: LatencySettings) -> list[Reading]:
    """Where the first shot came back twice, as when dry and processed are mixed."""
    signal = recording.signal
    emitted, stretches = _heard(recording, number, settings)
    arrivals = two_arrivals(emitted, stretches[0], signal.rate, (settings.band_low, settings.band_high))
    if arrivals is None:
        return []
    at: dict[str, float | str] = {"first_s": arrivals.first / signal.rate}
    return [
        Reading("second_arrival", number, arrivals.second / signal.rate, "s", at),
        Reading("arrival_separation", number, arrivals.apart / signal.rate, "s", at),
        Reading("second_level", number, arrivals.level_db, "dB", at),
        Reading("comb_null", number, signal.rate / arrivals.null_frames, "Hz", at),
        Reading("comb_depth", number, arrivals.depth_db if np.isfinite(arrivals.depth_db) else None, "dB", at),
    ]


def _curves(recording: Recording, delays: np.ndarray, number: int, settings: LatencySettings) -> tuple[Curve, ...]:
    signal = recording.signal
    x = _heard(recording, number, settings)[1][0]
    shown = Curve("arrival", number, np.arange(x.size) / signal.rate, x, "s", "FS")
    by_shot = Curve("latency_by_shot", number, np.arange(1.0, delays.size + 1), delays / signal.rate, "shot", "s")
    if delays.size > 1:
        return (by_shot, shown)
    return (shown,)
