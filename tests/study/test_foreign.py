"""A study from somebody else: whatever its names, links and rows say, nothing outside its folder is read, moved,
written or deleted.
"""

import os
import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path

import pytest

from epidote.core.errors import UnusableInputError
from epidote.core.results.caution import Caution
from epidote.study.folder import RECORDINGS, UnsafeNameError, require_plain
from epidote.study.interchange.archive import unzip_study, zip_study
from epidote.study.interchange.claims_csv import read_claims
from epidote.study.models import Owner, StudyError
from epidote.study.store import Study, create_study
from tests.conftest import measured

OUTSIDE = b"somebody's letter"


@pytest.fixture
def outside(tmp_path):
    """A file that is none of the study's business."""
    file = tmp_path / "letter.txt"
    file.write_bytes(OUTSIDE)
    yield file
    assert file.read_bytes() == OUTSIDE, "a file outside the study was touched"


def changed(path: Path, *statements: str, **values: object) -> None:
    with closing(sqlite3.connect(path / "study.sqlite")) as c:
        for statement in statements:
            c.execute(statement, values)
        c.commit()


def names(path: Path, room: str) -> list[str]:
    return sorted(p.name for p in (path / room).rglob("*"))


@pytest.mark.parametrize("name", ["../letter.txt", "/etc/hostname", "a/b", "..", ".", "", "x" * 300, "a\nb", "a\0b"])
def test_only_plain_names_are_names(name):
    with pytest.raises(UnsafeNameError):
        require_plain(name)


@pytest.mark.parametrize("stored", ["../../letter.txt", "ABSOLUTE"])
def test_a_recording_or_picture_that_lies_elsewhere(study, outside, stored):
    run = measured(study)
    study.entries.attach(b"\x89PNG", Owner(subject=1), name="a.png")
    path = study.path
    study.close()
    name = str(outside) if stored == "ABSOLUTE" else stored
    changed(
        path,
        "UPDATE recording SET file = :n",
        "UPDATE entry SET data = json_set(data, '$.file', :n) WHERE kind = 'picture'",
        n=name,
    )
    again = Study(path)
    with pytest.raises(StudyError, match="not a plain file name"):
        again.recordings(run.id)
    (picture,) = again.overview().of_kind("picture")
    assert again.entries.read(picture) == b""
    again.set_deleted("run", run.id, True)
    again.set_deleted("entry", picture.id, True)
    again.close()
    assert outside.exists()
    assert Study(path).overview().runs == {}


@pytest.mark.parametrize("room", ["recordings", "attachments", "bin"])
def test_a_room_that_is_a_link(study, outside, room):
    measured(study)
    path = study.path
    study.close()
    there = outside.parent / "elsewhere"
    there.mkdir()
    (there / "mine.flac").write_bytes(OUTSIDE)
    if (path / room).exists():
        (path / room).rename(path / "moved")
    (path / room).symlink_to(there)
    again = Study(path)
    assert again.read_only
    assert "link" in again.why_read_only
    run = next(iter(again.overview().runs.values()))
    if room == "recordings":
        with pytest.raises(StudyError):
            again.recordings(run.id)
    again.close()
    assert names(there.parent, "elsewhere") == ["mine.flac"]
    assert (there / "mine.flac").read_bytes() == OUTSIDE


def test_a_lock_that_is_a_link_or_a_pipe(study, outside):
    path = study.path
    study.close()
    (path / ".lock").unlink()
    (path / ".lock").symlink_to(outside)
    linked = Study(path)
    assert linked.read_only
    linked.close()
    (path / ".lock").unlink()
    os.mkfifo(path / ".lock")
    piped = Study(path)  # a pipe that nobody writes to would hold an ordinary opening up for ever
    assert piped.read_only
    piped.close()


def test_a_database_that_is_a_link(study, tmp_path):
    path = study.path
    study.close()
    (path / "study.sqlite").rename(tmp_path / "other.sqlite")
    before = (tmp_path / "other.sqlite").read_bytes()
    (path / "study.sqlite").symlink_to(tmp_path / "other.sqlite")
    with pytest.raises(StudyError, match="is a link"):
        Study(path)
    assert (tmp_path / "other.sqlite").read_bytes() == before


def test_temporary_names_are_never_written_through(study, outside):
    from epidote.audio.files.sound_file import write_whole

    target = outside.parent / "out.txt"
    (outside.parent / "out.txt.part").symlink_to(outside)
    write_whole(target, b"ours")
    assert target.read_bytes() == b"ours"
    (outside.parent / "bench.zip.part").symlink_to(outside)
    zip_study(study, outside.parent / "bench.zip")
    (study.path / "recordings" / "x.flac.part").symlink_to(outside)
    study.folder.write(RECORDINGS, "x.flac", b"ours")
    assert study.folder.read(RECORDINGS, "x.flac") == b"ours"


def test_a_zip_holds_only_the_study_s_own_files(study, outside):
    measured(study)
    (study.path / "recordings" / "letter.flac").symlink_to(outside)
    (study.path / "attachments" / "folder").symlink_to(outside.parent)
    target = zip_study(study, outside.parent / "bench")
    with zipfile.ZipFile(target) as packed:
        assert not [n for n in packed.namelist() if "letter" in n or "folder" in n]
        assert all(OUTSIDE not in packed.read(n) for n in packed.namelist())


def test_opening_deletes_nothing(study, tmp_path):
    """An older study.sqlite is put back, as the message about a damaged one advises: newer recordings go to the bin
    and come back.
    """
    measured(study)
    path = study.path
    study.close()
    older = (path / "study.sqlite").read_bytes()
    with closing(Study(path)) as newer:
        run = measured(newer, seed=4)
        kept = newer.recordings(run.id)[0].signal.samples
    newest = (path / "study.sqlite").read_bytes()
    (path / "recordings" / "notes of mine.txt").write_bytes(OUTSIDE)
    (path / "study.sqlite").write_bytes(older)
    with closing(Study(path)) as again:
        assert len(again.moved_aside) == 2
        (day,) = again.folder.days()
        assert {"notes of mine.txt", "why.txt"} < set(again.folder.names(f"bin/{day}"))
    assert len(names(path, "recordings")) == 1
    (path / "study.sqlite").write_bytes(newest)
    with closing(Study(path)) as back:
        assert (back.recordings(run.id)[0].signal.samples == kept).all()
        assert len(names(path, "recordings")) == 2


@pytest.mark.parametrize(
    "broken",
    [
        "UPDATE run SET readings = 'x', chain = '[]', thumbnail = '{'",
        "UPDATE run SET made = 'yesterday'",
        "UPDATE run SET settings = '3'",
        "UPDATE run SET cautions = 'null'",
        "UPDATE run SET headline = '[1]'",
        "UPDATE run SET cautions = '[\"of a newer version\"]'",
        "UPDATE run SET readings = '[{\"key\": 3}]'",
        "UPDATE run SET device = x'ff00ff'",
        "UPDATE curve SET y = x'00'",
        "UPDATE curve SET points = 1e9",
        "UPDATE curve SET meta = '[]'",
        "UPDATE curve SET x_first = 'a', x = NULL",
        "UPDATE pin SET x = 'left'",
        "UPDATE column_ SET settings = 'none' WHERE id = 2",
        "UPDATE subject SET conditions = '[1]' WHERE id = 3",
        "UPDATE entry SET data = '7'",
        "UPDATE entry SET made = ''",
        "UPDATE setting SET value = 'x' WHERE name = 'reference'",
    ],
)
def test_one_bad_row_spoils_that_row_only(study, broken):
    run = measured(study)
    unit = study.add_unit("Havelmar", "A25")
    study.add_subject(unit, {"gain": "low"})
    study.add_pin(1, "level", 1000.0)
    study.entries.add("note", {"text": "one"})
    study.set_setting("reference", "2")
    path = study.path
    study.close()
    changed(path, broken)
    with closing(Study(path)) as again:
        seen = again.overview()
        assert len(seen.columns) + len(seen.damaged) >= 2
        assert seen.subjects[1].full_name == "Ostrel P40, gain high, load 8 Ω"
        summary = seen.runs[run.subject_id, run.column_id]
        assert isinstance(summary.readings, tuple) and isinstance(summary.thumbnail, tuple) and summary.chain.rate > 0
        assert all(Caution(c).words for c in summary.cautions)
        curves = again.curves(run.id)
        assert bool(curves) or bool(again.checked_curves(run.id)[1])
        assert measured(again, seed=9).id > run.id


def test_a_bad_table_of_bytes_in_a_text_cell(study):
    path = study.path
    study.close()
    changed(path, "UPDATE unit SET notes = CAST(x'fffe41' AS TEXT)")
    with closing(Study(path)) as again:
        assert again.overview().subjects[1].unit.notes.endswith("A")


def packed(path: Path, **files: bytes) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        for name, content in files.items():
            out.writestr(name, content)
    return path


@pytest.mark.parametrize("name", ["S.epidote/../x", "/x", "S.epidote/recordings/../../x", "S.epidote/recordings/a\nb"])
def test_a_zip_with_names_that_lead_out(tmp_path, name):
    made = packed(tmp_path / "a.zip", **{"S.epidote/study.sqlite": b"x", name: OUTSIDE})
    with pytest.raises(StudyError, match="Nothing was unpacked"):
        unzip_study(made, tmp_path / "there")
    assert not (tmp_path / "x").exists()
    assert not (tmp_path / "there").exists() or list((tmp_path / "there").iterdir()) == []


def test_a_zip_bomb_is_refused_with_its_size(tmp_path):
    made = packed(
        tmp_path / "a.zip", **{"S.epidote/study.sqlite": b"x", "S.epidote/recordings/big.wav": bytes(50_000_000)}
    )
    assert made.stat().st_size < 100_000
    with pytest.raises(StudyError, match=r"unpacks to 0\.1 GB; at most 0\.0 GB"):
        unzip_study(made, tmp_path, 1_000_000)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.zip"]


def test_what_is_cut_off_is_unpacked_whole_or_not_at_all(study, tmp_path):
    measured(study)
    whole = zip_study(study, tmp_path / "whole.zip").read_bytes()
    for share in (0.3, 0.9, 0.999):
        (tmp_path / "cut.zip").write_bytes(whole[: int(len(whole) * share)])
        with pytest.raises(StudyError):
            unzip_study(tmp_path / "cut.zip", tmp_path / "there")
    broken = bytearray(whole)
    broken[len(whole) // 2] ^= 0xFF  # in the middle of a recording: its checksum fails after others were written
    (tmp_path / "cut.zip").write_bytes(broken)
    with pytest.raises(StudyError):
        unzip_study(tmp_path / "cut.zip", tmp_path / "there")
    assert not (tmp_path / "there").exists() or list((tmp_path / "there").iterdir()) == []


def test_a_study_is_made_whole_or_not_at_all(tmp_path, monkeypatch):
    monkeypatch.setattr(Study, "add_subject", lambda *a: (_ for _ in ()).throw(StudyError("no")))
    with pytest.raises(StudyError):
        create_study(tmp_path / "New.epidote")
    assert list(tmp_path.iterdir()) == []


def test_a_study_without_a_baseline_row_gets_one(study):
    path = study.path
    study.close()
    changed(path, "DELETE FROM subject WHERE unit_id IS NULL")
    with closing(Study(path)) as again:
        assert again.overview().subjects[0].is_baseline


def test_rooms_that_are_missing_are_made_again(study):
    path = study.path
    study.close()
    (path / "recordings").rmdir()
    with closing(Study(path)) as again:
        run = measured(again)
        assert again.recordings(run.id)


def test_a_log_that_a_kill_left_is_read_where_nothing_can_be_written(study, monkeypatch):
    """On a read-only medium SQLite would pass over the write-ahead log in silence and show an older state."""
    import shutil

    path = study.path
    study.set_setting("title", "only in the log")
    copy = path.with_name("Medium.epidote")
    shutil.copytree(path, copy)  # as the disk is at this moment: the log is not folded back
    assert (copy / "study.sqlite-wal").stat().st_size > 0
    real = os.access
    monkeypatch.setattr(
        os, "access", lambda p, mode: False if str(p).startswith(str(copy)) and mode & os.W_OK else real(p, mode)
    )
    before = {p.name: p.read_bytes() for p in copy.iterdir() if p.is_file()}
    with closing(Study(copy)) as reader:
        assert reader.read_only
        assert reader.overview().title == "only in the log"
    assert {p.name: p.read_bytes() for p in copy.iterdir() if p.is_file()} == before


def test_a_lock_of_somebody_else_is_no_wall(study, monkeypatch):
    """A lock file that may only be read, as a second person of a shared folder finds it, can be held all the same."""
    path = study.path
    study.close()
    real = os.open

    def guarded(name, flags, *rest, **more):
        if str(name).endswith(".lock") and flags & os.O_RDWR:
            raise PermissionError(13, "Permission denied")
        return real(name, flags, *rest, **more)

    monkeypatch.setattr(os, "open", guarded)
    with closing(Study(path)) as mine:
        assert not mine.read_only
        with closing(Study(path)) as second:
            assert second.read_only


def test_a_claim_without_an_end_is_refused(tmp_path):
    (tmp_path / "claims.csv").write_text('claim;source\n"' + "x" * 200_000 + "\n")
    with pytest.raises(UnusableInputError, match="a field has no end"):
        read_claims(tmp_path / "claims.csv")
