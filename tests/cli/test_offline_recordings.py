"""Played and recorded elsewhere: the marked file, its recording on another clock, and the careful start from the
command line.
"""

import json

import numpy as np
import pytest
import soundfile

from epidote.audio.files.sound_file import decode_kept, read_sound
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals.resampling import resample
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.offline import import_marked_recording, marked_file, offline_stimuli, write_sound
from epidote.measurement.recompute import recompute
from epidote.measurement.request import RunPlan
from tests.conftest import measured, small_study


def recorded(path, out, *, ppm=87.5, rate=48000, gain=0.25, start=17000.4, noise=1e-5):
    """The file through a recorder on another clock, at another rate, at another level, switched on before it."""
    x, own = soundfile.read(path)
    ratio = rate / own * (1 + ppm * 1e-6)
    y = gain * resample(x, 1 / ratio, -start, int(x.size * ratio) + 60000)
    soundfile.write(out, y + noise * np.random.default_rng(1).standard_normal(y.size), rate, subtype="FLOAT")
    return out


@pytest.mark.parametrize(("name", "rate"), [("a.wav", 48000), ("a.flac", 44100)])
def test_response_from_a_recording_made_elsewhere(tmp_path, run, name, rate):
    code, out, _ = run(
        "stimulus",
        "response",
        tmp_path / name,
        "--marked",
        "--set",
        "duration=2",
        "--set",
        "stop_frequency=16k",
        "--json",
    )
    assert code == 0
    described = json.loads(out)
    assert [s["what"] for s in described["schedule"]] == ["mark", "sweep", "mark"]
    take = recorded(tmp_path / name, tmp_path / "take.wav", rate=rate)
    code, out, _ = run("analyse", "response", take, "--stimulus", tmp_path / "a.json", "--json")
    assert code == 0
    found = json.loads(out)
    readings = {r["key"]: r for r in found["readings"]}
    assert readings["clock_offset"]["value"] == pytest.approx(87.5, abs=0.01)
    assert 0 < readings["clock_offset"]["spread"] < 0.001
    assert readings["gain_1k"]["value"] == pytest.approx(20 * np.log10(0.25), abs=1e-3)
    assert readings["flatness"]["value"] < 0.01
    assert "other_clock" in found["cautions"]


def test_tone_and_averaged_sweeps_are_cut_out_of_one_file(tmp_path, run):
    run(
        "stimulus",
        "response",
        tmp_path / "r.wav",
        "--marked",
        "--set",
        "duration=1",
        "--set",
        "averages=3",
        "--set",
        "stop_frequency=16k",
    )
    take = recorded(tmp_path / "r.wav", tmp_path / "take.wav")
    code, out, _ = run("analyse", "response", take, "--stimulus", tmp_path / "r.json", "--json")
    assert code == 0
    level = next(c for c in json.loads(out)["curves"] if c["key"] == "level")
    assert level["meta"]["averages"] == 3
    run("stimulus", "tone", tmp_path / "t.wav", "--marked", "--set", "duration=1", "--bits", "16")
    code, out, _ = run(
        "analyse",
        "tone",
        recorded(tmp_path / "t.wav", tmp_path / "take2.wav"),
        "--stimulus",
        tmp_path / "t.json",
        "--json",
    )
    readings = {r["key"]: r for r in json.loads(out)["readings"]}
    assert readings["frequency"]["value"] == pytest.approx(1000, abs=1e-4)
    assert readings["level"]["value"] == pytest.approx(-6 + 20 * np.log10(0.25), abs=1e-3)


def test_recordings_that_do_not_fit_are_refused(tmp_path, run):
    run("stimulus", "tone", tmp_path / "t.wav", "--marked", "--set", "duration=1")
    x, rate = soundfile.read(tmp_path / "t.wav")
    soundfile.write(tmp_path / "cut.wav", x[: x.size // 2], rate)
    soundfile.write(tmp_path / "other.wav", 0.1 * np.random.default_rng(2).standard_normal(2 * x.size), rate)
    for name, words in (("cut.wav", "shorter than the file"), ("other.wav", "were not found")):
        code, _, err = run("analyse", "tone", tmp_path / name, "--stimulus", tmp_path / "t.json")
        assert code == 3
        assert words in err
    broken = json.loads((tmp_path / "t.json").read_text())
    broken["marked"]["first_mark"] = 10**9
    (tmp_path / "broken.json").write_text(json.dumps(broken))
    code, _, err = run("analyse", "tone", tmp_path / "cut.wav", "--stimulus", tmp_path / "broken.json")
    assert code == 3
    assert "do not enclose" in err


def test_what_plays_nothing_is_no_file():
    with pytest.raises(SettingError, match="plays nothing"):
        offline_stimuli("spectrum", procedure("spectrum").Settings(), Chain())


def test_flac_holds_no_floats(tmp_path):
    with pytest.raises(SettingError, match="FLAC cannot store 32-bit float"):
        file = marked_file("tone", procedure("tone").Settings(duration=0.2), Chain())
        write_sound(tmp_path / "x.flac", file.samples(), file.rate, "32f")


def test_a_recording_becomes_a_run(study, tmp_path):
    subject, column = study.overview().subjects[1], study.overview().columns[1]
    chain = chain_for_subject(study, subject)
    settings = make_settings(procedure("response").Settings, {"duration": 1.0, "stop_frequency": 16000, "level": -20})
    order = RunPlan(subject.id, column.id, "response", settings, chain)
    file = marked_file("response", settings, chain)
    write_sound(tmp_path / "r.wav", file.samples(), file.rate, "24")
    run = import_marked_recording(study, order, recorded(tmp_path / "r.wav", tmp_path / "take.wav"))
    assert run.device == "imported recording: take.wav"
    clock = next(r for r in run.readings if r.key == "clock_offset")
    assert clock.value == pytest.approx(87.5, abs=0.01)
    (kept,) = study.recordings(run.id)
    assert kept.stimulus is not None
    # the recording itself is kept as it came: nothing cut, not resampled
    came = read_sound(tmp_path / "take.wav")
    (name,) = study.folder.names("recordings")
    stored = decode_kept(study.folder.read("recordings", name))
    assert stored.rate == came.rate
    assert (stored.samples == came.samples).all()
    # recomputed, it still knows of the other clock
    again = recompute(study, run.id, {"smoothing": "1/3"})
    assert "other_clock" in again.cautions
    facts = {(r.key, r.channel): r.value for r in again.readings if r.key in ("clock_offset", "start")}
    assert facts == {(r.key, r.channel): r.value for r in run.readings if r.key in ("clock_offset", "start")}
    assert len(facts) == 2
    soundfile.write(tmp_path / "silence.wav", np.zeros(400000), 48000)
    with pytest.raises(UnusableInputError):
        import_marked_recording(study, order, tmp_path / "silence.wav")
    assert study.overview().runs[subject.id, column.id].id == again.id


def test_devices_are_listed(run):
    code, out, _ = run("devices", "--json")
    assert code == 0
    assert {"standin:wire", "standin:kelwin-d6"} <= {d["name"] for d in json.loads(out)}


def test_a_state_kept_is_analysed_like_any_recording(study):
    from epidote.measurement.runner import store_recording

    t = np.arange(96000) / 48000
    x = np.column_stack([1e-4 * np.sin(2 * np.pi * 50 * t), 1e-5 * np.sin(2 * np.pi * 100 * t)])
    run = store_recording(
        study, study.overview().subjects[1].id, "spectrum", {"duration": 2.0}, x, rate=48000, device="by hand"
    )
    values = {(r.key, r.channel): r.value for r in run.readings}
    # 8 V full scale behind a divider of 4: 32 V
    assert values["mains_1", 1] == pytest.approx(32 * 1e-4, rel=1e-3)
    assert values["mains_2", 2] == pytest.approx(32 * 1e-5, rel=1e-3)
    assert values["level", 1] == pytest.approx(32 * 1e-4, rel=1e-3)


def test_a_run_from_the_command_line_is_checked_first(study, run):
    """-4 dBFS ask the P40 for more than its supply has: the shot says so, and only the shot."""
    study.close()
    arguments = (
        "measure",
        "tone",
        "--study",
        study.path,
        "--subject",
        "Ostrel P40",
        "--set",
        "duration=0.2",
        "--set",
        "level=-4",
        "--json",
    )
    code, out, _ = run(*arguments)
    assert code == 0
    assert "processing" in json.loads(out)["cautions"]
    code, out, _ = run(*arguments, "--no-check")
    assert "processing" not in json.loads(out)["cautions"]


def test_the_chain_s_own_device_is_used_when_a_row_names_none(study, run):
    from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml

    chain = chain_from_toml(study.chain_toml).model_copy(update={"device": "standin:havelmar-a25"})
    study.set_setting("chain", chain_to_toml(chain))
    row = study.overview().subjects[1]
    study.update_subject(type(row)(row.id, row.unit, row.conditions, "", row.colour, row.position))
    study.close()
    code, out, err = run(
        "measure",
        "tone",
        "--study",
        study.path,
        "--subject",
        "Ostrel P40",
        "--set",
        "duration=0.2",
        "--set",
        "level=-20",
        "--json",
    )
    assert code == 0, err
    assert json.loads(out)["device"] == "Stand-in interface with a Havelmar A25"


def test_measured_twice_with_one_seed_is_the_same(study):
    one, two = (measured(study, 1, 0, seed=8) for _ in range(2))
    assert one.readings == two.readings
    assert open_for_chain(Chain(), "standin:wire", {}).latency() == pytest.approx(2 * 512 / 48000)


def test_the_sound_of_a_run_is_written(tmp_path, run):
    """What is left of a loose loudspeaker's sweep, raised to a peak of -3 dBFS."""
    study = tmp_path / "Rattle.epidote"
    run("study", "new", study, "--title", "Rattle")
    unit = ("--maker", "Kelwin", "--model", "T2", "--condition", "state=loose")
    run("study", "add", study, *unit, "--device", "standin:kelwin-t2")
    code, out, err = run(
        *("measure", "impulsive-distortion", "--study", study, "--subject", "2"),
        *("--set", "duration=4", "--set", "level=-6", "--json"),
    )
    assert code == 0, err
    number = json.loads(out)["run"]
    code, out, err = run("study", "sound", study, number, "residual", "--out", tmp_path / "rattle.flac", "--json")
    assert code == 0, err
    samples, rate = soundfile.read(tmp_path / "rattle.flac")
    assert rate == 48000
    assert np.abs(samples).max() == pytest.approx(10 ** (-3 / 20), rel=0.01)
    assert json.loads(out)["raised_db"] > 10
    for arguments, words in (
        (("loud", "--out", tmp_path / "x.wav"), "makes no sound “loud”"),
        (("residual", "--channel", "7", "--out", tmp_path / "x.wav"), "no channel 7"),
        (("residual", "--out", tmp_path / "x.mp3"), "only .wav and .flac"),
    ):
        code, _, err = run("study", "sound", study, number, *arguments)
        assert code in (2, 3)
        assert words in err


def test_a_stimulus_that_is_waited_for_is_not_overwritten(run, tmp_path):
    study = small_study(tmp_path)
    study.close()
    stimulus = tmp_path / "sweep.wav"
    words = ("study", "await", study.path, stimulus, "--subject", "Ostrel P40", "--procedure", "response")
    assert run(*words)[0] == 0
    before = stimulus.read_bytes()
    code, _, err = run(*words, "--set", "level=-30")
    assert code == 2 and "waits for its recording. Nothing was written" in err
    assert stimulus.read_bytes() == before
