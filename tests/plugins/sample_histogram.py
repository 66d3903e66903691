"""A procedure as another package would bring it: what the samples of a tone are, however they follow each other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from epidote.core.analysis.capture_checks import require_valid
from epidote.core.chain.chain import Chain
from epidote.core.claims.answer import answer_by_reading
from epidote.core.claims.claimed_quantity import Better, Bound, ClaimedQuantity, declare_quantity
from epidote.core.effects import Effect, Severity
from epidote.core.procedures.common.channels import merge_channels, per_channel, require_consistent_channels
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase
from epidote.core.results.kinds import ChainShare, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.settings import Settings, setting
from epidote.core.signals.recording import Recording
from epidote.core.stimuli.tone import tone

BINS = Effect("Histograms of different bins cannot be compared.", Severity.BLOCKS)
STEP = declare_quantity(
    ClaimedQuantity("smallest step", r"smallest step|step size", Bound.AT_MOST, Better.LESS, units=("dBFS",))
)


class HistogramSettings(Settings):
    duration: float = setting(0.2, "Duration", "Duration of the tone", "s", played=True, ge=0.05, le=60)
    level: float = setting(-20.0, "Level", "Generator level", "dBFS", played=True, ge=-140, le=0)
    bins: int = setting(50, "Bins", "Number of bins of the histogram", ge=2, le=1000, affects=BINS)


class SampleHistogram(ProcedureBase):
    key = "sample-histogram"
    title = "Sample histogram"
    Settings = HistogramSettings
    answers = (answer_by_reading(STEP, "smallest_step", lambda claim: {"duration": 0.3}),)
    views = (CurveView("histogram", "Histogram", "histogram", "Share of samples", log_x=False),)
    readings = (
        ReadingKind("smallest_step", "Smallest step", chain=ChainShare.ADDS),
        ReadingKind("distinct_values", "Distinct values", shown=Shown.COUNT, compared=False),
    )

    def conduct(self, settings: HistogramSettings, chain: Chain) -> Conduct:
        channels = tuple(range(1, len(chain.outputs) + 1))
        yield tone(
            rate=chain.rate, frequency=997.0, duration=settings.duration, level=settings.level, channels=channels
        )

    def duration(self, settings: HistogramSettings, chain: Chain) -> float:
        return settings.duration

    def headline(self, result: Result) -> Reading | None:
        return result.reading("distinct_values")

    def thumbnail(self, result: Result) -> Curve | None:
        return result.curve("histogram")

    def summary(self, settings: HistogramSettings) -> str:
        return f"{settings.bins} bins"

    def analyse(self, recordings: Sequence[Recording], settings: HistogramSettings, chain: Chain) -> Result:
        channels = require_consistent_channels(recordings)
        signal = recordings[0].signal
        require_valid(signal, settings.bins)

        def one(number: int) -> Result:
            x = signal.channel(number)
            values = np.unique(x)
            counts, edges = np.histogram(x, settings.bins)
            middles = (edges[1:] + edges[:-1]) / 2
            steps = np.diff(values)
            step = 20 * np.log10(float(steps.min())) if steps.size else None
            readings = (
                Reading("smallest_step", number, step, "dBFS"),
                Reading("distinct_values", number, float(values.size), "ratio"),
            )
            return Result((Curve("histogram", number, middles, counts / x.size, "FS", "ratio"),), readings)

        return merge_channels(per_channel(channels, one), recordings, chain)
