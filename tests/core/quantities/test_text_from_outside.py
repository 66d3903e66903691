"""Texts, JSON and TOML from outside: shown and never acted on, bounded before they are built."""

import json
import time

import pytest

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.outside import MOST_DEPTH, load_json, load_toml
from epidote.core.stimuli.bursts import BurstKind, burst_train
from epidote.core.stimuli.every import stimulus_from_json
from epidote.core.text import spreadsheet_cell, visible


def test_what_a_terminal_or_a_reader_would_act_on_is_shown():
    """Control pictures: The Unicode Standard, block 2400 to 243F."""
    assert visible("\x1b[2J\x07A\nB\x7f\x9b") == "␛[2J␇A␊B␡\\u009b"
    assert visible("a\nb\tc", lines=True) == "a\nb\tc"
    assert visible("abc\u202e\u2066gnp") == "abc\\u202e\\u2066gnp"
    assert visible("8 Ω, ±0.5 dB – “gut”\xa0日本") == "8 Ω, ±0.5 dB – “gut”\xa0日本"


@pytest.mark.parametrize("text", ["=1+1", "+cmd|x", "-2+3", "@SUM(A1)", "\t=1", "\r=1"])
def test_cells_that_a_spreadsheet_would_compute(text):
    """The usual way: OWASP, “CSV Injection” (from memory)."""
    assert spreadsheet_cell(text) == f"'{text}"


@pytest.mark.parametrize("text", ["-3.5", "+0.2", "1e-9", "", "gain -3 dB", "THD"])
def test_numbers_and_words_stay(text):
    assert spreadsheet_cell(text) == text


def test_depth_is_bounded():
    assert load_json("[" * MOST_DEPTH + "]" * MOST_DEPTH, "a.json")
    for deep in ("[" * 100_000, '{"a":' * 100_000, "[" * (MOST_DEPTH + 1) + "]" * (MOST_DEPTH + 1)):
        with pytest.raises(UnusableInputError, match=f"nested more than {MOST_DEPTH} deep"):
            load_json(deep, "a.json")
    assert load_json('"[[[["', "a.json") == "[[[["
    with pytest.raises(UnusableInputError, match="nested more than"):
        load_toml("a = " + "[" * 100_000, "a.toml")
    with pytest.raises(UnusableInputError, match="line 1, column 2"):
        load_json("{", "a.json")
    with pytest.raises(UnusableInputError, match="not valid"):
        load_json("9" * 5000, "a.json")  # more digits than Python converts
    with pytest.raises(UnusableInputError):
        chain_from_toml("rate = " + "9" * 5000)


def test_bounds_are_found_in_linear_time():
    begun = time.process_time()
    load_json(json.dumps(['"' * 1000] * 500), "a.json")
    once = time.process_time() - begun
    begun = time.process_time()
    load_json(json.dumps(['"' * 1000] * 5000), "a.json")
    assert time.process_time() - begun < 40 * once + 0.5


def stored(**changes) -> dict:
    data = burst_train(rate=48000, shot=BurstKind.CLICK, count=3, level=-6, longest=0.1).to_json()
    data["parameters"] = {**data["parameters"], **changes}
    return data


def test_a_stored_stimulus_loads_whatever_was_imported_before():
    """In a fresh process, in which nothing that makes stimuli was imported."""
    import subprocess
    import sys

    code = (
        f"from epidote.core.stimuli.every import stimulus_from_json; s = stimulus_from_json({json.dumps(stored())});"
        " print(s.samples().size)"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert int(out.stdout) == stimulus_from_json(stored()).frames


def test_kinds_of_bursts_are_stored_by_numbers_of_their_own():
    """The numbers that 0.1.0 wrote; the place in the list of kinds may change, these may not."""
    assert {shot: burst_train(rate=48000, shot=shot, count=1, level=-6, longest=0.1)["shot"] for shot in BurstKind} == {
        BurstKind.SWEEP: 0.0,
        BurstKind.NOISE: 1.0,
        BurstKind.CLICK: 2.0,
    }


@pytest.mark.parametrize(
    "changes", [{"shots": 1e12}, {"frames": 1e15}, {"frames": -1}, {"every": 1e300}, {"level": float("nan")}]
)
def test_counts_in_stimuli_are_bounded(changes):
    with pytest.raises(UnusableInputError, match=r"at most|are supported|frames\. Export"):
        stimulus_from_json(stored(**changes))


@pytest.mark.parametrize("changes", [{"shot": 7}, {"length": -5}, {"lead": 1e7}, {"length": 0}])
def test_a_description_that_does_not_fit_together(changes):
    with pytest.raises(UnusableInputError, match="Export the stimulus again"):
        stimulus_from_json(stored(**changes)).samples()


@pytest.mark.parametrize(
    "data",
    [
        {},
        [],
        3,
        {"kind": "shots"},
        {**stored(), "rate": "fast"},
        {**stored(), "kind": "gong"},
        {**stored(), "channels": [10**9]},
    ],
)
def test_what_is_no_stimulus(data):
    with pytest.raises(UnusableInputError):
        stimulus_from_json(data)


def test_a_chain_s_name_cannot_forge_an_entry():
    chain = Chain(name='a"\noutput_ceiling = 0\n#')
    assert chain_from_toml(chain_to_toml(chain)) == chain
