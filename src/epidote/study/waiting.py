"""Opening a study that several benches write, one at a time."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

from epidote.study.models import StudyError
from epidote.study.store import Study
from epidote.study.write_lock import IN_USE

_LOOK_EVERY = 0.2  # s
_TOLD_EVERY = 30.0


def open_for_writing(path: Path, wait: float, said: Callable[[str], None]) -> Study:
    """Open a study for changes; where another process has it, wait up to so many seconds and say so.

    Raises StudyError where it stays in use or cannot be written for another reason.
    """
    begun = time.monotonic()
    told = -_TOLD_EVERY
    while True:
        study = Study(path)
        if not study.read_only:
            return study
        why = study.why_read_only
        study.close()
        gone = time.monotonic() - begun
        if why != IN_USE:
            raise StudyError(f"{path.name} is read-only ({why}). Nothing was measured; correct this and try again.")
        if gone >= wait:
            raise StudyError(
                f"{path.name} is still open in another window or process after {wait:g} s. Nothing was measured; close"
                " it there, or wait longer (--wait)."
            )
        if gone - told >= _TOLD_EVERY:
            said(f"{path.name} is being written by another process; waiting for it.")
            told = gone
        time.sleep(min(_LOOK_EVERY, max(wait - gone, 0.01)))
