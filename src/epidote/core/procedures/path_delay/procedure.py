"""Path against path: one material by two or more ways, each against the first: delay, level, polarity, drift, and
each transient's own delay.

Channels of a recording, and of further recordings or files, count on from one another; the first of all is what the
others are held against.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any, TypeVar

import numpy as np

from epidote.core.analysis.delay.echo_cepstrum import detect_echo
from epidote.core.analysis.delay.path_comparison import compare_paths
from epidote.core.analysis.signal_scan import scan_sources
from epidote.core.chain.chain import Chain
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.path_delay.readings import echo_result, path_result, transients_of
from epidote.core.procedures.path_delay.settings import PathsSettings, Played
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.kinds import ChainShare, Microphone, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import HEADROOM, SECOND_ARRIVAL
from epidote.core.signals.recording import Recording
from epidote.core.signals.sample_source import (
    CHUNK_FRAMES,
    ArraySource,
    ResampledSource,
    SampleSource,
    ZeroMeanSource,
    iter_chunks,
)
from epidote.core.stimuli.noise import LEAD, TAIL, Colour, noise
from epidote.core.stimuli.silence import silence

T = TypeVar("T")
LEAST_FRAMES = 256
_LONGEST_ECHO = 0.2  # s


class Paths(ProcedureBase):
    """Delay and likeness of signal paths against the first."""

    key = "paths"
    title = "Path comparison"
    about = About(
        QuestionGroup.TIME,
        question="What is the delay between two paths?",
        played="Noise, or any existing signal",
        gives="Delay, level and polarity of two recorded paths, residual after subtraction.",
        needs="Two inputs, or a file",
        sketch=(
            (0, 0.5),
            (0.1, 0.75),
            (0.2, 0.3),
            (0.3, 0.65),
            (0.4, 0.45),
            (0.5, 0.95),
            (0.6, 0.4),
            (0.7, 0.6),
            (0.8, 0.35),
            (0.9, 0.6),
            (1, 0.5),
        ),
    )
    presets = (Preset("Long, 60 s", {"duration": 60.0}, "Shows drift of the sample clocks."),)
    of_any_recording = True
    of_levels = False
    Settings = PathsSettings
    of_the_chain = False
    aligns_paths = True
    reads_sources = True
    views = (
        CurveView("delay_over_time", "Delay", "course", "Delay", log_x=False, former=("course",)),
        CurveView(
            "transient_delay", "Transients", "delay", "Delay of each transient", log_x=False, former=("event_delay",)
        ),
        CurveView(
            "transient_level",
            "Transients",
            "level",
            "Level of each transient re channel 1",
            log_x=False,
            former=("event_level",),
        ),
        CurveView(
            "transient_delay_spread",
            "Transients",
            "delay spread",
            "Standard deviation of each delay",
            log_x=False,
            compared=False,
            former=("event_delay_spread",),
        ),
        CurveView(
            "transient_time_spread",
            "Transients",
            "time spread",
            "Standard deviation of each start",
            log_x=False,
            compared=False,
            former=("event_time_spread",),
        ),
        CurveView(
            "phase",
            "Phase",
            "phase",
            "Phase, delay removed",
            compared=False,
            chain=ChainShare.SUBTRACTS,
            microphone=Microphone.PHASE,
        ),
        CurveView("group_delay", "Group delay", "group delay", "Group delay", chain=ChainShare.SUBTRACTS),
        CurveView("coherence", "Coherence", "coherence", "Coherence", compared=False),
        CurveView("echo", "Second arrival", "cepstrum", "Cepstrum", log_x=False, compared=False),
    )
    readings = (
        ReadingKind("delay", "Delay", chain=ChainShare.SUBTRACTS, meaning="Delay of this path re the first."),
        ReadingKind("delay_samples", "Delay in samples", meaning="The delay in samples."),
        ReadingKind(
            "delay_likelihood",
            "Likelihood of delay",
            meaning="Likelihood of the stated delay where several fit.",
        ),
        ReadingKind("alternative", "Alternative delay", meaning="The next likely delay, where several fit."),
        ReadingKind("level", "Level re channel 1", meaning="Level of this path re the first."),
        ReadingKind(
            "polarity",
            "Polarity",
            shown=Shown.POLARITY,
            compared=False,
            meaning="Whether the path is inverted re the first.",
        ),
        ReadingKind(
            "correlation",
            "Correlation (aligned)",
            meaning="Correlation coefficient of the two paths after alignment; 1: identical.",
        ),
        ReadingKind(
            "correlation_before",
            "Correlation, unaligned",
            meaning="Correlation coefficient of the two paths as recorded.",
        ),
        ReadingKind(
            "drift_ppm", "Drift", meaning="Steady change of the delay: the two paths run on different sample clocks."
        ),
        ReadingKind(
            "delay_modulation",
            "Delay modulation",
            chain=ChainShare.ADDS,
            former=("modulation",),
            meaning="RMS of the changes of the delay during the recording.",
        ),
        ReadingKind(
            "null_depth",
            "Subtraction residual",
            meaning="Residual after the aligned path is subtracted from the first, re the first.",
        ),
        ReadingKind(
            "optimum_delay",
            "Delay at min. residual",
            former=("best",),
            meaning="Delay at which the residual after subtraction is lowest.",
        ),
        ReadingKind(
            "transients",
            "Transients found",
            shown=Shown.COUNT,
            former=("events",),
            meaning="Number of transients that were found in both paths.",
        ),
        ReadingKind(
            "transient_spread",
            "Transients, std. dev.",
            former=("event_spread",),
            meaning="Standard deviation of the delays of single transients.",
        ),
        HEADROOM,
        *SECOND_ARRIVAL,
    )

    def for_existing_sound(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        return {**settings, "stimulus": "nothing"}

    def analyse_sources(self, sources: Sequence[SampleSource], settings: PathsSettings) -> Result:
        return compare_with_first(sources, settings)

    def details(self, result: Result) -> dict[str, Any]:
        return {"transients": transients_of(result)}

    def conduct(self, settings: PathsSettings, chain: Chain) -> Conduct:
        if settings.stimulus is Played.NOTHING:
            yield silence(chain.rate, settings.duration)
        else:
            yield noise(rate=chain.rate, colour=Colour.PINK, duration=settings.duration, level=settings.level)

    def duration(self, settings: PathsSettings, chain: Chain) -> float:
        if settings.stimulus is Played.NOTHING:
            return settings.duration
        return settings.duration + LEAD + TAIL

    def headline(self, result: Result) -> Reading | None:
        return next((r for r in result.readings if r.key in ("delay", "arrival_separation")), None)

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key in ("delay_over_time", "group_delay", "echo")), None)

    def summary(self, settings: PathsSettings) -> str:
        return f"±{settings.search:g} s, {settings.band_low:g} Hz–{settings.band_high / 1000:g} kHz"

    def analyse(self, recordings: Sequence[Recording], settings: PathsSettings, chain: Chain) -> Result:
        if not recordings:
            raise UnusableInputError("There is no recording to analyse. Measure again, or select a recording.")
        sources = [
            ArraySource(r.signal.channel(n), r.signal.rate) for r in recordings for n in range(1, r.signal.channels + 1)
        ]
        result = compare_with_first(sources, settings)
        lost = caution_when(any(r.faults for r in recordings), Caution.DROPOUT)
        return replace(result, cautions=unique((*result.cautions, *lost)))


def compare_with_first(sources: Sequence[SampleSource], settings: PathsSettings) -> Result:
    """Every further way against the first, whose rate all are brought to; of one alone, the second arrival in it.

    Raises UnusableInputError.
    """
    shortest = min((w.frames for w in sources), default=0)
    if shortest < LEAST_FRAMES:
        raise UnusableInputError(
            f"The recording is too short ({shortest} of at least {LEAST_FRAMES} samples). Nothing was computed; make a"
            " longer recording."
        )
    rate = sources[0].rate
    at_one_rate: list[SampleSource] = [w if w.rate == rate else ResampledSource(w, rate) for w in sources]
    # what is too long to be held at once is gone through by two at a time
    if max(w.frames for w in at_one_rate) > CHUNK_FRAMES:
        at_once = 2
    else:
        at_once = len(at_one_rate)
    with ThreadPoolExecutor(min(at_once, 8)) as pool:

        def together(work: Sequence[Callable[[], T]], /) -> list[T]:
            return list(pool.map(lambda one: one(), work))

        seen = scan_sources(at_one_rate, together)
        unusable = sum(s.unusable for s in seen)
        if unusable:
            raise UnusableInputError(
                f"The recording has invalid samples (NaN or infinite): {unusable}. Nothing was computed; export it"
                " again."
            )
        at_one_rate = [ZeroMeanSource(w, s.mean) for w, s in zip(at_one_rate, seen, strict=True)]
        band = settings.band_low, settings.band_high
        if len(at_one_rate) == 1:
            if seen[0].clipped:
                cautions = [Caution.CLIPPED]
            else:
                cautions = []
            return echo_result(
                detect_echo(at_one_rate[0], band, min(settings.search, _LONGEST_ECHO)), settings, rate, cautions
            )
        loud = [w for w, s in zip(at_one_rate[1:], seen[1:], strict=True) if s.peak and seen[0].peak]
        estimates = compare_paths(
            at_one_rate[0], loud, band, settings.search, events=settings.events, seen=seen[0], together=together
        )
    which = iter(estimates)
    results = []
    for index in range(1, len(at_one_rate)):
        sounds = bool(seen[index].peak and seen[0].peak)
        cautions = [
            *([Caution.OTHER_RATE] if sources[index].rate != rate else []),
            *([Caution.CLIPPED] if seen[0].clipped or seen[index].clipped else []),
            *([Caution.IDENTICAL] if sounds and _identical(at_one_rate[0], at_one_rate[index]) else []),
        ]
        results.append(path_result(next(which) if sounds else None, index + 1, rate, settings, cautions))
    headroom = tuple(
        Reading("headroom", n, -to_db(s.peak) if s.peak else None, "dB") for n, s in enumerate(seen[1:], start=2)
    )
    return Result(
        tuple(c for r in results for c in r.curves),
        (*(g for r in results for g in r.readings), *headroom),
        unique(c for r in results for c in r.cautions),
    )


def _identical(first: SampleSource, second: SampleSource) -> bool:
    return first.frames == second.frames and all(
        np.array_equal(first.read(at, n), second.read(at, n)) for at, n in iter_chunks(first.frames)
    )
