"""Recordings of programme laid over their originals. Truth: sums of sines, whose value at any instant is a formula, so
that delay, clock and linear path are exact; the noise of 24 bits with triangular dither is the floor (1/4 LSB² power).
"""

import math

import numpy as np
import pytest
from scipy import signal

from epidote.core.analysis.listening.alignment import align, null_depth
from epidote.core.errors import UnusableInputError
from epidote.core.stimuli.music import music
from epidote.core.stimuli.speech import speech
from tests.conftest import sum_of_sines

RATE = 48000
SECONDS = 4
LSB = 2.0**-23
TONES = 150
TAPS = 4096


class Music:
    """Tones whose amplitudes fall towards high frequencies, under a smooth envelope, with silence round it."""

    def __init__(self, seed=1, low=60.0, high=18000.0):
        rng = np.random.default_rng(seed)
        self.f = np.exp(rng.uniform(math.log(low), math.log(high), TONES))
        self.a = rng.uniform(0.5, 1, TONES) / np.sqrt(self.f / low) / 12
        self.phase = rng.uniform(0, 2 * np.pi, TONES)
        # a slow envelope, different for each tone, so that the sound is nowhere periodic
        self.slow, self.turn = rng.uniform(0.3, 2.0, TONES), rng.uniform(0, 2 * np.pi, TONES)

    def at(self, t):
        """Its value at evenly spaced times t in s; silent outside 0.5 s to half a second before its end."""
        out = np.zeros(t.size)
        rise = np.clip(np.minimum(t - 0.5, SECONDS - 0.5 - t) / 0.05, 0, 1)
        # a (0.6 + 0.4 cos(s t + u)) cos(f t + p), as three tones
        for turned, share in ((0, 0.6), (1, 0.2), (-1, 0.2)):
            pitches = self.f + turned * self.slow
            out += sum_of_sines(pitches, share * self.a, self.phase + turned * self.turn + np.pi / 2, t)
        return out * (0.5 - 0.5 * np.cos(np.pi * rise))


MUSIC = Music()
T = np.arange(SECONDS * RATE) / RATE
ORIGINAL = MUSIC.at(T)
FLOOR = 10 * math.log10(LSB**2 / 4 / np.mean(ORIGINAL**2))


def quantised(x, seed=3):
    rng = np.random.default_rng(seed)
    return np.round(x / LSB + rng.random(x.size) - rng.random(x.size)) * LSB


def heard(delay, ppm=0.0, gain=1.0):
    """The recording: the original ``delay`` frames late, on a clock ppm faster."""
    t = (np.arange(ORIGINAL.size + RATE) - delay) / (1 + ppm * 1e-6) / RATE
    return quantised(gain * MUSIC.at(t))


def aligned(recording, **known):
    return align(ORIGINAL, recording, RATE, most_taps=TAPS, **known)


@pytest.mark.parametrize(("delay", "gain"), [(123.4, 1.0), (4567.89, -0.25)])
def test_delay_gain_and_polarity(delay, gain):
    found = aligned(heard(delay, gain=gain))
    assert found.delay == pytest.approx(delay, abs=0.002)
    assert found.gain == pytest.approx(20 * math.log10(abs(gain)), abs=0.001)
    assert found.polarity == (1 if gain > 0 else -1)
    assert found.ppm == pytest.approx(0, abs=1e-3)
    floor = FLOOR - 20 * math.log10(abs(gain))
    assert null_depth(found.residual, found.recording) < floor + 3


@pytest.mark.parametrize("ppm", [10.0, 300.0, -80.0])
def test_a_clock_that_is_off(ppm):
    found = aligned(heard(123.4, ppm))
    assert found.ppm == pytest.approx(ppm, abs=0.001)
    assert null_depth(found.residual_equalised, found.recording, found.path.size) < max(FLOOR + 3, -108)


def roll_offs(f):
    """High-pass of second order at 80 Hz, low-pass of first order at 15 kHz, and a bump (analog formulas)."""
    s = 1j * f
    high = s**2 / (s**2 + math.sqrt(2) * 80 * s + 80**2)
    low = 1 / (1 + s / 15000)
    bump = 1 + 0.5 * (s * 1200 / 2) / (s**2 + s * 1200 / 2 + 1200**2)
    return high * low * bump


def test_a_linear_path_is_taken_out():
    """The path in the frequency domain, as its formula says, with a delay of 123.4 frames."""
    size = 2 * ORIGINAL.size
    f = np.fft.rfftfreq(size, 1 / RATE)
    spectrum = np.fft.rfft(ORIGINAL, size) * roll_offs(f) * np.exp(-2j * np.pi * f * 123.4 / RATE)
    recording = quantised(np.fft.irfft(spectrum, size)[: ORIGINAL.size + RATE])
    found = aligned(recording)
    assert null_depth(found.residual, found.recording) > -40, "the path itself differs"
    own = 10 * math.log10(LSB**2 / 4 / np.mean(found.recording**2))
    assert null_depth(found.residual_equalised, found.recording, found.path.size) < max(own + 3, -108)


def test_distortion_stays():
    """x - 0.02 x³ leaves what of its cube no filter can explain: between -70 and -40 dB here."""
    n = np.arange(ORIGINAL.size + RATE)
    x = MUSIC.at((n - 50.0) / RATE)
    loud = x / np.abs(x).max()
    found = aligned(quantised(loud - 0.02 * loud**3))
    assert -70 < null_depth(found.residual_equalised, found.recording, found.path.size) < -40
    assert found.lost == (), "loud notes distort, but nothing is missing"


def test_a_dropout_is_listed_and_left_out():
    recording = heard(123.4).copy()
    recording[2 * RATE : 2 * RATE + 480] = 0.0
    found = aligned(recording)
    assert found.lost and found.lost[0][0] <= 2.0 <= found.lost[-1][1]
    kept = np.ones(found.recording.size, bool)
    place = np.arange(kept.size) / RATE + 123.4 / RATE - 0.05 - 1 / RATE  # of the compared stretch in the recording
    for begin, end in found.lost:
        kept &= (place < begin - 0.2) | (place > end + 0.2)
    assert null_depth(found.residual_equalised[kept], found.recording) < -80


def test_other_music_and_silence_are_refused():
    with pytest.raises(UnusableInputError, match="nothing in common"):
        aligned(Music(seed=9).at(T))
    with pytest.raises(UnusableInputError, match="nothing in common"):
        aligned(np.zeros(ORIGINAL.size))
    noise = 1e-3 * np.random.default_rng(0).standard_normal(ORIGINAL.size)
    with pytest.raises(UnusableInputError, match="nothing in common"):
        aligned(noise)


def test_a_known_clock_is_not_looked_for():
    found = aligned(heard(123.4, 300.0), clock_ppm=300.0)
    assert found.ppm == 300.0
    assert null_depth(found.residual_equalised, found.recording, found.path.size) < max(FLOOR + 3, -108)
    shelf = signal.lfilter([1.0, -0.3], [1.0], heard(123.4))
    assert null_depth(aligned(shelf, clock_ppm=0.0).residual, shelf) > -30


@pytest.mark.parametrize("make", [speech, music])
def test_a_slow_coupling_is_part_of_the_linear_path(make):
    """A first-order high-pass of 3 Hz remembers longer than the taps of a short record; a voice has nothing below."""
    x = make(rate=RATE, duration=4.0, level=-6.0).samples()
    corner = np.exp(-2 * np.pi * 3 / RATE)
    heard = signal.lfilter([1, -1], [1, -corner], np.concatenate([np.zeros(580), x]))
    heard = heard + 1e-6 * np.random.default_rng(0).standard_normal(heard.size)
    found = align(x, heard, RATE)
    assert found.delay == pytest.approx(580, abs=0.1) and found.polarity == 1
    floor = 20 * np.log10(1e-6 / np.std(found.recording))
    assert null_depth(found.residual_equalised, found.recording, found.path.size) < floor + 5
