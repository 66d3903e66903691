"""Steps that wait: for a time, until the level is steady, until the unit is warm."""

from __future__ import annotations

import time
from collections.abc import Callable

from epidote.audio.device import Cancelled, Device
from epidote.core.chain.chain import Chain
from epidote.core.errors import CancelledError
from epidote.core.procedures.registry import procedure
from epidote.core.routine.model import STEADY, WARM, WaitStep
from epidote.core.settings import make_settings
from epidote.measurement.device_setup import no_progress, run_precheck
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse

_LOOK_EVERY = 0.05  # s
_STOPPED = "Stopped while waiting. Steps that had ended are saved."


def carry_out_wait(
    step: WaitStep, device: Callable[[], Device], chain: Chain, progress: Callable[[float], None], stop: Cancelled
) -> str:
    """Wait as a step asks; return what was found in words. Raises CancelledError, and what the device raises."""
    if step.wait == STEADY:
        return _until_steady(step, device(), chain, progress, stop)
    if step.wait == WARM:
        return _until_warm(step, device(), chain, progress, stop)
    _pause(step.seconds, progress, stop)
    return ""


def _pause(seconds: float, progress: Callable[[float], None], stop: Cancelled) -> None:
    begun = time.monotonic()
    while (gone := time.monotonic() - begun) < seconds:
        if stop():
            raise CancelledError(_STOPPED)
        progress(gone / seconds)
        time.sleep(min(_LOOK_EVERY, seconds - gone))


def _until_steady(
    step: WaitStep, device: Device, chain: Chain, progress: Callable[[float], None], stop: Cancelled
) -> str:
    """Look at the level until two looks agree."""
    begun = time.monotonic()
    before: list[float] | None = None
    while (gone := time.monotonic() - begun) < step.longest:
        progress(gone / step.longest)
        shot = run_precheck(device, chain, step.level, cancelled=stop)
        levels = [level for level in shot.levels if level is not None]
        if before is not None and len(before) == len(levels) and levels:
            change = max(abs(a - b) for a, b in zip(levels, before, strict=True))
            if change < step.within:
                return f"steady within {step.within:g} dB"
        before = levels
    return f"not steady within {step.within:g} dB after {step.longest:g} s"


def _until_warm(
    step: WaitStep, device: Device, chain: Chain, progress: Callable[[float], None], stop: Cancelled
) -> str:
    """Measure one reading until it changes slowly enough; the runs are not kept."""
    proc = procedure(step.procedure)
    settings = make_settings(proc.Settings, step.settings)
    begun = time.monotonic()
    before: tuple[float, float] | None = None
    while (gone := time.monotonic() - begun) < step.longest:
        progress(gone / step.longest)
        when = time.monotonic()
        recordings = play_and_record(step.procedure, settings, chain, device, no_progress, cancelled=stop)
        reading = analyse(step.procedure, recordings, settings, chain).reading(step.key)
        if reading is None or reading.value is None:
            continue
        if before is not None:
            per_minute = 60 * (reading.value - before[1]) / max(when - before[0], 1e-3)
            if abs(per_minute) < step.within:
                return f"changes by {per_minute:.3g} {reading.unit} per minute"
        before = (when, reading.value)
    return f"still changes by more than {step.within:g} a minute after {step.longest:g} s"
