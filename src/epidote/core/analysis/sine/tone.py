"""One stretch of recording taken apart: the tone with its harmonics and drift, strangers such as hum, and what is
left as noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.analysis.quantisation import Undithered, undithered_in
from epidote.core.analysis.sine.sine_fit import ToneFit, fit_tone
from epidote.core.analysis.spectral.spectrum import (
    LINE_CLEAR,
    band_power,
    band_powers_of,
    line_power,
    mean_square_in_band,
    mean_squares,
    peak_near,
    unwindowed_powers,
)
from epidote.core.analysis.spectral.weighting import Weighting, power_weight
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.analysis.spectral.windows import windowed_bins, windowed_power
from epidote.core.analysis.spreads import WINDOWED_BLOCK, line_spreads, lower_mean, power_variance
from epidote.core.quantities.units import DB_PER_NEPER
from epidote.core.signals import transforms
from epidote.core.signals.signal import Samples

AGREEMENT_DB = 0.2
_DRIFT_ORDERS, _DRIFT_SHARE, _DRIFT_CAUTION = (3, 6, 9), 0.0005, 0.05
_MOST_STRANGERS = 10
_LEAST_CYCLES = 1.5  # of a stranger in the record
_ROUNDING = 1e-19  # what is less than this of the tone's power is the arithmetic's
_NEAR_DC = 30  # bins
_CLOSE, _STEEPEST = 30, 2.0  # bins to either side of the tone; fall of noise with frequency, as an exponent of power
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
    line_spreads: (
        Samples  # of the fundamental and H2 and up (harmonics,): one standard deviation of each peak amplitude
    )
    drifted: bool
    spectrum: Samples  # squared peak amplitude of a line
    samples: Samples
    residual_power: Samples
    undithered: Undithered | None = None
    dc_spread: float = 0.0  # one standard deviation of the mean

    @property
    def frequency_spread(self) -> float:
        """One standard deviation in Hz, from the noise about the tone."""
        white, spread = self.fit.amplitude_spread, float(self.line_spreads[0])
        if white <= 0:
            return self.fit.frequency_spread
        place = round(self.fit.frequency * self.frames / self.rate)
        near, far = WINDOW.half_width + 1, 4 * WINDOW.half_width
        neighbours = np.concatenate(
            [
                self.residual_power[max(0, place - far) : max(0, place - near)],
                self.residual_power[place + near : place + far],
            ]
        )
        if neighbours.size:
            there = min(spread**2, lower_mean(neighbours))
        else:
            there = spread**2
        # what leaks from elsewhere acts at the record's ends, where a slope is three times as sensitive as to noise all
        # over it
        return self.fit.frequency_spread * math.sqrt(there + 3 * (spread**2 - there)) / white

    def harmonic_variance(self, weighting: Weighting = Weighting.NONE) -> float:
        """Variance of the sum of ``harmonic_powers``: of a power A²/2 whose amplitude is unsure by s it is (A s)² +
        s⁴.
        """
        size, spread = np.abs(self.fit.amplitudes[1:]), self.line_spreads[1:]
        each = (np.square(size * spread) + spread**4) * np.square(self._harmonic_weights(weighting))
        return float(each.sum())

    def _harmonic_weights(self, weighting: Weighting) -> Samples:
        """Return what the power of H2 and up (harmonics,) counts, 0 outside the band."""
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
    """Return the tone to analyse: near the expected frequency if something strong is there, otherwise the strongest
    line.

    A short piece tells, if the tone stands clear in it; then the whole record need not be transformed for this alone.
    """
    frequency = expected
    for size in (_GLANCE, x.size):
        if size > x.size:
            continue
        first = (x.size - size) // 2
        spectrum = transforms.rfft(x[first : first + size])
        # the direct voltage is no tone
        spectrum[0] = 0
        width = rate / size
        strongest, height = peak_near(spectrum, size, rate, 1.5 * width, rate / 2)
        # within 2 % of what was played, and a bin for short records
        near, near_height = peak_near(
            spectrum, size, rate, expected / 1.02 - width, min(expected * 1.02 + width, rate / 2)
        )
        # a tone 20 dB below something stronger is still taken for the expected one
        if near_height > 0.1 * height:
            frequency, amplitude = (near, near_height)
        else:
            frequency, amplitude = (strongest, height)
        # the median over some thousand bins stands for the noise, whatever lines there are
        noise = float(np.median(np.abs(spectrum[:: max(1, spectrum.size // 4096)]))) * 2 / size
        # clear of the noise and of 0 Hz: the short piece suffices
        if amplitude > 30 * noise and frequency > 8 * width:
            break
    return frequency


def analyse_tone(
    x: Samples, rate: float, expected: float, harmonics: int, band: tuple[float, float], *, weighting: Weighting
) -> ToneAnalysis | None:
    """Fit, residual and noise of one stretch (frames,); None when it holds no tone."""
    frames = x.size
    width = rate / frames
    band = (band[0], min(band[1], rate / 2))
    bins = max(1.0, (band[1] - band[0]) / width)
    # Step 1 (docs/methods.md, Tone): fit, with strong lines taken out and slow drift followed
    fitted = _fit_without_lines(x, rate, expected, harmonics, band)
    if fitted is None:
        return None
    fit, residual, clean, spurious, drifted = fitted
    amplitude = abs(fit.amplitudes[0])
    spurious = _fitted_apart(fit, spurious, rate)
    # Step 2: what noise leaves unsure about each fitted line
    places = [n * fit.frequency / width for n in range(1, len(fit.amplitudes) + 1)]
    undithered = undithered_in(x, fit.residual, fit.frequency / rate, amplitude)
    line_spread = line_spreads(residual, frames, [*places, *(line.frequency / width for line in spurious)])
    if undithered is not None:
        line_spread = np.hypot(line_spread, undithered.line_spread)
    # Step 3: noise in the band, from what the fit leaves
    level = _noise_level(residual, clean, frames, width, band, weighting=weighting)
    # the fit took some of the noise along with each parameter inside the band
    noise, variance = level.power * (1 + min(0.5, fit.parameters / 2 / bins)), level.variance
    lines = [(n * fit.frequency, amplitude) for n, amplitude in enumerate(fit.amplitudes, start=1)]
    # Step 4: the lines that were taken out are noise after all, each with its weighting
    for line, spread in zip(spurious, line_spread[len(places) :], strict=True):
        inside = band[0] <= line.frequency <= band[1]
        share = float(power_weight(np.array([line.frequency]), weighting)[0]) * inside
        noise += line.power * share
        variance += (abs(line.amplitude) * float(spread) * share) ** 2
        lines.append((line.frequency, line.amplitude))
        fit.residual[:] += line.samples
    noise_spread = DB_PER_NEPER / 2 * (math.sqrt(variance) / noise if noise > 0 else 1 / math.sqrt(bins))
    # Step 5: the spectrum that is shown. Of a tone that drifts the record itself, else the fitted lines drawn into the
    # noise.
    if max(fit.level_drift, fit.phase_drift) > _STEADY:
        whole = transforms.rfft(x - fit.dc)
        shown = windowed_power(whole, WINDOW)
        shown *= (2 / frames / WINDOW.coherent_gain) ** 2
    else:
        shown = clean * (2 * WINDOW.enbw)
        _draw_lines(shown, residual, frames, np.array([f for f, _ in lines]) / width, np.array([a for _, a in lines]))
    for line in spurious:
        clean[round(line.frequency / width)] += line.power
    return ToneAnalysis(
        fit,
        frames,
        rate,
        band,
        noise,
        noise_spread,
        line_spread[: len(places)],
        drifted,
        shown,
        x,
        clean,
        undithered,
        dc_spread=_mean_spread(residual, frames),
    )


def _fit_without_lines(
    x: Samples, rate: float, expected: float, harmonics: int, band: tuple[float, float]
) -> tuple[ToneFit, NDArray[np.complex128], Samples, list[_SpuriousLine], bool] | None:
    """Fit a tone to x (frames,), other lines taken out and the drift followed as far as it takes.

    Returns the fit, the spectrum of its residual, the power of that per bin, the lines, and whether the tone drifts by
    more than the fit can follow; None when there is no tone.
    """
    frames, width = x.size, rate / x.size
    frequency = _coarse_frequency(x, rate, expected)
    order, orders = _DRIFT_ORDERS[0], iter(_DRIFT_ORDERS[1:])
    spurious_lines: list[_SpuriousLine] = []
    own = x
    while True:
        # each round fits again to the record without the lines found so far
        fit = fit_tone(own, rate, frequency, harmonics, order)
        frequency = fit.frequency
        amplitude = abs(fit.amplitudes[0])
        # the greatest of many lines of noise stands out by the logarithm of their number
        if amplitude**2 * frames / 4 < (math.log(frames) + 8) * fit.sigma**2 or amplitude == 0:
            return None
        # spectrum of what is left: plain for sums over bins, windowed to look for lines
        residual = transforms.rfft(fit.residual)
        clean = mean_squares(windowed_power(residual, WINDOW), frames, WINDOW.mean_square)
        spurious = _stranger(residual, clean, fit, rate) if len(spurious_lines) < _MOST_STRANGERS else None
        if spurious is not None:
            spurious_lines.append(spurious)
            own = own - spurious.samples
            continue
        # what lies beside the tone beyond the noise is drift that the polynomials did not follow: try a higher order
        excess = _skirt_excess_power(clean, fit.frequency, width, band)
        if excess < amplitude**2 * _ROUNDING:
            excess = 0.0
        total = band_power(clean, width, *band)
        if excess > _DRIFT_SHARE * total and (following := next(orders, None)) is not None:
            order = following
            continue
        return fit, residual, clean, spurious_lines, excess > _DRIFT_CAUTION * total


@dataclass(frozen=True)
class _NoiseLevel:
    """Mean square of the noise in a band, and the variance of that."""

    power: float
    variance: float


def _noise_level(
    residual: NDArray[np.complex128],
    clean: Samples,
    frames: int,
    width: float,
    band: tuple[float, float],
    *,
    weighting: Weighting,
) -> _NoiseLevel:
    """Of a residual given by its rfft, and by its windowed powers per bin ``clean``."""
    rate = width * frames
    plain, checked = (
        mean_square_in_band(residual, frames, rate, *band, weighting=weighting),
        band_power(clean, width, *band, weighting),
    )
    if plain > 0 and checked > 0:
        disagreement = abs(10 * math.log10(plain / checked))
    else:
        disagreement = 0.0
    if disagreement > AGREEMENT_DB:
        # read with a window, against which nothing leaks, at the price of a wider scatter
        windowed = band_powers_of(clean, width, *band, weighting)
        scatter = math.sqrt(power_variance(windowed, WINDOWED_BLOCK, lines=False))  # of lines both say the same
        if disagreement > AGREEMENT_DB + 5 * DB_PER_NEPER / 2 * scatter / checked:
            # something outside the band leaks into the plain sum
            return _NoiseLevel(checked, WINDOW.crowding * power_variance(windowed, WINDOWED_BLOCK))
    return _NoiseLevel(plain, power_variance(unwindowed_powers(residual, frames, rate, *band, weighting=weighting)))


def _draw_lines(
    shown: Samples, residual: NDArray[np.complex128], frames: int, places: Samples, amplitudes: NDArray[np.complex128]
) -> None:
    """Put fitted lines (lines,) back into the spectrum (squared peaks of lines) of what they were taken out of.

    ``places`` in bins, phases at mid-record.
    """
    reach, radius = len(WINDOW.coefficients) - 1, WINDOW.half_width + 3
    bins = np.round(places).astype(int)[:, None] + np.arange(-radius, radius + 1)
    bins = np.clip(bins, reach, residual.size - 1 - reach)  # what is drawn twice there is the same
    # the transform of a cosine window: shifted sinc sums (Harris 1978), turned to the record's beginning
    halves = np.array(WINDOW.coefficients[1:]) / 2
    weights = np.concatenate([halves[::-1], WINDOW.coefficients[:1], halves])
    kernel = np.sinc((bins - places[:, None])[:, :, None] - np.arange(-reach, reach + 1)) @ weights
    turned = amplitudes[:, None] / 2 * frames * np.exp(-1j * np.pi * (bins * (frames - 1) / frames))
    shown[bins] = np.square(
        np.abs(windowed_bins(residual, bins, WINDOW) + kernel * turned) * (2 / frames / WINDOW.coherent_gain)
    )


@dataclass(frozen=True)
class _SpuriousLine:
    """A line that is none of the tone's and outweighs all else, such as hum: taken out before the fit, counted as
    noise after it.
    """

    frequency: float
    amplitude: complex
    samples: Samples

    @property
    def power(self) -> float:
        return abs(self.amplitude) ** 2 / 2


def _stranger(residual: NDArray[np.complex128], clean: Samples, fit: ToneFit, rate: float) -> _SpuriousLine | None:
    """Return the line that holds more than a fifth of the residual, if there is one away from the harmonics.

    A plain fit takes everything but the tone for white noise; a strong line elsewhere would lean on every component it
    finds.
    """
    frames = fit.residual.size
    width = rate / frames
    centre = 2 + int(np.argmax(clean[2:]))
    # the strongest bin and the noise about it
    power, under = line_power(clean, width, centre * width, WINDOW)
    # a line beside a harmonic is the harmonic's own skirt
    nearest = max(1, round(centre * width / fit.frequency)) * fit.frequency
    away = abs(centre * width - nearest) / width
    # at either end of the spectrum there is no whole line to be fitted, and what is the arithmetic's is none
    at_an_end = centre < 3 or centre > clean.size - 1 - WINDOW.half_width
    rounding = power < _ROUNDING * abs(fit.amplitudes[0]) ** 2
    small = power < 0.2 * float(clean.sum()) or power < LINE_CLEAR * under
    if at_an_end or rounding or small or away < 3 * WINDOW.half_width:
        return None
    # refined by its own least-squares fit, like the tone
    frequency, _ = peak_near(residual, frames, rate, (centre - 1) * width, (centre + 1) * width)
    line = fit_tone(fit.residual, rate, frequency, 1, 1)
    if line.frequency < _LEAST_CYCLES * width:
        return None  # it wandered off towards 0 Hz, where it would take the direct voltage along
    return _SpuriousLine(line.frequency, complex(line.amplitudes[0]), fit.residual - line.residual - line.dc)


def _fitted_apart(fit: ToneFit, spurious_lines: list[_SpuriousLine], rate: float) -> list[_SpuriousLine]:
    """Each of several strangers once more, now that the others are known: they leaned on each other."""
    if len(spurious_lines) < 2:
        return spurious_lines
    refined = []
    for line in spurious_lines:
        with_it = fit.residual + line.samples
        again = fit_tone(with_it, rate, line.frequency, 1, 1)
        if again.frequency < _LEAST_CYCLES * rate / with_it.size:
            refined.append(line)
            continue
        spurious = _SpuriousLine(again.frequency, complex(again.amplitudes[0]), with_it - again.residual - again.dc)
        fit.residual[:] = with_it - spurious.samples
        refined.append(spurious)
    return refined


def _mean_spread(residual: NDArray[np.complex128], frames: int) -> float:
    """Return the standard deviation of the record's mean: of noise that rises towards 0 Hz the lowest bins say more
    than the next thirty.
    """
    powers = np.square(np.abs(residual[1:_NEAR_DC]))
    return math.sqrt(max(lower_mean(powers), float(powers[:3].mean()))) / frames


def _skirt_excess_power(clean: Samples, frequency: float, width: float, band: tuple[float, float]) -> float:
    """Mean square close to the tone beyond what the noise puts there: a drift that the fit did not follow."""
    place = round(frequency / width)
    first, last = round(band[0] / width), max(round(band[0] / width) + 2, round(band[1] / width))
    near = np.arange(max(1, first, place - _CLOSE), min(clean.size, place + _CLOSE + 1))
    # the median of an exponential distribution is ln 2 of its mean
    whole = float(np.median(clean[first : last : max(1, (last - first) // 20000)])) / math.log(2)
    expected = np.maximum(whole, _noise_beside(clean, place, near))
    # noise in so few bins scatters by a fifth, and by more where a few of them outweigh the others
    if expected.size and expected[-1] > 0:
        rises = float(expected[0] / expected[-1])
    else:
        rises = 1.0
    # what is extrapolated is less sure
    if rises < 1.5:
        share = 0.2
    else:
        share = 0.4
    scatter = max(share * float(expected.sum()), math.sqrt(WINDOW.crowding * float(expected @ expected)))
    return max(0.0, float(clean[near].sum()) - float(expected.sum()) - 3 * scatter)


def _noise_beside(clean: Samples, place: int, near: NDArray[np.int64]) -> Samples:
    """Return the noise expected in the bins ``near`` a tone, by what lies farther away: at a low tone that of pink
    noise is still rising.
    """

    def level(first: int, end: int) -> float:
        if end <= clean.size and end > max(1, first) + 4:
            return float(np.median(clean[max(1, first) : end])) / math.log(2)
        return 0.0

    above = level(place + _CLOSE + 1, place + 3 * _CLOSE)
    if place > 3 * _CLOSE:
        return np.full(near.size, math.sqrt(above * level(place - 3 * _CLOSE, place - _CLOSE)))
    middle = place + 2 * _CLOSE
    slope = 0.0
    for first, end in ((3, 7), (7, 30)):  # the steeper of two: so few bins tell a slope badly
        far = level(place + first * _CLOSE, place + end * _CLOSE)
        if above > 0 and far > 0:
            slope = max(slope, math.log(above / far) / math.log((place + (first + end) / 2 * _CLOSE) / middle))
    slope = min(slope, _STEEPEST)
    return np.asarray(above * (middle / near) ** slope)
