"""Spreads that are stated against errors that are made: rms of error over stated spread, in white, pink and rumbling
noise.

The truth is the signal that was made; that of a noise level its expectation. 60 trials say such an rms to about 9 %, so
that 0.7 to 1.45 is asked where the figure itself is to lie between 0.8 and 1.3 (docs/methods.md has it over 200).
"""

import math

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.results.caution import Caution
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

RATE, FRAMES, TRIALS = 48000, 48000, 60
TIME = np.arange(FRAMES) / RATE
LEVEL = 1e-5


def white(rng):
    return rng.standard_normal(FRAMES)


def shaped(rng, shape):
    """Cut out of a longer stretch: what is made by a transform repeats, and would leak nowhere."""
    spectrum = np.fft.rfft(rng.standard_normal(3 * FRAMES))
    f = np.fft.rfftfreq(3 * FRAMES, 1 / RATE)
    return np.fft.irfft(spectrum * shape(np.maximum(f, 1.0)), 3 * FRAMES)[FRAMES : 2 * FRAMES]


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
                found.setdefault(reading.key, []).append(
                    (reading.value - (f0 if reading.key == "frequency" else 0), reading.spread)
                )
    truth = {
        "frequency": 0.0,
        "level": 20 * math.log10(0.5),
        "thd": 10 * math.log10(sum(a * a for a in harmonics.values())),
        **{f"h{k}": 20 * math.log10(a) for k, a in harmonics.items()},
    }
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
    """A slow drift below the band leaks into a plain sum of bins; strong hum must not make that pass for scatter.

    The truth: what was added.
    """
    rng = np.random.default_rng(seed)
    hum = sum(
        a * np.cos(2 * np.pi * 50.0 * k * TIME + p)
        for k, a, p in ((1, 3e-5, 0.3), (2, 6e-5, 1.1), (3, 2e-5, 2.0), (6, 2e-5, 0.7))
    )
    noise = 1e-5 * rng.standard_normal(FRAMES)
    drift = 1.5e-3 * TIME
    x = 0.5 * np.cos(2 * np.pi * 997.3 * TIME) + hum + noise + drift
    result = Tone().analyse([Recording(Signal(x, RATE))], ToneSettings(frequency=997.3), Chain())
    share_in_band = (20000 - 20) / (RATE / 2)
    expected = 10 * math.log10(2 * (float(np.mean(hum**2)) + 1e-10 * share_in_band))
    assert result.reading("noise").value == pytest.approx(expected, abs=0.1)


def tone_of(x, frequency=997.3):
    return Tone().analyse([Recording(Signal(x, RATE))], ToneSettings(frequency=frequency), Chain())


def test_a_tone_without_any_noise_is_found():
    """What the arithmetic leaves has no lines to be taken out: one at half the rate once took the fit along."""
    for place in np.linspace(0, 1, 12):
        x = 0.5 * np.cos(2 * np.pi * 997.0 * TIME + 2 * np.pi * place) + 5e-4 * np.cos(2 * np.pi * 1994.0 * TIME)
        result = tone_of(x, 997.0)
        assert result.reading("level").value == pytest.approx(20 * math.log10(0.5), abs=1e-9)
        assert result.reading("h2").value == pytest.approx(-60, abs=1e-6)


def test_slow_noise_does_not_move_the_direct_voltage():
    """A line that is looked for in pink noise below 5 Hz must not be fitted together with the mean."""
    for seed in range(12):
        rng = np.random.default_rng(seed)
        x = 0.5 * np.cos(2 * np.pi * 997.3 * TIME) + 1e-4 + LEVEL * pink(rng)
        assert tone_of(x).reading("dc").value == pytest.approx(1e-4, abs=3e-5)


def test_hum_in_the_spread_of_a_noise_level():
    """Five lines that the fit takes out are known better than the noise: rms of error over spread, of noise with hum
    and of the hum.
    """
    over: dict[str, list[float]] = {"noise": [], "hum": []}
    orders = ((1, 30.0), (2, 60.0), (3, 20.0), (5, 10.0), (6, 5.0))
    lines = LEVEL**2 * sum(a * a for _, a in orders) / 2
    for seed in range(30):
        rng = np.random.default_rng(seed)
        base = 50 + 0.02 * rng.standard_normal()
        hum = sum(a * np.cos(2 * np.pi * base * n * TIME + rng.uniform(0, 2 * np.pi)) for n, a in orders)
        result = tone_of(0.5 * np.cos(2 * np.pi * 997.3 * TIME) + LEVEL * (hum + white(rng)))
        for key, true in (("noise", lines + LEVEL**2 * (20000 - 20) / (RATE / 2)), ("hum", lines)):
            reading = result.reading(key)
            over[key].append((reading.value - 10 * math.log10(2 * true)) / reading.spread)
    for key, found in over.items():
        assert 0.4 < math.sqrt(np.mean(np.square(found))) < 1.5, key


def test_a_narrow_band_of_noise_is_no_hum():
    """Noise from 25 to 60 Hz alone: that it holds 50 Hz makes no line of it."""
    for seed in range(20):
        rng = np.random.default_rng(seed)
        reading = tone_of(0.5 * np.cos(2 * np.pi * 997.3 * TIME) + LEVEL * rumble(rng)).reading("hum")
        assert Caution.NOISE_DOMINATED in reading.cautions


@pytest.mark.parametrize(("frequency", "coherent"), [(1000.0, True), (997.0, False)])
@pytest.mark.parametrize("bits", [12, 16])
def test_rounding_without_dither_is_said(bits, frequency, coherent):
    """48 samples to a period of 1 kHz: each meets the same roundings a thousand times, which no spread describes.
    997 Hz meets 48,000 others.
    """
    rng = np.random.default_rng(bits)
    steps = 2.0 ** (bits - 1)
    exact = 0.4 * np.cos(2 * np.pi * frequency * TIME + 0.3)
    plain, dithered = (
        np.round(exact * steps) / steps,
        np.round(exact * steps + rng.random(FRAMES) - rng.random(FRAMES)) / steps,
    )
    result = tone_of(plain, frequency)
    assert Caution.UNDITHERED in result.cautions
    level = result.reading("level")
    assert (level.spread is None) == coherent
    assert (Caution.UNDITHERED in level.cautions) == coherent
    assert Caution.UNDITHERED not in tone_of(dithered, frequency).cautions
    assert Caution.UNDITHERED not in tone_of(exact + LEVEL * white(rng), frequency).cautions


def test_the_spread_of_an_undithered_tone_holds_its_error():
    """16 bits, the direct voltage and the phase by chance: 2 spreads hold nearly all errors of level and H2."""
    over: dict[str, list[float]] = {"level": [], "h2": []}
    for seed in range(30):
        rng = np.random.default_rng(seed)
        phase = rng.uniform(0, 2 * np.pi, 2)
        x = 0.4 * np.cos(2 * np.pi * 997.0 * TIME + phase[0]) + 4e-4 * np.cos(2 * np.pi * 1994.0 * TIME + phase[1])
        result = tone_of(np.round(x * 2**15 + rng.uniform(-0.5, 0.5)) / 2**15, 997.0)
        for key, true in (("level", 20 * math.log10(0.4)), ("h2", -60.0)):
            over[key].append((result.reading(key).value - true) / result.reading(key).spread)
    for key, found in over.items():
        assert 0.4 < math.sqrt(np.mean(np.square(found))) < 1.5, key


@pytest.mark.parametrize("frequency", [20, 30, 50, 100])
def test_a_low_tone_in_pink_noise_is_found_and_does_not_drift(frequency):
    """Whatever frequency is expected: noise that rises towards 0 Hz is no drift, and negative frequencies disturb no
    fit.
    """
    cautioned = 0
    for seed in range(20):
        rng = np.random.default_rng(seed)
        f0 = frequency * (1 + 0.01 * rng.uniform(-1, 1))
        x = (
            0.3 * np.cos(2 * np.pi * f0 * TIME + rng.uniform(0, 2 * np.pi))
            + 3e-4 * np.cos(4 * np.pi * f0 * TIME)
            + 3 * LEVEL * (1 + 9 * (seed % 2)) * pink(rng)
        )
        result = tone_of(x, 1000.0)
        assert result.reading("level").value == pytest.approx(20 * math.log10(0.3), abs=0.02)
        cautioned += Caution.DRIFT in result.cautions
    assert cautioned <= 1


def test_a_low_tone_that_drifts_is_said_to():
    rng = np.random.default_rng(3)
    swing = 1 + 0.01 * np.cos(2 * np.pi * 12 * TIME)  # faster than the fit's polynomials follow
    assert Caution.DRIFT in tone_of(0.3 * swing * np.cos(2 * np.pi * 50.3 * TIME) + LEVEL * pink(rng), 50.0).cautions
