"""The measurement service: what is stored and what is asked, with a device that drives a unit for the first time."""

import pytest

from epidote.core.calibration.precheck import Precheck, PrecheckFinding
from epidote.core.errors import MeasurementError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.measurement import service
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.request import RunPlan


@pytest.fixture
def plan(study):
    overview = study.overview()
    subject, column = overview.subjects[1], overview.columns[0]
    settings = make_settings(procedure(column.procedure).Settings, column.settings)
    chain = chain_for_subject(study, subject).changed(device=subject.device)
    return RunPlan(subject.id, column.id, column.procedure, settings, chain)


@pytest.fixture
def real(monkeypatch):
    """The stand-in is taken for a sound card that can harm a unit; which devices were opened and closed."""
    opened = []
    open_for_chain = service.open_for_chain

    def opening(*given, **named):
        device = open_for_chain(*given, **named)
        close = device.close
        device.close = lambda: (opened.remove(device), close())
        opened.append(device)
        return device

    monkeypatch.setattr(service, "open_for_chain", opening)
    monkeypatch.setattr("epidote.measurement.device_setup.SOUND_PREFIX", "standin:")
    return opened


def test_the_first_run_of_a_chain_is_asked_about_once(study, plan, real):
    asked = []

    def confirm(start):
        asked.append(start)
        return True

    runs = service.carry_out(study, plan, {}, confirm=confirm, seed=1, times=2)
    assert [run.procedure for run in runs] == ["tone", "tone"]
    assert len(asked) == 1
    assert "40 dB below the set level. At -20 dBFS, expect " in asked[0].words
    assert len(service.carry_out(study, plan, {}, confirm=confirm, seed=1)) == 1
    assert len(asked) == 1, "the study knows this chain now"
    assert real == [], "every device is closed"


def test_nothing_is_stored_where_the_answer_is_no(study, plan, real):
    assert service.carry_out(study, plan, {}, confirm=lambda _: False, seed=1) == []
    assert study.overview().runs == {}
    assert service.needs_safe_start(study, plan.chain), "it is asked again the next time"
    assert real == []


def test_progress_is_of_all_runs_together_and_cancelling_keeps_what_is_whole(study, plan, real):
    shares = []

    def in_the_second_run():
        return bool(shares) and shares[-1] > 0.5

    runs = service.carry_out(study, plan, {}, progress=shares.append, cancelled=in_the_second_run, times=2, seed=1)
    assert len(runs) == 1
    assert shares == sorted(shares)
    assert 0 < shares[0] <= shares[-1] <= 1
    assert real == []


def test_a_check_that_rules_the_run_out_says_so(study, plan, real, monkeypatch):
    finding = PrecheckFinding(Caution.TOO_QUIET, 1, True, "no signal. Check the cables.")
    monkeypatch.setattr(service, "run_low_level_precheck", lambda *_: Precheck((finding,), (None, None)))
    with pytest.raises(MeasurementError, match="Level check 40 dB below the set level"):
        service.carry_out(study, plan, {}, seed=1)
    assert study.overview().runs == {}
    assert real == []
