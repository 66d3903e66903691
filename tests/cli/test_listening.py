"""Sealed listening tests from the command line: made, answered, revealed, and what does not fit."""

import csv
import hashlib
import json

import numpy as np
import pytest
import soundfile

from epidote.core.analysis.listening.loudness import measure_loudness
from epidote.core.errors import SettingError
from epidote.core.stimuli.music import music
from epidote.measurement.listening.clips import AlignedClip, aligned_samples, match_clips, require_matched
from epidote.measurement.listening.sealed_test import TEST, commitment_of, sealed_tests
from epidote.study.store import Study

RATE = 48000
pytestmark = pytest.mark.xdist_group("sealed tests")


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """A study with two measured amplifiers, copied for each test."""
    from epidote.cli.app import run_command

    folder = tmp_path_factory.mktemp("listening")
    study = folder / "Heard.epidote"
    commands = [
        ["study", "new", str(study), "--title", "Heard"],
        ["study", "add", str(study), "--maker", "Havelmar", "--model", "A25", "--device", "standin:havelmar-a25"],
        ["study", "add", str(study), "--maker", "Ostrel", "--model", "P40", "--device", "standin:ostrel-p40"],
    ]
    for row in ("Havelmar A25", "Ostrel P40"):
        values = ["--set", "duration=1.3", "--set", "level=-30"]
        commands.append(["measure", "programme", "--study", str(study), "--subject", row, *values])
    for command in commands:
        assert run_command(command) == 0, command
    return study


@pytest.fixture
def study(made, tmp_path):
    import shutil

    return shutil.copytree(made, tmp_path / "Copy.epidote")


def sealed(run, study, folder, trials=6, *more):
    rows = ("--rows", "Havelmar A25", "--rows", "Ostrel P40")
    code, out, err = run("listen", "new", study, *rows, "--seal", folder, "--trials", trials, *more, "--json")
    assert code == 0, err
    return json.loads(out)


def sheet(folder, answers, listener="", name="answers.csv"):
    lines = (folder / "answers.csv").read_text().splitlines()
    head = [line if not line.startswith("# listener") else f"# listener: {listener}" for line in lines[:3]]
    path = folder.parent / name
    path.write_text("\n".join([*head, *(f"{n},{a}" for n, a in answers)]) + "\n")
    return path


def test_a_test_is_sealed_answered_and_revealed(run, study, tmp_path):
    folder = tmp_path / "handed out"
    made = sealed(run, study, folder)
    assert made["difference_db"] < 0.5
    names = {p.name for p in folder.iterdir()}
    assert names == {"A.wav", "B.wav", "answers.csv", "commitment.txt", "listen.html"} | {
        f"trial-{n:02d}.wav" for n in range(1, 7)
    }
    assert (folder / "commitment.txt").read_text().startswith(made["commitment"])
    assert "http" not in (folder / "listen.html").read_text()
    with Study(study) as opened:
        test = sealed_tests(opened)[0]
    assert commitment_of(test.letters, test.key, test.nonce) == made["commitment"]
    assert set(test.letters.values()) == {"Havelmar A25", "Ostrel P40"}
    # one listener who hears it, one who is wrong throughout
    right = sheet(folder, enumerate(test.key, start=1), "Ada", "ada.csv")
    wrong = sheet(folder, [(n, "B" if k == "A" else "A") for n, k in enumerate(test.key, 1)], "Bo", "bo.csv")
    code, out, err = run("listen", "answers", study, right, wrong, "--json")
    assert code == 0, err
    assert "correct" not in out, "statistics are hidden until the end"
    code, out, err = run("listen", "reveal", study, "--folder", folder, "--json")
    assert code == 0, err
    found = json.loads(out)
    assert (found["correct"], found["trials"]) == (6, 12)
    assert found["listeners"]["Ada"]["correct"] == 6
    assert found["listeners"]["Ada"]["p"] == pytest.approx(1 / 64)
    assert found["commitment_kept"] and found["changed_files"] == []
    code, out, _ = run("listen", "reveal", study)
    assert "audible difference demonstrated" in out and "commitment kept" in out


def test_no_answer_counts_once_the_key_was_shown(run, study, tmp_path):
    folder = tmp_path / "exported"
    sealed(run, study, folder)
    same = [(n, "A") for n in range(1, 7)]
    files = [sheet(folder, same, name, f"{name}.csv") for name in ("Ada", "Bo")]
    files.append(sheet(folder, [(n, "B") for n in range(1, 7)], "Cy", "Cy.csv"))
    assert run("listen", "answers", study, *files)[0] == 0
    code, out, _ = run("listen", "reveal", study)
    assert code == 0 and "Identical answers: Ada, Bo. Check that no sheet was copied." in out
    found = json.loads(run("listen", "reveal", study, "--json")[1])
    assert found["identical_answers"] == [["Ada", "Bo"]]
    code, _, err = run("listen", "answers", study, sheet(folder, same, "Dee", "Dee.csv"))
    assert code == 3 and "was revealed" in err and "start a new test" in err
    after = json.loads(run("listen", "reveal", study, "--json")[1])
    assert set(after["listeners"]) == {"Ada", "Bo", "Cy"} and after["trials"] == found["trials"]


def test_a_test_is_not_revealed_where_that_cannot_be_recorded(run, study, tmp_path):
    folder = tmp_path / "exported"
    sealed(run, study, folder)
    assert run("listen", "answers", study, sheet(folder, [(n, "A") for n in range(1, 7)], "Ada"))[0] == 0
    with Study(study):  # as another bench has it open
        code, out, err = run("listen", "reveal", study)
    assert code == 3 and "Nothing was revealed" in err and "was Ostrel" not in out


def test_the_files_give_nothing_away(run, study, tmp_path):
    folder = tmp_path / "handed out"
    sealed(run, study, folder)
    infos = [soundfile.info(folder / p.name) for p in sorted(folder.glob("*.wav"))]
    assert len({(i.frames, i.samplerate, i.subtype, i.channels) for i in infos}) == 1
    digests = [hashlib.sha256(p.read_bytes()).hexdigest() for p in folder.glob("*.wav")]
    assert len(set(digests)) == len(digests), "no two files are alike to the bit"
    loudness = [measure_loudness(*soundfile.read(p, always_2d=True)).integrated for p in folder.glob("*.wav")]
    assert max(loudness) - min(loudness) < 0.02
    a, b = (soundfile.read(folder / f"{x}.wav", always_2d=True)[0][:, 0] for x in "AB")
    spectrum = np.fft.rfft(a) * np.conj(np.fft.rfft(b))
    f = np.fft.rfftfreq(a.size)
    weight = np.abs(spectrum)
    slope = np.sum(weight * f * np.angle(spectrum)) / np.sum(weight * f * f) / (2 * np.pi)
    assert abs(slope) < 0.05, "in samples"


def test_files_and_keys_that_were_changed_are_named(run, study, tmp_path):
    folder = tmp_path / "handed out"
    sealed(run, study, folder)
    with Study(study) as opened:
        test = sealed_tests(opened)[0]
        entry = opened.entries.all(TEST)[0]
    run("listen", "answers", study, sheet(folder, enumerate(test.key, start=1), "Ada"))
    samples, rate = soundfile.read(folder / "trial-02.wav")
    soundfile.write(folder / "trial-02.wav", samples * 0.9, rate, subtype="PCM_24")
    _, out, _ = run("listen", "reveal", study, "--folder", folder, "--json")
    found = json.loads(out)
    assert found["changed_files"] == ["trial-02.wav"] and not found["commitment_kept"]
    with Study(study) as opened:
        data = dict(entry.data)
        data["key"] = ["B" if k == "A" else "A" for k in data["key"]]
        opened.entries.update(entry.id, data)
    _, out, _ = run("listen", "reveal", study, "--json")
    assert not json.loads(out)["commitment_kept"]
    assert "INVALID" in run("listen", "reveal", study)[1]


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        ([(1, "A"), (2, "B")], "trial 3, 4, 5, 6 is not answered"),
        ([(n, "A") for n in (1, 2, 3, 4, 5, 6, 6)], "trial 6 is answered twice"),
        ([(n, "A") for n in range(1, 8)], "trial “7” is not one of the 6"),
        ([(n, "C") for n in range(1, 7)], "instead of A or B"),
    ],
)
def test_answer_sheets_that_do_not_fit(run, study, tmp_path, answers, words):
    folder = tmp_path / "handed out"
    sealed(run, study, folder)
    code, _, err = run("listen", "answers", study, sheet(folder, answers, "Ada"))
    assert code == 3 and words in err
    code, _, err = run("listen", "reveal", study)
    assert code != 0 and "No answers have come back" in err


def test_a_foreign_sheet_and_a_listener_twice(run, study, tmp_path):
    folder = tmp_path / "handed out"
    sealed(run, study, folder)
    foreign = tmp_path / "foreign.csv"
    with foreign.open("w", newline="") as file:
        csv.writer(file).writerows([["# listening test 123"], ["trial", "answer"], [1, "A"]])
    code, _, err = run("listen", "answers", study, foreign)
    assert code == 3 and "is not an answer sheet of a test of this study" in err
    filled = sheet(folder, [(n, "A") for n in range(1, 7)], "Ada")
    assert run("listen", "answers", study, filled)[0] == 0
    code, _, err = run("listen", "answers", study, filled)
    assert code == 3 and "are already saved" in err


def test_what_cannot_be_sealed(run, study, tmp_path):
    rows = ("--rows", "Havelmar A25")
    code, _, err = run("listen", "new", study, *rows, "--seal", tmp_path / "x")
    assert code == 2 and "at least two clips" in err
    code, _, err = run("listen", "new", study, *rows, "--rows", "Baseline", "--seal", tmp_path / "x")
    assert code == 2 and "has no run of “Programme material”" in err
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "a.txt").write_text("there already")
    code, _, err = run("listen", "new", study, *rows, "--rows", "original", "--seal", tmp_path / "full")
    assert code == 3 and "not an empty folder" in err
    code, _, err = run("listen", "new", study, *rows, "--rows", "original", "--seal", tmp_path / "y", "--trials", "500")
    assert code == 2 and "use 1 to 100" in err


def test_levels_that_differ_are_refused_unless_overruled():
    """A tilt that no gain takes away: the same loudness, another level from 300 Hz to 3 kHz."""
    x = music(rate=RATE, duration=2.0, level=-12.0).samples()[:, None]
    tilted = np.cumsum(x, axis=0)
    tilted = tilted - tilted.mean()
    matched = match_clips([AlignedClip("plain", x), AlignedClip("tilted", tilted)], RATE)
    assert matched.difference > 1
    with pytest.raises(SettingError, match="say why the test is fair"):
        require_matched(matched)
    require_matched(matched, overruled="the tilt is what is asked for")
    same = match_clips([AlignedClip("plain", x), AlignedClip("louder", 1.7 * x)], RATE)
    require_matched(same, strict=True)
    assert same.difference < 1e-6
    assert same.clips[0].gain - same.clips[1].gain == pytest.approx(20 * np.log10(1.7), abs=0.001)


def test_clips_are_brought_to_the_original_s_place():
    x = music(rate=RATE, duration=2.0, level=-12.0).samples()
    late = np.concatenate([np.zeros(431), -0.3 * x])
    samples, delay, _ = aligned_samples(late[:, None], x[:, None], RATE)
    assert delay == pytest.approx(431, abs=0.01)
    np.testing.assert_allclose(samples[:, 0], 0.3 * x, atol=1e-5)
