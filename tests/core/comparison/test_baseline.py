"""The chain's own taken out: what is left is the unit's, and what cannot be told from the chain is said."""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.comparison.baseline import against_baseline
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.settings import make_settings
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse, baseline_of
from epidote.measurement.recompute import recompute
from epidote.measurement.request import RunPlan, add_column, baseline_orders
from epidote.measurement.runner import measure
from tests.conftest import QUICK, measured, recording, through

RATE = 48000


def high_pass(corner):
    return lambda f: 1j * f / corner / (1 + 1j * f / corner)


def test_response_less_the_chain_is_the_units_own():
    """Chain: a high-pass at 30 Hz.

    Unit: one at 40 Hz. Second way: the unit alone. Its -3 dB point is its corner only without the chain.
    """
    settings, chain = ResponseSettings(start_frequency=10, duration=3), Chain(rate=RATE)
    stimulus = next(Response().conduct(settings, chain))
    x = stimulus.samples()
    own = through(x, RATE, high_pass(30))
    both = through(own, RATE, high_pass(40))
    analyse = lambda y: Response().analyse([recording(y, RATE, stimulus)], settings, chain)  # noqa: E731
    result = against_baseline(analyse(both), analyse(own))
    alone = analyse(through(x, RATE, high_pass(40)))
    assert np.abs(result.curve("level").y - alone.curve("level").y).max() < 0.02
    at_1k = 1 + (40 / 1000) ** 2
    assert result.reading("bandwidth_low").value == pytest.approx(40 / np.sqrt(10**0.3 * at_1k - 1), rel=1e-4)
    assert analyse(both).reading("bandwidth_low").value > 50
    assert result.reading("delay").value == pytest.approx(0, abs=1e-6)
    assert result.curve("level").meta["baseline"] == "taken out"


@pytest.mark.parametrize(
    ("key", "unit", "value", "own", "near"),
    [
        ("thd", "dB", -100.0, -105.0, True),
        ("thd", "dB", -90.0, -105.0, False),
        ("noise", "V", 1.5e-6, 1e-6, True),
        ("noise", "V", 3e-6, 1e-6, False),
        ("snr", "dB", 112.0, 115.0, True),
        ("snr", "dB", 100.0, 115.0, False),
        ("enob", "bit", 17.5, 18.0, True),
        ("level", "V", 1.0, 1.0, False),
    ],
)
def test_within_6_db_of_the_chain_it_is_mostly_the_chain(key, unit, value, own, near):
    result = against_baseline(Result((), (Reading(key, 1, value, unit),)), Result((), (Reading(key, 1, own, unit),)))
    assert (Caution.NEAR_FLOOR in result.readings[0].cautions) is near
    assert result.readings[0].value == value


def test_a_probe_makes_the_converters_noise_weigh_more():
    result = against_baseline(
        Result((), (Reading("noise", 1, 5e-6, "V"),)), Result((), (Reading("noise", 1, 1e-6, "V"),)), scale=4.0
    )
    assert result.readings[0].floor == pytest.approx(4e-6)
    assert Caution.NEAR_FLOOR in result.readings[0].cautions


@pytest.mark.parametrize(
    ("inserted", "loss", "high"),
    [("attenuator", 20.0, None), ("cable", 0.005, 29473.1), ("transformer + cable", 1.205, None)],
)
def test_insertion_devices_against_the_plain_wire(tmp_path, inserted, loss, high):
    """Closed forms: an attenuator's 20 dB; R = 150 Ω and C = 36 nF, 1/(2 pi R C) = 29473 Hz, 10 lg(1 + (1 kHz/fc)²)
    = 0.005 dB.
    """
    settings = make_settings(
        Response.Settings,
        {"stimulus": "noise", "start_frequency": 5, "stop_frequency": 40000, "duration": 2, "level": -12},
    )
    chain = Chain(rate=96000, output_full_scale=4.0, input_full_scale=8.0)
    results = []
    for device, conditions in (("standin:wire", {}), ("standin:velmora-t2", {"inserted": inserted})):
        opened = open_for_chain(chain, device, conditions, seed=1)
        results.append(analyse("response", play_and_record("response", settings, chain, opened), settings, chain))
    found = against_baseline(results[1], results[0])
    assert found.reading("insertion_loss").value == pytest.approx(loss, abs=0.005)
    if high is not None:
        assert found.reading("bandwidth_high").value == pytest.approx(high, rel=0.01)
    captured = found.curve("output_spectrum")
    assert captured.y_unit == "dBV"
    # pink noise falls by 3 dB in an octave: the captured spectrum of 1 kHz against that of 100 Hz
    band = lambda f: captured.y[(captured.x > 0.8 * f) & (captured.x < 1.25 * f)].mean()  # noqa: E731
    assert band(100) - band(1000) == pytest.approx(10, abs=0.7)


def test_the_noise_floor_rises_over_the_wires():
    wire, unit = (Result((), (Reading("noise", 1, v, "V", {}, None, 0.01 * v),)) for v in (1e-6, 2e-6))
    rise = against_baseline(unit, wire).reading("noise_rise")
    assert rise.value == pytest.approx(6.0206, abs=1e-4)
    assert rise.spread == pytest.approx(0.01 * 8.686 * np.sqrt(2), rel=1e-3)
    assert against_baseline(unit, wire, scale=4.0).reading("noise_rise") is None  # through a probe there is no saying
    amplifier = Result((), (Reading("gain_1k", 1, 26.0, "dB"),))
    assert (
        against_baseline(amplifier, Result((), (Reading("gain_1k", 1, 0.0, "dB"),))).reading("insertion_loss") is None
    )


def test_latency_is_subtracted_and_both_are_kept():
    result = against_baseline(
        Result((), (Reading("latency", 1, 0.012, "s"),)), Result((), (Reading("latency", 1, 0.007, "s"),))
    )
    assert result.readings[0].value == pytest.approx(0.005)
    assert result.readings[0].at["baseline"] == 0.007


def test_other_curves_stay():
    curve = Curve("impulse", 1, np.arange(4.0), np.ones(4), "s", "ratio")
    assert against_baseline(Result((curve,)), Result()).curves == (curve,)


def baseline_measured(study):
    quick_columns(study)
    for order in baseline_orders(study):
        device = open_for_chain(order.chain, "standin:wire", {}, seed=1)
        measure(study, order, device)


def quick_columns(study):
    """A column of every procedure, so that the baseline need not make its own slow ones."""
    present = {c.procedure for c in study.overview().columns}
    for key in {k for k, p in procedures().items() if p.of_the_chain} - present:
        add_column(study, key, make_settings(procedure(key).Settings, QUICK[key]))


class TestInTheStudy:
    @pytest.mark.slow
    def test_one_go_measures_every_procedure_on_the_chain(self, study):
        orders = baseline_orders(study)
        assert {o.procedure for o in orders} == {k for k, p in procedures().items() if p.of_the_chain}
        assert all(o.chain.load_ohms is None and o.chain.probe_ratio == 1 for o in orders)
        baseline_measured(study)
        row = next(s for s in study.overview().subjects if s.is_baseline)
        assert {c.procedure for c in study.overview().columns if (row.id, c.id) in study.overview().runs} == {
            o.procedure for o in orders
        }

    def test_every_later_run_uses_it(self, study):
        before = measured(study, 1, 1)
        baseline_measured(study)
        after = measured(study, 1, 1)
        delay = {
            name: next(r for r in run.readings if r.key == "delay")
            for name, run in (("before", before), ("after", after))
        }
        assert delay["before"].value > 0.011, "buffers and converters"
        assert 0 < delay["after"].value < 1e-4, "the amplifier's own"
        again = recompute(study, before.id, {})
        assert next(r for r in again.readings if r.key == "delay").value == pytest.approx(
            delay["after"].value, abs=1e-6
        )

    def test_the_baseline_itself_stays_as_it_is(self, study):
        baseline_measured(study)
        row = next(s for s in study.overview().subjects if s.is_baseline)
        order = baseline_orders(study)[0]
        assert order.subject_id == row.id
        assert baseline_of(study, order) is None

    def test_it_knows_when_it_no_longer_applies(self, study):
        baseline_measured(study)
        chain = chain_from_toml(study.chain_toml)
        study.set_setting("chain", chain_to_toml(chain.model_copy(update={"input_full_scale": 4.0, "buffer": 128})))
        subject, column = study.overview().subjects[1], study.overview().columns[0]
        found = baseline_of(study, RunPlan(subject.id, column.id, "tone", None, chain_for_subject(study, subject)))
        assert found.unfit == ("gain", "buffer")
        run = measured(study, 1, 0)
        assert "baseline_unfit" in run.cautions


def test_distortion_along_a_staircase_is_held_against_the_chain_s():
    """Other levels than the chain's own run: its curve is read between its points; beyond them it says nothing."""
    own = Curve("thd", 1, np.array([-40.0, -20.0]), np.array([-100.0, -90.0]), "dBFS", "dB")
    drive = Curve("thd", 1, np.array([-45.0, -30.0, -20.0]), np.array([-80.0, -80.0, -80.0]), "dBFS", "dB")
    volts = Curve("thd", 1, np.array([1.0, 2.0, 3.0]), drive.y, "V", "dB")
    result = against_baseline(Result((drive, volts)), Result((own,)))
    np.testing.assert_array_equal(result.curve("thd", 1, "dBFS").floor, [np.nan, -95.0, -90.0])
    np.testing.assert_array_equal(result.curve("thd", 1, "V").floor, [np.nan, -95.0, -90.0])
