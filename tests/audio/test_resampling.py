"""What is played at another rate, compared with the formula of what it holds."""

import numpy as np
import pytest

from epidote.audio.resampling import for_playing, signal_for_playing
from epidote.core.signals.signal import Signal
from tests.conftest import sine


@pytest.mark.parametrize("rates", [(44100, 48000), (48000, 44100), (96000, 48000), (48000, 48000.96)])
@pytest.mark.parametrize("frequency", [100.0, 1000.0, 10000.0, 18000.0])
def test_a_tone_stays_the_same_tone(rates, frequency):
    rate, wanted = rates
    brought = for_playing(sine(frequency, 0.5, int(2 * rate), rate), rate, wanted)
    assert brought.size == pytest.approx(2 * wanted, abs=2)
    inside = slice(brought.size // 8, -brought.size // 8)
    expected = sine(frequency, 0.5, brought.size, wanted)[inside]
    found = brought[inside]
    level = 20 * np.log10(np.sqrt(np.mean(found**2)) / np.sqrt(np.mean(expected**2)))
    assert abs(level) < 0.002, "dB"
    assert np.abs(found - expected).max() < 2e-4


def test_nothing_is_done_where_nothing_is_to_do():
    signal = Signal(np.zeros((10, 2)), 48000)
    assert signal_for_playing(signal, 48000) is signal
    assert for_playing(np.zeros(0), 44100, 48000).size == 0
    assert signal_for_playing(signal, 96000).samples.shape == (20, 2)
