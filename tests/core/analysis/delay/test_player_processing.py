"""What a player does of its own accord: limiter, automatic gain, noise suppression and a coder's band limit.

Truth: the simulated processing itself (gain laws written here, low-pass filters of scipy.signal).
"""

import numpy as np
import pytest
from scipy import signal

from epidote.core.analysis.delay.clock_offset import to_player_clock, with_clock
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.marked_sequence import MarkedSequence, build_marked_sequence
from epidote.core.stimuli.sweep import sweep
from epidote.standins.coding import coded
from epidote.standins.players import EBBLE_R1

RATE = 48000
FILE = build_marked_sequence(
    [sweep(rate=RATE, start=50, stop=18000, duration=1.0, level=-6, channels=(1,))], -6, probed=True
)


def found(process, noise=1e-5, seed=0, ppm=80.0):
    """What is found of a file that a player processes and gives out on another clock."""
    x = process(FILE.samples()[:, 0])
    step = 1 + ppm * 1e-6
    y = 0.3 * resample(
        np.concatenate([np.zeros(RATE // 2), x, np.zeros(RATE)]), step, 0.0, round((x.size + RATE) / step)
    )
    y = y + noise * np.random.default_rng(seed).standard_normal(y.size)
    _, clock = to_player_clock(Signal(y[:, None], RATE), FILE)
    return with_clock(Result((), (), ()), [clock], RATE)


def in_room(x):
    """A loudspeaker with gentle roll-offs and a reverberation of 0.3 s (Schroeder's model)."""
    rng = np.random.default_rng(3)
    t = np.arange(round(0.3 * RATE)) / RATE
    room = rng.standard_normal(t.size) * 10 ** (-3 * t / 0.3) * 0.03
    room[0] = 1.0
    heard = signal.sosfilt(signal.butter(2, [80, 15000], "band", fs=RATE, output="sos"), x)
    return signal.fftconvolve(heard, room)[: x.size]


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("process", [lambda x: x, in_room], ids=["plain", "in a room"])
def test_nothing_is_found_where_nothing_is_processed(process, seed):
    result = found(process, noise=1e-4, seed=seed)
    assert not {Caution.LEVEL_PROCESSED, Caution.NOISE_SUPPRESSED, Caution.BAND_LIMITED} & set(result.cautions)


def test_a_compressor_is_named_with_its_share():
    """Its gain follows a slow envelope: half of each decibel above -50 dBFS is taken away."""

    def compressor(x):
        level = np.sqrt(signal.lfilter([0.002], [1, -0.998], x**2)) + 1e-9
        gain = np.minimum(1.0, (level / 10 ** (-50 / 20)) ** -0.5)
        return x * gain

    result = found(compressor)
    assert Caution.LEVEL_PROCESSED in result.cautions
    assert result.reading("level_following").value == pytest.approx(10.0, abs=1.5)
    assert "20 dB less at the input" in result.reading("level_following").at["finding"]


def test_an_automatic_gain_of_a_recorder():
    x = np.concatenate([np.zeros(RATE // 2), FILE.samples()[:, 0], np.zeros(RATE)])
    y = EBBLE_R1.recorded(x * 0.2, RATE, np.random.default_rng(1))
    _, clock = to_player_clock(Signal(y[:, None], EBBLE_R1.rate), FILE)
    assert Caution.LEVEL_PROCESSED in with_clock(Result((), (), ()), [clock], EBBLE_R1.rate).cautions


def test_noise_suppression():
    """Everything whose short-time level lies under -50 dBFS is lowered by 12 dB."""

    def gate(x):
        level = np.sqrt(signal.lfilter([0.005], [1, -0.995], x**2))
        return x * np.where(level < 10 ** (-50 / 20), 0.25, 1.0)

    result = found(gate, noise=1e-6)
    assert Caution.NOISE_SUPPRESSED in result.cautions
    assert result.reading("noise_suppression").value == pytest.approx(12.0, abs=1.0)


@pytest.mark.parametrize("edge", [5000.0, 8000.0, 12000.0, 15000.0])
def test_a_band_limit(edge):
    result = found(lambda x: signal.sosfilt(signal.ellip(10, 0.1, 60, edge, fs=RATE, output="sos"), x))
    assert result.reading("band_limit").value == pytest.approx(edge, rel=0.07)
    assert Caution.BAND_LIMITED in result.cautions


def test_the_coder_of_a_low_bit_rate_is_found_and_a_good_one_is_not():
    """AAC at 32 kbit/s cuts the band; at 192 kbit/s what remains is above the highest band that counts."""
    low = found(lambda x: coded(x[:, None], RATE, 32_000)[:, 0])
    assert Caution.BAND_LIMITED in low.cautions
    assert low.reading("band_limit").value < 14000
    good = found(lambda x: coded(x[:, None], RATE, 192_000)[:, 0])
    assert Caution.LEVEL_PROCESSED not in good.cautions
    assert Caution.NOISE_SUPPRESSED not in good.cautions


def test_files_of_earlier_versions_have_no_bursts():
    data = FILE.to_json()
    assert MarkedSequence.from_json(data) == FILE
    del data["probe"]
    assert MarkedSequence.from_json(data).probe is None


def test_several_takes_in_one_recording():
    """The last one counts, and it is said; a single take is none of several, even with an echo of 0.3 s."""
    one = FILE.samples()[:, 0]
    rng = np.random.default_rng(2)
    spoiled = one.copy()
    spoiled[one.size // 3 : one.size // 2] += 0.3 * rng.standard_normal(one.size // 2 - one.size // 3)
    pauses = [np.zeros(round(s * RATE)) for s in (0.7, 1.9, 0.4)]
    x = np.concatenate([pauses[0], spoiled, pauses[1], 0.8 * one, pauses[2]])
    x = x + 1e-5 * rng.standard_normal(x.size)
    parts, clock = to_player_clock(Signal(x[:, None], RATE), FILE)
    assert clock.takes == 2
    assert clock.start == pytest.approx(pauses[0].size + one.size + pauses[1].size, abs=0.01)
    np.testing.assert_allclose(parts[0].signal.samples[:, 0], 0.8 * FILE.stimuli[0].samples(), atol=1e-4)
    result = with_clock(Result((), (), ()), [clock], RATE)
    assert Caution.SEVERAL_TAKES in result.cautions
    assert "2 takes; the last one" in result.reading("takes").at["finding"]
    echo = np.concatenate([np.zeros(RATE), one, np.zeros(RATE)])
    echo[round(0.3 * RATE) :] += 0.6 * echo[: -round(0.3 * RATE)]
    assert to_player_clock(Signal(echo[:, None], RATE), FILE)[1].takes == 1
