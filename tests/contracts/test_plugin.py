"""A procedure of another package, found by its entry point: everything understands it without knowing it."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import pytest

from epidote.core.comparison.baseline import against_baseline
from epidote.core.comparison.limits import Limit, check_reading
from epidote.core.procedures import registry
from epidote.core.quantities.formatting import format_reading
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.results.result import Result
from tests.conftest import measured, small_study

KEY = "sample-histogram"
PLUGINS = str(Path(__file__).parents[1] / "plugins")


@pytest.fixture
def plugin(monkeypatch):
    def forget() -> None:
        registry.registered.cache_clear()
        registry.loaded.cache_clear()

    monkeypatch.syspath_prepend(PLUGINS)
    forget()
    yield registry.procedure(KEY)
    monkeypatch.undo()
    forget()
    assert PLUGINS not in sys.path


@pytest.fixture
def with_column(plugin, tmp_path):
    """A study with the plug-in's column, measured for the baseline and for the unit."""
    from epidote.measurement.request import add_column

    study = small_study(tmp_path)
    add_column(study, KEY, plugin.Settings())
    study.set_setting("reference", str(study.overview().subjects[0].id))
    measured(study, 1, 0)  # the window opens on the first column
    for row in (0, 1):
        measured(study, row, 2)
    yield study
    study.close()


def test_commands(plugin, run, tmp_path):
    code, out, _ = run("procedures", "--json")
    assert code == 0
    assert KEY in out
    stimulus = tmp_path / "tone.wav"
    assert run("stimulus", KEY, stimulus, "--rate", "48000", "--set", "level=-12")[0] == 0
    code, out, err = run("analyse", KEY, stimulus, "--stimulus", stimulus.with_suffix(".json"))
    assert code == 0, err
    assert "Distinct values" in out
    code, _, err = run("stimulus", KEY, stimulus, "--set", "bins=1")
    assert code != 0
    assert "bins" in err


def test_matrix_baseline_and_export(with_column, run):
    overview = with_column.overview()
    column = overview.columns[2]
    assert (column.title, column.summary) == ("Sample histogram", "50 bins")
    run_of_unit = overview.runs[overview.subjects[1].id, column.id]
    assert run_of_unit.headline.title == "Distinct values"
    assert run_of_unit.headline.shown == "count"
    # the smallest step is that of the converter: what the chain shows alone is its floor
    step = next(r for r in run_of_unit.readings if r.key == "smallest_step")
    assert step.floor is not None
    path = with_column.path
    with_column.close()
    table = path.parent / "readings.csv"
    assert run("study", "export", path, table)[0] == 0
    assert "smallest_step" in table.read_text()
    code, out, _ = run("compare", "readings", path, KEY, "--json")
    assert code == 0
    assert "smallest_step" in json.dumps(json.loads(out))


def test_claims(with_column, run):
    """A published figure of the plug-in's own quantity: read, judged by its run, and its measurement proposed."""
    path, unit = with_column.path, with_column.units()[0].name
    with_column.close()
    code, out, err = run("compare", "claims", path, "--unit", unit, "--add", "smallest step < -90 dBFS", "--json")
    assert code == 0, err
    (claim,) = json.loads(out)["claims"]
    assert (claim["claim"], claim["verdict"]) == ("Smallest step at most -90 dBFS", "met")
    assert claim["margin"] == pytest.approx(-90 - claim["value"])
    code, out, _ = run("compare", "claims", path, "--unit", unit, "--add", "step size < -200 dBFS", "--json")
    # the smallest step is the converter's own, and the reading says so
    assert [one["reason"] for one in json.loads(out)["claims"]] == ["within_limit", "chain_limited"]


def test_a_claim_proposes_the_plugin_s_measurement(plugin):
    from epidote.core.comparison.claims.parser import parse_claim
    from epidote.core.comparison.claims.verdict import Reason, judge

    verdict = judge(parse_claim("smallest step < -90 dBFS").claim, [])
    assert verdict.reason is Reason.NOT_MEASURED
    assert (verdict.proposal.procedure, dict(verdict.proposal.settings)) == (KEY, {"duration": 0.3})


def test_what_a_kind_decides(plugin):
    """Roles as declared: near the chain's own share a reading is cautioned; a count is a count; limits apply."""
    unit, own = (Result((), (Reading("smallest_step", 1, v, "dBFS"),)) for v in (-120.0, -123.0))
    (reading,) = against_baseline(unit, own).readings
    assert reading.floor == -123.0
    assert Caution.NEAR_FLOOR in reading.cautions
    assert format_reading(Reading("distinct_values", 1, 4096.0, "ratio")) == "4096"
    limit = Limit(
        name="fine enough",
        procedure=KEY,
        key="smallest_step",
        unit="dBFS",
        source="rule of thumb",
        upper=((0.0, -100.0),),
    )
    assert check_reading(limit, reading).passed


def test_what_a_setting_affects(plugin):
    """Another number of bins rules a comparison out, in the plug-in's own words."""
    from epidote.core.chain.chain import Chain
    from epidote.core.claims.evidence import Evidence
    from epidote.core.comparison.conditions.comparability import find_mismatches
    from epidote.core.effects import Severity

    ours, theirs = (
        Evidence(number, KEY, "row", {"bins": bins}, Chain(), {}, (), tuple) for number, bins in ((1, 50), (2, 60))
    )
    (found,) = find_mismatches(ours, theirs)
    assert (found.severity, found.effect.why) == (Severity.BLOCKS, "Histograms of different bins cannot be compared.")


def test_analysis_against_numpy(plugin):
    """A ramp of known steps: numpy.histogram and numpy.unique of the same samples."""
    from epidote.core.chain.chain import Chain
    from tests.conftest import recording

    x = np.round(np.linspace(-0.5, 0.5, 5000) * 2**12) / 2**12
    result = plugin.analyse([recording(x)], plugin.Settings(bins=10), Chain())
    assert result.reading("distinct_values").value == np.unique(x).size
    assert result.reading("smallest_step").value == pytest.approx(20 * np.log10(2**-12))
    assert result.curve("histogram").y == pytest.approx(np.histogram(x, 10)[0] / x.size)
