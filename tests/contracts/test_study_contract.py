"""What every open study keeps to: one that may be changed, one that another process holds, one on a write-protected
medium, and one of an older format, upgraded on disk or, for a reader, in memory.
"""

import hashlib
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from epidote.core.errors import EpidoteError
from epidote.measurement.recompute import recompute
from epidote.study.annotations import Owner
from epidote.study.interchange.archive import unzip_study, zip_study
from epidote.study.models import StudyError
from epidote.study.store import Study
from tests.conftest import TO_FORMAT_6, measured, small_study

TO_FORMAT_3 = f"{TO_FORMAT_6} UPDATE setting SET value = value; PRAGMA user_version = 3; PRAGMA journal_mode = DELETE;"


@dataclass
class Kind:
    """A study as it is opened in one way. ``expected``: what it held when it was made."""

    path: object
    open: Callable[[], Study]
    expected: dict
    writable: bool


def content_of(study: Study) -> dict:
    """Everything that is read of a study, to be compared."""
    seen = study.overview()
    runs = [r for s in seen.subjects for c in seen.columns for r in study.runs_of(s.id, c.id)]
    return {
        "subjects": [(s.id, s.full_name, s.conditions, s.device) for s in seen.subjects],
        "columns": [(c.id, c.procedure, c.settings, c.title) for c in seen.columns],
        "runs": [
            (r.id, r.subject_id, r.column_id, r.settings, r.chain, r.readings, r.cautions, r.made, r.headline)
            for r in runs
        ],
        "curves": [(r.id, c.key, c.channel, c.x.tobytes(), c.y.tobytes()) for r in runs for c in study.curves(r.id)],
        "recordings": [
            (r.id, x.signal.rate, x.signal.samples.tobytes(), x.stimulus) for r in runs for x in study.recordings(r.id)
        ],
        "entries": [(e.id, e.kind, e.data, e.owner) for e in seen.entries],
        "pins": [(p.column_id, p.curve, p.x) for p in seen.pins],
        "damaged": seen.damaged,
    }


def on_disk(path) -> dict[str, str]:
    """A checksum of each file; SQLite's own helpers beside the database, and the lock, come and go."""
    helpers = (".lock", "study.sqlite-wal", "study.sqlite-shm")
    return {
        str(f.relative_to(path)): hashlib.sha256(f.read_bytes()).hexdigest()
        for f in path.rglob("*")
        if f.is_file() and f.name not in helpers
    }


@contextmanager
def held(path) -> Iterator[None]:
    with closing(Study(path)) as writer:
        assert not writer.read_only
        yield


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """A study with runs, one of them recomputed, a note and a pin; what it holds."""
    study = small_study(tmp_path_factory.mktemp("made"))
    run = measured(study, column=0)
    measured(study, column=1)
    measured(study, row=0, column=0)
    recompute(study, run.id, {"harmonics": 5})
    study.entries.add("note", {"text": "warm"}, Owner(run=run.id))
    study.add_pin(study.overview().columns[1].id, "level", 1000.0)
    content = content_of(study)
    study.close()
    return study.path, content


@pytest.fixture(
    params=[
        "writable",
        "held by another process",
        "write-protected",
        "upgraded",
        "older, to read",
        "zipped and unpacked",
    ]
)
def kind(request, made, monkeypatch, tmp_path):
    path = Path(shutil.copytree(made[0], tmp_path / "Copy.epidote"))
    expected = made[1]
    if request.param in ("upgraded", "older, to read"):
        with closing(sqlite3.connect(path / "study.sqlite")) as old:
            old.executescript(TO_FORMAT_3)
    if request.param == "zipped and unpacked":
        with closing(Study(path)) as source:
            zip_study(source, tmp_path / "out.zip")
        (tmp_path / "there").mkdir()
        with closing(
            unzip_study(tmp_path / "out.zip", tmp_path / "there") and Study(next((tmp_path / "there").iterdir()))
        ) as copy:
            path = copy.path
    if request.param in ("write-protected", "older, to read"):
        monkeypatch.setattr("os.access", lambda path, mode: False)
    writable = request.param in ("writable", "upgraded", "zipped and unpacked")
    kind = Kind(path, lambda: Study(path), expected, writable)
    if request.param == "held by another process":
        with held(path):
            yield kind
    else:
        yield kind


def test_holds_what_was_put_in(kind):
    with closing(kind.open()) as study:
        assert study.read_only is not kind.writable
        assert bool(study.why_read_only) is study.read_only
        assert content_of(study) == kind.expected
        assert content_of(study) == kind.expected, "reading changes nothing"


def test_reading_changes_no_file(kind):
    with closing(kind.open()):
        pass  # a writer brings an older format up to date here
    before = on_disk(kind.path)
    with closing(kind.open()) as study:
        content_of(study)
        study.checked_curves(1)
        study.units()
        study.free_bytes()
    assert on_disk(kind.path) == before


CHANGES = {
    "setting": lambda s: s.set_setting("title", "Other"),
    "unit": lambda s: s.add_unit("Orvane", "K3"),
    "row": lambda s: s.add_subject(s.units()[0], {"gain": "low"}),
    "column": lambda s: s.add_column("tone", {}, "Single tone", "1 kHz"),
    "pin": lambda s: s.add_pin(1, "level", 50.0),
    "entry": lambda s: s.entries.add("note", {"text": "more"}, Owner(subject=2)),
    "delete": lambda s: s.set_deleted("run", 1, True),
    "row's conditions": lambda s: s.update_subject(s.overview().subjects[1]),
    "recompute": lambda s: recompute(s, 1, {"harmonics": 4}),
    "measure": lambda s: measured(s, column=0),
}


@pytest.mark.parametrize("change", CHANGES)
def test_a_change_is_on_disk_when_it_returns_or_refused_in_words(kind, change):
    with closing(kind.open()) as study:
        before = content_of(study)
        if kind.writable:
            CHANGES[change](study)
            other = sqlite3.connect(
                f"file:{kind.path / 'study.sqlite'}?mode=ro", uri=True
            )  # as a process that looks after a kill
            after = content_of(study)
            assert after != before or change in ("setting", "row's conditions", "unit")
            if change in ("recompute", "measure"):
                assert other.execute("SELECT max(id) FROM run").fetchone()[0] == max(r[0] for r in after["runs"])
            other.close()
            return
        with pytest.raises(EpidoteError) as told:
            CHANGES[change](study)
        assert "read-only" in str(told.value)
        assert str(told.value).endswith(".")
        assert content_of(study) == kind.expected


@pytest.mark.parametrize("table", ["subject", "column_", "run", "pin", "entry"])
def test_what_is_deleted_comes_back_until_the_study_is_closed(kind, table):
    if not kind.writable:
        return
    with closing(kind.open()) as study:
        key = {"subject": study.overview().subjects[1].id, "column_": study.overview().columns[0].id}.get(table, 1)
        study.set_deleted(table, key, True)
        assert content_of(study) != kind.expected
        study.set_deleted(table, key, False)
        assert content_of(study) == kind.expected
        study.set_deleted(table, key, True)
        seen = content_of(study)
    with closing(kind.open()) as study:
        after = content_of(study)
    if table in ("subject", "column_"):  # notes on their runs went to the bin with them
        del seen["entries"], after["entries"]
    assert after == seen


def test_computing_again_from_the_kept_recordings_gives_the_same(kind):
    if not kind.writable:
        return
    with closing(kind.open()) as study:
        for run in [r for r in study.overview().runs.values() if r.recomputed_from is None]:
            again = recompute(study, run.id, {})
            assert [(r.key, r.channel, r.value) for r in again.readings] == [
                (r.key, r.channel, r.value) for r in run.readings
            ]
            for one, other in zip(study.curves(run.id), study.curves(again.id), strict=True):
                assert np.array_equal(one.y, other.y)


def test_what_does_not_exist_is_said_in_words(kind):
    with closing(kind.open()) as study:
        for ask in (lambda: study.run(999), lambda: study.recordings(999), lambda: study.run(2**80)):
            with pytest.raises(StudyError) as told:
                ask()
            assert str(told.value).endswith(".")
        assert study.curves(999) == ()


def test_closing_twice_is_closing_once(kind):
    study = kind.open()
    study.close()
    study.close()
    with closing(kind.open()) as again:
        assert content_of(again) == kind.expected
