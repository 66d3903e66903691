"""Delays of sounds that repeat: the right period where the sound has an onset, and all of them where it has none.

The referee is a plain correlation, oversampled sixteen times in the frequency domain, and the delay that was put in.
"""

import numpy as np
import pytest

from epidote.core.analysis.delay.correlation_peaks import highest_peaks
from epidote.core.analysis.delay.delay_estimation import Delay, delay_between
from epidote.core.chain.chain import Chain
from epidote.core.procedures.latency.procedure import Latency, LatencySettings
from epidote.core.procedures.path_delay.procedure import Paths, PathsSettings
from epidote.core.results.caution import Caution
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from tests.conftest import through

RATE = 48000.0
BAND = (20.0, 20000.0)


def late(x, frames):
    return through(x, RATE, lambda f: np.exp(-2j * np.pi * f * frames / RATE), room=4 * x.size)


def beeps(frequency):
    """Three beeps with ends of 5 ms."""
    t = np.arange(round(0.12 * RATE)) / RATE
    one = np.sin(2 * np.pi * frequency * t) * np.minimum(1, np.minimum(t, t[::-1]) / 0.005)
    gap = np.zeros(round(0.08 * RATE))
    return np.concatenate([gap, one, gap, one, gap, one, gap])


def bell(frequency):
    t = np.arange(round(1.2 * RATE)) / RATE
    partials = sum(
        a * np.sin(2 * np.pi * frequency * r * t) * np.exp(-t * d)
        for r, a, d in ((1, 1, 4), (2.76, 0.5, 7), (5.4, 0.25, 12))
    )
    return np.concatenate([np.zeros(2000), partials * np.minimum(1, t / 0.002), np.zeros(2000)])


SOUNDS = {
    "beeps of 700 Hz": beeps(700.0),
    "beeps of 2.6 kHz": beeps(2600.0),
    "beeps of 4 kHz": beeps(4000.0),
    "a bell of 520 Hz": bell(520.0),
    "a bell of 1.9 kHz": bell(1900.0),
}


def oversampled_peak(x, y, times=16, reach=0.02):
    """Lag in frames of the greatest plain correlation, by a transform with zeros put behind its spectrum."""
    size = 2 * x.size
    cross = np.fft.rfft(y, size) * np.conj(np.fft.rfft(x, size))
    found = np.abs(np.fft.irfft(cross, times * size))
    most = round(reach * RATE * times)
    near = np.concatenate([found[-most:], found[: most + 1]])
    return (int(np.argmax(near)) - most) / times


@pytest.mark.parametrize("name", SOUNDS)
@pytest.mark.parametrize("frames", [10.5, -33.37, 120.125, 7.9])
@pytest.mark.parametrize("sign", [1, -1])
def test_tonal_sound_between_samples(name, frames, sign):
    x = SOUNDS[name]
    rng = np.random.default_rng(3)
    a, b = x + 1e-3 * rng.standard_normal(x.size), sign * 0.7 * late(x, frames) + 1e-3 * rng.standard_normal(x.size)
    found = delay_between(a, b, RATE, BAND, 0.02)
    assert isinstance(found, Delay)
    assert found.frames == pytest.approx(frames, abs=0.05)
    assert found.frames == pytest.approx(oversampled_peak(a, b), abs=1 / 16)
    assert found.polarity == sign
    assert not found.ambiguous


@pytest.mark.parametrize("frames", [10.5, -33.37, 7.9])
def test_beeps_of_high_pitch_are_right_or_said_to_be_ambiguous(frames):
    """With noise 60 dB below, periods of five frames under ramps of 240 cannot always be told apart; the truth is
    among those named.
    """
    x = beeps(9000.0)
    for seed in range(6):
        rng = np.random.default_rng(seed)
        a, b = x + 1e-3 * rng.standard_normal(x.size), late(x, frames) + 1e-3 * rng.standard_normal(x.size)
        found = delay_between(a, b, RATE, BAND, 0.02)
        assert abs(found.frames - frames) < 0.05 or found.ambiguous
        assert min(abs(r.frames - frames) for r in found.rivals) < 0.05


def test_peaks_of_a_cosine_are_read_between_samples():
    """A closed form: the correlation of a cosine of 3 frames' period under a slow bell is highest at the bell's
    middle.
    """
    size, middle = 4096, 17.3
    k = np.arange(size // 2 + 1)
    cross = np.exp(-((k - size / 3) ** 2) / (2 * 20.0**2)) * np.exp(-2j * np.pi * k * middle / size)
    peaks = highest_peaks(cross, size, 100)
    assert peaks.lags[0] == pytest.approx(middle, abs=1e-3)
    assert np.all(np.diff(np.abs(peaks.heights)) <= 1e-12)
    assert peaks.heights[0] == pytest.approx(2 * np.abs(cross).sum() / size, rel=1e-3)


@pytest.mark.parametrize("frequency", [440.0, 997.0])
def test_a_steady_tone_allows_whole_periods(frequency):
    """Only its ends tell one period from the next, which is no evidence: all are named, the shortest is given."""
    n = round(RATE)
    t = np.arange(n + 4000) / RATE
    rng = np.random.default_rng(1)
    whole = 0.5 * np.sin(2 * np.pi * frequency * t)
    period = RATE / frequency
    shift = 10
    recorded = np.column_stack(
        [whole[2000 : 2000 + n], whole[2000 - shift : 2000 - shift + n]]
    ) + 1e-5 * rng.standard_normal((n, 2))
    result = Paths().analyse([Recording(Signal(recorded, RATE))], PathsSettings(search=0.02, events=False), Chain())
    assert Caution.AMBIGUOUS in result.cautions
    delay = result.reading("delay_samples", 2)
    assert delay.value == pytest.approx(shift, abs=0.05)
    assert Caution.AMBIGUOUS in delay.cautions
    assert result.reading("delay_likelihood", 2).value < 0.2
    other = result.reading("alternative", 2)
    assert abs(other.value * RATE - shift) == pytest.approx(period, abs=0.1)
    assert other.at["alternatives"].count("ms (") >= 2


def test_a_tone_with_an_onset_is_not_ambiguous():
    x = beeps(1000.0)
    recorded = np.column_stack([x, late(x, 10.5)])
    recorded += 1e-4 * np.random.default_rng(2).standard_normal(recorded.shape)
    result = Paths().analyse([Recording(Signal(recorded, RATE))], PathsSettings(search=0.02, events=False), Chain())
    assert Caution.AMBIGUOUS not in result.cautions
    assert result.reading("delay_samples", 2).value == pytest.approx(10.5, abs=0.05)
    assert result.reading("alternative", 2) is None


def test_two_latencies_are_both_given():
    """Half of the bursts 240 frames later: the middle between the two is what no burst had."""
    settings = LatencySettings(shots=8, longest=0.1)
    played = settings.played(RATE)
    every = round(played["every"])
    x, back = played.samples(), np.zeros(played.frames)
    for n in range(8):
        part = x[n * every : (n + 1) * every]
        shift = 300 + 240 * (n % 2)
        back[n * every + shift : n * every + shift + part.size] += part[: max(0, back.size - n * every - shift)]
    back += 1e-5 * np.random.default_rng(4).standard_normal(back.size)
    result = Latency().analyse([Recording(Signal(back, RATE), played)], settings, Chain())
    assert Caution.TWO_LATENCIES in result.cautions
    both = sorted([result.reading("latency").value * RATE, result.reading("latency_other").value * RATE])
    assert both == pytest.approx([300, 540], abs=0.05)
    assert result.reading("latency_share").value == pytest.approx(0.5)
