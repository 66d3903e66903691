"""Routines as data, their limits and verdicts; margins and guard bands by hand (ISO 14253-1)."""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, SettingError, UnusableInputError
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.routine.answers import parse_answer, require_no_serial
from epidote.core.routine.checking import check_routine, require_usable
from epidote.core.routine.judgement import judge_step
from epidote.core.routine.limit_making import limit_around_curve, limits_from_run, limits_from_units, parse_bands
from epidote.core.routine.model import FailureAction, MeasureStep, PromptStep, Routine, WaitStep
from epidote.core.routine.step_limit import StepLimit, judge_limit, nearest
from epidote.core.routine.text import digest_of, routine_from_toml, routine_to_toml
from epidote.core.routine.verdict import RoutineVerdict, together
from epidote.core.statistics.tolerance import one_sided_factor, two_sided_factor

CHAIN = Chain(rate=48000)
F = np.array([20.0, 100.0, 1000.0, 10000.0, 20000.0])
TEXT = """
format = 1
name = "Post check"
model = "H20"
serial_pattern = "H20-[0-9]{3}"
conditions = { load = "8 Ω" }

[[step]]
prompt = "Connect the post"
picture = "post.png"

[[step]]
wait = "2 s"

[[step]]
title = "Gain and response"
procedure = "response"
settings = { duration = 1, level = -20 }
on_failure = "repeat 2 times"
[[step.limit]]
key = "level"
unit = "dB"
x_unit = "Hz"
upper = [[20, 1], [20000, 1]]
lower = [[20, -1], [20000, -2]]
floating = true

[[step]]
procedure = "tone"
[[step.limit]]
key = "thd"
unit = "dB"
upper = -60

[[step]]
prompt = "Idle current"
answer = "value"
unit = "A"
upper = 0.2

[[step]]
command = ["relay", "--off", "3"]
"""


def level(*y, channel=1):
    return Curve("level", channel, F, np.array(y, dtype=float), "Hz", "dB")


def thd(value, channel=1, **more):
    return Reading("thd", channel, value, "dB", **more)


def judged(limit, *, curves=(), readings=(), golden=None, guard=False):
    return judge_limit(limit, Result(tuple(curves), tuple(readings)), golden, guard=guard)


def test_a_routine_is_read_and_written_alike():
    routine = routine_from_toml(TEXT)
    assert [type(step).__name__ for step in routine.step] == [
        *("PromptStep", "WaitStep", "MeasureStep", "MeasureStep", "PromptStep", "CommandStep")
    ]
    assert routine.step[1].seconds == 2
    assert routine.step[2].after_failure.times == 2
    assert routine.step[3].after_failure.action is FailureAction.GO_ON
    assert routine.fits_serial("H20-017")
    assert not routine.fits_serial("H20-17")
    again = routine_from_toml(routine_to_toml(routine))
    assert again == routine
    assert digest_of(again) == digest_of(routine)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("name = 'x'", "does not state its format"),
        ("format = 7\nname = 'x'", "has format 7; this version of Epidote reads format 1"),
        ("format = 1\nname = 'x'\nstep = []", "at least 1"),
        ("format = 1\nname = 'x'\n[[step]]\ntitle = 'y'", "step 1 needs one of: procedure, prompt, wait, command"),
        ("format = 1\nname = 'x'\n[[step]]\nwait = 'a while'", "Use a time such as"),
        ("format = 1\nname = 'x'\n[[step]]\nprocedure = 'tone'\non_failure = 'shout'", "repeat 2 times"),
        ("format = 1\nname = 'x'\nserial_pattern = '('\n[[step]]\nprocedure = 'tone'", "not a regular expression"),
        ("format = 1\nname = 'x'\ncolour = 3\n[[step]]\nprocedure = 'tone'", "colour"),
        (f"{TEXT}\n[[step]]\nprocedure = 'tone'\n[[step.limit]]\nkey = 'thd'", "upper or lower"),
        (f"{TEXT}\n[[step]]\nprocedure = 'tone'\n[[step.limit]]\nkey = 'thd'\nupper = [[1, 2], [2, 3]]", "x_unit"),
        ("[[[", "not valid TOML"),
    ],
)
def test_a_routine_that_cannot_be_is_refused_in_words(text, words):
    with pytest.raises(UnusableInputError, match="(?s).*") as refused:
        routine_from_toml(text, "R.toml")
    assert words in str(refused.value)
    assert "R.toml" in str(refused.value)


def test_the_faulty_step_is_named_by_its_number():
    text = TEXT.replace("repeat 2 times", "perhaps")
    with pytest.raises(UnusableInputError, match="step 3"):
        routine_from_toml(text)


def test_checked_as_a_whole_before_the_first_sound():
    found = check_routine(routine_from_toml(TEXT), CHAIN)
    assert found.problems == ()
    assert found.prompts == 2
    assert found.seconds > 2 + 1  # the wait, and a second of sweep at least
    faulty = Routine(
        name="faulty",
        step=(
            MeasureStep(procedure="response", settings={"level": 3}),
            MeasureStep(procedure="nothing"),
            MeasureStep(procedure="tone", settings={"frequenzy": 1}),
            MeasureStep(procedure="distortion-level", settings={"stop_level": "5 V"}),
            MeasureStep(procedure="tone", limit=(StepLimit(key="flatness", unit="dB", upper=1),)),
            MeasureStep(procedure="tone", limit=(StepLimit(key="thd", unit="dB", upper=-70, lower=-60),)),
        ),
    )
    problems = {p.number: p.words for p in check_routine(faulty, Chain(output_ceiling=-6.0)).problems}
    assert sorted(problems) == [1, 2, 3, 4, 5, 6]
    assert "Unknown procedure “nothing”" in problems[2]
    assert "Unknown setting “frequenzy”" in problems[3]
    assert "load" in problems[4] or "calibrat" in problems[4]
    assert "has no reading “flatness”" in problems[5]
    assert "above the upper one everywhere" in problems[6]
    with pytest.raises(SettingError, match="Step 2: Unknown procedure"):
        require_usable(faulty, CHAIN)
    assert "contains no measurement" in str(
        check_routine(Routine(name="x", step=(WaitStep(wait="1 s"),)), CHAIN).problems[0]
    )


def test_the_margin_is_the_distance_to_the_nearest_limit():
    limit = StepLimit(key="thd", unit="dB", upper=-60, lower=-100)
    (one,) = judged(limit, readings=[thd(-66.0)])
    assert (one.verdict, one.margin, one.unit) == (RoutineVerdict.PASSED, pytest.approx(6.0), "dB")
    assert one.share == pytest.approx(6 / 20)
    first, second = judged(limit, readings=[thd(-66.0), thd(-57.5, 2)])
    assert (second.verdict, second.margin) == (RoutineVerdict.FAILED, pytest.approx(-2.5))
    assert nearest([first, second]) is second
    one_side = StepLimit(key="thd", unit="dB", upper=-60, nominal=-80)
    assert judged(one_side, readings=[thd(-70.0)])[0].share == pytest.approx(0.5)


def test_a_curve_is_judged_where_it_is_nearest():
    limit = StepLimit(key="level", unit="dB", x_unit="Hz", upper=((20, 1), (20000, 1)), lower=((20, -1), (20000, -3)))
    (one,) = judged(limit, curves=[level(0, 0, 0.2, 0.7, -2.8)])
    assert one.at == pytest.approx(20000)
    assert one.margin == pytest.approx(0.2)
    assert one.share == pytest.approx(0.2 / 2)
    assert one.side == "lower"


def test_a_floating_limit_judges_the_shape_only():
    """3 dB off everywhere, ripple of ±0.4 dB within ±0.5 dB: 0.1 dB is left on both sides."""
    limit = StepLimit(key="level", unit="dB", x_unit="Hz", upper=((20, 0.5), (20000, 0.5)), lower=0, floating=True)
    limit = limit.model_copy(update={"lower": ((20, -0.5), (20000, -0.5))})
    (one,) = judged(limit, curves=[level(3.4, 2.6, 3.4, 2.6, 3.0)])
    assert (one.verdict, one.margin) == (RoutineVerdict.PASSED, pytest.approx(0.1))
    (one,) = judged(limit, curves=[level(3.6, 2.4, 3.0, 3.0, 3.0)])
    assert (one.verdict, one.margin) == (RoutineVerdict.FAILED, pytest.approx(-0.1))
    with pytest.raises(ValueError, match="upper and lower"):
        StepLimit(key="level", x_unit="Hz", upper=1, floating=True)


def test_limits_relative_to_the_golden_unit():
    limit = StepLimit(key="level", unit="dB", x_unit="Hz", upper=0.5, lower=-0.5, golden="G")
    golden = Result((level(1, 1, 1, 0, -3),))
    (one,) = judged(limit, curves=[level(1.1, 1, 1, 0, -3.4)], golden=golden)
    assert (one.margin, one.at) == (pytest.approx(0.1), pytest.approx(20000))
    (one,) = judged(limit, curves=[level(0, 0, 0, 0, 0)])
    assert one.verdict is RoutineVerdict.NOT_MEASURED
    assert "“G” was not measured" in one.why
    relative = StepLimit(key="thd", unit="dB", upper=3, golden="G")
    (one,) = judged(relative, readings=[thd(-70.0)], golden=Result((), (thd(-72.0),)))
    assert one.margin == pytest.approx(1.0)


@pytest.mark.parametrize(
    ("value", "verdict"),
    [
        (-61.0, RoutineVerdict.PASSED),
        (-60.5, RoutineVerdict.NOT_DECIDED),
        (-59.5, RoutineVerdict.NOT_DECIDED),
        (-58.9, RoutineVerdict.FAILED),
    ],
)
def test_guard_bands_decide_only_outside_the_uncertainty(value, verdict):
    """U = sqrt(0.6² + (2 · 0.4)²) = 1.0 dB: conformity from -61 dB down, nonconformity above -59 dB."""
    limit = StepLimit(key="thd", unit="dB", upper=-60, uncertainty=0.6)
    reading = thd(value, spread=0.4)
    (one,) = judged(limit, readings=[reading], guard=True)
    assert one.verdict is verdict
    assert one.uncertainty == pytest.approx(1.0)
    (plain,) = judged(limit, readings=[reading])
    assert plain.verdict is (RoutineVerdict.PASSED if value <= -60 else RoutineVerdict.FAILED)


def test_what_cannot_be_judged_is_not_a_failed_unit():
    limit = StepLimit(key="thd", unit="dB", upper=-60)
    assert judged(limit)[0].verdict is RoutineVerdict.NOT_MEASURED
    (one,) = judged(limit, readings=[thd(None, cautions=(Caution.STIMULUS_NOT_FOUND,))])
    assert one.verdict is RoutineVerdict.NOT_MEASURED
    assert "stimulus was not found" in one.why
    (one,) = judged(limit, readings=[Reading("thd", 1, 0.01, "%")])
    assert "in %, the limit in dB" in one.why
    far = StepLimit(key="level", unit="dB", x_unit="Hz", upper=((30000, 1), (40000, 1)))
    assert "no part of their x axis in common" in judged(far, curves=[level(0, 0, 0, 0, 0)])[0].why
    axis = StepLimit(key="level", unit="dB", x_unit="s", upper=1)
    assert "no axis in s but in Hz" in judged(axis, curves=[level(0, 0, 0, 0, 0)])[0].why
    step = MeasureStep(procedure="tone", limit=(limit,))
    dropped = judge_step(step, Result((), (thd(-20.0),), (Caution.DROPOUT,)), {})
    assert (dropped.verdict, dropped.nearest) == (RoutineVerdict.NOT_MEASURED, None)
    assert "samples were lost" in dropped.words


def test_the_verdict_of_a_unit_is_that_of_its_worst_step():
    passed, failed, open_, missing = (
        *(RoutineVerdict.PASSED, RoutineVerdict.FAILED, RoutineVerdict.NOT_DECIDED, RoutineVerdict.NOT_MEASURED),
    )
    assert together([passed, passed]) is passed
    assert together([passed, open_]) is open_
    assert together([open_, failed]) is failed
    assert together([failed, missing]) is missing
    assert together([]) is missing
    assert judge_step(MeasureStep(procedure="tone"), Result(), {}).verdict is passed


def test_limits_of_good_units_are_tolerance_limits():
    """Mean ± k·s of five units, channel by channel; distortion has an upper limit only."""
    values = {1: np.array([-80.0, -81, -79, -80.5, -79.5]), 2: np.array([-70.0, -70, -71, -69, -70])}
    levels = np.array([0.0, 0.1, -0.1, 0.05, -0.05])
    results = [
        Result((level(*(levels[n] + np.zeros(5))),), tuple(thd(float(v[n]), c) for c, v in values.items()))
        for n in range(5)
    ]
    limits = limits_from_units(results, "thd", ["level"])
    assert [(x.key, x.channel) for x in limits] == [("thd", 1), ("thd", 2), ("level", 1)]
    for limit, v in zip(limits, values.values(), strict=False):
        assert limit.upper[0][1] == pytest.approx(v.mean() + one_sided_factor(5) * v.std(ddof=1))
        assert limit.lower == ()
    reach = two_sided_factor(5) * levels.std(ddof=1)
    assert limits[2].upper[0][1] == pytest.approx(reach)
    assert limits[2].lower[-1][1] == pytest.approx(-reach)
    with pytest.raises(UnusableInputError, match="at least 3 good units"):
        limits_from_units(results[:2], "thd", [])


def test_limits_about_a_run_and_by_band():
    made = limits_from_run([thd(-80.0)], [level(0, 0, 0, 0, -1)], 1.0, "golden")
    assert made[0].upper[0][1] == -79
    assert (made[1].upper[-1], made[1].lower[0]) == ((20000.0, 0.0), (20.0, -1.0))
    volts = limits_from_run([Reading("noise", 1, 1e-3, "V")], [], 6.0206)[0]
    assert volts.upper[0][1] == pytest.approx(2e-3, rel=1e-4)
    by_band = limit_around_curve(level(0, 0, 0, 0, 0), ((100, 0.5), (10000, 0.5), (20000, 3)))
    assert [x for x, _ in by_band.upper] == [100, 1000, 10000, 20000]
    assert [y for _, y in by_band.upper] == [0.5, 0.5, 0.5, 3.0]
    with pytest.raises(UnusableInputError, match="x axis in common"):
        limit_around_curve(level(0, 0, 0, 0, 0), ((30000, 1), (40000, 1)))


def test_margins_by_band_as_a_person_enters_them():
    bands = parse_bands("20 Hz 2; 100 Hz 1,5;\n10 kHz 3")
    assert bands == ((20.0, 2.0), (100.0, 1.5), (10000.0, 3.0))
    made = limits_from_run([], [level(0, 0, 0, 0, 0)], 9.0, bands=bands)[0]
    assert made.upper[0] == (20.0, 2.0)
    assert max(x for x, _ in made.upper) <= 10000, "outside the bands nothing is judged"
    assert parse_bands(" ") == ()
    for text, words in (
        ("20 Hz", "is not a frequency with a margin"),
        ("20 Hz 1; much", "is not a frequency with a margin"),
        ("20 Hz -1; 30 Hz 2", "no margin of 0 or more"),
        ("20 Hz 1", "two frequencies"),
        ("100 Hz 1; 20 Hz 1", "in ascending order"),
    ):
        with pytest.raises(SettingError, match=words):
            parse_bands(text)


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [("0.35", "A", 0.35), ("350 mA", "A", 0.35), ("0,35 A", "A", 0.35), ("-3e2", "", -300), ("22 °C", "°C", 22)],
)
def test_an_operator_s_value_in_any_unit(text, unit, value):
    assert parse_answer(text, unit) == pytest.approx(value)


@pytest.mark.parametrize("text", ["", "much", "3 V", "1..2"])
def test_what_is_no_value_is_asked_for_again(text):
    with pytest.raises(SettingError, match="Enter a value in A"):
        parse_answer(text, "A")


def test_a_scanned_serial_number_is_no_value():
    numbered = routine_from_toml(TEXT).model_copy(update={"serial_pattern": r"\d{4,8}"})
    with pytest.raises(SettingError, match="looks like a serial number and was ignored. Enter the value first"):
        require_no_serial(" 20240117", numbered)
    for value in ("20240117.0", "2024", "350 mA", "0.35"):
        require_no_serial(value, numbered)
    require_no_serial("20240117", numbered.model_copy(update={"serial_pattern": ""}))


def test_a_prompt_has_limits_only_for_a_value():
    with pytest.raises(ValueError, match="belong to a prompt with the answer"):
        PromptStep(prompt="Is the lamp on?", upper=3)
    assert issubclass(UnusableInputError, EpidoteError)
