"""The stand-ins behave like devices, and the procedures find in them what was put in."""

import numpy as np
import pytest

from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.standins.amplifier import HAVELMAR_A25, OSTREL_P40, Amplifier
from epidote.standins.converter import Converter
from tests.conftest import UNCALIBRATED, recording, sine

RATE = 96000.0
CLEAN = Amplifier(
    "A",
    "B",
    gain_db=20,
    channel_gains_db=(0.0,),
    second=0.0,
    third=0.0,
    noise_density=0.0,
    hum=(0.0,),
    high_pass=0.001,
    low_pass=1e7,
    output_ohms=0.0,
    warm_up_db=0.0,
    crosstalk_db=-300,
    rail=1e6,
)


def amplified(model: Amplifier, x: np.ndarray, load: float = 8.0, powered: float = 1e9, seed: int = 0) -> np.ndarray:
    stereo = x if x.ndim == 2 else np.column_stack([x, x])
    return model.process(stereo, RATE, load, np.random.default_rng(seed), powered)


def changed(**changes) -> Amplifier:
    from dataclasses import replace

    return replace(CLEAN, **changes)


X = sine(1000, 0.1, 96000, RATE)
INNER = slice(20000, 76000)


def test_gain():
    assert amplified(CLEAN, X)[INNER, 0] == pytest.approx(10 * X[INNER], abs=1e-3)


@pytest.mark.parametrize(("load", "ohms"), [(8.0, 2.0), (4.0, 0.1)])
def test_output_resistance_divides_with_the_load(load, ohms):
    """Source: voltage divider."""
    y = amplified(changed(output_ohms=ohms), X, load)
    assert np.std(y[INNER, 0]) / np.std(10 * X[INNER]) == pytest.approx(load / (load + ohms), rel=1e-4)


@pytest.mark.parametrize("rail", [1.0, 5.0])
def test_clipping_is_at_the_rail(rail):
    y = amplified(changed(rail=rail, sag=0.0, hardness=60), X * 20)
    assert np.abs(y[INNER]).max() == pytest.approx(rail, rel=0.35)  # band-limited, so it overshoots
    assert np.median(np.abs(y[INNER])) == pytest.approx(rail, rel=0.08)


def test_the_supply_sags_with_the_current():
    big = X * 20
    stiff, weak = (np.median(np.abs(amplified(changed(rail=10.0, sag=s), big, 2.0)[INNER])) for s in (0.0, 0.1))
    assert weak < 0.95 * stiff


def test_second_and_third_harmonics():
    """Source: h2 = a2 A/2, h3 = a3 A²/4 relative to the fundamental, far below the corner."""
    model = changed(second=1e-3, third=1e-4, distortion_corner=1e9)
    result = Tone().analyse([recording(amplified(model, X)[INNER], RATE)], ToneSettings(), UNCALIBRATED)
    assert result.reading("h2").value == pytest.approx(20 * np.log10(1e-3 / 2), abs=0.01)
    assert result.reading("h3").value == pytest.approx(20 * np.log10(1e-4 / 4), abs=0.01)


def test_distortion_rises_with_frequency():
    model = changed(second=1e-3, distortion_corner=2000.0)
    low, high = (
        Tone()
        .analyse(
            [recording(amplified(model, sine(f, 0.1, 96000, RATE))[INNER], RATE)],
            ToneSettings(frequency=f),
            UNCALIBRATED,
        )
        .reading("h2")
        .value
        for f in (100.0, 8000.0)
    )
    assert high - low == pytest.approx(20 * np.log10(np.hypot(1, 8) / np.hypot(1, 0.1)), abs=0.05)


def test_noise_density():
    """Source: rms = density sqrt(bandwidth)."""
    y = amplified(changed(noise_density=1e-6, noise_corner=0.0), np.zeros(96000))
    assert np.std(y) == pytest.approx(1e-6 * np.sqrt(RATE / 2), rel=0.02)


def test_hum_and_crosstalk():
    y = amplified(changed(hum=(1e-3,), mains=60.0), np.zeros(96000))
    assert np.std(y[:, 0]) == pytest.approx(1e-3 / 2**0.5, rel=0.01)
    one = np.column_stack([X, np.zeros_like(X)])
    y = amplified(changed(crosstalk_db=-60.0, crosstalk_corner=1e9), one)
    assert 20 * np.log10(np.std(y[INNER, 1]) / np.std(y[INNER, 0])) == pytest.approx(-60, abs=0.05)


def test_it_warms_up():
    cold, warm = (
        np.std(amplified(changed(warm_up_db=0.5, warm_up_seconds=100.0), X, powered=t)[INNER]) for t in (0.0, 1000.0)
    )
    assert 20 * np.log10(cold / warm) == pytest.approx(0.5, abs=0.01)


def test_knobs():
    assert OSTREL_P40.set_to({"gain": "low"}).gain_db == 14
    assert OSTREL_P40.set_to({"gain": "sideways", "seat": "3"}) == OSTREL_P40
    assert HAVELMAR_A25.set_to({"gain": "low"}) == HAVELMAR_A25


def test_the_same_seed_repeats_and_another_does_not():
    one, same, other = (amplified(OSTREL_P40, X, seed=s) for s in (1, 1, 2))
    assert np.array_equal(one, same)
    assert not np.array_equal(one, other)


def test_converter_steps_and_full_scale():
    converter = Converter(full_scale=4.0, noise_db=-300, second=0, third=0, latency=0, coupling=0.001)
    rng = np.random.default_rng(0)
    numbers = converter.to_numbers(np.full((4800, 1), 1.0) * sine(1000, 1.0, 4800, RATE)[:, None], RATE, rng)
    steps = numbers * 2**23
    assert np.array_equal(steps, np.round(steps))
    assert np.abs(numbers).max() == pytest.approx(1 / (4 * 2**0.5), rel=0.03)
    assert np.abs(converter.to_numbers(np.full((960, 1), 100.0), RATE, rng)).max() <= 1.0


@pytest.mark.parametrize("latency", [30.0, 30.5])
def test_converter_latency(latency):
    converter = Converter(full_scale=1.0, noise_db=-300, second=0, third=0, latency=latency, coupling=0.0001)
    x = np.zeros((4096, 1))
    x[1000] = 0.5
    y = converter.to_numbers(x, RATE, np.random.default_rng(0))[:, 0]
    f = np.fft.rfft(y)
    phase = np.unwrap(np.angle(f))[100:1500]
    delay = -np.polyfit(2 * np.pi * np.arange(100, 1500) / y.size, phase, 1)[0]
    assert delay == pytest.approx(1000 + latency, abs=0.01)


def test_converter_noise_and_distortion_are_as_stated():
    converter = Converter(full_scale=1.0, noise_db=-90, second=2e-4, third=0.0)
    y = converter.to_numbers(sine(1000, 1.2, 96000, RATE)[:, None], RATE, np.random.default_rng(1))
    result = Tone().analyse(
        [Recording(Signal(y[5000:90000], RATE))], ToneSettings(band_low=10, band_high=RATE / 2), UNCALIBRATED
    )
    assert result.reading("noise").value == pytest.approx(-90, abs=0.1)
    assert result.reading("h2").value == pytest.approx(20 * np.log10(2e-4 * 1.2 / 2**0.5 / 2), abs=0.05)
