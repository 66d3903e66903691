"""Latencies compared, and two stretches nudged against each other."""

import math

import numpy as np
import pytest

from epidote.core.analysis.delay.manual_alignment import PairAlignment
from epidote.core.comparison.conditions.latency_table import (
    MeasuredLatency,
    distance_in_air,
    latencies_of,
    latency_table,
    live_suitability,
    similar_latencies,
    speed_of_sound,
)
from epidote.core.wording.differences import latency_words, suitability_words
from tests.conftest import table, through

RATE = 48000


@pytest.mark.parametrize("row", table("16_sound_travel"), ids=lambda row: row["temperature_degc"])
def test_sound_in_air(row):
    """Reference section 16."""
    celsius = float(row["temperature_degc"])
    assert speed_of_sound(celsius) == pytest.approx(float(row["speed_331p3_sqrt_law_m_per_s"]), abs=0.006)
    assert distance_in_air(float(row["time_ms_over_3m"]) / 1000, celsius) == pytest.approx(3, rel=1e-4)


def test_table_and_equals():
    """Two ideal devices whose latency is that of their buffers, out and in: reference section 16, table of buffers."""
    rows = []
    for row in table("16_buffer_latency"):
        for rate, name in ((44100, "44p1"), (96000, "96")):
            once = float(row[f"latency_ms_at_{name}khz"]) / 1000
            buffer = row["buffer_samples"]
            conditions = {"buffer": buffer, "rate": f"{rate} Hz"}
            rows.append((conditions, MeasuredLatency("Sorvane L8", float(rate), None, 2 * once)))
            rows.append(({"link": "on", "buffer": buffer}, MeasuredLatency("Tolmark X1", float(rate), None, once)))
    found = latencies_of(rows)
    seen = latency_table(found)
    assert seen.devices == ("Sorvane L8", "Tolmark X1, link on")
    assert len(seen.settings) == 2 * len(table("16_buffer_latency"))
    assert seen.settings == tuple(sorted(seen.settings))
    assert seen.cells["Sorvane L8", (96000.0, 128)].seconds == pytest.approx(2 * 128 / 96000, rel=1e-5)
    twins = similar_latencies(found, 2 * 64 / 44100, 0.001)
    assert {(one.device, one.rate, one.buffer) for one in twins} == {
        ("Sorvane L8", 44100.0, 64),
        ("Tolmark X1, link on", 44100.0, 128),
    }
    assert similar_latencies(found, 1.0) == []
    assert latencies_of([({}, MeasuredLatency("A", 48000.0, None, 0.001))])[0].buffer is None


def test_guide_for_live_playing():
    """8 to 9 ms: common practice, no source."""
    assert [suitability_words(live_suitability(s)) for s in (0.002, 0.0085, 0.02)] == [
        "suitable for live playing",
        "borderline for live playing",
        "disturbs live playing",
    ]


def test_the_slowest_burst_decides_whether_a_latency_can_be_lived_with():
    """A buffer that is doubled now and then disturbs whoever plays, whatever the usual burst says."""
    jumping = MeasuredLatency("A", 48000.0, 128, 0.004, worst=0.0123, jumps=True)
    assert latency_words(jumping) == "disturbs live playing; jumps, up to 12.30 ms"
    assert latency_words(MeasuredLatency("A", 48000.0, 128, 0.004, worst=0.00401)) == "suitable for live playing"


def material(frames=4 * RATE):
    """Noise of a band, faded so that nothing is cut off at its ends by a delay."""
    x = through(np.random.default_rng(3).standard_normal(frames), RATE, lambda f: (f > 30) & (f < 20000))
    return x * np.sin(np.pi * np.arange(frames) / frames) ** 2


def late(x, frames):
    return through(x, RATE, lambda f: np.exp(-2j * np.pi * f * frames / RATE))


def test_nudging_tells_what_subtracting_really_leaves():
    """Against the samples themselves: shifted in the frequency domain by NumPy, scaled, subtracted."""
    x = material()
    overlay = PairAlignment(x, -0.5 * late(x, 100.4), RATE, (20, 20000), 0.1)
    assert overlay.best() == pytest.approx(100.4, abs=1e-4)
    for delay in (95.0, 100.0, 100.4, 100.9, 0.0):
        fit = overlay.at(delay)
        y = -0.5 * late(x, 100.4 - delay)
        rho = float(x @ y) / math.sqrt(float(x @ x) * float(y @ y))
        assert fit.correlation == pytest.approx(rho, abs=2e-5)
        assert fit.level_db == pytest.approx(-6.0206, abs=0.01)
    assert (overlay.at(100.4).polarity, overlay.at(100.4).correlation) == (-1, pytest.approx(-1, abs=1e-6))
    assert overlay.at(100.4).null_db < -55
    assert overlay.best(97.0) == pytest.approx(100.4, abs=3)


def test_phase_turns_with_the_nudge():
    """A delay d is a phase of -360 f d."""
    x = material()
    overlay = PairAlignment(x, late(x, 60.0), RATE, (50, 15000), 0.1)
    f, phase = overlay.phase(60.0)
    assert np.abs(phase).max() < 1
    f, phase = overlay.phase(59.0)
    assert np.abs((phase + 360 * f / RATE + 180) % 360 - 180).max() < 6
    _, turned = PairAlignment(x, -late(x, 60.0), RATE, (50, 15000), 0.1).phase(60.0)
    assert np.abs(np.abs(turned) - 180).max() < 1


def test_aligned_is_the_first_again():
    x = material()
    overlay = PairAlignment(x, -late(x, 100.4), RATE, (20, 20000), 0.1)
    left = overlay.aligned(100.4, invert=True) - x
    assert 20 * np.log10(left.std() / x.std()) < -90
    whole = PairAlignment(x, np.concatenate([np.zeros(37), x]), RATE, (20, 20000), 0.1)
    assert np.array_equal(whole.aligned(37.0), x)


def test_events_of_an_overlay():
    x = np.zeros(RATE)
    x[[8000, 20000]] = 0.5
    assert PairAlignment(x, x, RATE, (20, 20000), 0.1).events() == [8000, 20000]
    quiet = PairAlignment(0.1 * np.random.default_rng(1).standard_normal(RATE), x, RATE, (20, 20000), 0.1)
    assert quiet.events() == []
    assert quiet.loudest() == int(np.argmax(np.abs(quiet.first)))
