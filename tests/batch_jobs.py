"""What worker processes compute in the tests of batches; in a module of its own, where they find it."""

import os
import signal
from pathlib import Path

from epidote.batch.failure import JobFailure


def nothing():
    """Prepare nothing: these jobs need no procedures."""


def square(number):
    if number < 0:
        return JobFailure("negative")
    return number * number


def kill_once(job):
    """The first time it is asked, the process is killed, as the kernel does without memory."""
    number, mark = job
    if number == 5 and not Path(mark).exists():
        Path(mark).write_text("killed")
        os.kill(os.getpid(), signal.SIGKILL)
    return number


def kill_always(number):
    if number == 3:
        os.kill(os.getpid(), signal.SIGKILL)
    return number
