"""A door and speech during a sweep in a room: found, told with their time, left out where another sweep remains.

The room is exponentially decaying noise (Schroeder's model of a diffuse field), the disturbances are band noise.
"""

import numpy as np
import pytest
from scipy import signal

from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

RATE = 48000
CHAIN = Chain(inputs=(1,), microphone_sensitivities=(0.05,), input_full_scale=1.0, output_full_scale=2.0)
SETTINGS = {"duration": 4.0, "level": -6}


def speech(rng):
    frames = round(0.6 * RATE)
    band = signal.butter(2, [200, 3000], "band", fs=RATE)
    syllables = 1 + np.sin(2 * np.pi * 5 * np.arange(frames) / RATE)
    return signal.lfilter(*band, rng.standard_normal(frames)) * np.hanning(frames) * syllables


def door(rng):
    t = np.arange(round(0.3 * RATE)) / RATE
    return signal.lfilter(*signal.butter(2, [60, 600], "band", fs=RATE), rng.standard_normal(t.size)) * np.exp(
        -t / 0.07
    )


def heard(seed, averages=1, sound=None, level=0.0, at=3.0, which=0):
    """Recordings of sweeps in a room with pink noise; ``sound`` begins ``at`` s after one of them does."""
    rng = np.random.default_rng(seed)
    settings = make_settings(procedure("response").Settings, {**SETTINGS, "averages": averages})
    stimulus = settings.played(RATE)
    room = rng.standard_normal(round(0.8 * RATE)) * 10 ** (-3 * np.arange(round(0.8 * RATE)) / RATE / 0.4) * 0.02
    room[0] = 0.5
    x = stimulus.samples()
    # the source's own distortion, at twice the rate so that nothing folds back
    up = signal.resample_poly(x, 2, 1)
    played = signal.resample_poly(up + 0.02 * up**2 + 0.04 * up**3, 1, 2)
    clean = signal.fftconvolve(played, np.concatenate([np.zeros(300), room]))[: x.size]
    f = np.fft.rfftfreq(x.size, 1 / RATE)
    recordings = []
    for number in range(averages):
        noise = np.fft.irfft(np.fft.rfft(rng.standard_normal(x.size)) / np.sqrt(np.maximum(f, 20)), x.size)
        y = clean + 1e-3 * noise / noise.std()
        if sound is not None and number == which:
            extra = sound(rng)
            begin = round(at * RATE)
            y[begin : begin + extra.size] += level * extra / np.sqrt(np.mean(extra**2))
        recordings.append(Recording(Signal(y[:, None], RATE), stimulus))
    return procedure("response").analyse(recordings, settings, CHAIN), settings


@pytest.mark.parametrize("sound", [speech, door])
def test_a_sound_beside_the_track_of_one_sweep(sound):
    result, _ = heard(1, sound=sound, level=0.02, at=3.2)
    found = result.reading("disturbed")
    assert Caution.DISTURBED in found.cautions
    begin, end = (float(v) for v in str(found.at["times"]).removesuffix(" s").split(" to "))
    assert 3.0 <= begin <= 3.3
    assert 3.4 <= end <= 4.2


@pytest.mark.parametrize("at", [0.5, 1.8, 3.0])
def test_of_three_sweeps_the_disturbed_one_is_left_out_wherever_it_is(at):
    result, _ = heard(2, averages=3, sound=speech, level=0.05, at=at, which=1)
    plain, _ = heard(2, averages=2)
    assert "of sweep 2" in str(result.reading("disturbed").at["finding"])
    assert result.curve("level").meta["averages"] == 2
    difference = result.curve("level").y - plain.curve("level").y
    assert np.abs(difference).max() < 0.1
    left_in, _ = heard(2, averages=1, sound=speech, level=0.05, at=at)
    assert np.abs(left_in.curve("level").y - plain.curve("level").y).max() > 0.3


def test_of_two_sweeps_the_track_says_which():
    result, _ = heard(3, averages=2, sound=speech, level=0.05, at=3.2, which=0)
    assert "of sweep 1" in str(result.reading("disturbed").at["finding"])
    assert result.curve("level").meta["averages"] == 1


@pytest.mark.parametrize("seed", range(4))
def test_a_quiet_room_is_not_disturbed(seed):
    for averages in (1, 2, 3):
        result, _ = heard(10 + seed, averages=averages)
        assert Caution.DISTURBED not in result.cautions


def test_a_wired_chain_is_not_looked_at():
    recordings, settings = [], make_settings(procedure("response").Settings, SETTINGS)
    stimulus = settings.played(RATE)
    x = stimulus.samples() + 1e-4 * np.random.default_rng(1).standard_normal(stimulus.frames)
    x[round(3.5 * RATE) : round(3.7 * RATE)] += 0.02 * np.random.default_rng(0).standard_normal(round(0.2 * RATE))
    recordings.append(Recording(Signal(x[:, None], RATE), stimulus))
    result = procedure("response").analyse(recordings, settings, Chain())
    assert result.reading("disturbed") is None
