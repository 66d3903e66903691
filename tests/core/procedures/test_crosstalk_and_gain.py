"""Crosstalk and gain on units whose leaks and gains are formulas."""

import math

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse
from tests.conftest import through
from tests.ideal_device import IdealDevice

VOLTS = Chain(
    rate=96000, output_full_scale=2.0, input_full_scale=4.0, probe_ratio=5.0, load_ohms=8.0, load_confirmed=True
)


def run(key, unit, chain=VOLTS, device=None, **values):
    chosen = make_settings(procedure(key).Settings, values)
    recordings = play_and_record(key, chosen, chain, device or IdealDevice(unit))
    return analyse(key, recordings, chosen, chain)


def leaking(ratio, corner=2000.0):
    """Rises by 6 dB per octave above the corner, as a stray capacitance makes it."""

    def unit(x):
        other = np.stack(
            [through(x[:, 1 - c], 96000, lambda f: ratio * (1 + 1j * f / corner), 96000) for c in range(2)], axis=1
        )
        return x * np.array([1.0, 0.5]) + other

    return unit


class TestCrosstalk:
    def test_every_pair_at_one_frequency_and_along_the_band(self):
        result = run("crosstalk", leaking(1e-4))
        for number, driven_gain in ((1, 0.5), (2, 1.0)):
            level = 20 * math.log10(1e-4 / driven_gain) + 10 * math.log10(1 + 0.25)
            reading = result.reading("crosstalk", number)
            assert reading.value == pytest.approx(level, abs=0.005)
            assert reading.at == {"frequency_hz": 1000.0, "driven_channel": 3.0 - number}
            curve = result.curve("crosstalk", number)
            expected = 20 * math.log10(1e-4 / driven_gain) + 10 * np.log10(1 + (curve.x / 2000) ** 2)
            np.testing.assert_allclose(curve.y, expected, atol=0.02)
            assert result.reading("worst_frequency", number).value == curve.x[-1]

    def test_noise_and_hum_are_not_crosstalk(self):
        """Noise at -100 dBFS on the idle channel; the leak lies at -120 dB and is found all the same."""
        hum = 1e-4 * np.sin(2 * np.pi * 50 / 96000 * np.arange(96000 * 30))
        device = IdealDevice(
            lambda x: leaking(1e-6, 1e6)(x) * np.array([1.0, 2.0]) + hum[: x.shape[0], None], noise=1e-5
        )
        result = run("crosstalk", None, device=device, duration=4.0, points_per_octave=0)
        reading = result.reading("crosstalk", 2)
        assert reading.value == pytest.approx(-120 + 6.02, abs=4 * reading.spread)
        assert reading.spread < 1.5
        assert result.curves == ()

    def test_none_is_said_to_be_noise(self):
        result = run("crosstalk", lambda x: x, points_per_octave=0)
        assert Caution.NOISE_DOMINATED in result.reading("crosstalk").cautions
        assert result.reading("crosstalk").value < -130

    def test_three_channels(self):
        chain = Chain(rate=96000, outputs=(1, 2, 3), inputs=(1, 2, 3))
        mix = np.array([[1, 0.001, 0], [0.01, 1, 0], [0, 0.002, 1]])  # row: what a driven channel gives to each
        result = run("crosstalk", None, chain, IdealDevice(lambda x: x @ mix, channels=3), points_per_octave=0)
        assert result.reading("crosstalk", 1).value == pytest.approx(-40, abs=0.01)
        assert result.reading("crosstalk_from_2", 1).value == pytest.approx(-40, abs=0.01)
        assert result.reading("crosstalk_from_3", 1).value < -130
        assert result.reading("crosstalk_from_1", 2).value == pytest.approx(-60, abs=0.01)
        assert result.reading("crosstalk_from_3", 2).value == pytest.approx(20 * math.log10(0.002), abs=0.01)

    def test_a_muted_channel(self):
        result = run("crosstalk", lambda x: x * np.array([1.0, 0.0]), points_per_octave=0)
        assert Caution.STIMULUS_NOT_FOUND in result.cautions
        assert result.reading("crosstalk", 2).value is not None, "the other way round it could be measured"

    def test_what_it_refuses(self):
        with pytest.raises(SettingError, match="needs two channels"):
            run("crosstalk", lambda x: x, Chain(rate=96000, outputs=(1,), inputs=(1,)))
        with pytest.raises(SettingError, match="too short"):
            run("crosstalk", lambda x: x, frequency=20, duration=0.3)
        chosen = make_settings(procedure("crosstalk").Settings, {})
        with pytest.raises(UnusableInputError, match="at least two channels"):
            analyse("crosstalk", [Recording(Signal(np.zeros(5000), 96000.0))], chosen, VOLTS)


class TestGain:
    def test_volts_per_volt_balance_and_polarity(self):
        result = run("gain", lambda x: x * np.array([0.4, -0.38]), level=-6)
        assert result.reading("gain", 1).value == pytest.approx(20 * math.log10(0.4 * 20 / 2), abs=1e-5)
        assert result.reading("gain_ratio", 2).value == pytest.approx(0.38 * 10, rel=1e-6)
        assert result.reading("balance", 2).value == pytest.approx(20 * math.log10(0.95), abs=1e-5)
        assert [result.reading("polarity", n).value for n in (1, 2)] == [1, -1]
        assert result.reading("input").value == pytest.approx(2 * 10 ** (-6 / 20))
        assert result.reading("output").value == pytest.approx(4 * 2 * 10 ** (-6 / 20), rel=1e-6)

    @pytest.mark.parametrize(
        ("wanted", "volts"), [("1 V", 1.0), ("1 W", math.sqrt(8)), ("0 dBu", math.sqrt(0.6)), ("-20 dBFS", 2.0)]
    )
    def test_the_input_for_a_stated_output(self, wanted, volts):
        """Sensitivity: the output over the gain, here of 4."""
        result = run("gain", lambda x: 0.4 * x, output_level=wanted)
        assert result.reading("input_for_output").value == pytest.approx(volts / 4, rel=1e-5)

    def test_without_calibration(self):
        result = run("gain", lambda x: 0.5 * x, Chain(rate=96000))
        assert result.reading("gain").value == pytest.approx(-6.0206, abs=1e-4)
        assert Caution.UNCALIBRATED in result.reading("gain").cautions
        assert result.reading("input_for_output").value is None

    def test_noise_does_not_count(self):
        """Least squares on a second of tone at 20 dB SNR: the Cramér-Rao bound is sigma sqrt(2/N) (IEEE 1057;
        reference README, 15).
        """
        result = run("gain", None, device=IdealDevice(lambda x: x, noise=0.007))
        reading = result.reading("gain")
        assert reading.value == pytest.approx(20, abs=5 * reading.spread)
        assert reading.spread == pytest.approx(8.686 * math.sqrt(2 / 96000) * 0.007 / 0.1, rel=0.05)

    def test_a_muted_unit(self):
        result = run("gain", lambda x: 0 * x)
        assert result.reading("gain").value is None
        assert Caution.STIMULUS_NOT_FOUND in result.cautions
