"""Commands that a routine runs on the computer: off by default, shown in full, allowed once per routine."""

from __future__ import annotations

import subprocess

from epidote.core.errors import MeasurementError
from epidote.core.routine.model import CommandStep, Routine

_LONGEST_SHOWN = 200


def commands_in_words(routine: Routine) -> tuple[str, ...]:
    """Return every command in full, each argument that holds a blank in quotes."""
    return tuple(" ".join(_quoted(part) for part in step.command) for step in routine.commands)


def _quoted(part: str) -> str:
    if part and not any(c.isspace() or c == '"' for c in part):
        return part
    return '"' + part.replace('"', '\\"') + '"'


def run_command_step(step: CommandStep) -> None:
    """Run a command without a shell. Raises MeasurementError where it cannot be run, fails or takes too long."""
    name = step.command[0]
    try:
        done = subprocess.run(
            list(step.command), capture_output=True, timeout=step.longest, check=False, stdin=subprocess.DEVNULL
        )
    except FileNotFoundError as error:
        raise MeasurementError(f"The command “{name}” was not found. Install it, or correct the routine.") from error
    except OSError as error:
        raise MeasurementError(
            f"The command “{name}” could not be run: {error.strerror}. Correct the routine, or its permissions."
        ) from error
    except subprocess.TimeoutExpired as error:
        raise MeasurementError(
            f"The command “{name}” did not end within {step.longest:g} s and was stopped. Check the device that"
            " it switches."
        ) from error
    if done.returncode != 0:
        told = done.stderr.decode(errors="replace").strip()[:_LONGEST_SHOWN]
        raise MeasurementError(
            f"The command “{name}” ended with code {done.returncode}{f': {told}' if told else ''}. Check what it"
            " switches, and measure again."
        )
