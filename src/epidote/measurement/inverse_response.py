"""The inverse of a measured response as a curve of gain, through which sound can be equalised before it is played."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from epidote.audio.files.sound_file import write_whole
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.common.views import GAIN_VIEW
from epidote.core.procedures.registry import procedure
from epidote.core.results.result import Curve
from epidote.study.interchange.curve_text import text_of
from epidote.study.models import RunSummary
from epidote.study.store import Study

USUAL_LOW, USUAL_HIGH, USUAL_LIMIT = 40.0, 16000.0, 12.0  # Hz, Hz, dB
_PER_OCTAVE = 24
_ROLL = 1 / 3  # octaves within which the gain goes back to 0 dB outside the band


def has_response(run: RunSummary) -> bool:
    """Whether a run's procedure is there to measure a response."""
    views = procedure(run.procedure).views
    return bool(views) and views[0].key == GAIN_VIEW.key


def inverse_of_run(study: Study, run: RunSummary, channel: int, *, band: tuple[float, float], limit: float) -> Curve:
    """Return the gain in dB that makes a run's response flat between two frequencies in Hz, re its mean there.

    limit: the greatest gain or loss in dB; outside the band it goes back to 0 dB. Raises SettingError,
    UnusableInputError.
    """
    low, high = band
    if not 0 < low < high or not 0 < limit <= 40:
        raise SettingError("Use a band from a lower to a higher frequency, and a limit above 0, up to 40 dB.")
    found = [c for c in study.curves(run.id) if c.key == GAIN_VIEW.key and c.channel == channel and c.x_unit == "Hz"]
    if not found or not found[0].y_unit.startswith("dB"):
        raise UnusableInputError("This run has no response over frequency. Select a run of “Response”.")
    curve = found[0]
    known = np.isfinite(curve.y) & (curve.x > 0)
    first, last = max(low, float(curve.x[known].min())), min(high, float(curve.x[known].max()))
    if last < 2 * first:
        raise UnusableInputError("The response covers less than an octave of this band. Use another band or run.")
    count = math.ceil(_PER_OCTAVE * math.log2(last / first)) + 1
    x = np.geomspace(first, last, count)
    level = np.interp(np.log(x), np.log(curve.x[known]), curve.y[known])
    gain = np.clip(level.mean() - level, -limit, limit)
    ends = (first * 2**-_ROLL, *x, last * 2**_ROLL)
    return Curve("inverse", channel, np.array(ends), np.array([0.0, *gain, 0.0]), "Hz", "dB")


def write_inverse(
    study: Study, run: RunSummary, channel: int, path: Path, *, band: tuple[float, float], limit: float
) -> str:
    """Write the inverse of a run's response as a text file; return what was written, in words. Raises EpidoteError."""
    curve = inverse_of_run(study, run, channel, band=band, limit=limit)
    row = study.overview().subject(run.subject_id)
    name = row.full_name if row is not None else f"run {run.id}"
    notes = [
        f"Inverse of the response of {name}, run {run.id}, channel {channel}",
        f"{curve.x[1]:.0f} Hz to {curve.x[-2]:.0f} Hz, limited to {limit:g} dB either way",
    ]
    write_whole(path, text_of(curve, None, notes).encode())
    return f"{path.name}: inverse of {name}, {curve.x[1]:.0f} Hz to {curve.x[-2]:.0f} Hz, at most {limit:g} dB."
