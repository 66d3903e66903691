"""Claims, notes and pictures beside the runs; a study as a zip; an older study read only."""

from __future__ import annotations

import json
import sqlite3
import zipfile
from contextlib import closing

import pytest

from epidote.core.errors import UnusableInputError
from epidote.study.annotations import default_operator
from epidote.study.database import migrations
from epidote.study.interchange.archive import study_json, unzip_study, zip_study
from epidote.study.models import Owner, StudyError
from epidote.study.store import Study
from tests.conftest import TO_FORMAT_6, measured

PNG = bytes.fromhex("89504e470d0a1a0a0000000d49484452") + b"\0" * 20


def test_entries_are_kept_changed_and_deleted(study):
    unit = study.units()[0]
    note = study.entries.add("note", {"text": "hums at night"}, Owner(unit=unit.id), "tester")
    study.entries.update(note.id, {"text": "hums always"})
    (found,) = study.overview().of_kind("note")
    assert (found.data, found.owner.unit, found.person) == ({"text": "hums always"}, unit.id, "tester")
    study.set_deleted("entry", note.id, True)
    assert study.overview().of_kind("note") == ()
    with pytest.raises(ValueError, match="poem"):
        study.entries.add("poem", {})


def test_a_picture_is_copied_and_goes_to_the_bin_with_its_entry(study, tmp_path):
    file = tmp_path / "board.png"
    file.write_bytes(PNG)
    kept = study.entries.attach(file, Owner(subject=study.overview().subjects[1].id), "output stage")
    file.unlink()
    assert study.entries.read(kept) == PNG
    again = study.entries.attach(PNG, Owner(), name="pasted.png")
    assert again.file == kept.file  # the same picture lies there once
    for entry in (kept, again):
        study.set_deleted("entry", entry.id, True)
    path = study.path
    study.close()
    assert list((path / "attachments").iterdir()) == []
    assert len(list((path / "bin").rglob("*.png"))) == 1


@pytest.mark.parametrize(("name", "content"), [("notes.txt", b"x"), ("empty.png", b""), ("gone.png", None)])
def test_what_is_no_picture_is_refused(study, tmp_path, name, content):
    file = tmp_path / name
    if content is not None:
        file.write_bytes(content)
    with pytest.raises(UnusableInputError, match="Nothing was (added|read)"):
        study.entries.attach(file, Owner())
    assert study.entries.all() == ()


def test_who_and_which_firmware_are_kept_without_being_asked(study):
    from dataclasses import replace

    unit = study.units()[0]
    study.update_unit(replace(unit, firmware="1.4.2"))
    run = measured(study)
    assert (run.firmware, run.person) == ("1.4.2", default_operator())
    study.set_setting("person", "M. Kerr")
    study.update_unit(replace(unit, firmware="1.5"))
    assert (measured(study).person, study.run(run.id).firmware) == ("M. Kerr", "1.4.2")


def test_repeats_count_measurements_and_not_recomputations(study):
    from epidote.measurement.assessment import repeats_of
    from epidote.measurement.recompute import recompute

    first, second = measured(study, seed=3), measured(study, seed=4)
    recompute(study, second.id, {"band_high": 10000})
    seen = study.overview()
    cell = (first.subject_id, first.column_id)
    assert seen.repeats[cell] == 2
    assert [r.id for r in repeats_of(study, second)] == [second.id, first.id]
    assert len(repeats_of(study, seen.runs[cell])) == 1  # with that band there is one


def test_a_study_goes_into_a_zip_and_comes_out_whole(study, tmp_path):
    run = measured(study)
    study.entries.attach(PNG, Owner(run=run.id), "set-up", name="a.png")
    packed = zip_study(study, tmp_path / "sent")
    assert packed.name == "sent.zip"
    there = tmp_path / "there"
    there.mkdir()
    with closing(Study(unzip_study(packed, there))) as opened:
        assert opened.recordings(run.id)[0].signal.frames == study.recordings(run.id)[0].signal.frames
        assert opened.entries.read(opened.overview().of_kind("picture")[0]) == PNG
    with pytest.raises(StudyError, match="already exists"):
        unzip_study(packed, there)


def test_zips_that_are_none(tmp_path):
    (tmp_path / "a.zip").write_text("no zip")
    with zipfile.ZipFile(tmp_path / "b.zip", "w") as other:
        other.writestr("x/y.txt", "z")
    with zipfile.ZipFile(tmp_path / "c.zip", "w") as evil:
        evil.writestr("S.epidote/study.sqlite", "z")
        evil.writestr("S.epidote/../../out.txt", "z")
    for name, words in (("a", "not a ZIP file"), ("b", "does not contain a study"), ("c", "unsafe paths")):
        with pytest.raises(StudyError, match=words):
            unzip_study(tmp_path / f"{name}.zip", tmp_path)
    assert not (tmp_path.parent / "out.txt").exists()


def test_a_study_as_json(study):
    measured(study)
    study.entries.add("claim", {"text": "x"}, Owner(unit=1))
    told = json.loads(json.dumps(study_json(study, study.overview(), curves=True), allow_nan=False))
    assert told["runs"][0]["curves"]
    assert told["entries"][0]["owner"] == {"unit": 1}


def test_a_study_of_an_older_format_is_read_without_being_changed(study):
    """A reader upgrades a copy in memory; the file stays as it was."""
    measured(study)
    path = study.path
    study.close()
    old = sqlite3.connect(path / "study.sqlite")
    old.executescript(
        f"{TO_FORMAT_6} DROP TABLE entry; ALTER TABLE run DROP COLUMN firmware; ALTER TABLE run DROP COLUMN person;"
        " PRAGMA user_version = 2; PRAGMA journal_mode = DELETE;"
    )
    old.close()
    import fcntl

    with (path / ".lock").open("w") as lock:  # as another process holds it
        fcntl.flock(lock, fcntl.LOCK_EX)
        reader = Study(path)
        assert reader.read_only
        assert (reader.overview().entries, len(reader.overview().runs)) == ((), 1)
        reader.close()
    left = sqlite3.connect(path / "study.sqlite")
    assert left.execute("PRAGMA user_version").fetchone()[0] == 2
    left.close()
    writer = Study(path)
    assert writer.entries.add("note", {"text": "upgraded"}).id == 1
    assert (path / f"study before format {migrations()[-1][0]}.sqlite").exists()
    writer.close()


def test_a_headline_of_format_4_learns_how_it_is_shown(study):
    run = measured(study, column=1)
    path = study.path
    study.close()
    old = sqlite3.connect(path / "study.sqlite")
    old.execute("UPDATE run SET headline = json_remove(headline, '$.shown')")
    old.executescript(f"{TO_FORMAT_6} PRAGMA user_version = 4;")
    old.commit()
    old.close()
    again = Study(path)
    headline = again.run(run.id).headline
    assert (headline.reading.key, headline.shown) == ("flatness", "plus_minus")
    again.close()


def test_words_that_a_study_stores_are_brought_up_to_date(study):
    """A study of format 3 keeps titles and names of guides of its time; the next opening takes them from the
    procedures again.
    """
    run = measured(study)
    study.set_setting("lines off", json.dumps(["Half the power", "my own"]))
    study.entries.add(
        "guide", {"name": "mine", "source": "common practice", "curves": ["level"], "y_unit": "dB", "low": 1.0}
    )
    path = study.path
    study.close()
    old = sqlite3.connect(path / "study.sqlite")
    old.execute("UPDATE column_ SET title = 'Tone', summary = '1000 Hz'")
    old.execute("UPDATE run SET headline = json_set(headline, '$.title', 'distortion')")
    old.executescript(f"{TO_FORMAT_6} PRAGMA user_version = 3;")
    old.commit()
    old.close()
    again = Study(path)
    overview = again.overview()
    assert [c.title for c in overview.columns] == ["Single tone", "Response"]
    assert overview.columns[0].summary.startswith("1 kHz, ")
    assert again.run(run.id).headline.title == "THD+N"
    assert json.loads(again.setting("lines off")) == ["-3 dB (half power)", "my own"]
    assert again.entries.all("guide")[0].data["source"] == "rule of thumb"
    again.close()
