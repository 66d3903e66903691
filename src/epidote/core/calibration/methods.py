"""From what a meter, a calibrator or a resistor says to the values of a chain, and whether those can be right.

Ohm's law and the definition of 0 dBFS (AES17) are all there is to it; the rules of plausibility are common practice, no
source.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.spectral.spectrum import band_power, windowed_mean_squares
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spectral.windows import HANN
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.column_text import fault, layouts, lines_of
from epidote.core.quantities.units import SPL_PASCALS, from_db, to_db
from epidote.core.signals.fft_lengths import trim_to_fast_length
from epidote.core.signals.signal import Samples

STEADY_DB, STEADY_SECONDS = 0.01, 3.0
_ALIKE_DB = 0.25
_GREATEST_CORRECTION_DB = 80.0
_SLIPS = (
    (3.01, "the factor between RMS and peak volts"),
    (6.02, "a factor of 2: a pad or range switch, or a balanced line measured on one leg"),
    (9.03, "the factor between RMS and peak-to-peak volts"),
    (10.0, "a pad of 10 dB"),
    (20.0, "a factor of 10: a pad of 20 dB, or a probe's switch"),
    (40.0, "a factor of 100"),
    (60.0, "volts entered as millivolts"),
)


@dataclass(frozen=True)
class ToneLevel:
    """A tone as it is now: level in dBFS, frequency in Hz, everything that is not the tone re the tone in dB."""

    level: float
    frequency: float
    rest: float


def tone_level(x: Samples, rate: float) -> ToneLevel | None:
    """Return the strongest tone of a short stretch (frames,); None when none stands 20 dB clear of the rest."""
    if x.size < 512 or not np.any(x):
        return None
    spectrum = np.fft.rfft((x - x.mean()) * np.hanning(x.size))
    place = int(np.argmax(np.abs(spectrum[2:-1]))) + 2
    fit = fit_tone(x, rate, place * rate / x.size, 1, 1)
    amplitude = abs(fit.amplitudes[0])
    if amplitude == 0:
        return None
    rest = to_db(fit.sigma * math.sqrt(2) / amplitude)
    if rest < -20:
        return ToneLevel(to_db(amplitude), fit.frequency, rest)
    return None


@dataclass(frozen=True)
class Steadiness:
    """How level values moved: spread in dB (one standard deviation), drift in dB over the stretch, and whether that
    is steady.
    """

    spread: float
    drift: float
    steady: bool


def steadiness(times: Sequence[float], levels: Sequence[float]) -> Steadiness:
    """Of the last 3 s of levels in dB at times in s. Not steady before 3 s are there."""
    if len(times) < 3:
        return Steadiness(math.inf, 0.0, False)
    t, y = np.asarray(times, dtype=np.float64), np.asarray(levels, dtype=np.float64)
    late = t >= t[-1] - STEADY_SECONDS
    if np.count_nonzero(late) > 2:
        slope, _ = np.polyfit(t[late] - t[-1], y[late], 1)
    else:
        slope, _ = (0.0, 0.0)
    spread, drift = float(y[late].std()), float(slope * STEADY_SECONDS)
    enough = t[-1] - t[0] >= STEADY_SECONDS * 0.95
    return Steadiness(spread, drift, enough and spread < STEADY_DB and abs(drift) < 2 * STEADY_DB)


def full_scale(volts: float, level_dbfs: float) -> float:
    """RMS volts of a full-scale sine, when ``volts`` (RMS) stand at the terminals of something that plays or reads
    ``level_dbfs``.
    """
    return volts / from_db(level_dbfs)


def sensitivity(volts: float, spl_db: float) -> float:
    """Return a microphone's V/Pa, when it gives ``volts`` in a field of ``spl_db`` (94 dB SPL is 1.0024 Pa)."""
    return volts / (SPL_PASCALS * from_db(spl_db))


def weighted_level(x: Samples, rate: float, weighting: Weighting) -> float:
    """Level in dBFS of noise or programme (frames,) from 20 Hz to 20 kHz with a weighting: what a sound level meter
    beside it averages.
    """
    power, width = windowed_mean_squares(trim_to_fast_length(x), rate, HANN)
    total = band_power(power, width, 20.0, min(20000.0, rate / 2), weighting)
    if total > 0:
        return 10 * math.log10(2 * total)
    return -math.inf


def through_series(series_ohms: float, before: float, after: float) -> float:
    """Return the resistance that a known series resistor leads to: ``before`` and ``after`` are the voltages on its two
    sides, in the same unit.

        Raises UnusableInputError when the resistor drops nothing, or the voltages are the wrong way round.
    """
    if not before > after > 0:
        raise UnusableInputError(
            "There is no voltage drop across the series resistor. Check that it is connected in series, "
            "with the first input before it and the second after it, or use a larger value."
        )
    return series_ohms * after / (before - after)


def from_two_loads(first_ohms: float, first: float, second_ohms: float, second: float) -> float:
    """Output resistance in ohms from the voltages across two loads; math.inf for no load. Raises UnusableInputError."""
    low, high = (1 / r if r < math.inf else 0.0 for r in (first_ohms, second_ohms))
    # v = e / (1 + r g) for both loads
    below = second * high - first * low
    if below == 0 or first_ohms == second_ohms:
        raise UnusableInputError("Both loads are equal. Use two different loads, e.g. 8 Ω and no load.")
    resistance = (first - second) / below
    if not math.isfinite(resistance) or resistance < -0.01 * min(first_ohms, second_ohms):
        raise UnusableInputError(
            "The voltage is higher with the heavier load, which is impossible. Check that the levels were read in the"
            " order of the loads."
        )
    return max(0.0, resistance)


def damping_factor(load_ohms: float, output_ohms: float) -> float | None:
    """Load over output resistance (IEC 60268-3); None when the latter cannot be told from 0."""
    if output_ohms > 0:
        return load_ohms / output_ohms
    return None


def loading_error_db(source_ohms: float, input_ohms: float) -> float:
    """Return what a source's own resistance loses into an input, in dB (0 or less)."""
    return to_db(input_ohms / (input_ohms + source_ohms))


def plausibility(new: float, old: float | None) -> tuple[bool, str]:
    """Whether a value may follow an earlier one, and a sentence about the two."""
    if old is None:
        return True, "No previous value to compare with."
    change = to_db(new / old)
    for slip, words in _SLIPS:
        if abs(abs(change) - slip) < _ALIKE_DB:
            return False, f"{change:+.2f} dB from the previous value corresponds to {words}. Check before applying."
    if abs(change) > 1:
        return (
            False,
            f"{change:+.2f} dB from the previous value is a large change. Apply only if a gain was changed on purpose.",
        )
    return True, f"{change:+.2f} dB from the previous value."


def parse_correction(text: str) -> tuple[tuple[float, ...], ...]:
    """Rows of frequency in Hz, dB and perhaps phase from a microphone's text file, written in any way that
    ``column_text`` knows.

    Raises UnusableInputError naming the line, or saying that the numbers can be read in two ways.
    """
    lines = lines_of(text)
    if len(lines.rows) < 2:
        raise UnusableInputError(
            "The file contains no correction: at least two lines of frequency and dB are needed. Nothing was changed;"
            " select another file."
        )
    tables = layouts(lines)
    if not tables:
        number, line = fault(lines)
        if number:
            place = f", line {number}: “{line[:40]}” is not a frequency and a level in dB"
        else:
            place = ": its lines are written in different ways"
        raise UnusableInputError(f"Correction file{place}. Nothing was changed; correct the file.")
    if len(tables) > 1:
        choices = " or ".join(f"{t.layout.words} ({t.values[0, 0]:g} Hz: {t.values[0, 1]:g} dB)" for t in tables[:2])
        raise UnusableInputError(
            f"The correction file can be read in two ways: {choices}. Nothing was changed; separate its columns with"
            " tabs."
        )
    rows = [tuple(row) for row in tables[0].values[:, :3].tolist()]
    for before, row, (number, line) in zip([None, *rows], rows, lines.rows, strict=False):
        if not all(math.isfinite(v) for v in row) or row[0] <= 0 or abs(row[1]) > _GREATEST_CORRECTION_DB:
            raise UnusableInputError(
                f"Correction file, line {number}: “{line[:40]}” is out of range (frequency above 0 Hz, level within ±80"
                " dB). Nothing was changed; correct the file."
            )
        if before is not None and row[0] <= before[0]:
            raise UnusableInputError(
                f"Correction file, line {number}: frequencies must ascend, but {row[0]:g} Hz is not above the line"
                " before. Nothing was changed; correct the file."
            )
    return tuple(rows)
