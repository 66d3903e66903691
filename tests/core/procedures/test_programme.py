"""Programme through simple units, and files recorded elsewhere: against formulas, lossy coding against the coder."""

import json

import numpy as np
import pytest
import soundfile
from scipy import signal

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import beside_original
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.music import music
from epidote.measurement.playback import play_and_record
from epidote.standins.coding import coded
from tests.ideal_device import IdealDevice

RATE = 48000
SETTINGS = {"duration": 4.0, "level": -6.0}
MUSIC = music(rate=RATE, duration=4.0, level=-6.0).samples()


def settings(**values):
    return make_settings(procedure("programme").Settings, {**SETTINGS, **values})


def compared(x, original=MUSIC, **values):
    """A recording made elsewhere, beside its original."""
    columns = (np.asarray(a).reshape(len(a), -1) for a in (x, original))
    recording = beside_original(*(Signal(c, RATE) for c in columns))
    return procedure("programme").analyse([recording], settings(**values), Chain())


def test_a_plain_wire():
    chosen = settings()
    device = IdealDevice(lambda x: 0.5 * x, rate=RATE, late=321, noise=1e-7)
    chain = Chain(rate=RATE)
    result = procedure("programme").analyse(play_and_record("programme", chosen, chain, device), chosen, chain)
    for number in (1, 2):
        assert result.reading("gain", number).value == pytest.approx(-6.0206, abs=0.001)
        assert result.reading("delay_samples", number).value == pytest.approx(321, abs=0.01)
        assert result.reading("residual", number).value < -95
        assert result.reading("share_above_mask", number).value == 0
        assert result.reading("correlation", number).value > 1 - 1e-9
    difference = result.reading("loudness").value - result.reading("loudness_original").value
    # both channels of the recording are summed: 3.01 dB over one, 6.02 dB lower in each
    assert difference == pytest.approx(-3.01, abs=0.02)


def test_a_roll_off_is_no_residual_once_it_is_taken_out():
    x = signal.sosfilt(signal.butter(1, 9000, fs=RATE, output="sos"), np.concatenate([np.zeros(50), MUSIC]))
    result = compared(-x + 1e-7 * np.random.default_rng(0).standard_normal(x.size))
    assert result.reading("polarity").value == -1
    assert result.reading("residual").value > -40 and result.reading("residual_equalised").value < -90
    level = result.curve("level")
    inside = (level.x > 100) & (level.x < 9000)
    digital = 2 * RATE * np.tan(np.pi * level.x / RATE)  # the bilinear transform's frequency
    corner = 2 * RATE * np.tan(np.pi * 9000 / RATE)
    expected = -10 * np.log10(1 + (digital / corner) ** 2)
    np.testing.assert_allclose(level.y[inside], expected[inside], atol=0.15)
    assert result.reading("noise_to_mask_aligned").value > result.reading("noise_to_mask").value + 10


def test_noise_in_one_band_and_moment():
    """Noise 30 dB under the music between 2 and 4 kHz in the third second."""
    rng = np.random.default_rng(4)
    noise = signal.sosfilt(
        signal.butter(6, [2000, 4000], "band", fs=RATE, output="sos"), rng.standard_normal(MUSIC.size)
    )
    where = np.zeros(MUSIC.size)
    where[round(2.5 * RATE) : round(3.5 * RATE)] = 1
    x = MUSIC + 0.02 * noise / noise.std() * MUSIC.std() * where
    result = compared(x)
    bands = result.curve("residual_bands")
    assert 1900 < bands.x[np.argmax(bands.y)] < 4200
    times = result.curve("residual_time")
    loud = times.x[times.y > times.y.max() - 10]
    assert loud.min() > 2.3 and loud.max() < 3.7
    worst = result.reading("noise_to_mask_worst")
    assert 2.3 < worst.at["time_s"] < 3.7
    assert 1800 < worst.at["frequency_hz"] < 4500
    assert "no listening test" in result.reading("noise_to_mask").at["finding"]


def test_lossy_coding_at_falling_rates_aligned_only():
    found = [
        compared(coded(MUSIC[:, None], RATE, rate)).reading("noise_to_mask_aligned").value
        for rate in (192_000, 64_000, 32_000)
    ]
    assert found == sorted(found)


def test_each_channel_has_its_own_original():
    other = signal.lfilter([1.0], [1.0], MUSIC[::-1])
    original = np.column_stack([MUSIC, other])
    result = compared(np.concatenate([np.zeros((77, 2)), 0.5 * original]), original)
    for number in (1, 2):
        assert result.reading("delay_samples", number).value == pytest.approx(77, abs=0.01)
        assert result.reading("residual", number).value < -100


def test_other_music_and_silence_say_so():
    other = np.random.default_rng(1).standard_normal(MUSIC.size) * 0.1
    result = compared(other)
    assert Caution.STIMULUS_NOT_FOUND in result.cautions
    assert result.reading("residual").value is None
    silent = compared(np.zeros(MUSIC.size))
    assert silent.reading("residual").value is None


def test_the_difference_can_be_heard():
    x = MUSIC + 0.001 * np.sin(2 * np.pi * 3000 * np.arange(MUSIC.size) / RATE)
    recording = beside_original(Signal(x[:, None], RATE), Signal(MUSIC[:, None], RATE))
    sound = procedure("programme").make_sound("difference", [recording], settings(), Chain(), 1)
    spectrum = np.abs(np.fft.rfft(sound.samples[:, 0] * np.hanning(sound.frames)))
    assert np.argmax(spectrum) * RATE / sound.frames == pytest.approx(3000, abs=2)


def test_the_command(run, tmp_path):
    soundfile.write(tmp_path / "original.wav", MUSIC, RATE, subtype="PCM_24")
    soundfile.write(tmp_path / "recorded.wav", np.concatenate([np.zeros(1000), 0.25 * MUSIC]), RATE, subtype="PCM_24")
    code, out, err = run(
        "analyse", "programme", tmp_path / "recorded.wav", "--original", tmp_path / "original.wav", "--json"
    )
    assert code == 0, err
    found = {r["key"]: r["value"] for r in json.loads(out)["readings"] if r["channel"] == 1}
    assert found["gain"] == pytest.approx(-12.041, abs=0.001)
    assert found["delay_samples"] == pytest.approx(1000, abs=0.01)
    assert found["clock_offset"] == pytest.approx(0, abs=0.01)
    assert found["residual_equalised"] < -100
    assert {"noise_to_mask", "noise_to_mask_worst", "share_above_mask", "loudness", "polarity", "delay"} <= found.keys()
    keys = {c["key"] for c in json.loads(out)["curves"]}
    assert {"residual_bands", "residual_time", "noise_to_mask_time"} <= keys
    code, _, err = run("analyse", "tone", tmp_path / "recorded.wav", "--original", tmp_path / "original.wav")
    assert code == 2 and "does not compare" in err


def test_a_file_that_is_missing_or_short(tmp_path):
    proc = procedure("programme")
    soundfile.write(tmp_path / "short.wav", np.ones(2000) * 0.1, RATE)
    with pytest.raises(SettingError, match="less than 1 s"):
        next(proc.conduct(settings(material=str(tmp_path / "short.wav")), Chain(rate=RATE)))
    soundfile.write(tmp_path / "long.wav", MUSIC, RATE)
    chosen = settings(material=str(tmp_path / "long.wav"), start=1.0, duration=1.0)
    stimulus = next(proc.conduct(chosen, Chain(rate=RATE)))
    inner = stimulus.samples()[RATE // 2 + 2400 : RATE // 2 + RATE - 2400]
    part = MUSIC[RATE : 2 * RATE][2400:-2400]
    np.testing.assert_allclose(inner / np.abs(inner).max(), part / np.abs(part).max(), atol=0.01)


def test_a_recording_that_ends_early_is_compared_as_far_as_it_goes():
    result = compared(0.5 * MUSIC[: MUSIC.size // 2])
    assert result.reading("gain").value == pytest.approx(-6.0206, abs=0.001)
    assert result.reading("residual").value < -80
    assert result.reading("dropouts").value == 1
    assert f"{MUSIC.size / 2 / RATE:.2f} s" in result.reading("dropouts").at["times"]
    assert Caution.DROPOUT in result.cautions


def test_onsets_of_notes_are_no_dropouts():
    for sign in (1, -1):
        assert Caution.DROPOUT not in compared(sign * MUSIC).cautions
