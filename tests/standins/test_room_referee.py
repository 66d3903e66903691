"""The simulated room and the decay times against a general-purpose library of room acoustics (pyroomacoustics, its
image sources and its decay times), in a box whose walls absorb alike at all frequencies.
"""

import numpy as np
import pyroomacoustics as pra
import pytest

from epidote.core.analysis.acoustics.decay import decay_of
from epidote.standins.room import SOUND, Box

RATE = 48000
SIZE, SOURCE, PLACE = (6.0, 5.0, 3.0), (1.2, 2.1, 1.4), (4.1, 3.3, 1.1)


def referee(absorption, order):
    """The library's impulse response (frames,), without the delay of its fractional-delay filters."""
    pra.constants.set("rir_hpf_enable", False)  # it would take away what lies below 20 Hz
    room = pra.ShoeBox(SIZE, fs=RATE, materials=pra.Material(absorption), max_order=order, air_absorption=False)
    room.set_sound_speed(SOUND)
    room.add_source(list(SOURCE))
    room.add_microphone(np.array(PLACE))
    room.compute_rir()
    impulse = np.asarray(room.rir[0][0], dtype=np.float64)
    return impulse[pra.constants.get("frac_delay_length") // 2 :]


@pytest.mark.parametrize(("absorption", "order"), [(0.3, 6), (0.6, 10)])
def test_response_from_a_source_to_a_place(absorption, order):
    """Complex, within 0.3 % of its RMS: what the library's fractional delays leave."""
    impulse = referee(absorption, order)
    box = Box(size=SIZE, order=order, absorbs_low=absorption, absorbs_high=absorption)
    f = np.linspace(50, 10000, 300)
    times = np.arange(impulse.size) / RATE
    theirs = np.array([np.sum(impulse * np.exp(-2j * np.pi * one * times)) for one in f])
    ours = box.response(SOURCE, PLACE, f)
    np.testing.assert_allclose(theirs, ours, atol=3e-3 * np.sqrt(np.mean(np.abs(ours) ** 2)))


@pytest.mark.parametrize("absorption", [0.2, 0.35])
def test_reverberation_time(absorption):
    """T20 of its impulse response by both: within 2 %, of which the onset is a part."""
    impulse = referee(absorption, 30)
    theirs = pra.experimental.measure_rt60(impulse, fs=RATE, decay_db=20)
    ours = decay_of(impulse[int(np.argmax(np.abs(impulse))) :], RATE).t20
    assert ours == pytest.approx(theirs, rel=0.02)
