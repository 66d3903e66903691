"""One stretch of recording taken apart: the tone with its harmonics and drift, strangers such as hum, and what is left as noise."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core import transforms
from epidote.core.analysis.sinefit import ToneFit, fit_tone
from epidote.core.analysis.spectrum import (
    band_power,
    band_powers_of,
    line_power,
    mean_square_in_band,
    mean_squares,
    peak_near,
    unwindowed_powers,
)
from epidote.core.analysis.spreads import WINDOWED_BLOCK, line_spreads, power_variance
from epidote.core.analysis.weighting import Weighting, power_weight
from epidote.core.analysis.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.analysis.windows import windowed_bins, windowed_power
from epidote.core.signal import Samples

AGREEMENT_DB = 0.2
_DB_PER_NEPER = 20 / math.log(10)
_DRIFT_ORDERS, _DRIFT_SHARE, _DRIFT_CAUTION = (3, 6, 9), 0.0005, 0.05
_MOST_STRANGERS = 10
_ROUNDING = 1e-19  # what is less than this of the tone's power is the arithmetic's
_GLANCE, _STEADY = 32768, 1e-4


@dataclass(frozen=True)
class ToneAnalysis:
    """One channel analysed: the fit, and mean squares in the band relative to FS²."""

    fit: ToneFit
    frames: int
    rate: float
    band: tuple[float, float]
    noise: float
    noise_spread_db: float
    line_spreads: Samples  # of the fundamental and H2 and up (harmonics,): one standard deviation of each peak amplitude
    drifted: bool
    spectrum: Samples  # squared peak amplitude of a line
    samples: Samples
    residual_power: Samples

    @property
    def frequency_spread(self) -> float:
        """One standard deviation in Hz, from the noise about the tone."""
        white = self.fit.amplitude_spread
        return self.fit.frequency_spread * (float(self.line_spreads[0]) / white if white > 0 else 1.0)

    def harmonic_variance(self, weighting: Weighting = Weighting.NONE) -> float:
        """Variance of the sum of ``harmonic_powers``: of a power A²/2 whose amplitude is unsure by s it is (A s)² + s⁴."""
        size, spread = np.abs(self.fit.amplitudes[1:]), self.line_spreads[1:]
        each = (np.square(size * spread) + spread**4) * np.square(self._harmonic_weights(weighting))
        return float(each.sum())

    def _harmonic_weights(self, weighting: Weighting) -> Samples:
        """What the power of H2 and up (harmonics,) counts, 0 outside the band."""
        orders = np.arange(2.0, len(self.fit.amplitudes) + 1)
        return np.asarray(power_weight(np.asarray(orders * self.fit.frequency), weighting) * self.harmonics_inside())

    def harmonics_inside(self) -> NDArray[np.bool_]:
        """Of H2 and up (harmonics,): whether they lie inside the band."""
        orders = np.arange(2.0, len(self.fit.amplitudes) + 1)
        return np.asarray(orders * self.fit.frequency <= self.band[1] * (1 + 1e-6))

    def harmonic_powers(self, weighting: Weighting = Weighting.NONE) -> Samples:
        """Mean squares of H2 and up (harmonics,), 0 outside the band."""
        return np.asarray(np.abs(self.fit.amplitudes[1:]) ** 2 / 2 * self._harmonic_weights(weighting))


def _coarse_frequency(x: Samples, rate: float, expected: float) -> float:
    """The tone to analyse: near the expected frequency if something strong is there, otherwise the strongest line.

    A short piece tells, if the tone stands clear in it; then the whole record need not be transformed for this alone.
    """
    found = expected
    for size in (_GLANCE, x.size):
        if size > x.size:
            continue
        first = (x.size - size) // 2
        spectrum = transforms.rfft(x[first : first + size])
        spectrum[0] = 0
        width = rate / size
        strongest, height = peak_near(spectrum, size, rate, 1.5 * width, rate / 2)
        near, near_height = peak_near(spectrum, size, rate, expected / 1.02 - width, min(expected * 1.02 + width, rate / 2))
        found, amplitude = (near, near_height) if near_height > 0.1 * height else (strongest, height)
        noise = float(np.median(np.abs(spectrum[:: max(1, spectrum.size // 4096)]))) * 2 / size
        if amplitude > 30 * noise and found > 8 * width:
            break
    return found


def analyse_tone(
    x: Samples, rate: float, expected: float, harmonics: int, band: tuple[float, float], weighting: Weighting
) -> ToneAnalysis | None:
    """Fit, residual and noise of one stretch (frames,); None when it holds no tone."""
    frames = x.size
    frequency = _coarse_frequency(x, rate, expected)
    width = rate / frames
    band = (band[0], min(band[1], rate / 2))
    bins = max(1.0, (band[1] - band[0]) / width)
    spread = _DB_PER_NEPER / 2 / math.sqrt(bins)
    order, orders = _DRIFT_ORDERS[0], iter(_DRIFT_ORDERS[1:])
    strangers: list[_Stranger] = []
    own = x
    while True:
        fit = fit_tone(own, rate, frequency, harmonics, order)
        frequency = fit.frequency
        amplitude = abs(fit.amplitudes[0])
        if amplitude**2 * frames / 4 < (math.log(frames) + 8) * fit.sigma**2 or amplitude == 0:
            return None
        residual = transforms.rfft(fit.residual)
        clean = mean_squares(windowed_power(residual, WINDOW), frames, WINDOW.mean_square)
        found = _stranger(residual, clean, fit, rate) if len(strangers) < _MOST_STRANGERS else None
        if found is not None:
            strangers.append(found)
            own = own - found.samples
            continue
        excess = _beside_the_tone(clean, fit.frequency, width, band)
        if excess < amplitude**2 * _ROUNDING:
            excess = 0.0
        total = band_power(clean, width, *band)
        if excess > _DRIFT_SHARE * total and (following := next(orders, None)) is not None:
            order = following
            continue
        break
    noise, checked = mean_square_in_band(residual, frames, rate, *band, weighting), band_power(clean, width, *band, weighting)
    disagreement = abs(10 * math.log10(noise / checked)) if noise > 0 and checked > 0 else 0.0
    drifted = excess > _DRIFT_CAUTION * total
    variance = power_variance(unwindowed_powers(residual, frames, rate, *band, weighting))
    if disagreement > AGREEMENT_DB:
        # read with a window, against which nothing leaks, at the price of a wider scatter
        windowed = band_powers_of(clean, width, *band, weighting)
        scatter = math.sqrt(power_variance(windowed, WINDOWED_BLOCK, lines=False))  # of lines both say the same
        if disagreement > AGREEMENT_DB + 5 * _DB_PER_NEPER / 2 * scatter / checked:
            # something outside the band leaks into the plain sum
            noise, variance = checked, WINDOW.crowding * power_variance(windowed, WINDOWED_BLOCK)
    spread = _DB_PER_NEPER / 2 * math.sqrt(variance) / noise if noise > 0 else spread
    line_spread = line_spreads(residual, frames, [n * fit.frequency / width for n in range(1, len(fit.amplitudes) + 1)])
    # the fit took some of the noise along with each parameter inside the band
    noise *= 1 + min(0.5, fit.parameters / 2 / bins)
    lines = [(n * fit.frequency, amplitude) for n, amplitude in enumerate(fit.amplitudes, start=1)]
    for line in strangers:
        inside = band[0] <= line.frequency <= band[1]
        noise += line.power * float(power_weight(np.array([line.frequency]), weighting)[0]) * inside
        lines.append((line.frequency, line.amplitude))
        fit.residual[:] += line.samples
    if max(fit.level_drift, fit.phase_drift) > _STEADY:
        whole = transforms.rfft(x - fit.dc)
        shown = windowed_power(whole, WINDOW)
        shown *= (2 / frames / WINDOW.coherent_gain) ** 2
    else:
        shown = clean * (2 * WINDOW.enbw)
        _draw_lines(shown, residual, frames, np.array([f for f, _ in lines]) / width, np.array([a for _, a in lines]))
    for line in strangers:
        clean[round(line.frequency / width)] += line.power
    return ToneAnalysis(fit, frames, rate, band, noise, spread, line_spread, drifted, shown, x, clean)


def _draw_lines(shown: Samples, residual: NDArray[np.complex128], frames: int, places: Samples, amplitudes: NDArray[np.complex128]) -> None:
    """Put fitted lines (lines,) back into the spectrum (squared peaks of lines) of what they were taken out of; ``places`` in bins,
    phases at mid-record."""
    reach, radius = len(WINDOW.coefficients) - 1, WINDOW.half_width + 3
    bins = np.round(places).astype(int)[:, None] + np.arange(-radius, radius + 1)
    bins = np.clip(bins, reach, residual.size - 1 - reach)  # what is drawn twice there is the same
    # the transform of a cosine window: shifted sinc sums (Harris 1978), turned to the record's beginning
    halves = np.array(WINDOW.coefficients[1:]) / 2
    weights = np.concatenate([halves[::-1], WINDOW.coefficients[:1], halves])
    kernel = np.sinc((bins - places[:, None])[:, :, None] - np.arange(-reach, reach + 1)) @ weights
    turned = amplitudes[:, None] / 2 * frames * np.exp(-1j * np.pi * (bins * (frames - 1) / frames))
    shown[bins] = np.square(np.abs(windowed_bins(residual, bins, WINDOW) + kernel * turned) * (2 / frames / WINDOW.coherent_gain))


@dataclass(frozen=True)
class _Stranger:
    """A line that is none of the tone's and outweighs all else, such as hum: taken out before the fit, counted as noise after it."""

    frequency: float
    amplitude: complex
    samples: Samples

    @property
    def power(self) -> float:
        return abs(self.amplitude) ** 2 / 2


def _stranger(residual: NDArray[np.complex128], clean: Samples, fit: ToneFit, rate: float) -> _Stranger | None:
    """The line that holds more than a fifth of the residual, if there is one away from the harmonics.

    A plain fit takes everything but the tone for white noise; a strong line elsewhere would lean on every component it finds.
    """
    frames = fit.residual.size
    width = rate / frames
    centre = 2 + int(np.argmax(clean[2:]))
    power, _ = line_power(clean, width, centre * width, WINDOW)
    nearest = max(1, round(centre * width / fit.frequency)) * fit.frequency
    away = abs(centre * width - nearest) / width
    if power < 0.2 * float(clean.sum()) or away < 3 * WINDOW.half_width or centre < 3:
        return None
    frequency, _ = peak_near(residual, frames, rate, (centre - 1) * width, (centre + 1) * width)
    line = fit_tone(fit.residual, rate, frequency, 1, 1)
    return _Stranger(line.frequency, complex(line.amplitudes[0]), fit.residual - line.residual - line.dc)


def _beside_the_tone(clean: Samples, frequency: float, width: float, band: tuple[float, float]) -> float:
    """Mean square close to the tone beyond what the noise of the whole band puts there: a drift that the fit did not follow."""
    reach = 30 * width
    near = band_power(clean, width, frequency - reach, frequency + reach)
    first, last = round(band[0] / width), max(round(band[0] / width) + 2, round(band[1] / width))
    density = float(np.median(clean[first : last : max(1, (last - first) // 20000)])) / math.log(2)
    # noise in so few bins scatters by a fifth
    return max(0.0, near - 1.6 * density * 61)
