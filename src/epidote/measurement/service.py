"""The measurement service: from a planned run to stored runs, on a device that is opened and closed here.

Desktop, command line, demo and tests call this one function; they differ in how they ask and in what they show
meanwhile.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, closing, nullcontext
from dataclasses import dataclass, replace
from pathlib import Path

from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.calibration.precheck import Precheck
from epidote.core.errors import CancelledError, MeasurementError
from epidote.core.procedures.protocol import precheck_level
from epidote.measurement.commanded import measure_commanded
from epidote.measurement.device_setup import (
    FIRST_START_DB,
    needs_safe_start,
    no_progress,
    not_cancelled,
    open_for_chain,
    remember_safe_start,
    run_low_level_precheck,
)
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import measure
from epidote.study.models import RunSummary
from epidote.study.store import Study

_SEEDS = 2**31


@dataclass(frozen=True)
class SafeStart:
    """What the level check before the first run of a changed chain found. level: of the run, in dBFS."""

    chain_name: str
    level: float
    found: Precheck

    @property
    def words(self) -> str:
        """What to expect at full level, for the question whether to go on."""
        expected = self.found.came_back or "nothing"
        return (
            f"First run with the present setup of “{self.chain_name}”: the level was checked {-FIRST_START_DB:g} dB"
            f" below the set level. At {self.level:g} dBFS, expect {expected}. {self.found.words}"
        )


Confirm = Callable[[SafeStart], bool]


def at_full_level(_: SafeStart) -> bool:
    """Go on without asking."""
    return True


def carry_out(
    study: Study,
    plan: RunPlan,
    conditions: Mapping[str, str],
    *,
    confirm: Confirm = at_full_level,
    progress: Progress = no_progress,
    cancelled: Cancelled = not_cancelled,
    opening: AbstractContextManager[object] | None = None,
    prepare: Callable[[], RunPlan] | None = None,
    check: bool = False,
    times: int = 1,
    seed: int | None = None,
    real_time: bool = False,
    command: tuple[Path, float] | None = None,
) -> list[RunSummary]:
    """Open the device of the plan's chain, start safely, measure and store ``times`` runs; the device is closed again.

    conditions: of the row, to which a simulated unit is set. confirm: asked before the first run of a chain that drives
    the unit as none before. progress: of all runs together, from 0 to 1. opening: entered while the device is opened,
    which may take long. prepare: makes the plan final once the device is open, as by adding its column. check: look at
    the signal path before the first run. seed: of a simulated unit, None for one by chance. command: the clip that
    makes a unit play the stimulus file by itself, and the time in s within which it must begin.

    Returns the stored runs: none where the answer was no; fewer than ``times`` where it was cancelled after the first.
    Raises EpidoteError; then nothing of the failed run is in the study.
    """
    chain = plan.chain
    number = random.randrange(_SEEDS) if seed is None else seed
    with opening or nullcontext():
        device: Device = open_for_chain(chain, chain.device, conditions, seed=number, real_time=real_time)
    runs: list[RunSummary] = []
    with closing(device):
        if prepare is not None:
            plan = prepare()
        if command is not None:
            clip, time_out = command
            return [
                measure_commanded(study, plan, device, clip, time_out=time_out, progress=progress, cancelled=cancelled)
            ]
        if not plan.sound_level and "level" in type(plan.settings).model_fields:
            # a row's level holds for the procedures that have one; the runner finds the drive that gives it
            plan = replace(plan, sound_level=conditions.get("level", ""))
        first = needs_safe_start(study, chain)
        if first and not _start_safely(device, plan, confirm, cancelled):
            return runs
        for done in range(times):
            if done and cancelled():
                break
            share_of = _Share(progress, done, times)
            try:
                runs.append(measure(study, plan, device, share_of, cancelled, check=check and done == 0))
            except CancelledError:
                if not runs:
                    raise
                break
            if first and done == 0:
                remember_safe_start(study, chain)
    return runs


@dataclass(frozen=True)
class _Share:
    """Progress of one run as a share of several."""

    progress: Progress
    done: int
    times: int

    def __call__(self, share: float) -> None:
        self.progress((self.done + share) / self.times)


def _start_safely(device: Device, plan: RunPlan, confirm: Confirm, cancelled: Cancelled) -> bool:
    """Return the level check far below the set level, and the answer to what it found.

    Raises MeasurementError where it rules a run out.
    """
    level = precheck_level(plan.settings, plan.chain)
    precheck = run_low_level_precheck(device, plan.chain, level, cancelled)
    if precheck.stops:
        raise MeasurementError(
            f"Level check {-FIRST_START_DB:g} dB below the set level: {precheck.words} Nothing was measured."
        )
    return confirm(SafeStart(plan.chain.name, level, precheck))
