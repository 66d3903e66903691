"""Mistakes in the program, from wherever they come: slots, painting, worker threads, Qt itself. All lead here.

The user is told once, in words, with the details on demand; the log keeps what a report needs and no names of units,
files or people.
"""

from __future__ import annotations

import contextlib
import re
import sys
import threading
import traceback
from collections import deque
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QMessageLogContext, QObject, QtMsgType, Signal, qInstallMessageHandler

LOG_BYTES, LOG_FILES = 256 * 1024, 4
_KEPT = 20
_TOLD = "Something in the program failed. Everything finished before is saved; go on, and report this if it recurs."
_QUOTED = re.compile(r"“[^”]*”|\"[^\"]*\"|'[^']*'|/[^\s:]+")


@dataclass(frozen=True)
class Fault:
    """place: what failed, for telling the same fault again; details: for a report."""

    place: str
    details: str


class Faults(QObject):
    """``told``: emitted with words and details of a fault that was not reported before."""

    told = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.latest: deque[Fault] = deque(maxlen=_KEPT)
        self._known: set[str] = set()
        self._writing = threading.Lock()

    @property
    def log_path(self) -> Path:
        import platformdirs

        return Path(platformdirs.user_state_path("epidote")) / "log" / "epidote.log"

    def report(self, error: BaseException, where: str = "") -> None:
        """Report a mistake in the program; may be called on any thread."""
        frames = traceback.extract_tb(error.__traceback__)
        if frames:
            last = frames[-1]
        else:
            last = None
        if last is not None:
            place = f"{type(error).__name__} in {Path(last.filename).name}:{last.lineno}"
        else:
            place = type(error).__name__
        details = "".join(traceback.format_exception(error))
        self._keep(place, details, f"{where or 'fault'}: {place}\n{_frames_only(frames)}\n{_without_names(str(error))}")

    def report_words(self, words: str) -> None:
        """Report what Qt complains about."""
        self._keep(words, words, f"Qt: {_without_names(words)}")

    def _keep(self, place: str, details: str, logged: str) -> None:
        first = place not in self._known
        self._known.add(place)
        self.latest.append(Fault(place, details))
        self._write(logged)
        if first:
            self.told.emit(_TOLD, details)

    def _write(self, words: str) -> None:
        """One record; faults are rare, so the file is opened for each and no handle is held."""
        import logging
        from logging.handlers import RotatingFileHandler

        with self._writing, contextlib.suppress(OSError):  # a log that cannot be written must not be a fault of its own
            self.log_path.parent.mkdir(parents=True, exist_ok=True)
            handler = RotatingFileHandler(
                self.log_path, maxBytes=LOG_BYTES, backupCount=LOG_FILES - 1, encoding="utf-8", delay=True
            )
            handler.setFormatter(logging.Formatter("%(asctime)s %(message)s"))
            handler.emit(logging.makeLogRecord({"msg": words}))
            handler.close()

    def install(self) -> None:
        """Take over what Python and Qt would print."""
        sys.excepthook = self._python
        threading.excepthook = self._thread
        qInstallMessageHandler(self._qt)

    def _python(self, kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        traceback.print_exception(kind, error, trace)  # for whoever started the program from a terminal
        self.report(error)

    def _thread(self, args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None:
            self.report(args.exc_value, f"thread {args.thread.name if args.thread is not None else ''}")

    def _qt(self, kind: QtMsgType, context: QMessageLogContext, words: str) -> None:
        if kind in (QtMsgType.QtDebugMsg, QtMsgType.QtInfoMsg) or words in _HARMLESS:
            return
        sys.stderr.write(f"{words}\n")
        self.report_words(words)


# what an off-screen or minimal platform says of itself, which is no fault
_HARMLESS = frozenset(
    f"This plugin does not support {what}"
    for what in ("propagateSizeHints()", "raise()", "grabbing the keyboard", "grabbing the mouse")
)
_only: Faults | None = None


def faults() -> Faults:
    """Return the one of the process."""
    global _only  # noqa: PLW0603  made when it is first needed, since a QObject needs the process's own start
    if _only is None:
        _only = Faults()
    return _only


def _frames_only(frames: traceback.StackSummary) -> str:
    return "\n".join(f"  {Path(f.filename).name}:{f.lineno} {f.name}" for f in frames)


def _without_names(words: str) -> str:
    """Words of an exception without what is quoted in them, and without paths: those name units, files and people."""
    return _QUOTED.sub("…", words)
