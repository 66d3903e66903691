"""One pass over a unit on devices that a test can break: order of steps, what follows a failure, what is kept."""

import threading
from dataclasses import replace

import numpy as np
import pytest

from epidote.audio.device import DeviceLostError
from epidote.core.errors import SettingError
from epidote.core.routine.model import MeasureStep
from epidote.core.routine.step_limit import StepLimit
from epidote.core.routine.text import routine_from_toml
from epidote.core.routine.verdict import RoutineVerdict
from epidote.core.signals.signal import Signal
from epidote.measurement.routine.dialogue import PromptAnswer, UnattendedDialogue
from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
from epidote.measurement.routine.storage import find_routine, keep_routine, stored_routines
from epidote.study.models import StudyError
from epidote.study.store import Study
from tests.routine_study import line_study, routine_text

TONE = {"procedure": "tone", "settings": {"duration": 0.2, "level": -20}}
TOO_TIGHT = StepLimit(key="thd", unit="dB", upper=-150)


@pytest.fixture
def study(tmp_path):
    with Study(line_study(tmp_path / "Line")) as opened:
        yield opened


class Notes(UnattendedDialogue):
    """A dialogue that notes what it was told, and answers as it was made to."""

    def __init__(self, answers=(), go_on=False):
        self.began, self.ended, self.answers, self.go_on = [], [], list(answers), go_on

    def step_began(self, number):
        self.began.append(number)

    def step_ended(self, outcome):
        self.ended.append((outcome.number, str(outcome.verdict)))

    def ask(self, number, step):
        return self.answers.pop(0) if self.answers else None

    def ask_whether_to_go_on(self, outcome):
        return self.go_on


def routine(*steps, **more):
    return find_line(more).model_copy(update={"step": tuple(steps), **more})


def find_line(_):
    return routine_from_toml(routine_text())


def run(study, made, serial="H20-001", talk=None, cancelled=lambda: False, **options):
    runner = RoutineRunner(study, made, **options)
    try:
        runner.check()
        return runner.run_unit(UnitRequest(serial, shift="early"), talk, cancelled)
    finally:
        runner.close()


def test_a_pass_is_kept_with_its_runs(study):
    report = run(study, find_line(0))
    assert report.verdict is RoutineVerdict.PASSED
    (kept,) = study.passes.all("Post check")
    assert (kept.serial, kept.verdict, kept.operator, kept.shift) == ("H20-001", "passed", "early hand", "early")
    assert [step["procedure"] for step in kept.steps] == ["tone", "noise"]
    for step in kept.steps:
        run_of_step = study.run(step["runs"][0])
        assert study.recordings(run_of_step.id), "the raw recording is kept"
        reading = run_of_step.reading("thd" if step["procedure"] == "tone" else "noise")
        limit = -60 if step["procedure"] == "tone" else 6e-5
        margins = [limit - r.value for r in run_of_step.readings if r.key == reading.key]
        assert step["margin"] == pytest.approx(min(margins)), "the distance of the worse channel, read off the run"
    names = [s.full_name for s in study.overview().subjects]
    assert names == ["Baseline", "Ostrel H20"]


def test_what_follows_a_step_that_fails(study):
    bad, good = MeasureStep(**TONE, limit=(TOO_TIGHT,)), MeasureStep(**TONE)

    def failing(action):
        return routine(bad.model_copy(update={"on_failure": action}), good)

    talk = Notes()
    report = run(study, failing("go on"), talk=talk)
    assert [o.verdict for o in report.outcomes] == ["failed", "passed"]
    report = run(study, failing("repeat 2 times"), "H20-002", talk := Notes())
    assert [n for n, _ in talk.ended].count(1) == 3
    assert report.outcomes[0].attempts == 3
    assert report.verdict is RoutineVerdict.FAILED
    report = run(study, failing("ask"), "H20-003", Notes(go_on=False))
    assert report.kept.words == "Ended after step 1 (Single tone)."
    report = run(study, failing("ask"), "H20-004", Notes(go_on=True))
    assert report.kept.words == ""


def test_a_step_begun_too_early_is_ended_and_not_kept(study):
    """At the pace of sound, the second step sounds while the first is analysed; a stop ends it."""
    first = MeasureStep(**TONE, limit=(TOO_TIGHT,), on_failure="stop")
    long = MeasureStep(procedure="tone", settings={"duration": 20, "level": -20})
    report = run(study, routine(first, long), talk=Notes(), real_time=True)
    assert [o.number for o in report.outcomes] == [1]
    assert report.verdict is RoutineVerdict.FAILED
    assert len(study.overview().runs) == 1


def test_repeats_are_all_judged(study):
    report = run(study, routine(MeasureStep(**TONE, repeats=3)))
    assert len(report.kept.steps) == 1
    assert len(study.runs_of(study.overview().subjects[1].id, study.queries.columns()[0].id)) == 3


def test_conditions_of_a_step_have_a_row_of_their_own(study):
    run(study, routine(MeasureStep(**TONE), MeasureStep(**TONE, conditions={"load": "4 Ω"})))
    assert [dict(s.conditions) for s in study.overview().subjects[1:]] == [{}, {"load": "4 Ω"}]


def test_a_device_that_vanishes_in_the_last_step_leaves_the_steps_before(study, monkeypatch):
    from epidote.audio.simulated.device import SimulatedDevice

    exchange, played = SimulatedDevice.exchange, []

    def breaking(self, stimulus, **options):
        played.append(stimulus)
        if len(played) == 3:
            raise DeviceLostError("The fixture was disconnected. Reconnect the device and measure again.")
        return exchange(self, stimulus, **options)

    monkeypatch.setattr(SimulatedDevice, "exchange", breaking)
    report = run(study, routine(MeasureStep(**TONE), MeasureStep(**TONE), MeasureStep(**TONE)))
    assert report.verdict is RoutineVerdict.NOT_MEASURED
    assert "Reconnect the device" in report.kept.words
    assert [str(o.verdict) for o in report.outcomes] == ["passed", "passed"]
    monkeypatch.undo()
    assert run(study, find_line(0), "H20-002").verdict is RoutineVerdict.PASSED


@pytest.mark.parametrize(("wire", "words"), [(np.fliplr, "swapped"), (np.zeros_like, "no signal")])
def test_wrong_wiring_is_never_a_failed_unit(study, monkeypatch, wire, words):
    from epidote.audio.simulated.device import SimulatedDevice

    exchange = SimulatedDevice.exchange

    def wired(self, stimulus, **options):
        recording = exchange(self, stimulus, **options)
        return replace(recording, signal=Signal(wire(recording.signal.samples), recording.signal.rate))

    monkeypatch.setattr(SimulatedDevice, "exchange", wired)
    report = run(study, routine(MeasureStep(**TONE), check_signal=True))
    assert report.verdict is RoutineVerdict.NOT_MEASURED
    assert words in report.kept.words
    assert report.outcomes == ()


def test_a_dropout_is_not_measured(study, monkeypatch):
    from epidote.audio.simulated.device import SimulatedDevice

    exchange = SimulatedDevice.exchange
    monkeypatch.setattr(
        SimulatedDevice, "exchange", lambda self, s, **o: replace(exchange(self, s, **o), faults=("1 dropout",))
    )
    report = run(study, find_line(0))
    assert report.verdict is RoutineVerdict.NOT_MEASURED
    assert "samples were lost" in report.outcomes[0].words


def test_stopping_keeps_what_had_ended(study):
    stop = threading.Event()

    class Stopping(Notes):
        def step_began(self, number):
            if number == 2:
                stop.set()

    report = run(study, routine(*[MeasureStep(**TONE)] * 3), talk=Stopping(), cancelled=stop.is_set)
    assert report.verdict is RoutineVerdict.NOT_MEASURED
    assert "Stopped" in report.kept.words
    assert len(report.outcomes) == 1


def test_prompts_waits_and_commands(study, tmp_path):
    mark = tmp_path / "switched"
    text = routine_text() + (
        f'\n[[step]]\ncommand = ["touch", "{mark}"]\n[[step]]\nwait = "10 ms"\n[[step]]\nwait = "steady"\n'
        '[[step]]\nwait = "warm"\nprocedure = "tone"\nkey = "level"\nwithin = 100\nlongest = 20\n'
        "[step.settings]\nduration = 0.2\nlevel = -20\n"
        '[[step]]\nprompt = "Lamp?"\nanswer = "yes or no"\n[[step]]\ncommand = ["false"]\n'
    )
    made = routine_from_toml(text)
    with pytest.raises(SettingError, match=r"runs commands on this computer: touch .*; false"):
        run(study, made)
    assert not mark.exists()
    report = run(study, made, talk=Notes([PromptAnswer(True)]), commands_allowed=True)
    assert mark.exists()
    assert [str(o.verdict) for o in report.outcomes] == ["passed"] * 7 + ["not measured"]
    assert "steady within" in report.outcomes[4].words
    assert "per minute" in report.outcomes[5].words
    assert "ended with code 1" in report.outcomes[7].words
    no = run(study, made, talk=Notes([PromptAnswer(False)]), commands_allowed=True)
    assert no.outcomes[6].answer == "no"
    unattended = run(study, made, commands_allowed=True)
    assert unattended.verdict is RoutineVerdict.NOT_MEASURED


def test_limits_relative_to_a_golden_unit(study):
    run(study, routine(MeasureStep(**TONE)), "H20-001")
    golden = StepLimit(key="level", unit="dBFS", upper=1, lower=-1, golden="H20-001")
    golden = golden.model_copy(update={"key": "thd", "unit": "dB"})
    report = run(study, routine(MeasureStep(**TONE, limit=(golden,))), "H20-031")
    assert report.verdict is RoutineVerdict.FAILED
    missing = golden.model_copy(update={"golden": "H20-999"})
    report = run(study, routine(MeasureStep(**TONE, limit=(missing,))), "H20-002")
    assert report.verdict is RoutineVerdict.NOT_MEASURED
    assert "“H20-999” was not measured" in report.outcomes[0].words


@pytest.mark.parametrize(
    ("serial", "words"),
    [("", "is empty"), ("H20-1", "does not have the form"), ("H20-\x1b1", "control characters"), ("x" * 99, "99")],
)
def test_serial_numbers_that_cannot_be(study, serial, words):
    with pytest.raises(SettingError, match=words):
        run(study, find_line(0), serial)
    assert study.passes.all() == ()


def test_foreign_serial_numbers_are_taken(study):
    made = find_line(0).model_copy(update={"serial_pattern": ""})
    assert run(study, made, " Ø-漢字 7 ").kept.serial == "Ø-漢字 7"
    again = run(study, made, "Ø-漢字 7")
    assert again.kept.subject_id == study.passes.all()[0].subject_id, "the same unit, the same row"


def test_the_first_pass_counts(study):
    bad = routine(MeasureStep(**TONE, limit=(TOO_TIGHT,)))
    run(study, bad)
    run(study, find_line(0))
    run(study, find_line(0), "H20-002")
    counts = study.passes.counts("Post check")
    assert (counts.units, counts.first_passed, counts.last_passed) == (2, 1, 2)
    assert counts.by_verdict == {"failed": 1, "passed": 1}


def test_a_full_disk_is_said_and_nothing_is_half(study, monkeypatch):
    from epidote.study.database import DiskFullError

    def full(*_):
        raise DiskFullError("The disk is full. Line was not changed; free some space and try again.")

    monkeypatch.setattr(type(study), "add_run", full)
    monkeypatch.setattr(type(study.passes), "add", full)
    with pytest.raises(StudyError, match="disk is full"):
        run(study, find_line(0))
    monkeypatch.undo()
    assert (study.passes.all(), len(study.overview().runs)) == ((), 0)


def test_routines_are_kept_by_name(study):
    changed = find_line(0).model_copy(update={"guard_bands": True})
    keep_routine(study, changed)
    assert [s.routine for s in stored_routines(study)] == [changed]
    assert find_routine(study, "Post check").guard_bands
    with pytest.raises(SettingError, match="contains no routine “x”. Available: “Post check”"):
        find_routine(study, "x")


def test_a_golden_unit_that_was_measured_again_is_looked_up_again(study):
    """The bench stays open from unit to unit; the golden unit's values are those of its last run."""
    relative = StepLimit(key="thd", unit="dB", upper=3, golden="H20-001")
    runner = RoutineRunner(study, routine(MeasureStep(**TONE, limit=(relative,))))
    runner.run_unit(UnitRequest("H20-001"))
    before = runner.run_unit(UnitRequest("H20-002")).outcomes[0].margin
    row = study.overview().subjects[1]
    last = study.queries.latest_run(row.id, study.queries.columns()[0].id)
    with study.database.writing() as c:
        c.execute(
            "UPDATE run SET readings = replace(readings, ?, ?) WHERE id = ?",
            (f'"value": {last.reading("thd", 1).value}', '"value": -10.0', last.id),
        )
        c.execute(
            "UPDATE run SET readings = replace(readings, ?, ?) WHERE id = ?",
            (f'"value": {last.reading("thd", 2).value}', '"value": -10.0', last.id),
        )
    after = runner.run_unit(UnitRequest("H20-002")).outcomes[0].margin
    runner.close()
    assert after > before + 50


def test_before_the_first_run_of_a_chain_full_level_is_foretold(study, monkeypatch):
    """The look is 40 dB below; what it tells is what full level will bring, as for a single run."""
    from epidote.measurement.routine import runner as module

    monkeypatch.setattr(module, "needs_safe_start", lambda *_: True)
    starts = []

    class Asked(Notes):
        def confirm_start(self, start):
            starts.append(start)
            return len(starts) > 1

    refused = run(study, routine(MeasureStep(**TONE)), talk=(talk := Asked()))
    assert refused.verdict is RoutineVerdict.NOT_MEASURED
    assert "Check the chain, and measure again" in refused.kept.words
    assert study.overview().runs == {}
    report = run(study, routine(MeasureStep(**TONE)), talk=talk)
    level = study.run(report.outcomes[0].runs[0]).reading("level", 1)
    assert level.unit == "V"
    at_converter = 20 * np.log10(level.value / (8.0 * 4.0))
    assert starts[0].found.levels[0] == pytest.approx(at_converter, abs=0.2)
