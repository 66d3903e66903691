"""A routine at the terminal: prompts, questions, and what happens where nobody is there to answer."""

import json

import pytest

from epidote.cli.app import run_command
from epidote.study.store import Study
from tests.routine_study import PROMPTS, line_study, routine_text

CONNECTED = """
[[step]]
prompt = "Connect the post"
"""


@pytest.fixture
def study(tmp_path):
    return line_study(tmp_path / "Line")


@pytest.fixture
def answers(monkeypatch):
    """Somebody at the terminal, who gives these answers one after the other."""
    given = []
    monkeypatch.setattr("sys.stdin.isatty", lambda: True, raising=False)
    monkeypatch.setattr("builtins.input", lambda words="": given.pop(0))
    return given


def run(capsys, study, tmp_path, text, *more):
    path = tmp_path / "r.toml"
    path.write_text(text)
    command = ["routine", "run", str(path), "--study", str(study), "--serial", "H20-001", "--device"]
    code = run_command([*command, "standin:dome-line", *more])
    out = capsys.readouterr()
    return code, out.out, out.err


def test_prompts_are_answered_at_the_terminal(capsys, study, tmp_path, answers):
    answers += ["", "y", "much", "150 mA"]
    code, out, err = run(capsys, study, tmp_path, routine_text() + CONNECTED + PROMPTS)
    assert code == 0, err
    assert "Connect the post" in err
    assert "“much” is not a number. Enter a value in A." in err
    assert "5  Idle current: passed (0.0500 A, 0.1500 A)" in out
    assert answers == []
    assert out.splitlines()[-1] == "H20-001: passed"


def test_a_no_fails_the_unit(capsys, study, tmp_path, answers):
    answers += ["", "n", "0.1"]
    code, out, _ = run(capsys, study, tmp_path, routine_text() + CONNECTED + PROMPTS)
    assert code == 5
    assert "4  Is the lamp on?: failed (no, Answered no.)" in out


def test_asked_whether_to_go_on(capsys, study, tmp_path, answers):
    tight = routine_text(on_failure="ask").replace("upper = -60", "upper = -200")
    answers += ["n"]
    code, out, _ = run(capsys, study, tmp_path, tight)
    assert code == 5
    assert out.splitlines()[-1] == "H20-001: failed. Ended after step 1 (Gain)."
    answers += ["y"]
    code, out, _ = run(capsys, study, tmp_path, tight)
    assert "2  Noise: passed" in out


def test_nobody_is_there_to_answer(capsys, study, tmp_path, monkeypatch):
    monkeypatch.setattr("sys.stdin.isatty", lambda: False, raising=False)
    code, _, err = run(capsys, study, tmp_path, routine_text() + CONNECTED + PROMPTS)
    assert code == 4
    assert "there is no terminal" in err
    with Study(study) as opened:
        (kept,) = opened.passes.all()
        assert (kept.verdict, len(kept.steps)) == ("not measured", 2), "what had ended is kept"


def test_commands_need_to_be_allowed(capsys, study, tmp_path):
    text = routine_text() + '\n[[step]]\ncommand = ["true"]\n'
    code, _, err = run(capsys, study, tmp_path, text)
    assert code == 2
    assert "runs commands on this computer: true" in err
    code, out, _ = run(capsys, study, tmp_path, text, "--allow-commands", "--json")
    assert code == 0
    assert [step["verdict"] for step in json.loads(out)["steps"]] == ["passed"] * 3
