"""What keeps a study quick when it holds many units: passes, questions, values by column, runs read when asked for."""

import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta

import pytest

from epidote.core.results.caution import Caution
from epidote.study import repository
from epidote.study.models import StudyError
from epidote.study.passes import RoutinePass
from epidote.study.run_table import RunTable, headroom_of, latest_of, marked, run_id_of
from epidote.study.store import Study
from epidote.study.waiting import open_for_writing
from tests.conftest import TO_FORMAT_6, measured, small_study

NOW = datetime(2026, 11, 29, 10, 0, tzinfo=UTC)


@pytest.fixture
def study(tmp_path):
    with small_study(tmp_path / "Many") as opened:
        yield opened


def passed_over(serial, verdict, hours=0, **more):
    when = NOW + timedelta(hours=hours)
    return RoutinePass("Post check", "digest", 2, serial, when, when, verdict, **more)


def test_passes_come_back_as_they_were_kept(study):
    step = {"number": 1, "title": "Gain", "verdict": "failed", "margin": -0.2, "unit": "dB"}
    kept = study.passes.add(
        passed_over("A1", "failed", operator="Kay", shift="late", firmware="2.0", words="why", steps=(step,))
    )
    (back,) = study.passes.all("Post check")
    assert back == kept
    assert back.failed_step == step
    assert study.passes.all("Another") == ()
    assert study.passes.routines() == ("Post check",)
    study.passes.add(passed_over("A2", "passed", 1))
    assert [p.serial for p in study.passes.last()] == ["A2", "A1"]
    assert [p.serial for p in study.passes.last(most=1)] == ["A2"]
    assert study.passes.all()[1].failed_step is None


def test_the_first_measured_pass_counts(study):
    for serial, verdict in (
        *(("A", "not measured"), ("A", "failed"), ("A", "passed")),
        *(("B", "passed"), ("C", "not decided"), ("D", "not measured")),
    ):
        study.passes.add(passed_over(serial, verdict))
    counts = study.passes.counts("Post check")
    assert counts.units == 3, "D was never measured"
    assert (counts.first_passed, counts.last_passed) == (1, 2)
    assert counts.by_verdict == {"failed": 1, "passed": 1, "not decided": 1}
    assert [p.verdict for p in study.passes.of_serial("Post check", "A")] == ["not measured", "failed", "passed"]
    assert study.passes.counts("Another").units == 0


@pytest.mark.parametrize("broken", ["steps = '{'", "steps = '[1]'", "begun = 'never'", "steps = '{}'"])
def test_a_damaged_pass_spoils_only_itself(study, broken):
    study.passes.add(passed_over("A", "passed"))
    study.passes.add(passed_over("B", "passed"))
    with study.database.writing() as c:
        c.execute(f"UPDATE pass SET {broken} WHERE serial = 'A'")
    assert [p.serial for p in study.passes.all()] == ["B"]


def test_names_that_control_a_terminal_are_shown(study):
    study.passes.add(passed_over("A\x1b[2J", "passed"))
    assert study.passes.all()[0].serial == "A␛[2J"


def test_questions_that_do_not_read_the_whole_study(study):
    unit = study.units()[0]
    ask = study.queries
    assert ask.unit_with(unit.maker, unit.model, unit.serial) == unit
    assert ask.unit_with(unit.maker, unit.model, "another") is None
    assert ask.columns() == study.overview().columns
    column = ask.columns()[0]
    assert ask.column_with(column.procedure, column.settings) == column
    assert ask.column_with(column.procedure, {}) is None
    row = study.overview().subjects[1]
    assert study.row_of(unit, row.conditions) == row
    assert study.row_of(unit, {}) is None
    assert study.row_of(None, {}).is_baseline
    assert ask.latest_run(row.id, column.id) is None
    first, second = measured(study), measured(study)
    assert ask.latest_run(row.id, column.id).id == second.id
    assert ask.baseline_run(column.id) is None
    assert ask.run_ids() == [second.id]
    assert ask.run_ids("response") == ([second.id] if second.procedure == "response" else [])
    assert ask.run_with_digest("x") is None
    study.set_deleted("run", second.id, True)
    assert ask.latest_run(row.id, column.id).id == first.id


def test_values_are_those_of_the_readings(study):
    run = measured(study)
    stored = {(r.key, r.channel): (r.value, r.unit) for r in run.readings if r.value is not None and r.value == r.value}
    keys = study.queries.value_keys(run.column_id)
    assert set(keys) == stored.keys()
    for key, channel in keys:
        assert study.queries.values(run.column_id, key, channel) == {run.id: stored[key, channel]}
    (cell,) = study.queries.measured_cells(run.column_id)
    assert (cell.run_id, cell.subject_id, cell.person) == (run.id, run.subject_id, run.person)
    assert cell.when == run.made
    curves = {c.key for c in study.curves(run.id) if c.channel == 1}
    for key in curves:
        (found,) = study.queries.curves_of_column(run.column_id, key, 1)
        whole = next(c for c in study.curves(run.id, [key]) if c.channel == 1)
        assert found.y.tolist() == whole.y.tolist()
        assert found.x == pytest.approx(whole.x)
    study.set_deleted("subject", run.subject_id, True)
    assert study.queries.measured_cells(run.column_id) == []


def test_values_of_a_deleted_run_go_with_it(study):
    run = measured(study)
    path = study.path
    study.set_deleted("run", run.id, True)
    study.close()
    with closing(sqlite3.connect(path / "study.sqlite")) as c:
        assert c.execute("SELECT count(*) FROM value").fetchone()[0] == 0


def test_an_older_study_gets_the_values_of_its_readings(study):
    run = measured(study)
    expected = {key: study.queries.values(run.column_id, *key) for key in study.queries.value_keys(run.column_id)}
    path = study.path
    study.close()
    with closing(sqlite3.connect(path / "study.sqlite")) as c:
        c.executescript(TO_FORMAT_6)
        c.execute(
            "INSERT INTO run SELECT NULL, subject_id, column_id, procedure, settings, chain, device, made, program,"
            " recomputed_from, cautions, 'no JSON', headline, thumbnail, deleted, firmware, person FROM run"
        )
        c.commit()
    with Study(path) as again:
        found = {key: again.queries.values(run.column_id, *key) for key in again.queries.value_keys(run.column_id)}
        assert found.keys() == expected.keys()
        for key, values in expected.items():
            assert found[key][run.id] == pytest.approx(values[run.id])


def test_rows_of_many_units_have_positions_and_colours(study, monkeypatch):
    unit = study.units()[0]
    between = study.add_subject(unit, {"gain": "a"}, after=study.overview().subjects[1].id)
    order = [s.id for s in study.overview().subjects]
    assert order.index(between.id) == 2
    at_end = study.add_subject(unit, {"gain": "b"}, after=9999)
    assert study.overview().subjects[-1].id == at_end.id
    with pytest.raises(StudyError, match="already exists"):
        study.add_subject(unit, {"gain": "a"})
    monkeypatch.setattr(repository, "_MANY_ROWS", 0)
    many = study.add_subject(unit, {"gain": "c"})
    assert many.colour != at_end.colour


def test_units_of_one_make_are_told_apart_by_their_serial_numbers(study):
    names = [s.full_name for s in study.overview().subjects]
    maker, model = study.units()[0].maker, study.units()[0].model
    study.add_subject(study.add_unit(maker, model, "0118"), {})
    told = [s.full_name for s in study.overview().subjects]
    assert told[1] != names[1]
    assert study.units()[0].serial in told[1]
    assert told[-1] == f"{maker} {model} 0118"


class TestALargeStudy:
    """Runs that are read when they are asked for are the same as those that are read at once."""

    @pytest.fixture
    def both(self, study, monkeypatch):
        measured(study, 1, 0)
        measured(study, 1, 1)
        measured(study, 1, 0)
        at_once = study.overview()
        monkeypatch.setattr(repository, "READ_AT_ONCE", 0)
        lazily = study.overview()
        assert isinstance(lazily.runs, RunTable)
        assert not isinstance(at_once.runs, RunTable)
        return at_once, lazily

    def test_the_same_runs(self, both):
        at_once, lazily = both
        assert dict(lazily.runs.items()) == dict(at_once.runs)
        assert len(lazily.runs) == len(at_once.runs)
        assert list(lazily.runs) == list(at_once.runs)
        for cell in at_once.runs:
            assert cell in lazily.runs
            assert run_id_of(lazily.runs, cell) == at_once.runs[cell].id
        assert lazily.runs.get((99, 99)) is None

    def test_the_last_run_and_its_headroom(self, both):
        at_once, lazily = both
        assert latest_of(lazily.runs) == latest_of(at_once.runs)
        assert headroom_of(lazily) == headroom_of(at_once)
        assert headroom_of(None) is None
        assert latest_of({}) is None

    def test_damage_is_marked_on_both(self, both):
        for seen in both:
            cell = next(iter(seen.runs))
            run = seen.runs[cell]
            assert marked(seen, [999]) is seen
            found = marked(seen, [run.id]).runs[cell]
            assert Caution.DAMAGED in found.cautions

    def test_few_are_kept_in_memory(self, both, monkeypatch):
        from epidote.study import run_table

        monkeypatch.setattr(run_table, "_MOST_KEPT", 1)
        _, lazily = both
        assert [run.id for run in lazily.runs.values()] == [run_id_of(lazily.runs, cell) for cell in lazily.runs]


def test_a_study_in_use_is_waited_for(study):
    path, said = study.path, []
    with pytest.raises(StudyError, match="still open in another window or process after 0.3 s"):
        open_for_writing(path, 0.3, said.append)
    assert said == [f"{path.name} is being written by another process; waiting for it."]
    study.close()
    open_for_writing(path, 0.0, said.append).close()
    assert len(said) == 1


def test_a_study_that_cannot_be_written_is_not_waited_for(study, monkeypatch):
    path = study.path
    study.close()
    monkeypatch.setattr("epidote.study.write_lock.os.access", lambda *_: False)
    with pytest.raises(StudyError, match="read-only"):
        open_for_writing(path, 60, lambda words: None)
