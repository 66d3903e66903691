"""What is wrong with a recording is noticed, and what is right is left alone."""

import numpy as np
import pytest

from epidote.core.analysis.capture_checks import (
    capture_cautions,
    has_discontinuity,
    headroom,
    is_clipped,
    require_valid,
    steady_interval,
)
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.results.caution import Caution
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.tone import tone
from tests.conftest import dithered, sine

RATE = 48000.0
SWEEP = ResponseSettings(duration=2).played(RATE).samples()
TONE = dithered(sine(997.0, 0.5, 48000, RATE), 24)
NOISE = np.random.default_rng(0).standard_normal(48000)


@pytest.mark.parametrize(
    "clean",
    [
        dithered(sine(50.0, 0.9, 48000, RATE), 16),
        sine(20.0, 0.9, 48000, RATE),
        sine(2.0, 0.5, 48000, RATE),
        TONE,
        SWEEP,
        dithered(SWEEP, 16),
        TONE + 1e-3 * NOISE,
        0.2 * NOISE / 3,
        dithered(0.999 * TONE / 0.5, 24),
        sine(1000, 0.5, 48000, RATE, 0.0),
    ],
    ids=[
        "slow tone, 16 bit",
        "slow tone",
        "very slow tone",
        "tone",
        "sweep",
        "16-bit sweep",
        "noisy tone",
        "noise",
        "nearly full scale",
        "few samples per cycle",
    ],
)
def test_clean_captures_are_left_alone(clean):
    assert capture_cautions(Signal(clean, RATE), 1) == ()


@pytest.mark.parametrize("limit", [1.0, 0.7, 0.3])
def test_clipping_at_any_level(limit):
    assert is_clipped(np.clip(sine(997.0, 1.4 * limit, 48000, RATE), -limit, limit), "FS")
    assert is_clipped(np.clip(SWEEP * 3, -limit, limit), "FS")
    assert is_clipped(np.clip(sine(997.0, 10 * limit, 48000, RATE), -limit, limit), "FS")
    assert is_clipped(dithered(np.clip(sine(50.0, 1.02 * limit, 48000, RATE), -limit, limit) * 0.9, 24).round(5), "FS")


def test_clipping_on_one_side_only():
    assert is_clipped(np.minimum(sine(997.0, 0.9, 48000, RATE), 0.6), "FS")
    assert is_clipped(-np.minimum(sine(997.0, 0.9, 48000, RATE), 0.6), "FS")


@pytest.mark.parametrize("base", [TONE, SWEEP, TONE + 1e-4 * NOISE], ids=["tone", "sweep", "noisy tone"])
@pytest.mark.parametrize("lost", [7, 128, 480])
def test_lost_samples(base, lost):
    middle = base.size // 2 + 11
    assert has_discontinuity(np.delete(base, slice(middle, middle + lost)))


@pytest.mark.parametrize("base", [TONE, SWEEP], ids=["tone", "sweep"])
def test_muted_stretch(base):
    broken = base.copy()
    broken[20000:20200] = 0
    assert has_discontinuity(broken)


def test_distortion_in_every_cycle_is_no_gap():
    x = sine(997.0, 0.5, 48000, RATE)
    crossover = np.sign(x) * np.maximum(np.abs(x) - 0.02, 0)
    assert not has_discontinuity(crossover)
    assert not has_discontinuity(x + 0.2 * x**3)


@pytest.mark.parametrize("zone", [0.001, 0.005, 0.02, 0.1])
def test_crossover_distortion_of_a_sweep_is_no_gap_and_hides_none(zone):
    """Without bias each zero crossing has a kink, which at the sweep's low end stands alone in its block."""
    biased = SWEEP - zone * np.tanh(SWEEP / zone) + 1e-6 * np.random.default_rng(1).standard_normal(SWEEP.size)
    assert not has_discontinuity(biased)
    middle = biased.size // 2 + 11
    assert has_discontinuity(np.delete(biased, slice(middle, middle + 128)))


def test_lost_samples_are_found_wherever_they_were():
    rng = np.random.default_rng(2)
    low_tone = sine(100.0, 0.5, 48000, RATE)
    places = rng.integers(8000, 40000, 100)
    found = [has_discontinuity(np.delete(low_tone, slice(at, at + int(rng.integers(3, 470))))) for at in places]
    assert all(found)


def test_quiet_and_direct_voltage():
    assert capture_cautions(Signal(TONE * 1e-4, RATE), 1) == (Caution.TOO_QUIET,)
    assert capture_cautions(Signal(TONE + 0.02, RATE), 1) == (Caution.DC,)
    assert capture_cautions(Signal(np.column_stack([TONE, TONE + 0.02]), RATE), 2) == (Caution.DC,)


def test_headroom():
    assert headroom(Signal(0.5 * TONE / np.abs(TONE).max(), RATE), 1).value == pytest.approx(6.0206, abs=1e-4)
    assert headroom(Signal(np.zeros(100), RATE), 1).value is None


@pytest.mark.parametrize(
    ("bad", "words"),
    [
        (np.array([0.0, np.nan] * 500), "invalid samples \\(NaN or infinite\\): 500"),
        (np.array([0.0, np.inf] * 500), "invalid samples"),
        (np.array([0.1]), "1 of at least 256 samples"),
    ],
)
def test_unusable(bad, words):
    with pytest.raises(UnusableInputError, match=words):
        require_valid(Signal(bad, RATE), 256)


@pytest.mark.parametrize("frequency", [10.0, 100.0, 5000.0])
def test_steady_part_of_a_tone(frequency):
    made = tone(rate=RATE, frequency=frequency, duration=1.0, level=-6)
    x = np.concatenate([np.zeros(5000), made.samples(), np.zeros(9000)])
    first, end = steady_interval(x, RATE)
    begin = 5000 + made["lead"] + made["ramp"]
    assert begin <= first < begin + 9600
    assert begin + made["steady"] - 9600 < end <= begin + made["steady"] + made["ramp"]


def test_an_even_record_is_taken_whole():
    assert steady_interval(TONE, RATE) == (0, TONE.size)
    assert steady_interval(TONE[:100], RATE) == (0, 100)
