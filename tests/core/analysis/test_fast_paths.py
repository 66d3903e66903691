"""What is computed in a quicker way than by its definition, against the definition.

Source of each: NumPy, or the formula itself.
"""

from __future__ import annotations

import os
import threading

import numpy as np
import pytest
from scipy.interpolate import CubicSpline

from epidote.core.analysis import capture_checks as capture
from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.capture_checks import has_discontinuity, is_clipped
from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.sine.tone import analyse_tone
from epidote.core.analysis.spectral.spectrum import (
    band_power,
    bin_frequencies,
    line_levels,
    line_power,
    line_powers,
    mean_square_in_band,
    mean_squares,
)
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_4, BLACKMAN_HARRIS_7, HANN, windowed_power
from epidote.core.concurrency import THREAD_NAMES, start_in_thread
from epidote.core.errors import EpidoteError
from epidote.core.results.curve_features import cutoff_frequency, interpolate, noise_uncertainty
from epidote.core.results.result import Curve
from epidote.core.signals.signal import BLOCK_FRAMES, Signal, block_min_max
from epidote.core.stimuli.sweep import sweep

RATE = 48000.0


@pytest.mark.parametrize("window", [HANN, BLACKMAN_HARRIS_4, BLACKMAN_HARRIS_7], ids=lambda w: w.name)
@pytest.mark.parametrize("frames", [64, 1000, 1024, 65536 + 30])
def test_windows_by_matrix_products(window, frames):
    """|rfft(w x)|², by numpy."""
    x = np.random.default_rng(frames).standard_normal(frames)
    windowed = windowed_power(np.fft.rfft(x), window)
    assert windowed == pytest.approx(np.abs(np.fft.rfft(x * window.samples(frames))) ** 2, rel=1e-8, abs=1e-8)


@pytest.mark.parametrize("frames", [1000, 1024])
@pytest.mark.parametrize("weighting", [Weighting.NONE, Weighting.A])
@pytest.mark.parametrize(
    ("low", "high"), [(0.0, 24000.0), (20.0, 20000.0), (997.0, 1003.0), (1007.3, 1007.4), (9000.0, 9e9)]
)
def test_a_band_straight_from_the_transform(frames, weighting, low, high):
    """Against the power of every bin, by the slower way."""
    x = np.random.default_rng(frames).standard_normal(frames)
    spectrum = np.fft.rfft(x)
    power = mean_squares(np.abs(spectrum) ** 2, frames)
    expected = band_power(power, RATE / frames, low, high, weighting)
    assert mean_square_in_band(spectrum, frames, RATE, low, high, weighting=weighting) == pytest.approx(
        expected, rel=1e-12
    )
    if (low, high, weighting) == (0.0, 24000.0, Weighting.NONE):
        assert expected == pytest.approx(np.mean(x**2) - (power[0] + power[-1]) / 2), (
            "Parseval; it ends in the middle of bins"
        )


def test_lines_drawn_back_at_once_are_those_of_the_whole_signal():
    """A tone that was fitted and taken out reads in the spectrum as if it had stayed, above the noise: the windowed
    rfft of all of it, by numpy.
    """
    n = 8192
    t = np.arange(n) / RATE
    x = (
        0.5 * np.cos(2 * np.pi * 997.3 * t + 0.4)
        + 1e-3 * np.cos(2 * np.pi * 1994.6 * t)
        + 1e-7 * np.random.default_rng(5).standard_normal(n)
    )
    found = analyse_tone(x, RATE, 1000.0, 5, (20.0, 20000.0), weighting=Weighting.NONE)
    window = BLACKMAN_HARRIS_7
    whole = np.abs(np.fft.rfft(x * window.samples(n)) * 2 / n / window.coherent_gain) ** 2
    for frequency in (997.3, 1994.6):
        bins = round(frequency * n / RATE) + np.arange(-4, 5)
        assert 10 * np.log10(found.spectrum[bins]) == pytest.approx(10 * np.log10(whole[bins]), abs=0.01)


def test_jumps_are_weighed_against_their_neighbours_only_where_they_are_high():
    """The same median as that of every place, taken by numpy."""
    values = np.random.default_rng(7).random(50).astype(np.float32)
    padded = np.pad(values, 4, mode="reflect")
    every = np.array([np.median(padded[i : i + 9]) for i in range(50)])
    at = np.array([0, 3, 17, 49])
    assert capture.median_of_neighbours(values, at) == pytest.approx(every[at])


def test_spectra_of_one_length_share_their_frequencies():
    assert bin_frequencies(1001, 0.5) is bin_frequencies(1001, 0.5)
    assert bin_frequencies(1001, 0.5)[-1] == 500.0
    with pytest.raises(ValueError, match="read-only"):
        bin_frequencies(1001, 0.5)[0] = 1.0


def test_levels_of_lines_have_a_bottom():
    assert line_levels(np.array([0.0, 1e-6, 1.0]), 6.0) == pytest.approx([-394.0, -54.0, 6.0])


def test_work_put_aside_gives_what_it_found_or_raised_and_leaves_no_thread():
    def fails() -> None:
        raise EpidoteError("no")

    found, failed = start_in_thread(lambda: 6 * 7), start_in_thread(fails)
    assert found() == 42
    with pytest.raises(EpidoteError, match="no"):
        failed()
    for n in range(20):
        start_in_thread(lambda n=n: n)()
    assert 1 <= sum(t.name.startswith(THREAD_NAMES) for t in threading.enumerate()) <= (os.cpu_count() or 2)


def test_the_greatest_value_may_be_a_negative_one():
    rng = np.random.default_rng(9)
    for _ in range(50):
        x = rng.standard_normal(100)
        assert dc.index_of_greatest(x) == int(np.argmax(np.abs(x)))


def test_lines_at_once_as_one_by_one():
    power = np.random.default_rng(3).chisquare(2, 4000)
    power[500] += 1e6
    places = np.array([500.0, 1200.0, 3990.0, 4.0])  # the last two near the spectrum's ends
    lines, noise = line_powers(power, 1.0, places, BLACKMAN_HARRIS_7)
    half = BLACKMAN_HARRIS_7.half_width
    for place, line, under in zip(places.astype(int), lines, noise, strict=True):
        inside = power[max(0, place - half) : place + half + 1]
        beside = np.concatenate(
            [power[max(0, place - 4 * half) : max(0, place - half)], power[place + half + 1 : place + 4 * half + 1]]
        )
        assert line == pytest.approx(inside.sum())
        assert under == pytest.approx(np.median(beside) / np.log(2) * inside.size)
        assert line_power(power, 1.0, float(place), BLACKMAN_HARRIS_7) == (pytest.approx(line), pytest.approx(under))


@pytest.mark.parametrize("frames", [0, 1, BLOCK_FRAMES - 1, BLOCK_FRAMES, 3 * BLOCK_FRAMES + 17])
def test_extremes_by_blocks(frames):
    x = np.random.default_rng(1).standard_normal(frames)
    highs, lows = block_min_max(x)
    assert float(highs.max()) == (x.max() if frames else 0.0)
    assert float(lows.min()) == (x.min() if frames else 0.0)


def test_channels_are_taken_apart_once():
    samples = np.random.default_rng(2).standard_normal((1000, 3))
    signal = Signal(samples, RATE)
    assert signal.channel(2) is not samples
    assert np.shares_memory(signal.channel(2), signal.channel(2))
    assert signal.channel(3) == pytest.approx(samples[:, 2])
    assert signal.peak(1) == np.abs(samples[:, 0]).max()
    with pytest.raises(ValueError, match="read-only"):
        signal.channel(1)[0] = 1.0


@pytest.mark.parametrize("at", range(20000, 20033, 3))
def test_a_run_of_zeros_is_found_wherever_it_begins(at):
    x = np.sin(2 * np.pi * 997 / RATE * np.arange(48000)) + 1e-9
    x[at : at + 40] = 0
    assert has_discontinuity(x)


@pytest.mark.parametrize("at", [10000, 10001])
@pytest.mark.parametrize("lost", [1, 7, 64])
def test_lost_samples_are_found_at_even_and_odd_places(at, lost):
    """Samples taken out of a tone and out of a sweep, in quiet noise."""
    t = np.arange(60000)
    noise = 1e-5 * np.random.default_rng(at).standard_normal(t.size)
    for x in (
        0.5 * np.sin(2 * np.pi * 997 / RATE * t + 0.4),
        0.5 * np.sin(2 * np.pi * 40 * 0.2 * np.exp(t / RATE / 0.2) * RATE / RATE)[:30000],
    ):
        whole = x + noise[: x.size]
        assert not has_discontinuity(whole)
        assert has_discontinuity(np.concatenate([whole[:at], whole[at + lost :]]))


@pytest.mark.parametrize("side", [1, -1])
def test_cut_off_tops_of_one_side_are_found(side):
    """A sine cut off at 0.8 on one side only, rounded to 16 bits."""
    x = np.round(np.minimum(side * np.sin(2 * np.pi * 997 / RATE * np.arange(48000)), 0.8) * 32768) / 32768
    assert is_clipped(side * x, "FS")
    assert not is_clipped(0.5 * np.sin(2 * np.pi * 997 / RATE * np.arange(48000)), "FS")


@pytest.mark.parametrize("off", [-0.9, -0.3, 0.0, 0.4, 0.9])
@pytest.mark.parametrize("frames", [4800, 48000, 100003])
def test_the_fit_finds_its_way_from_a_bin_beside(off, frames):
    """From almost a whole bin off to the exact frequency and amplitude of a tone with a harmonic."""
    f = 1234.567
    t = np.arange(frames) / RATE
    x = 0.7 * np.cos(2 * np.pi * f * t + 0.2) + 0.007 * np.cos(4 * np.pi * f * t)
    fit = fit_tone(x, RATE, f + off * RATE / frames, 3)
    assert fit.frequency == pytest.approx(f, rel=1e-9)
    assert abs(fit.amplitudes[0]) == pytest.approx(0.7, rel=1e-8)
    assert abs(fit.amplitudes[1]) == pytest.approx(0.007, rel=1e-6)
    assert np.abs(fit.residual).max() < 1e-8


def test_kept_kernels_are_those_of_their_own_stimulus():
    one = sweep(rate=RATE, start=20, stop=20000, duration=0.5, level=-6)
    two = sweep(rate=RATE, start=20, stop=20000, duration=0.5, level=-12)
    first, second = dc.kernel(one, one.frames), dc.kernel(two, two.frames)
    assert dc.kernel(one, one.frames) is first
    middle = first.inverse.size // 2
    assert abs(second.inverse[middle] / first.inverse[middle]) == pytest.approx(10 ** (6 / 20), rel=1e-9)
    assert dc.kernel(one, 2 * one.frames).frames > first.frames


def test_a_curve_between_its_points():
    """Source: scipy.interpolate.CubicSpline over the eight neighbours."""
    x = np.geomspace(20, 20000, 60)
    y = 3 * np.sin(np.log(x))
    for at in (21.0, 997.0, 15000.0):
        i = int(np.searchsorted(x, at))
        part = slice(max(0, i - 4), min(x.size, i + 4))
        assert interpolate(x, y, at) == pytest.approx(
            float(CubicSpline(np.log(x[part]), y[part])(np.log(at))), abs=1e-12
        )


def test_corners_of_few_points():
    """Three points only: a straight line over log frequency between them; -3 dB of 0, -2, -6 dB lies a quarter of
    the way.
    """
    curve = Curve("level", 1, np.array([1000.0, 2000.0, 4000.0]), np.array([0.0, -2.0, -6.0]), "Hz", "dB")
    assert cutoff_frequency(curve, 3.0, 1000.0, True) == pytest.approx(2000 * 2**0.25)


def test_what_noise_below_a_curve_may_add():
    """20 lg(1 + 10^(-40/20)) = 0.0864 dB where the floor lies 40 dB below."""
    x = np.geomspace(20, 20000, 100)
    curve = Curve("level", 1, x, np.full(100, 10.0), "Hz", "dB", np.full(100, -30.0))
    assert noise_uncertainty(curve, np.array([50.0, 5000.0])) == pytest.approx(20 * np.log10(1 + 10 ** (-40 / 20)))
