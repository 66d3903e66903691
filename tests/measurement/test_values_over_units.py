"""Readings and curves over units: which are selected, whose limits hold, checked with numpy."""

from datetime import date

import numpy as np
import pytest

from epidote.core.comparison.limits import Limit
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.routine.text import routine_from_toml
from epidote.core.settings import make_settings
from epidote.measurement.request import add_column
from epidote.measurement.routine.storage import keep_routine
from epidote.measurement.unit_statistics import (
    UnitSelection,
    curve_statistics,
    day_of,
    every_reading,
    find_column,
    limits_for,
    paired_values,
    statistics_of,
    unit_values,
)
from epidote.study.models import FinishedRun
from epidote.study.store import create_study
from tests.routine_study import CHAIN, routine_text

UNITS = 12
X = np.geomspace(20, 20000, 30)
RNG = np.random.default_rng(5)
THD = RNG.normal(-80, 1, UNITS)
NOISE = THD / 10 + RNG.normal(0, 0.01, UNITS)
LEVELS = RNG.normal(0, 0.1, (UNITS, X.size))


@pytest.fixture
def study(tmp_path):
    """Twelve units, one a day, every other with another firmware; the last has no value."""
    made = create_study(tmp_path / "Line")
    column = add_column(made, "tone", make_settings(procedure("tone").Settings, {"duration": 0.2, "level": -20}))
    for n in range(UNITS):
        unit = made.add_unit("Ostrel", "H20", f"H20-{n:03d}", "1.0" if n % 2 else "2.0")
        row = made.add_subject(unit, {})
        readings = (
            Reading("thd", 1, None if n == UNITS - 1 else float(THD[n]), "dB"),
            Reading("noise", 1, float(NOISE[n]), "V"),
        )
        x = X if n else X * 1.0001  # one unit's curve on another grid
        curve = Curve("spectrum", 1, x, LEVELS[n], "Hz", "dBFS")
        run = made.add_run(
            FinishedRun(row.id, column.id, "tone", column.settings, CHAIN, "x", Result((curve,), readings))
        )
        with made.database.writing() as c:
            c.execute("UPDATE run SET made = ? WHERE id = ?", (f"2026-11-{n + 1:02d}T12:00:00+00:00", run.id))
    yield made
    made.close()


@pytest.fixture
def column(study):
    return find_column(study, "tone")


def test_every_unit_counts_once(study, column):
    values = unit_values(study, column, "thd")
    assert values.numbers.tolist() == pytest.approx(THD[:-1].tolist())
    assert (values.unit, values.left_out, values.title) == ("dB", 1, "THD")
    assert values.days.tolist() == list(range(UNITS - 1))
    found = statistics_of(values)
    slope, _ = np.polyfit(np.arange(UNITS - 1), THD[:-1], 1)
    assert found.drift.per_day == pytest.approx(slope)
    again = FinishedRun(
        2, column.id, "tone", column.settings, CHAIN, "x", Result((), (Reading("thd", 1, -50.0, "dB"),))
    )
    study.add_run(again)
    assert -50.0 in unit_values(study, column, "thd").numbers, "of a unit that was measured again the latest run"
    assert unit_values(study, column, "thd").numbers.size == UNITS - 1


@pytest.mark.parametrize(
    ("selection", "count"),
    [
        (UnitSelection(), UNITS - 1),
        (UnitSelection(since=date(2026, 11, 4)), UNITS - 4),
        (UnitSelection(until=date(2026, 11, 4)), 4),
        (UnitSelection(since=date(2026, 11, 4), until=date(2026, 11, 4)), 1),
        (UnitSelection(serial="h20-00?"), 10),
        (UnitSelection(firmware="2.0"), 6),
        (UnitSelection(operator="nobody else"), 0),
    ],
)
def test_units_are_selected(study, column, selection, count):
    if not count:
        with pytest.raises(UnusableInputError, match="No selected unit has a value"):
            unit_values(study, column, "thd", selection=selection)
        return
    assert unit_values(study, column, "thd", selection=selection).numbers.size == count


def test_every_reading_at_once_is_each_by_itself(study, column):
    for found in every_reading(study, column):
        alone = unit_values(study, column, found.key, channel=found.channel)
        assert (found.values, found.unit, found.left_out) == (alone.values, alone.unit, alone.left_out)
    assert {found.key for found in every_reading(study, column)} == {"thd", "noise"}


def test_limits_are_those_of_the_study_or_of_a_routine(study, column):
    assert limits_for(study, column, "thd", 1).upper is None
    keep_routine(study, routine_from_toml(routine_text()))
    limits = limits_for(study, column, "thd", 1)
    assert (limits.lower, limits.upper, limits.source) == (None, -60.0, "Post check")
    assert limits_for(study, column, "noise", 1).upper is None, "that limit is of another procedure"
    own = Limit(name="own", procedure="tone", key="thd", unit="dB", upper=((1.0, -79.0),), lower=((1.0, -85.0),))
    study.entries.add("limit", own.model_dump(mode="json"))
    limits = limits_for(study, column, "thd", 1)
    assert (limits.lower, limits.upper, limits.source) == (-85.0, -79.0, "own")
    found = statistics_of(unit_values(study, column, "thd"), limits)
    inside = (THD[:-1] >= -85) & (THD[:-1] <= -79)
    assert found.within.share == pytest.approx(inside.mean())


def test_units_of_a_merged_study_stand_where_they_were_measured(study, column):
    """Their runs have later numbers, whenever they were made."""
    with study.database.writing() as c:
        c.execute("UPDATE run SET made = '2026-10-31T12:00:00+00:00' WHERE id = (SELECT max(run_id) FROM value)")
    noise = unit_values(study, column, "noise")
    assert noise.values[0].value == pytest.approx(NOISE[-1])
    assert noise.days.tolist() == list(range(UNITS))


def test_two_readings_of_the_units_that_have_both(study, column):
    thd, noise = unit_values(study, column, "thd"), unit_values(study, column, "noise")
    pairs = paired_values(noise, thd)
    assert pairs.correlation.count == UNITS - 1
    assert pairs.correlation.r == pytest.approx(np.corrcoef(NOISE[:-1], THD[:-1])[0, 1])
    assert pairs.x.tolist() == pytest.approx(NOISE[:-1].tolist())
    assert pairs.y.tolist() == pytest.approx(THD[:-1].tolist())
    assert pairs.places == tuple(range(UNITS - 1))


def test_a_curve_over_units(study, column):
    bands = curve_statistics(study, column, "spectrum")
    assert bands.units == UNITS
    np.testing.assert_allclose(bands.x, X * 1.0001)
    np.testing.assert_allclose(bands.mean, LEVELS.mean(axis=0), atol=2e-3)
    np.testing.assert_allclose(bands.s, LEVELS.std(axis=0, ddof=1), atol=3e-3)
    np.testing.assert_allclose(bands.greatest, LEVELS.max(axis=0), atol=5e-3)
    few = curve_statistics(study, column, "spectrum", selection=UnitSelection(serial="H20-00[12]"))
    np.testing.assert_allclose(few.mean, LEVELS[1:3].mean(axis=0))
    np.testing.assert_allclose(few.least, LEVELS[1:3].min(axis=0))
    with pytest.raises(UnusableInputError, match="need two units at least; 1 found"):
        curve_statistics(study, column, "spectrum", selection=UnitSelection(serial="H20-001"))


def test_columns_are_found_by_number_procedure_or_title(study, column):
    assert find_column(study, str(column.id)) == find_column(study, "Single tone") == column
    add_column(study, "tone", make_settings(procedure("tone").Settings, {}))
    for name, words in (("tone", "Several columns fit"), ("noise", "Unknown column")):
        with pytest.raises(SettingError, match=words):
            find_column(study, name)


def test_values_in_several_units_are_not_mixed(study, column):
    row = study.add_subject(study.add_unit("Ostrel", "H20", "other"), {})
    study.add_run(
        FinishedRun(row.id, column.id, "tone", column.settings, CHAIN, "x", Result((), (Reading("thd", 1, 0.1, "%"),)))
    )
    with pytest.raises(UnusableInputError, match="several units"):
        unit_values(study, column, "thd")


def test_days_are_read_as_they_are_written():
    assert day_of("") is None
    assert day_of("2026-11-29") == date(2026, 11, 29)
    with pytest.raises(SettingError, match="Use YYYY-MM-DD"):
        day_of("yesterday")
