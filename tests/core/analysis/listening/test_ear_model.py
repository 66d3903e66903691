"""The ear model against its own definitions: self-tests that need no reference material (20_ear_model.md), the
threshold in quiet, clipping, and lossy coding at falling bit rates.
"""

import numpy as np
import pytest
from scipy import signal

from epidote.core.analysis.listening.ear_model import centres, mask_of, noise_to_mask, spread
from epidote.standins.coding import coded

RATE = 48000
N = np.arange(3 * RATE)


def tone(frequency, level):
    return 10 ** (level / 20) * np.sin(2 * np.pi * frequency / RATE * N)


def band_noise(low, high, level, seed=1):
    """Noise between two frequencies; level: of its RMS re that of a full-scale sine, in dB."""
    x = signal.sosfilt(
        signal.butter(6, [low, high], "band", fs=RATE, output="sos"),
        np.random.default_rng(seed).standard_normal(N.size),
    )
    return x / x.std() * 10 ** (level / 20) / np.sqrt(2)


def music(seed=2):
    """Plucked notes: decaying harmonic tones, one each quarter of a second."""
    rng = np.random.default_rng(seed)
    out = np.zeros(N.size)
    t = np.arange(RATE) / RATE
    for start in range(0, N.size - RATE, RATE // 4):
        f = 110 * 2 ** (rng.integers(0, 25) / 12)
        note = sum(np.sin(2 * np.pi * f * k * t) * np.exp(-t * (2 + k)) / k for k in range(1, 12) if f * k < 20000)
        out[start : start + RATE] += 0.15 * note
    return out


def test_109_bands_of_a_quarter_of_a_bark():
    assert centres().size == 109
    assert 80 < centres()[0] < centres()[-1] < 18000


def test_a_flat_excitation_stays_flat():
    np.testing.assert_allclose(spread(np.ones((3, 109))), 1.0, atol=1e-12)


def test_a_tone_spreads_27_db_a_bark_downwards_and_less_upwards():
    excitation = np.full((1, 109), 1e-9)
    excitation[0, 50] = 1e8  # 80 dB
    level = 10 * np.log10(spread(excitation)[0])
    assert level[46] - level[42] == pytest.approx(27.0, abs=1.5)
    assert 24 + 230 / centres()[50] - 16 - 1.5 < level[54] - level[58] < 24 + 230 / centres()[50] - 16 + 1.5


def test_identical_sounds_have_no_noise():
    x = music()
    found = noise_to_mask(x, x)
    assert found.total < -150 and found.share == 0


def test_20_db_more_noise_is_20_db_more():
    x, n = music(), band_noise(500, 4000, 0)
    low, high = (noise_to_mask(x, x + 10 ** (g / 20) * n).total for g in (-20, 0))
    assert high - low == pytest.approx(20, abs=0.5)


def test_noise_beside_a_tone_is_masked_and_far_above_it_less():
    x = tone(1000, -20)
    near = noise_to_mask(x, x + band_noise(950, 1050, -45))
    far = noise_to_mask(x, x + band_noise(3800, 4200, -45))
    assert near.total < 0 < far.worst
    assert far.total > near.total
    assert 3500 < far.worst_frequency < 4600


@pytest.mark.parametrize("playback", [70.0, 92.0])
def test_the_threshold_in_quiet(playback):
    """Silence against noise at 0 dB SPL: under the ear's own noise; 30 dB more: above it."""
    silence = np.zeros(N.size)
    quiet = noise_to_mask(silence, band_noise(200, 8000, -playback), playback)
    assert quiet.total < 0
    assert noise_to_mask(silence, band_noise(200, 8000, 30 - playback), playback).worst > 0
    assert mask_of(silence[:4096], playback).min() > 0


def test_a_level_change_grows():
    x = music()
    found = [noise_to_mask(x, x * 10 ** (g / 20)).total for g in (0.05, 0.2, 1.0, 3.0)]
    assert found == sorted(found) and found[-1] - found[0] > 25


def test_clipping_and_band_limits_grow():
    x = music()
    peak = np.abs(x).max()
    clipped = [noise_to_mask(x, np.clip(x, -c * peak, c * peak)).share for c in (0.9, 0.5, 0.2)]
    assert clipped == sorted(clipped) and clipped[-1] > 0.3
    limited = [
        noise_to_mask(x, signal.sosfiltfilt(signal.butter(8, f, fs=RATE, output="sos"), x)).total
        for f in (16000, 6000, 2000)
    ]
    assert limited == sorted(limited)


def test_falling_bit_rates_of_a_coder_aligned_only():
    x = music()
    found = []
    for rate in (192_000, 96_000, 48_000, 32_000):
        y = coded(x[:, None], RATE, rate)[:, 0]
        late = int(np.argmax(signal.correlate(y, x, "full", "fft"))) - (x.size - 1)
        y = np.concatenate([y[late:], np.zeros(late)]) if late > 0 else y
        found.append(noise_to_mask(x[RATE // 2 : -RATE // 2], y[RATE // 2 : -RATE // 2]).total)
    assert found == sorted(found)
