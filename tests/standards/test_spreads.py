"""Spreads that are stated against errors that are made: rms of error over stated spread, in white, pink and rumbling noise.

The truth is the signal that was made; that of a noise level its expectation. 60 trials say such an rms to about 9 %, so that 0.7 to 1.45 is
asked where the figure itself is to lie between 0.8 and 1.3 (docs/methods.md has it over 200).
"""

import math

import numpy as np
import pytest

from epidote.core.chain import Chain
from epidote.core.procedures.tone import Tone, ToneSettings
from epidote.core.signal import Recording, Signal

RATE, FRAMES, TRIALS = 48000, 48000, 60
TIME = np.arange(FRAMES) / RATE
LEVEL = 1e-5


def white(rng):
    return rng.standard_normal(FRAMES)


def shaped(rng, shape):
    spectrum = np.fft.rfft(rng.standard_normal(FRAMES))
    f = np.fft.rfftfreq(FRAMES, 1 / RATE)
    return np.fft.irfft(spectrum * shape(np.maximum(f, f[1])), FRAMES)


def pink(rng):
    return shaped(rng, lambda f: np.sqrt(1000 / f))


def rumble(rng):
    """Noise from 25 to 60 Hz that outweighs all else in the band."""
    return 750 * shaped(rng, lambda f: ((f > 25) & (f < 60)).astype(float)) + rng.standard_normal(FRAMES)


@pytest.mark.parametrize("noise", [white, pink, rumble])
def test_of_a_tone(noise):
    found: dict[str, list[tuple[float, float]]] = {}
    harmonics = {2: 1e-3, 3: 5e-4, 5: 2e-4}
    for seed in range(TRIALS):
        rng = np.random.default_rng(seed)
        f0, phases = 997.13 + rng.random(), rng.uniform(0, 2 * np.pi, 6)
        x = 0.5 * np.cos(2 * np.pi * f0 * TIME + phases[0])
        for k, a in harmonics.items():
            x = x + 0.5 * a * np.cos(2 * np.pi * k * f0 * TIME + phases[k])
        result = Tone().analyse([Recording(Signal(x + LEVEL * noise(rng), RATE))], ToneSettings(frequency=f0), Chain())
        for reading in result.readings:
            if reading.value is not None and reading.spread:
                found.setdefault(reading.key, []).append((reading.value - (f0 if reading.key == "frequency" else 0), reading.spread))
    truth = {
        "frequency": 0.0, "level": 20 * math.log10(0.5), "thd": 10 * math.log10(sum(a * a for a in harmonics.values())),
        **{f"h{k}": 20 * math.log10(a) for k, a in harmonics.items()},
    }  # fmt: skip
    for key in ("frequency", "level", "thd", "thd_n", "sinad", "snr", "enob", "noise", "h2", "h3", "h5"):
        values = np.array(found[key])
        assert len(values) == TRIALS
        expected = truth.get(key, float(values[:, 0].mean()))  # of a level of noise: its mean over the trials
        over = (values[:, 0] - expected) / values[:, 1]
        assert 0.7 < math.sqrt(float(np.mean(over**2))) < 1.45, f"{key} in {noise.__name__}"
        assert np.mean(np.abs(over) < 2) > 0.84, f"{key} in {noise.__name__}"


def test_harmonics_beside_rumble_are_not_called_noise():
    """The rumble lies far below them."""
    rng = np.random.default_rng(1)
    x = 0.5 * np.cos(2 * np.pi * 997.3 * TIME) + 0.5e-4 * np.cos(2 * np.pi * 2 * 997.3 * TIME)
    result = Tone().analyse([Recording(Signal(x + LEVEL * rumble(rng), RATE))], ToneSettings(frequency=997.3), Chain())
    assert result.reading("h2").value == pytest.approx(-80, abs=0.1)
    assert result.reading("h2").cautions == ()


@pytest.mark.parametrize("seed", range(4))
def test_what_leaks_from_below_the_band_does_not_count_beside_hum(seed):
    """A slow drift below the band leaks into a plain sum of bins; strong hum must not make that pass for scatter. The truth: what was added."""
    rng = np.random.default_rng(seed)
    hum = sum(a * np.cos(2 * np.pi * 50.0 * k * TIME + p) for k, a, p in ((1, 3e-5, 0.3), (2, 6e-5, 1.1), (3, 2e-5, 2.0), (6, 2e-5, 0.7)))
    noise = 1e-5 * rng.standard_normal(FRAMES)
    drift = 1.5e-3 * TIME
    x = 0.5 * np.cos(2 * np.pi * 997.3 * TIME) + hum + noise + drift
    result = Tone().analyse([Recording(Signal(x, RATE))], ToneSettings(frequency=997.3), Chain())
    share_in_band = (20000 - 20) / (RATE / 2)
    expected = 10 * math.log10(2 * (float(np.mean(hum**2)) + 1e-10 * share_in_band))
    assert result.reading("noise").value == pytest.approx(expected, abs=0.1)
