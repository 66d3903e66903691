"""The highest level of a microphone: a tone at the point rises until its THD reaches the limit."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.sine.stepped_tone import StepMeasurement
from epidote.core.procedures.common.stepped_tones import analyse_steps, distorts, locate_starts, safe_db
from epidote.core.procedures.microphone.settings import MicrophoneSettings
from epidote.core.quantities.units import PASCAL_DB
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.signals.recording import Recording
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.stepped_tones import KIND as STAIRCASE

_LOWEST_STEPS = 3
_OF_SOURCE = 0.5  # of the limit: more distortion at the reference microphone is the source's


@dataclass(frozen=True)
class RisingTone:
    """The recorded rising tone of a run: recordings with their stimuli, and where each begins."""

    recordings: Sequence[Recording]
    stimuli: Sequence[Stimulus]
    starts: Sequence[int | None]
    settings: MicrophoneSettings

    @staticmethod
    def of(recordings: Sequence[Recording], settings: MicrophoneSettings) -> RisingTone | None:
        """Return the rising tone among the recordings of a run; None where there is none."""
        rising = [r for r in recordings if r.stimulus is not None and r.stimulus.kind == STAIRCASE]
        stimuli = [r.stimulus for r in rising if r.stimulus is not None]
        if not rising:
            return None
        return RisingTone(rising, stimuli, locate_starts(rising, stimuli), settings)

    def steps(self, number: int) -> list[StepMeasurement]:
        """Return the steps of a channel (from 1), rising."""
        found = analyse_steps(self.recordings, self.stimuli, self.starts, number, self.settings).found
        return sorted(found, key=lambda s: s.level)


def distortion_result(
    tone: RisingTone, number: int, in_full_scale: float, settings: MicrophoneSettings, reference_db: float | None
) -> Result:
    """Return THD against the sound level at the point, and the level at which it reaches the limit.

    in_full_scale: the microphone's output in dBFS at 1 Pa and the tone's frequency; reference_db: the same of the
    reference microphone beside it. Without one the lowest steps tell the level, from where the source goes on in
    proportion.
    """
    steps = tone.steps(number)
    if not steps:
        missing = (Caution.STIMULUS_NOT_FOUND,)
        return Result((), (Reading("level_at_thd", number, None, "dB SPL", cautions=missing),), missing)
    beside = tone.steps(settings.reference_channel) if reference_db is not None else []
    if len(beside) == len(steps) and reference_db is not None:
        levels = np.array([safe_db(s.amplitude) - reference_db for s in beside]) + PASCAL_DB
    else:
        gain = float(np.median([safe_db(s.amplitude) - s.level for s in steps[:_LOWEST_STEPS]]))
        levels = np.array([s.level for s in steps]) + gain - in_full_scale + PASCAL_DB
    thd = np.array([safe_db(s.thd) for s in steps])
    floor = np.array([safe_db(math.sqrt(s.expected_noise / s.main)) for s in steps])
    curve = Curve("thd_by_level", number, levels, thd, "dB SPL", "dB", floor)
    at: dict[str, float | str] = {"frequency_hz": settings.frequency, "limit_percent": settings.distortion_limit}
    over = next((i for i, s in enumerate(steps) if distorts(s, settings.distortion_limit)), None)
    if over is None:
        at["finding"] = f"THD stays under {settings.distortion_limit:g} % up to {levels[-1]:.1f} dB SPL"
        reading = Reading("level_at_thd", number, None, "dB SPL", at, cautions=(Caution.NOT_REACHED,))
        return Result((curve,), (reading,))
    if beside and 100 * beside[over].thd > _OF_SOURCE * settings.distortion_limit:
        reading = Reading("level_at_thd", number, None, "dB SPL", at, cautions=(Caution.SOURCE_DISTORTS,))
        return Result((curve,), (reading,), (Caution.SOURCE_DISTORTS,))
    value = float(levels[over])
    if over and thd[over] > thd[over - 1]:
        limit = safe_db(settings.distortion_limit / 100)
        value = float(np.interp(limit, thd[over - 1 : over + 1], levels[over - 1 : over + 1]))
    cautions = caution_when(over == 0, Caution.OVER_LIMIT)
    return Result((curve,), (Reading("level_at_thd", number, value, "dB SPL", at, cautions=cautions),))
