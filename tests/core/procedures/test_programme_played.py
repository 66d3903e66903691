"""What programme plays: a file's channels each on an output, and sound that is equalised before it is played."""

import json

import numpy as np
import pytest
import soundfile
from scipy import signal

import epidote.audio.files.sound_file  # noqa: F401  tells the core how audio and text files are read
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.stimuli.equaliser import equalise, minimum_phase
from epidote.core.stimuli.music import music
from epidote.core.stimuli.speech import speech
from epidote.measurement.playback import play_and_record
from tests.ideal_device import IdealDevice

RATE = 48000
MUSIC = music(rate=RATE, duration=2.0, level=-6.0).samples()
STEREO = np.column_stack([MUSIC, 0.5 * MUSIC[::-1]])


def settings(**values):
    return make_settings(procedure("programme").Settings, {"duration": 2.0, "level": -12.0, **values})


@pytest.fixture
def file(tmp_path):
    path = tmp_path / "stereo.wav"
    soundfile.write(path, STEREO, RATE, subtype="FLOAT")
    return path


def test_each_channel_of_a_file_is_played_on_an_output_of_its_own(file):
    chosen, chain = settings(material=str(file)), Chain(rate=RATE)
    device = IdealDevice(lambda x: 0.5 * x, rate=RATE, late=100)
    recordings = play_and_record("programme", chosen, chain, device)
    assert recordings[0].signal.channels == 4, "two that came back, two that were played"
    played = recordings[0].signal.samples[:, 2:]
    ratio = np.abs(played).max(axis=0)
    assert ratio[1] / ratio[0] == pytest.approx(0.5, rel=1e-3), "levels between channels stay"
    result = procedure("programme").analyse(recordings, chosen, chain)
    for channel in (1, 2):
        assert result.reading("residual", channel).value < -100
        assert result.reading("gain", channel).value == pytest.approx(-6.0206, abs=0.001)


def test_all_channels_as_one(file):
    chosen = settings(material=str(file), channels="as one")
    assert chosen.played(RATE).by_output().shape[1] == 1


def test_the_spoken_line_is_a_voice():
    """Second way: the autocorrelation of its first vowel gives the pitch, the spectrum where nothing is radiated."""
    line = speech(rate=RATE, duration=4.0, level=-12.0)
    x = line.samples()
    assert np.abs(x).max() == pytest.approx(10 ** (-12 / 20))
    np.testing.assert_array_equal(speech(rate=RATE, duration=4.0, level=-12.0).samples(), x)
    lead = round(line["lead"])
    vowel = x[lead + 1500 : lead + 6500]
    height = signal.correlate(vowel, vowel)[vowel.size - 1 :]
    period = 200 + int(np.argmax(height[200:800]))
    assert RATE / period == pytest.approx(127, abs=4)
    f, power = signal.welch(x, RATE, nperseg=16384)
    assert power[f < 30].sum() < 1e-4 * power.sum()
    assert power[f > 3000].sum() > 1e-4 * power.sum(), "breath"
    chosen, chain = settings(piece="spoken line"), Chain(rate=RATE)
    device = IdealDevice(lambda x: -0.5 * x, rate=RATE, late=321, noise=1e-7)
    result = procedure("programme").analyse(play_and_record("programme", chosen, chain, device), chosen, chain)
    assert result.reading("polarity").value == -1
    assert result.reading("delay_samples").value == pytest.approx(321, abs=0.01)
    assert result.reading("residual_equalised").value < -90


def test_the_equaliser_has_the_gain_of_its_curve_and_minimum_phase():
    """Second way: scipy's response of the taps; and of all filters with this gain, the energy comes earliest."""
    frequency, gain = np.array([100.0, 1000.0, 10000.0]), np.array([6.0, 0.0, -12.0])
    taps = minimum_phase(frequency, gain, RATE)
    w, h = signal.freqz(taps, worN=np.geomspace(120, 9000, 50), fs=RATE)
    wanted = np.interp(np.log(w), np.log(frequency), gain)
    np.testing.assert_allclose(20 * np.log10(np.abs(h)), wanted, atol=0.02)
    zero_phase = np.roll(np.fft.irfft(np.abs(np.fft.rfft(taps))), 500)
    assert np.cumsum(taps**2)[100] > np.cumsum(zero_phase**2)[100]
    x = np.random.default_rng(0).standard_normal((4000, 2))
    np.testing.assert_allclose(equalise(x, RATE, frequency, gain)[:, 1], np.convolve(x[:, 1], taps)[:4000], atol=1e-9)


def test_correcting_a_response_brings_the_sound_nearer_to_the_original(tmp_path):
    """A unit with a bump of 6 dB: without and with the inverse of its response, by the residual before equalisation."""
    b, a = signal.iirpeak(1500, 1.0, fs=RATE)

    def bump(x):
        return x + signal.lfilter(b, a, x, axis=0)

    f = np.geomspace(50, 16000, 200)
    _, h = signal.freqz(b, a, worN=f, fs=RATE)
    curve = tmp_path / "inverse.txt"
    np.savetxt(curve, np.column_stack([f, -20 * np.log10(np.abs(1 + h))]))
    found = []
    for values in ({}, {"equaliser": str(curve)}):
        chosen, chain = settings(**values), Chain(rate=RATE)
        recordings = play_and_record("programme", chosen, chain, IdealDevice(bump, rate=RATE, late=50))
        found.append(procedure("programme").analyse(recordings, chosen, chain))
    assert found[0].reading("residual").value > -15
    assert found[1].reading("residual").value < -40
    assert found[1].reading("residual").at["equalised_with"] == "inverse.txt"
    assert "equalised with inverse.txt" in procedure("programme").summary(chosen)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("100 0\n", "at least two lines"),
        ("100 0\n50 1\n", "ascending order"),
        ("100 0\n200 90\n", "at most 40 dB"),
        ("no numbers here\n", "at least two lines"),
    ],
)
def test_curves_that_cannot_be_used(tmp_path, text, words):
    curve = tmp_path / "wrong.txt"
    curve.write_text(text)
    with pytest.raises(SettingError, match=words):
        settings(equaliser=str(curve)).played(RATE)


def test_the_inverse_of_a_row_is_written_for_it(run, tmp_path):
    study = tmp_path / "Inverse.epidote"
    assert run("study", "new", study)[0] == 0
    run("study", "add", study, "--maker", "Havelmar", "--model", "A25", "--device", "standin:havelmar-a25")
    values = ("--set", "duration=0.6", "--set", "level=-30")
    code, out, err = run("measure", "response", "--study", study, "--subject", "Havelmar A25", *values, "--json")
    assert code == 0, err
    assert json.loads(out)
    target = tmp_path / "inverse.txt"
    command = ("study", "inverse", study, "--subject", "Havelmar A25", target, "--low", 50, "--high", 12000)
    code, out, err = run(*command, "--limit", 3)
    assert code == 0, err
    assert "50 Hz to 12000 Hz" in out
    _, gain = np.loadtxt(target).T
    assert np.abs(gain).max() <= 3 and gain[0] == gain[-1] == 0
    assert settings(equaliser=str(target)).played(RATE).original is not None
    code, _, err = run("study", "inverse", study, "--subject", "Baseline", target)
    assert code != 0 and "has no run of “Response”" in err
