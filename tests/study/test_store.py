"""A study keeps what it is given, undoes what can be undone, and refuses what would lose something."""

import json
import os
import sqlite3
import stat
import subprocess
import sys

import numpy as np
import pytest

from epidote.core.errors import SettingError
from epidote.measurement.recompute import recompute
from epidote.study.curve_codec import thumbnail_points
from epidote.study.models import ReadOnlyError, StudyError
from epidote.study.store import Study, create_study
from tests.conftest import measured


def test_a_new_study_is_a_folder_that_explains_itself(study):
    names = {f.name for f in study.path.iterdir()}
    assert {"study.sqlite", "recordings", "attachments", "README.txt"} <= names
    assert "recordings/" in (study.path / "README.txt").read_text()
    assert study.overview().subjects[0].is_baseline


def test_runs_and_curves_come_back_as_they_were(study):
    run = measured(study)
    study.close()
    again = Study(study.path)
    kept = again.overview().runs[run.subject_id, run.column_id]
    assert kept == run
    assert kept.headline.reading.key == "thd_n"
    assert kept.headline.title == "THD+N"
    spectrum = next(c for c in again.curves(run.id, ["spectrum"]) if c.channel == 1)
    assert spectrum.y.size > 1000
    assert {c.key for c in again.curves(run.id)} == {"spectrum", "waveform", "residual"}
    assert len(kept.thumbnail) > 10
    again.close()


def test_the_recording_is_kept_exactly_and_gives_the_same_result(study):
    run = measured(study, column=1)
    recording = study.recordings(run.id)[0]
    assert recording.stimulus.kind == "sweep"
    again = recompute(study, run.id, {})
    assert [r.value for r in again.readings] == [r.value for r in run.readings]
    assert again.recomputed_from == run.id
    file = next((study.path / "recordings").iterdir())
    assert file.suffix == ".flac"


def test_recomputing_changes_the_settings_and_measures_nothing(study):
    run = measured(study)
    weighted = recompute(study, run.id, {"weighting": "A", "band_high": 10000})
    assert weighted.settings["weighting"] == "A"
    before, after = (next(r.value for r in x.readings if r.key == "noise") for x in (run, weighted))
    assert after < before
    twice = recompute(study, weighted.id, {"weighting": "none"})
    assert twice.recomputed_from == run.id
    assert len(list((study.path / "recordings").iterdir())) == 1
    assert study.overview().runs[run.subject_id, run.column_id].id == twice.id
    assert [r.id for r in study.runs_of(run.subject_id, run.column_id)] == [twice.id, weighted.id, run.id]
    with pytest.raises(SettingError, match="weighting"):
        recompute(study, run.id, {"weighting": "Q"})
    with pytest.raises(SettingError, match="“level” affects what is played.*Can be changed: band_low"):
        recompute(study, run.id, {"level": -3})


def test_a_rows_load_is_its_chains(study):
    from epidote.measurement.chain_for_row import chain_for_subject

    overview = study.overview()
    assert chain_for_subject(study, overview.subjects[0]).load_ohms is None
    assert chain_for_subject(study, overview.subjects[1]).load_ohms == 8
    for typed, ohms in (("4 Ω", 4), ("2", 2), ("1 kohm", 1000), ("a loudspeaker", 8), ("3 W", 8)):
        row = study.add_subject(overview.subjects[1].unit, {"load": typed})
        assert chain_for_subject(study, row).load_ohms == ohms


def test_a_changed_recording_is_noticed(study):
    run = measured(study)
    file = next((study.path / "recordings").iterdir())
    file.write_bytes(file.read_bytes()[:-5])
    with pytest.raises(StudyError, match="missing or was changed outside"):
        recompute(study, run.id, {})
    file.unlink()
    with pytest.raises(StudyError, match="results are unchanged"):
        study.recordings(run.id)


def test_the_same_row_twice_is_refused(study):
    unit = study.units()[0]
    with pytest.raises(StudyError, match="already"):
        study.add_subject(unit, {"load": "8 Ω", "gain": "high"})
    study.add_subject(unit, {"gain": "low"}, after=study.overview().subjects[1].id)
    assert [s.full_name for s in study.overview().subjects][-1] == "Ostrel P40, gain low"
    assert len({s.colour for s in study.overview().subjects if s.unit}) == 2


def test_rows_keep_their_order_and_place(study):
    unit = study.units()[0]
    last = study.add_subject(unit, {"gain": "low"})
    between = study.add_subject(unit, {"gain": "middle"}, after=study.overview().subjects[1].id)
    assert [s.id for s in study.overview().subjects][-2:] == [between.id, last.id]


def test_deleting_can_be_undone_until_the_study_is_closed(study):
    run = measured(study)
    study.set_deleted("run", run.id, True)
    assert study.overview().runs == {}
    study.set_deleted("run", run.id, False)
    assert (run.subject_id, run.column_id) in study.overview().runs
    study.set_deleted("subject", run.subject_id, True)
    study.close()
    moved = list((study.path / "bin").rglob("*.flac"))
    assert len(moved) == 1
    note = json.loads(next((study.path / "bin").rglob("deleted.json")).read_text())
    assert note["runs"][0]["id"] == run.id
    again = Study(study.path)
    assert again.overview().runs == {}
    assert list((study.path / "recordings").iterdir()) == []
    again.close()


def test_a_recording_stays_while_a_recomputed_run_needs_it(study):
    run = measured(study)
    kept = recompute(study, run.id, {"weighting": "A"})
    study.set_deleted("run", run.id, True)
    study.close()
    again = Study(study.path)
    assert recompute(again, kept.id, {}).recomputed_from == run.id
    again.close()


def test_pins_and_settings(study):
    column = study.overview().columns[1]
    pin = study.add_pin(column.id, "level", 1000.0)
    assert study.overview().pins_of(column.id, "level") == (pin,)
    study.set_deleted("pin", pin.id, True)
    assert study.overview().pins == ()
    study.set_setting("reference", "2")
    assert study.overview().reference == 2
    with pytest.raises(ValueError, match="recordings"):
        study.set_deleted("recordings", 1, True)
    with pytest.raises(StudyError, match="needs a manufacturer"):
        study.add_unit(" ", "")


def test_the_second_to_open_it_reads_only(study):
    code = (
        f"from epidote.study.store import Study; s = Study({str(study.path)!r}); print(s.read_only, s.why_read_only,"
        " len(s.overview().subjects))"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert out.strip() == "True it is already open in another window or process 2"
    second = Study(study.path)
    assert second.read_only
    with pytest.raises(ReadOnlyError, match="Nothing was changed"):
        second.set_setting("title", "x")
    second.close()
    study.set_setting("title", "still mine")


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_read_only_folder(study):
    study.close()
    study.path.chmod(stat.S_IRUSR | stat.S_IXUSR)
    try:
        opened = Study(study.path)
        assert opened.read_only
        opened.close()
    finally:
        study.path.chmod(0o755)


def test_a_folder_that_cannot_be_written_opens_for_reading(study, monkeypatch):
    measured(study)
    study.close()
    monkeypatch.setattr("os.access", lambda path, mode: False)
    opened = Study(study.path)
    assert opened.why_read_only == "its folder is write-protected"
    assert len(opened.overview().runs) == 1
    opened.close()


def test_what_is_not_a_study(tmp_path):
    with pytest.raises(StudyError, match="does not exist"):
        Study(tmp_path / "nowhere.epidote")
    with pytest.raises(StudyError, match="study.sqlite is missing"):
        Study(tmp_path)
    (tmp_path / "study.sqlite").write_text("not a database at all, but long enough to be looked at" * 100)
    with pytest.raises(StudyError, match="damaged"):
        Study(tmp_path)
    other = sqlite3.connect(tmp_path / "other.sqlite")
    other.execute("CREATE TABLE t (x)")
    other.close()
    (tmp_path / "study.sqlite").write_bytes((tmp_path / "other.sqlite").read_bytes())
    with pytest.raises(StudyError, match="but not of a study"):
        Study(tmp_path)


def test_a_damaged_database_says_where_the_recordings_are(study):
    measured(study)
    study.close()
    path = study.path / "study.sqlite"
    content = bytearray(path.read_bytes())
    content[3000:60000] = bytes(57000)
    path.write_bytes(content)
    with pytest.raises(StudyError, match="recordings are intact in"):
        Study(study.path).overview()
    assert path.read_bytes() == bytes(content)


def test_a_newer_study_is_left_alone(study):
    study.close()
    c = sqlite3.connect(study.path / "study.sqlite")
    c.execute("PRAGMA user_version = 999")
    c.close()
    with pytest.raises(StudyError, match="newer version of Epidote"):
        Study(study.path)


def test_an_older_study_is_brought_up_to_date_and_a_copy_kept(study, monkeypatch):
    from epidote.study import database

    study.close()
    steps = database.migrations()
    monkeypatch.setattr(
        database,
        "migrations",
        lambda: [*steps, (len(steps) + 1, "ALTER TABLE unit ADD COLUMN place TEXT NOT NULL DEFAULT '';")],
    )
    upgraded = Study(study.path)
    assert upgraded.overview().subjects[1].name == "Ostrel P40"
    upgraded.close()
    c = sqlite3.connect(study.path / "study.sqlite")
    assert c.execute("PRAGMA user_version").fetchone()[0] == len(steps) + 1
    assert "place" in [r[1] for r in c.execute("PRAGMA table_info(unit)")]
    c.close()
    assert list(study.path.glob("study before format *.sqlite"))


def test_a_study_is_not_made_over_something(study):
    with pytest.raises(StudyError, match="already exists"):
        create_study(study.path)


def test_half_written_recordings_are_swept_away_on_opening(study):
    run = measured(study)
    study.close()
    (study.path / "recordings" / "20260101-000000-dead.flac.part").write_bytes(b"half")
    (study.path / "recordings" / "20260101-000000-orphan.flac").write_bytes(b"whole, but its run was never finished")
    again = Study(study.path)
    assert len(list((study.path / "recordings").iterdir())) == 1
    assert again.recordings(run.id)
    again.close()


def test_thumbnails_keep_peaks_and_stay_in_their_box():
    from epidote.core.results.result import Curve

    x = np.linspace(1, 24000, 24000)
    y = np.full(x.size, -120.0)
    y[1000] = -3
    points = thumbnail_points(Curve("spectrum", 1, x, y, "Hz", "dBFS"))
    assert max(p[1] for p in points) == 1.0
    assert all(0 <= a <= 1 and 0 <= b <= 1 for a, b in points)
    assert thumbnail_points(None) == []
