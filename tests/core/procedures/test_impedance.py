"""Impedance behind a series resistor: paths of known impedance, computed from their components, and the loudspeaker
stand-in.
"""

import numpy as np
import pytest

from epidote.audio.device import Wiring
from epidote.audio.registry import open_device
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.impedance.procedure import Impedance
from epidote.core.procedures.impedance.settings import ImpedanceSettings
from epidote.core.results.caution import Caution
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.playback import play_and_record
from epidote.standins.loudspeaker import DOME_SPEAKER
from tests.conftest import recording, through

RATE, CHAIN = 48000, Chain(rate=48000)


def measured(impedance, series=100.0, noise=0.0, **settings):
    made = ImpedanceSettings(series_ohms=series, duration=2, **settings)
    stimulus = next(Impedance().conduct(made, CHAIN))
    x = stimulus.samples()
    behind = through(x, RATE, lambda f: impedance(f) / (impedance(f) + series))
    both = np.column_stack([x, behind]) + noise * np.random.default_rng(1).standard_normal((x.size, 2))
    return Impedance().analyse([Recording(Signal(both, RATE), stimulus)], made, CHAIN)


@pytest.mark.parametrize("ohms", [8.0, 100.0, 1000.0])
def test_a_resistor(ohms):
    """Ohm's law."""
    result = measured(lambda f: np.full(f.shape, ohms))
    assert np.abs(result.curve("impedance").y / ohms - 1).max() < 1e-5
    assert np.abs(result.curve("impedance_phase").y).max() < 1e-3
    assert result.reading("impedance_1k").value == pytest.approx(ohms, rel=1e-6)
    assert result.reading("resonance").value is None


def test_a_resistor_and_a_coil():
    """|R + jwL| and its angle."""
    result = measured(lambda f: 6.0 + 2j * np.pi * f * 0.5e-3)
    curve = result.curve("impedance")
    truth = 6.0 + 2j * np.pi * curve.x * 0.5e-3
    assert curve.y == pytest.approx(np.abs(truth), rel=2e-4)
    assert result.curve("impedance_phase").y == pytest.approx(np.degrees(np.angle(truth)), abs=0.02)


def test_a_capacitor_s_loss_into_it():
    """10 kΩ beside 1 nF: at 20 kHz the source's 600 Ω lose what the divider says."""

    def z(f):
        return 1 / (1 / 10_000 + 2j * np.pi * f * 1e-9)

    result = measured(z, series=10_000, source_ohms=600.0)
    end = z(np.array([20000.0]))[0]
    assert result.reading("loading_error").value == pytest.approx(20 * np.log10(abs(end / (end + 600))), abs=0.003)


def test_the_loudspeaker_stand_in_through_converters():
    """Second way: the stand-in's own formula (Small 1972)."""
    device = open_device("standin:kelwin-d6", Wiring(RATE), {}, seed=3)
    settings = ImpedanceSettings(series_ohms=10, duration=3, start_frequency=20)
    result = Impedance().analyse(play_and_record("impedance", settings, CHAIN, device), settings, CHAIN)
    curve = result.curve("impedance")
    assert curve.y == pytest.approx(np.abs(DOME_SPEAKER.impedance(curve.x)), rel=0.003)
    assert result.reading("resonance").value == pytest.approx(DOME_SPEAKER.resonance, rel=0.02)


def test_too_little_drop_is_cautioned():
    """0.1 dB between the inputs is 1.2 % of the ratio: by dZ/Z = dr/(1 - r) 12 times the impedance itself where a
    thousandth drops, 13 % where a tenth does, 2 % where a half does.
    """
    for series, limited in ((10, True), (1111.1, True), (1e4, False)):
        result = measured(lambda f: np.full(f.shape, 1e4), series=series)
        assert (Caution.CHANNEL_MISMATCH in result.cautions) == limited
        reading = result.reading("impedance_1k")
        assert (Caution.CHANNEL_MISMATCH in reading.cautions) == limited
        drop = series / (1e4 + series)
        assert reading.at["mismatch_error"] == pytest.approx((10 ** (0.1 / 20) - 1) / drop, rel=0.02)


def test_what_does_not_fit_is_said():
    stimulus = next(Impedance().conduct(ImpedanceSettings(duration=1), CHAIN))
    with pytest.raises(UnusableInputError, match="the recording has 1"):
        Impedance().analyse([recording(stimulus.samples(), RATE, stimulus)], ImpedanceSettings(duration=1), CHAIN)
    with pytest.raises(SettingError, match="needs two inputs; the chain has 1"):
        next(Impedance().conduct(ImpedanceSettings(), Chain(inputs=(1,))))
    silent = Recording(Signal(np.zeros((stimulus.frames, 2)), RATE), stimulus)
    assert Caution.STIMULUS_NOT_FOUND in Impedance().analyse([silent], ImpedanceSettings(duration=1), CHAIN).cautions
