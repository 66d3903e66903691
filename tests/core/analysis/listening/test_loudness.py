"""Loudness against the cases of EBU Tech 3341 and 3342 (from memory), and computed cases of 11_loudness_cases.csv.

Steady tones at other rates: the filter's magnitude at 48 kHz, from 11_k_weighting_48k.csv, and BS.1770's sum.
"""

import json
import math

import numpy as np
import pyloudnorm
import pytest
import soundfile

from epidote.core.analysis.listening.loudness import measure_loudness
from tests.conftest import table

RATE = 48000


def tones(parts, channels=2, frequency=1000.0, rate=RATE):
    """Stereo sine whose level in dBFS changes: (level, seconds) in order."""
    pieces = []
    start = 0
    for level, seconds in parts:
        n = np.arange(round(seconds * rate)) + start
        pieces.append(10 ** (level / 20) * np.sin(2 * np.pi * frequency / rate * n))
        start += n.size
    return np.repeat(np.concatenate(pieces)[:, None], channels, axis=1)


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        ([(-23, 20)], -23.0),
        ([(-33, 20)], -33.0),
        ([(-36, 10), (-23, 60), (-36, 10)], -23.0),
        ([(-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10)], -23.0),
        ([(-26, 20), (-20, 20.1), (-26, 20)], -23.0),
    ],
)
def test_integrated_loudness_of_ebu_tech_3341(parts, expected):
    assert measure_loudness(tones(parts), RATE).integrated == pytest.approx(expected, abs=0.1)


@pytest.mark.parametrize(
    ("parts", "expected"),
    [
        ([(-20, 20), (-30, 20)], 10.0),
        ([(-20, 20), (-15, 20)], 5.0),
        ([(-40, 20), (-20, 20)], 20.0),
        ([(-50, 20), (-35, 20), (-20, 20), (-35, 20), (-50, 20)], 15.0),
    ],
)
def test_range_of_ebu_tech_3342(parts, expected):
    assert measure_loudness(tones(parts), RATE).range == pytest.approx(expected, abs=1.0)


@pytest.mark.parametrize(
    ("divider", "degrees", "amplitude", "expected"),
    [(4, 0, 0.5, -6.0), (4, 45, 0.5, -6.0), (6, 60, 0.5, -6.0), (8, 67.5, 0.5, -6.0), (4, 45, 1.41, 3.0)],
)
def test_true_peak_of_ebu_tech_3341(divider, degrees, amplitude, expected):
    n = np.arange(RATE)
    x = amplitude * np.sin(2 * np.pi * n / divider + math.radians(degrees))
    ramp = np.minimum(1, np.minimum(n, n[::-1]) / 2400)
    found = measure_loudness((x * ramp)[:, None], RATE).true_peak
    assert expected - 0.4 <= found <= expected + 0.2


@pytest.mark.parametrize("row", table("11_loudness_cases"), ids=lambda r: r["case"])
def test_steady_tones(row):
    """Theory: the magnitude of the filters and BS.1770's sum; within 0.006 LU."""
    peaks = [float(v) for v in row["peak_levels_per_channel_dbfs_sine"].split(";")]
    n = np.arange(6 * RATE)
    wave = np.sin(2 * np.pi * float(row["frequency_hz"]) / RATE * n)
    samples = np.stack([(10 ** (p / 20) if math.isfinite(p) else 0.0) * wave for p in peaks], axis=1)
    found = measure_loudness(samples, RATE).integrated
    assert found == pytest.approx(float(row["theory_lkfs"]), abs=0.006)


@pytest.mark.parametrize("rate", [32000, 44100, 88200, 96000, 176400, 192000, 384000])
@pytest.mark.parametrize("frequency", [100.0, 997.0, 10000.0])
def test_steady_tones_at_other_rates(rate, frequency):
    """What 48 kHz gives, which its table pins, within 0.006 LU."""
    wave = np.sin(2 * np.pi * frequency / rate * np.arange(4 * rate))
    found = measure_loudness(wave[:, None], rate).integrated
    at_48k = {100.0: -4.8348, 997.0: -3.0103, 10000.0: 0.3406}[frequency]
    assert found == pytest.approx(at_48k, abs=0.006)


@pytest.mark.parametrize("channels", [1, 2, 5])
def test_changing_noise_against_a_well_known_library(channels):
    """pyloudnorm with its “DeMan” filter, which is the specification's at 48 kHz; gating and sums are its own."""
    rng = np.random.default_rng(channels)
    levels = np.repeat(10 ** (rng.uniform(-60, -10, 30) / 20), RATE // 2)
    noise = rng.standard_normal((levels.size, channels)) * levels[:, None] * 0.3
    meter = pyloudnorm.Meter(RATE, filter_class="DeMan")
    assert measure_loudness(noise, RATE).integrated == pytest.approx(meter.integrated_loudness(noise), abs=0.02)


def test_what_is_too_short_or_silent_has_none():
    short = measure_loudness(tones([(-20, 0.3)]), RATE)
    assert short.integrated is None and short.short_term_max is None and short.true_peak is not None
    silent = measure_loudness(np.zeros((RATE, 2)), RATE)
    assert silent == type(silent)(None, None, None, None, None)


def test_the_command(tmp_path, run):
    soundfile.write(tmp_path / "a.wav", tones([(-23, 5)]), RATE, subtype="FLOAT")
    soundfile.write(tmp_path / "b.wav", np.zeros((RATE, 1)), RATE)
    code, out, err = run("loudness", tmp_path / "a.wav", "--json")
    assert code == 0, err
    found = json.loads(out)
    assert found["integrated"] == pytest.approx(-23.0, abs=0.02)
    assert found["short_term_max"] == pytest.approx(-23.0, abs=0.02)
    assert found["true_peak"] == pytest.approx(-23.0, abs=0.02)
    code, out, _ = run("loudness", tmp_path / "a.wav", tmp_path / "b.wav", "--json")
    assert [f["integrated"] is None for f in json.loads(out)] == [False, True]
    code, out, _ = run("loudness", tmp_path / "b.wav")
    assert code == 0 and "too short or too quiet" in out
