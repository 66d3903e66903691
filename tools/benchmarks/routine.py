#!/usr/bin/env python3
"""A routine of eight procedures on two channels: its time compared with that of its sound, and the gaps between steps.

    tools/benchmarks/routine.py [--jack]

At the pace of sound, on the stand-in wire; with --jack on the loop of a sound server with the dummy driver.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from epidote.runtime import prepare

prepare()

import numpy as np
from timing import row

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.procedures.registry import procedures
from epidote.core.routine.model import MeasureStep, Routine
from epidote.core.routine.step_limit import StepLimit
from epidote.measurement.routine.runner import RoutineRunner, UnitRequest
from epidote.study.store import create_study

RATE, UNITS = 48000, 3
STEPS = (
    ("response", {"duration": 2.0, "level": -20}, StepLimit(key="flatness", unit="dB", upper=3, lower=-3)),
    ("tone", {"duration": 1.0, "level": -20}, StepLimit(key="thd_n", unit="dB", upper=-40)),
    ("noise", {"duration": 2.0}, StepLimit(key="noise", unit="V", upper=1)),
    ("crosstalk", {"level": -20, "duration": 0.3, "points_per_octave": 0}, None),
    ("intermodulation", {"level": -20, "duration": 1.0}, None),
    ("multitone", {"level": -20, "duration": 1.0}, None),
    ("gain", {"level": -26, "duration": 0.5}, None),
    ("distortion-frequency", {"level": "-20 dBFS", "points_per_octave": 1, "dwell": 0.15}, None),
)


def routine() -> Routine:
    steps = [
        MeasureStep(procedure=key, settings=settings, limit=() if limit is None else (limit,))
        for key, settings, limit in STEPS
    ]
    return Routine(name="Eight steps", model="Loop", step=tuple(steps), check_signal=False)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--jack", action="store_true")
    on_jack = parser.parse_args().jack
    procedures()
    with contextlib.ExitStack() as stack:
        device = "standin:wire"
        if on_jack:
            from tests.audio.jack import Server

            server = Server()
            stack.callback(server.kill)
            os.environ["JACK_DEFAULT_SERVER"] = server.name
            stack.enter_context(server.loop())
            device = "sound:jack/system"
        study = create_study(Path(stack.enter_context(tempfile.TemporaryDirectory())) / "Line")
        study.set_setting(
            "chain", chain_to_toml(Chain(rate=RATE, device=device, output_full_scale=1.0, input_full_scale=1.0))
        )
        runner = RoutineRunner(study, routine(), real_time=True)
        runner.check()
        sounded: list[float] = []
        watch(runner, sounded)
        for number in range(UNITS):
            sounded.clear()
            begun = time.perf_counter()
            report = runner.run_unit(UnitRequest(f"{number + 1}"))
            spent = time.perf_counter() - begun
            gaps = np.array(report.gaps)
            what = f"pass {number + 1}, {len(STEPS)} procedures: {report.verdict}"
            row(what, f"{spent / sum(sounded):.3f}", f"1.12 of the {sum(sounded):.1f} s of sound")
            row("    between two steps, at most", f"{1000 * gaps.max():.0f} ms", "60 ms")
        runner.close()
        study.close()


def watch(runner: RoutineRunner, sounded: list[float]) -> None:
    """Note the time of every sound that the bench's device plays."""
    opened = runner.bench.device

    def device(*arguments: Any) -> Any:
        found = opened(*arguments)
        if not getattr(found, "watched", False):
            exchange = found.exchange

            def noted(stimulus: Any, **options: Any) -> Any:
                recording = exchange(stimulus, **options)
                sounded.append(recording.signal.frames / recording.signal.rate)
                return recording

            found.exchange, found.watched = noted, True
        return found

    runner.bench.device = device  # type: ignore[method-assign]


if __name__ == "__main__":
    main()
