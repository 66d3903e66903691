"""A source with a wall behind it, and rooms whose decay is a formula: gate, lowest frequency, decay, sensitivity."""

import math

import numpy as np
import pytest
from scipy import signal

from epidote.core.analysis.acoustics.decay import OCTAVES, decay_of, in_octave
from epidote.core.analysis.acoustics.impulse_gate import gate_window
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.channels import AVERAGE
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

RATE = 48000
SOUND = 343.0  # m/s at 20 °C
WALL = 2 * 2.0 / SOUND  # s: a wall 2 m behind the microphone, there and back
CHAIN = Chain(
    inputs=(1, 2, 3), microphone_sensitivities=(0.05, 0.05, 0.05), input_full_scale=1.0, output_full_scale=2.0
)


def loudspeaker(f, corner):
    """A closed box: high-pass of second order (Small 1972); 18 kHz is where its tweeter ends."""
    f = np.maximum(f, 1e-3)
    _, low = signal.freqs(*signal.butter(2, 2 * np.pi * corner, "high", analog=True), 2 * np.pi * f)
    _, high = signal.freqs(*signal.butter(2, 2 * np.pi * 18000, "low", analog=True), 2 * np.pi * f)
    return low * high


def settings_of(**values):
    return make_settings(procedure("response").Settings, {"duration": 2.0, **values})


def heard(settings, paths, noise=1e-5, seed=0):
    """A recording: each channel hears the sweep through its own response of frequency in Hz."""
    stimulus = settings.played(RATE)
    size = 2**19
    spectrum, f = np.fft.rfft(stimulus.samples(), size), np.fft.rfftfreq(size, 1 / RATE)
    rng = np.random.default_rng(seed)
    channels = [np.fft.irfft(spectrum * path(f), size)[: stimulus.frames] for path in paths]
    samples = np.stack(channels, axis=1) + noise * rng.standard_normal((stimulus.frames, len(paths)))
    return [Recording(Signal(samples, RATE), stimulus)]


def before_a_wall(corner, arrival, late, share):
    def path(f):
        direct = 0.3 * loudspeaker(f, corner) * np.exp(-2j * np.pi * f * arrival)
        return direct * (1 + share * np.exp(-2j * np.pi * f * late))

    return path


@pytest.mark.parametrize("corner", [40.0, 60.0, 90.0])
@pytest.mark.parametrize("gate", ["8ms", "11.5 ms", "auto"])
def test_gate_before_a_wall_leaves_the_direct_sound(corner, gate):
    """0.1 dB above twice the lowest frequency, which is one over the gate's length."""
    settings = settings_of(gate=gate)
    recordings = heard(settings, [before_a_wall(corner, 0.006 + m * 3e-4, WALL + m * 1e-3, 0.6) for m in range(3)])
    result = procedure("response").analyse(recordings, settings, CHAIN)
    lowest = result.reading("lowest_frequency", 1)
    length = lowest.at["gate_s"]
    assert lowest.value == pytest.approx(1 / length)
    if gate == "auto":
        assert 0.93 * WALL < length < WALL
    for number in (1, 2, 3):
        level = result.curve("level", number)
        assert lowest.value <= level.x[0] < 1.05 * lowest.value
        expected = 20 * np.log10(0.3 * np.abs(loudspeaker(level.x, corner))) + CHAIN.offset_db(number)
        far = (level.x > 2 / length) & (level.x < 18000)
        np.testing.assert_allclose(level.y[far], expected[far], atol=0.1)
    each = np.array([result.curve("level", n).y for n in (1, 2, 3)])
    average = result.curve("level", AVERAGE)
    np.testing.assert_allclose(average.y, 10 * np.log10(np.mean(10 ** (each / 10), axis=0)), atol=1e-9)


def test_without_the_gate_the_wall_is_seen():
    """The comb of a reflection of 0.6 swings by 20 lg(1.6/0.4) = 12.04 dB."""
    settings = settings_of()
    recordings = heard(settings, [before_a_wall(60.0, 0.006, WALL, 0.6)])
    level = procedure("response").analyse(recordings, settings, Chain()).curve("level")
    middle = (level.x > 300) & (level.x < 1000)
    assert np.ptp(level.y[middle]) == pytest.approx(12.04, abs=0.3)


def test_energy_time_curve_shows_arrival_and_reflection():
    settings = settings_of(gate="auto")
    recordings = heard(settings, [before_a_wall(60.0, 0.006, WALL, 0.5)])
    curve = procedure("response").analyse(recordings, settings, Chain()).curve("energy_time")
    near = np.abs(curve.x - WALL) < 0.001
    assert curve.y.max() == 0.0
    assert curve.y[near].max() == pytest.approx(20 * math.log10(0.5), abs=0.5)
    assert curve.x[near][np.argmax(curve.y[near])] == pytest.approx(WALL, abs=3e-5)


def test_the_gate_falls_smoothly():
    window = gate_window(400)
    assert window[:100].tolist() == [1.0] * 100
    assert np.all(np.diff(window) <= 0)
    assert window[-1] < 0.01


@pytest.mark.parametrize("gate", ["-3ms", "0.1 ms", "5 s", "8 V", "soon"])
def test_a_gate_that_cannot_be_is_refused(gate):
    with pytest.raises(SettingError, match="use a time"):
        settings_of(gate=gate)


def test_sensitivity_at_one_metre():
    """0.3 of full scale at 2 m: 20 lg(0.3 · 1 V/0.05 (V/Pa)/2 V/20 µPa) + 20 lg 2 for 1 V; 2.83 V add 9.04 dB."""
    settings = settings_of(gate="8ms", distance=2.0, rated_ohms=4.0)
    recordings = heard(settings, [lambda f: 0.3 * np.exp(-2j * np.pi * f * 0.006)] * 3)
    result = procedure("response").analyse(recordings, settings, CHAIN)
    one_volt = 20 * math.log10(0.3 / 0.05 / 2 / 20e-6) + 20 * math.log10(2)
    for number in (AVERAGE, 1):
        assert result.reading("sensitivity_voltage", number).value == pytest.approx(one_volt + 9.036, abs=0.01)
        assert result.reading("sensitivity_power", number).value == pytest.approx(one_volt + 6.021, abs=0.01)
    assert result.reading("sensitivity_power", 1).unit == "dB SPL"


def decaying(time, seconds, seed, rate=RATE):
    t = np.arange(round(seconds * rate)) / rate
    return np.random.default_rng(seed).standard_normal(t.size) * 10 ** (-3 * t / time)


def straight(impulse, top, bottom, rate=RATE):
    """ISO 3382-2 as written: backward integration, a regression line between two levels. No noise, so no end."""
    energy = np.cumsum(impulse[::-1] ** 2)[::-1]
    level = 10 * np.log10(energy / energy[0])
    first, last = np.flatnonzero(level <= top)[0], np.flatnonzero(level <= bottom)[0]
    return -60 / np.polyfit(np.arange(first, last + 1) / rate, level[first : last + 1], 1)[0]


class TestDecay:
    @pytest.mark.parametrize("time", [0.3, 0.8, 2.0])
    @pytest.mark.parametrize("seed", range(3))
    def test_noise_50_db_below_moves_the_times_by_less_than_two_percent(self, time, seed):
        clean = decaying(time, max(1.5, 1.3 * time), seed)
        noisy = clean + 10 ** (-50 / 20) * np.random.default_rng(99 + seed).standard_normal(clean.size)
        found = decay_of(noisy, RATE)
        assert found.edt == pytest.approx(straight(clean, 0, -10), rel=0.02)
        assert found.t20 == pytest.approx(straight(clean, -5, -25), rel=0.02)
        assert found.range_db == pytest.approx(50, abs=1.0)

    @pytest.mark.parametrize(("noise_db", "edt", "t20"), [(-40, True, True), (-30, True, False), (-15, False, False)])
    def test_no_time_where_the_range_does_not_allow_one(self, noise_db, edt, t20):
        clean = decaying(0.8, 2.0, 5)
        noisy = clean + 10 ** (noise_db / 20) * np.random.default_rng(6).standard_normal(clean.size)
        found = decay_of(noisy, RATE)
        assert (found.edt is not None, found.t20 is not None) == (edt, t20)

    def test_two_slopes_differ_in_early_and_late_time(self):
        early, late = decaying(0.4, 3.0, 1), 0.1 * decaying(2.0, 3.0, 2)
        found = decay_of(early + late, RATE)
        assert found.edt == pytest.approx(straight(early + late, 0, -10), rel=0.02)
        assert found.edt < 0.6 < found.t20

    def test_silence_and_a_constant_have_no_decay(self):
        for x in (np.zeros(RATE), np.full(RATE, 0.1)):
            found = decay_of(x, RATE)
            assert found.edt is None
            assert found.t20 is None

    def test_octaves_are_kept_apart(self):
        """A decay in one octave is 40 dB lower two octaves away."""
        tone = decaying(0.5, 1.0, 3)
        band = in_octave(tone, RATE, OCTAVES[3])
        assert np.sum(in_octave(band, RATE, OCTAVES[5]) ** 2) < 1e-4 * np.sum(band**2)

    def test_an_open_gate_gives_times_by_octave(self):
        settings = settings_of(gate="none", tail=1.5)
        impulse = decaying(0.6, 1.2, 8) * 0.02

        def path(f):
            return np.fft.rfft(impulse, 2 * (f.size - 1)) * np.exp(-2j * np.pi * f * 0.006)

        result = procedure("response").analyse(heard(settings, [path], noise=1e-5), settings, Chain())
        assert result.reading("t20").value == pytest.approx(0.6, rel=0.03)
        assert result.curve("reverberation").y == pytest.approx(0.6, rel=0.25)
        assert result.curve("decay").y[0] == pytest.approx(0.0, abs=0.01)
        assert result.reading("lowest_frequency") is None

    def test_a_short_tail_says_that_the_range_is_too_small(self):
        settings = settings_of(gate="none", tail=0.1)
        impulse = decaying(3.0, 2.0, 8) * 0.02

        def path(f):
            return np.fft.rfft(impulse, 2 * (f.size - 1))

        result = procedure("response").analyse(heard(settings, [path]), settings, Chain())
        assert result.reading("t20").value is None
        assert Caution.RANGE_TOO_SMALL in result.reading("t20").cautions


def test_a_dead_microphone_is_named_and_a_quiet_one_too():
    """Of four microphones one hears nothing but noise, and one is 25 dB lower than the others."""
    settings = settings_of()
    plain = before_a_wall(60.0, 0.005, WALL, 0.3)
    chain = CHAIN.model_copy(update={"inputs": (1, 2, 3, 4), "microphone_sensitivities": (0.05,) * 4})
    paths = [plain, lambda f: 0 * plain(f), plain, lambda f: 0.056 * plain(f)]
    result = procedure("response").analyse(heard(settings, paths), settings, chain)
    found = result.reading("unlike_others", AVERAGE)
    assert found.value == 2
    assert "no sweep in channel 2, excluded from the average" in found.at["finding"]
    assert "channel 4 differs from the others" in found.at["finding"]
    assert Caution.UNLIKE_OTHERS in result.cautions
    assert result.curve("level", AVERAGE).meta["average_of"] == "1, 3, 4"
    good = procedure("response").analyse(heard(settings, [plain] * 4), settings, chain)
    assert good.reading("unlike_others", AVERAGE) is None
