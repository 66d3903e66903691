"""Every kind of bad input: a clear message on standard error, the right exit code, nothing on standard output, no
traceback.
"""

import json

import numpy as np
import pytest
import soundfile

from tests.conftest import sine

RATE = 48000


def sound(path, x, rate=RATE, subtype="DOUBLE"):
    soundfile.write(path, x, rate, subtype=subtype)


@pytest.fixture
def files(tmp_path, run):
    run("stimulus", "response", tmp_path / "sweep.wav", "--set", "duration=1")
    x, _ = soundfile.read(tmp_path / "sweep.wav")
    sound(tmp_path / "tone.wav", sine(997, 0.5, RATE, RATE))
    sound(tmp_path / "noise.wav", np.random.default_rng(0).standard_normal(RATE * 2) * 0.1)
    sound(tmp_path / "silence.wav", np.zeros(RATE))
    sound(tmp_path / "one.wav", np.array([0.5]))
    sound(tmp_path / "nan.wav", np.where(np.arange(RATE) == 700, np.nan, 0.1))
    sound(tmp_path / "inf.wav", np.where(np.arange(RATE) == 700, np.inf, 0.1))
    sound(tmp_path / "other_rate.wav", x, 44100)
    (tmp_path / "text.wav").write_text("This is no sound.\n" * 100)
    (tmp_path / "empty.wav").write_bytes(b"")
    (tmp_path / "cut.wav").write_bytes((tmp_path / "tone.wav").read_bytes()[:100_000])
    (tmp_path / "bad.toml").write_text("rate = 'fast'")
    (tmp_path / "bad.json").write_text("{]")
    (tmp_path / "folder.wav").mkdir()
    return tmp_path


CASES = [
    ("analyse tone text.wav", 3, "not a readable audio file"),
    ("analyse tone empty.wav", 3, "is empty"),
    ("analyse tone cut.wav", 3, "truncated"),
    ("analyse tone folder.wav", 3, "is a folder"),
    ("analyse tone missing.wav", 3, "No such file"),
    ("analyse tone nan.wav", 3, "invalid samples"),
    ("analyse tone inf.wav", 3, "invalid samples"),
    ("analyse response nan.wav", 3, "invalid samples"),
    ("analyse tone one.wav", 3, "1 of at least"),
    ("analyse response one.wav", 3, "1 of at least"),
    ("analyse response other_rate.wav --stimulus sweep.json", 3, "44100 Hz, its stimulus 48000 Hz"),
    ("analyse tone tone.wav --channel 2", 3, "channels of tone.wav: 1"),
    ("analyse tone tone.wav --stimulus bad.json", 3, "bad.json is not valid JSON"),
    ("analyse tone tone.wav --stimulus missing.json", 3, "cannot be read"),
    ("analyse tone tone.wav --chain bad.toml", 3, "rate: “fast” is not valid"),
    ("analyse tone tone.wav --chain missing.toml", 3, "cannot be read"),
    ("analyse tone tone.wav --chain noise.wav", 3, "not text"),
    (
        "analyse gong tone.wav",
        2,
        (
            "Available: band-levels, crosstalk, distortion-frequency, distortion-level, gain, impedance,"
            " impulsive-distortion,"
            " intermodulation, latency, maximum-level, microphone,"
            " multitone, noise, paths, programme, response, spectrum, tone"
        ),
    ),
    ("analyse tone tone.wav --set colour=red", 2, "Unknown setting “colour”"),
    ("analyse tone tone.wav --set harmonics=1000", 2, "harmonics: “1000” is not valid; enter 50 or less"),
    ("analyse tone tone.wav --set band_low=loud", 2, "band_low: “loud” is not a number"),
    ("analyse tone tone.wav --set band_low", 2, "Use name=value"),
    ("analyse tone tone.wav --set band_low=30k", 2, "band_low 30000 Hz must be lower than"),
    ("analyse tone", 2, "Missing argument"),
    ("analyse tone tone.wav --loud", 2, "No such option"),
    ("gong", 2, "No such command"),
    ("stimulus tone out.wav --rate 5", 2, "out of range"),
    ("stimulus tone out.wav --set frequency=40k", 2, "less than 24000 Hz"),
    ("stimulus response out.wav --set stop_frequency=23k", 2, "too high for 48000 Hz"),
    ("stimulus tone out.flac --bits 32f", 2, "cannot store 32-bit float"),
    ("stimulus tone nowhere/out.wav", 4, "could not be written"),
    ("stimulus tone out.wav --bits 12", 2, "Invalid value"),
    ("measure tone --study tone.wav --subject x", 3, "is a file, not a study"),
    ("measure tone --study folder.wav --subject x", 3, "study.sqlite is missing"),
    ("study show missing.epidote", 3, "does not exist"),
    ("study new folder.wav/x/y/z --chain bad.toml", 3, "rate: “fast” is not valid"),
]


@pytest.mark.parametrize(("command", "code", "words"), CASES, ids=[c[0] for c in CASES])
def test_bad_input(files, run, monkeypatch, command, code, words):
    monkeypatch.chdir(files)
    before = {f.name for f in files.iterdir()}
    got, out, err = run(*command.split())
    assert got == code
    assert words in err
    assert err.startswith("epidote: ")
    assert "Traceback" not in err
    assert out == ""
    assert {f.name for f in files.iterdir()} == before, "nothing was made on the way"


@pytest.mark.parametrize("name", ["noise.wav", "silence.wav", "tone.wav"])
def test_a_recording_without_the_sweep(files, run, monkeypatch, name):
    monkeypatch.chdir(files)
    code, out, err = run("analyse", "response", name, "--stimulus", "sweep.json", "--json")
    assert code == 3
    assert "was not found in the recording" in err
    result = json.loads(out)
    assert "stimulus_not_found" in result["cautions"]
    assert all(r["value"] is None for r in result["readings"])


def test_silence_has_no_tone(files, run, monkeypatch):
    monkeypatch.chdir(files)
    code, out, _err = run("analyse", "tone", "silence.wav", "--json")
    assert code == 3
    assert set(json.loads(out)["cautions"]) >= {"stimulus_not_found", "too_quiet"}


def test_rows_that_are_not_there_or_not_one(run, tmp_path):
    path = tmp_path / "S.epidote"
    run("study", "new", path)
    run("study", "add", path, "--maker", "A", "--model", "B", "--condition", "gain=1")
    run("study", "add", path, "--maker", "A", "--model", "B", "--condition", "gain=2")
    code, _, err = run("measure", "tone", "--study", path, "--subject", "C")
    assert (code, "“C” matches no row" in err, "A B, gain 1" in err) == (2, True, True)
    code, _, err = run("measure", "tone", "--study", path, "--subject", "A B")
    assert (code, "more than one row" in err) == (2, True)
    code, _, err = run("measure", "tone", "--study", path, "--subject", "A B, gain 1", "--device", "hw:3")
    assert (code, "Unknown device" in err) == (2, True)
    code, _, err = run("study", "add", path, "--maker", "A", "--model", "B", "--condition", "gain=1")
    assert (code, "already" in err) == (3, True)
    code, _, err = run("study", "add", path, "--maker", "A", "--condition", "gain")
    assert (code, "name=value" in err) == (2, True)
    assert "not measured" not in run("study", "show", path)[1]


def test_what_should_never_happen_is_no_traceback_either(run, monkeypatch, tmp_path):
    monkeypatch.setattr("epidote.audio.registry.devices", lambda: 1 / 0)
    code, _, err = run("devices")
    assert code == 4
    assert "internal error (ZeroDivisionError" in err
