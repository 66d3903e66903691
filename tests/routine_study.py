"""A study with a routine over the line fixture, for tests of the Routine page."""

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.routine.text import routine_from_toml
from epidote.measurement.routine.storage import keep_routine
from epidote.study.store import create_study

CHAIN = Chain(
    name="Bench",
    rate=48000,
    device="standin:dome-line",
    output_full_scale=4.0,
    input_full_scale=8.0,
    probe_ratio=4.0,
    load_ohms=8.0,
)
PROMPTS = """
[[step]]
prompt = "Is the lamp on?"
answer = "yes or no"

[[step]]
prompt = "Idle current"
answer = "value"
unit = "A"
upper = 0.2
"""
TEXT = """
format = 1
name = "Post check"
maker = "Ostrel"
model = "H20"
serial_pattern = "H20-[0-9]{{3}}"
check_signal = false
{more}

[[step]]
title = "Gain"
procedure = "tone"
settings = {{ duration = 0.2, level = -20 }}
on_failure = "{on_failure}"
[[step.limit]]
key = "thd"
unit = "dB"
upper = -60
nominal = -80

[[step]]
procedure = "noise"
settings = {{ duration = 0.3 }}
[[step.limit]]
key = "noise"
unit = "V"
upper = 6e-5
"""


def routine_text(more="", on_failure="go on"):
    return TEXT.format(more=more, on_failure=on_failure)


def line_study(path, text=None):
    """A study with the routine; its path."""
    study = create_study(path, "Line")
    study.set_setting("chain", chain_to_toml(CHAIN))
    study.set_setting("person", "early hand")
    keep_routine(study, routine_from_toml(text or routine_text()))
    study.close()
    return study.path
