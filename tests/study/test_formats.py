"""Studies of every earlier format, as the versions that wrote them left them: opened, every number as it was, and keys
that have changed since under their present names.

tests/data/studies/format-N.zip were made with the command line of the last version that wrote format N, from the
shipped stand-ins. What they hold is read here with sqlite3 and json alone.
"""

from __future__ import annotations

import json
import sqlite3
import zipfile
from collections import Counter
from contextlib import closing
from pathlib import Path

import pytest

from epidote.core.comparison.limits import Limit
from epidote.core.procedures.registry import current_curve_key, current_reading_key, procedure, procedures
from epidote.measurement.assessment import held_limits
from epidote.measurement.recompute import recompute
from epidote.study.annotations import valid
from epidote.study.database import migrations
from epidote.study.store import Study

STUDIES = Path(__file__).parents[1] / "data" / "studies"
READINGS = {
    ("latency", "range"): "latency_range",
    ("latency", "buffers"): "buffer_latency",
    ("latency", "beside_buffers"): "non_buffer_latency",
    ("latency", "second"): "second_arrival",
    ("latency", "apart"): "arrival_separation",
    ("paths", "apart"): "arrival_separation",
    ("paths", "best"): "optimum_delay",
    ("paths", "modulation"): "delay_modulation",
    ("paths", "events"): "transients",
    ("paths", "event_spread"): "transient_spread",
}
CURVES = {
    ("paths", "course"): "delay_over_time",
    ("paths", "event_delay"): "transient_delay",
    ("paths", "event_level"): "transient_level",
    ("paths", "event_delay_spread"): "transient_delay_spread",
    ("paths", "event_time_spread"): "transient_time_spread",
    ("response", "capture"): "output_spectrum",
}
FORMATS = range(1, 7)


@pytest.fixture(params=FORMATS)
def old(request, tmp_path):
    """The folder of an old study, and what its database holds."""
    with zipfile.ZipFile(STUDIES / f"format-{request.param}.zip") as packed:
        packed.extractall(tmp_path)
    path = tmp_path / f"format {request.param}.epidote"
    with closing(sqlite3.connect(path / "study.sqlite")) as database:
        database.row_factory = sqlite3.Row
        assert database.execute("PRAGMA user_version").fetchone()[0] == request.param
        runs = [dict(row) for row in database.execute("SELECT * FROM run")]
        curves = [tuple(row) for row in database.execute("SELECT run_id, key, channel, points FROM curve")]
    return path, runs, curves


def test_there_is_a_study_of_every_format_before_this_one():
    assert list(FORMATS) == [number for number, _ in migrations()][:-1]


def test_every_reading_and_curve_is_there_under_its_present_key(old):
    path, runs, curves = old
    with Study(path) as study:
        for before in runs:
            key = before["procedure"]
            run = study.run(before["id"])
            expected = [
                {**reading, "key": READINGS.get((key, reading["key"]), reading["key"])}
                for reading in json.loads(before["readings"])
            ]
            assert [reading.to_json() for reading in run.readings] == expected
            headline = json.loads(before["headline"])
            assert run.headline.reading.key == READINGS.get((key, headline["key"]), headline["key"])
            assert (run.headline.reading.value, run.headline.reading.unit) == (headline["value"], headline["unit"])
            named = {kind.key: kind for kind in procedure(key).readings}
            assert run.headline.title == named[run.headline.reading.key].title
            own = Counter((CURVES.get((key, k), k), ch, n) for r, k, ch, n in curves if r == before["id"])
            assert Counter((c.key, c.channel, c.x.size) for c in study.curves(run.id)) == own
    assert list(path.glob("study before format *.sqlite")), "the database is kept as it was"


def test_a_finished_run_is_recomputed_to_the_same_headline(old):
    """The methods have improved since: ratios by far less than 0.01 dB, delays by less than a thousandth."""
    path, runs, _ = old
    with Study(path) as study:
        for before in runs:
            again = recompute(study, before["id"], {})
            assert again.headline.reading.key == study.run(before["id"]).headline.reading.key
            assert again.headline.reading.value == pytest.approx(json.loads(before["headline"])["value"], rel=1e-3)


def test_limits_and_pins_follow_the_keys(old):
    path, runs, _ = old
    if "paths" not in {run["procedure"] for run in runs}:
        pytest.skip("this format had neither")
    with Study(path) as study:
        seen = study.overview()
        assert {limit.key for _, limit in valid(seen.of_kind("limit"), Limit)} == {"latency_range", "delay_over_time"}
        assert [pin.curve for pin in seen.pins] == ["delay_over_time"]
        checks = [check for run in seen.runs.values() for check in held_limits(study, seen, run)]
        assert {check.limit.name: check.passed for check in checks} == {"steady": True, "delay": True}


def test_a_script_may_go_on_using_the_former_keys():
    for (key, former), present in READINGS.items():
        assert current_reading_key(key, former) == present
    for (key, former), present in CURVES.items():
        assert current_curve_key(key, former) == present
    assert current_reading_key("paths", "delay") == "delay"
    assert current_reading_key("tone", "range") == "range", "of another procedure"


def test_no_key_is_former_and_present_at_once():
    for made in procedures().values():
        present = {kind.key for kind in made.readings}
        former = [key for kind in made.readings for key in kind.former]
        assert len(set(former)) == len(former)
        assert not present & set(former)


def test_former_keys_on_the_command_line(run, tmp_path):
    with zipfile.ZipFile(STUDIES / "format-5.zip") as packed:
        packed.extractall(tmp_path)
    path = tmp_path / "format 5.epidote"
    code, _, err = run("compare", "limits", path)
    assert code == 0, err
    table = tmp_path / "course.csv"
    code, _, err = run("study", "export", path, table, "--run", 3, "--curve", "course")
    assert code == 0, err
    assert len(table.read_text().splitlines()) > 2
