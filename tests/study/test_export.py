"""CSV that says what it is."""

import csv

import numpy as np

from epidote.study.interchange.csv_export import curves_csv, readings_csv
from tests.conftest import measured


def lines(text: str) -> list[list[str]]:
    return list(csv.reader(line for line in text.splitlines() if line and not line.startswith("#")))


def test_readings(study):
    run = measured(study)
    text = readings_csv([("Ostrel P40, gain high", run)])
    assert text.startswith("# Ostrel P40, gain high: tone {")
    rows = lines(text)
    assert rows[0][:6] == ["subject", "procedure", "reading", "channel", "value", "unit"]
    assert len(rows) == 1 + len(run.readings)
    thd = next(r for r in rows if r[2] == "thd" and r[3] == "1")
    assert float(thd[4]) == next(r.value for r in run.readings if r.key == "thd" and r.channel == 1)
    assert "load_unconfirmed" in thd[9]


def test_curves_share_a_table_when_they_share_their_x(study):
    run = measured(study, column=1)
    curves = study.curves(run.id, ["level"])
    text = curves_csv([("One", run, curves), ("Two", run, curves)])
    rows = lines(text)
    assert rows[0][0] == "x (Hz)"
    assert len(rows[0]) == 5
    values = np.array([[float(v) for v in row] for row in rows[1:]])
    assert np.array_equal(values[:, 0], curves[0].x)
    assert np.array_equal(values[:, 1], curves[0].y)
    assert "# One: cautions: load_unconfirmed" in text


def test_curves_of_different_grids_stand_below_each_other(study):
    level, impulse = (study.curves(measured(study, column=1).id, [k])[0] for k in ("level", "impulse"))
    run = study.run(1)
    rows = lines(curves_csv([("One", run, [level, impulse])]))
    assert [r[0] for r in rows if r[0].startswith("x (")] == ["x (Hz)", "x (s)"]
