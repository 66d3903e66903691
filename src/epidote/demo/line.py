"""The line of the dome's listening posts: forty amplifiers of one make, one routine, every unit once.

Three of them are faulty, each in another way, and the fixture's contacts wear: all of that is the stand-in's.
"""

from __future__ import annotations

from collections.abc import Callable

from epidote.core.routine.model import Routine
from epidote.core.routine.text import routine_from_toml
from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
from epidote.measurement.routine.storage import keep_routine
from epidote.study.store import Study

DEVICE = "standin:dome-line"
UNITS = 40
ROUTINE = """
format = 1
name = "Post check"
maker = "Ostrel"
model = "H20"
serial_pattern = "H20-[0-9]{3}"
conditions = { load = "8 Ω", rate = "48 kHz" }

[[step]]
title = "Gain and response"
procedure = "response"
settings = { duration = 0.8, level = -20 }
on_failure = "go on"
[[step.limit]]
key = "gain_1k"
unit = "dB"
lower = 17.6
upper = 18.3
source = "data sheet: 18 dB, fixture ±0.3 dB"
[[step.limit]]
key = "level"
unit = "dB"
x_unit = "Hz"
lower = [[20, -1.2], [60, -0.5], [20000, -0.6]]
upper = [[20, 0.5], [20000, 0.5]]
floating = true
source = "shape, ±0.5 dB in the middle"

[[step]]
title = "Distortion at 1 kHz"
procedure = "tone"
settings = { duration = 0.5, level = -12 }
[[step.limit]]
key = "thd_n"
unit = "dB"
upper = -62
nominal = -71
source = "workshop limit"

[[step]]
title = "Noise"
procedure = "noise"
settings = { duration = 0.5 }
on_failure = "repeat 1 time"
[[step.limit]]
key = "noise"
unit = "V"
upper = 6e-5
nominal = 3.6e-5
source = "workshop limit"

[[step]]
title = "Crosstalk"
procedure = "crosstalk"
settings = { level = -20, duration = 0.2, points_per_octave = 0 }
[[step.limit]]
key = "crosstalk"
unit = "dB"
upper = -70
nominal = -81
source = "workshop limit"
"""


def line_routine() -> Routine:
    """Return the routine of the line."""
    return routine_from_toml(ROUTINE)


def serial_of(number: int) -> str:
    """Return the serial number of the unit with a number, from 1."""
    return f"H20-{number:03d}"


def run_line(
    study: Study,
    said: Callable[[str], None],
    units: int | None = None,
    cancelled: Callable[[], bool] = lambda: False,
) -> None:
    """Measure every unit of the line that was not measured yet."""
    routine = line_routine()
    keep_routine(study, routine)
    done = {one.serial for one in study.passes.all(routine.name)}
    runner = RoutineRunner(study, routine, DEVICE, seed=1)
    try:
        for serial in (serial_of(n) for n in range(1, (UNITS if units is None else units) + 1)):
            if cancelled():
                return
            if serial not in done:
                report = runner.run_unit(UnitRequest(serial, shift="early"))
                said(f"{routine.name}, {serial}: {report.verdict}")
    finally:
        runner.close()
