"""Kinds of listening test with simulated listeners: what is drawn, handed out, answered and said."""

import csv
import io
import json
import random
import zipfile
from collections import Counter

import numpy as np
import pytest
from scipy import stats

from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.stimuli.music import music
from epidote.measurement.listening import package
from epidote.measurement.listening.answers import (
    Sheet,
    keep_answers,
    keep_sheet,
    read_sheet,
    reveal_test,
)
from epidote.measurement.listening.clips import (
    ANCHOR,
    ORIGINAL,
    AlignedClip,
    AlignedRun,
    clips_of_runs,
    low_anchor,
    match_clips,
)
from epidote.measurement.listening.kinds import KINDS, ListeningDesign
from epidote.measurement.listening.package import changed_files, seal_test
from epidote.measurement.listening.sealed_test import draw_test, keep_test, sealed_tests
from epidote.measurement.listening.sitting import Sitting
from epidote.study.store import create_study

RATE = 48000


@pytest.fixture(scope="module")
def runs():
    """Two recordings of the same stereo music as if measured: one as it is, one with a little noise."""
    mono = music(rate=RATE, duration=1.0, level=-12.0).samples()
    x = np.stack([mono, np.roll(mono, 200)], axis=1)
    noisy = x + 1e-3 * np.random.default_rng(1).standard_normal(x.shape)
    return [AlignedRun(y, x, RATE, 0.0, 0.0) for y in (x, noisy)]


@pytest.fixture
def study(tmp_path):
    made = create_study(tmp_path / "Heard.epidote", "Heard")
    yield made
    made.close()


def matched(runs, *, original=False, anchor=False):
    return clips_of_runs([("Wire", 1, runs[0]), ("Noisy", 2, runs[1])], original=original, anchor=anchor)


def test_all_kinds_draw_anew_and_play_every_clip_alike_often(runs):
    chance = random.Random(1)
    codes = "ABC"
    pairs = KINDS["preference"].draw(codes, 12, chance)
    assert Counter(frozenset(k) for k in pairs) == dict.fromkeys(map(frozenset, ("AB", "AC", "BC")), 4)
    assert Counter(pairs) == dict.fromkeys(("AB", "BA", "AC", "CA", "BC", "CB"), 2), "each is first as often as second"
    with pytest.raises(SettingError, match="3 pairs; 10 trials"):
        KINDS["preference"].draw(codes, 10, chance)
    grading = KINDS["grading"].draw(codes, 600, chance)
    first = Counter(key[0] for key in grading)
    assert min(first.values()) > 150
    unknown = Counter(KINDS["forced-choice"].draw("AB", 1000, chance))
    assert stats.binomtest(unknown["A"], 1000).pvalue > 1e-6


def test_grading_against_a_hidden_reference(runs, study, tmp_path):
    clips = matched(runs, original=True, anchor=True)
    assert {c.name for c in clips.clips} == {ORIGINAL, ANCHOR, "Wire", "Noisy"}
    test = seal_test(study, clips, tmp_path / "out.zip", ListeningDesign("grading", 8))
    with zipfile.ZipFile(tmp_path / "out.zip") as archive:
        names = set(archive.namelist())
        lines = list(csv.reader(io.StringIO(archive.read("answers.csv").decode())))
        page = archive.read("listen.html").decode()
    assert {"Reference.wav", "trial-01-A.wav", "trial-08-D.wav"} <= names and len(names) == 3 + 1 + 8 * 4
    assert lines[2] == ["trial", "A", "B", "C", "D"]
    assert "Excellent" in page and "http" not in page and "Wire" not in page
    assert changed_files(test, tmp_path / "out.zip") == ()
    # a listener who hears the anchor and the noise, not the wire
    level = {ORIGINAL: 98, "Wire": 98, "Noisy": 70, ANCHOR: 20}
    for name in ("ada", "bo"):
        rows = [
            [n, *(level[test.letters[code]] + (n % 3 - 1 if level[test.letters[code]] < 90 else 0) for code in key)]
            for n, key in enumerate(test.key, start=1)
        ]
        path = tmp_path / f"{name}.csv"
        text = "\n".join([f"# listening test {test.number}", f"# listener: {name}", "trial,A,B,C,D"])
        path.write_text(text + "\n" + "\n".join(",".join(map(str, row)) for row in rows) + "\n")
        keep_answers(study, [path])
    found = reveal_test(study)
    grades = found.together.figures["grades"]
    assert grades["Noisy"]["median"] == pytest.approx(70, abs=2) and grades[ANCHOR]["median"] < 25
    assert found.together.figures["p"] < 1e-6, "Friedman"
    words = " ".join(found.together.words)
    assert (
        f"{ORIGINAL} and Wire: no significant difference" in words
        or f"Wire and {ORIGINAL}: no significant difference" in words
    )
    assert "graded differently" in words
    assert set(found.apart) == {"ada", "bo"}
    json.dumps(found.together.figures)


def test_grades_that_are_none_are_named(runs, study, tmp_path):
    test = seal_test(study, matched(runs, original=True, anchor=True), tmp_path / "out", ListeningDesign("grading", 1))
    head = f"# listening test {test.number}\ntrial,A,B,C,D\n"
    for cells, words in (("1,90,80,70,101", "“101”, which is no grade"), ("1,90,80,70", "3 grades instead of 4")):
        path = tmp_path / "wrong.csv"
        path.write_text(head + cells + "\n")
        with pytest.raises(UnusableInputError, match=words):
            read_sheet(study, path)


def test_preferences_give_strengths_and_exact_pairs(runs, study):
    drawn = draw_test(matched(runs), ListeningDesign("preference", 12))
    keep_test(study, drawn.test)
    answers = ["A" if drawn.test.letters[key[0]] == "Wire" else "B" for key in drawn.test.key]
    keep_sheet(study, Sheet(test=drawn.test.number, listener="Ada", answers=answers))
    found = reveal_test(study).together
    assert found.words[0].startswith("Wire was preferred to Noisy (12 of 12, p = ")
    assert found.figures["pairs"][0]["p"] == pytest.approx(2 * 0.5**12)
    assert found.figures["strengths"]["Wire"] > 0.9


def test_a_control_of_two_equal_clips_says_that_nothing_is_heard(runs, study):
    """Over many tests a listener who can only guess is believed about as often as stated, at most."""
    clips = clips_of_runs([("Wire", 1, runs[0]), ("Wire", 1, runs[0])], original=False, anchor=False)
    assert [c.name for c in clips.clips] == ["Wire", "Wire (same clip)"]
    assert clips.difference == 0
    np.testing.assert_array_equal(clips.clips[0].samples, clips.clips[1].samples)
    drawn = draw_test(clips, ListeningDesign("forced-choice", 16))
    kind, rng = KINDS["forced-choice"], random.Random(5)
    wrong = 0
    for _ in range(400):
        key = kind.draw("AB", 16, rng)
        judged = kind.judge([(k, rng.choice("AB")) for k in key], drawn.test.letters, "")
        wrong += judged.words[0].startswith("could be told apart")
    assert wrong <= stats.binom.isf(1e-4, 400, 0.05)


def test_a_sitting_asks_for_every_label_keeps_notes_and_can_stop_early(runs, study):
    drawn = draw_test(matched(runs), ListeningDesign("forced-choice", 3))
    sitting = Sitting(drawn.test, Sheet(test=drawn.test.number, listener="Ada", finished=False))
    assert [t.label for t in sitting.targets] == ["A", "?", "B"]
    with pytest.raises(SettingError, match="Not played in this trial"):
        sitting.answer(["A"])
    for label in ("A", "?", "B"):
        sitting.hear(label)
    sitting.take_again()  # the device was lost: nothing counts
    assert sitting.unheard == ("A", "?", "B") and sitting.trial == 1
    for label in ("A", "?", "B"):
        sitting.hear(label)
    sitting.note("?", "more treble")
    with pytest.raises(SettingError, match="instead of A or B"):
        sitting.answer(["C"])
    sitting.answer([drawn.test.key[0]])
    assert (sitting.trial, sitting.note_on("?"), sitting.sheet.notes) == (2, "", {"1 ?": "more treble"})
    keep_test(study, drawn.test)
    keep_sheet(study, sitting.sheet)
    with pytest.raises(Exception, match="No answers"):
        reveal_test(study)
    sitting.stop()
    with pytest.raises(SettingError, match="All trials"):
        sitting.answer(["A"])
    keep_sheet(study, sitting.sheet)
    found = reveal_test(study).together
    assert found.figures["correct"] == found.figures["trials"] == 1
    assert "stopped before its end" in found.words[0]


def test_what_is_not_one_piece_of_music_cannot_be_compared(runs):
    other = music(rate=RATE, duration=1.0, level=-12.0).samples()[::-1]
    foreign = AlignedRun(runs[0].samples, np.stack([other, other], axis=1), RATE, 0.0, 0.0)
    with pytest.raises(SettingError, match="different music"):
        clips_of_runs([("Wire", 1, runs[0]), ("Other", 2, foreign)], original=False, anchor=False)
    # only louder is the same music
    louder = AlignedRun(runs[0].samples, 0.5 * runs[0].originals, RATE, 0.0, 0.0)
    assert clips_of_runs([("Wire", 1, runs[0]), ("Quiet", 2, louder)], original=False, anchor=False).difference == 0
    far = AlignedRun(0.01 * runs[0].samples, runs[0].originals, RATE, 0.0, 0.0)
    assert (
        "raised by 40 dB more"
        in clips_of_runs([("Wire", 1, runs[0]), ("Far", 2, far)], original=False, anchor=False).words
    )
    silent = AlignedClip("Silent", np.zeros_like(runs[0].samples))
    with pytest.raises(UnusableInputError, match="too quiet or too short"):
        match_clips([AlignedClip("Wire", runs[0].samples), silent], RATE)


def test_the_low_anchor_ends_at_3500_hz():
    """ITU-R BS.1534-3, 3.3 (from memory): pass band 3.5 kHz, at least 25 dB down at 4 kHz."""
    rng = np.random.default_rng(0)
    x = rng.standard_normal((RATE, 1))
    f, before = stats_spectrum(x)
    _, after = stats_spectrum(low_anchor(x, RATE))
    ratio = 10 * np.log10(after / before)
    assert np.abs(ratio[(f > 50) & (f < 3450)]).max() < 0.1
    assert ratio[f > 4000].max() < -50


def stats_spectrum(x):
    from scipy.signal import welch

    return welch(x[:, 0], RATE, nperseg=4096)


def test_nothing_stays_of_a_package_that_cannot_be_written(runs, study, tmp_path, monkeypatch):
    real, calls = package.write_whole, []

    def full(path, data):
        calls.append(path)
        if len(calls) > 3:
            raise UnusableInputError("The disk is full. Free some space.")
        real(path, data)

    monkeypatch.setattr(package, "write_whole", full)
    with pytest.raises(UnusableInputError, match="disk is full"):
        seal_test(study, matched(runs), tmp_path / "out", ListeningDesign("forced-choice", 4))
    assert list((tmp_path / "out").iterdir()) == []
    assert sealed_tests(study) == []
