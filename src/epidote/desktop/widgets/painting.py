"""Painting that cannot take the window with it."""

from __future__ import annotations

import functools
import traceback
from collections.abc import Callable
from typing import Any, TypeVar

from PySide6.QtGui import QPainter

from epidote.desktop.state.faults import faults

F = TypeVar("F", bound=Callable[..., Any])


def guarded(paint: F) -> F:
    """For paintEvent and its like: an exception is reported, and the painter it left open is closed.

    A painter that is still active when the event returns ends the process. It lives in a frame of the traceback, where
    it is found and ended; one that Qt handed in is Qt's to end.
    """

    @functools.wraps(paint)
    def painted(self: Any, *args: Any) -> None:
        try:
            paint(self, *args)
        except Exception as error:  # noqa: BLE001  whatever it is, the window must live
            _end_painters(error, handed_in=args)  # first: telling changes the window, and with it what is painted on
            faults().report(error, f"painting {type(self).__name__}")

    return painted  # type: ignore[return-value]


def _end_painters(error: BaseException, handed_in: tuple[Any, ...]) -> None:
    """End the painters that the failed call began, the last begun first."""
    frames = [frame for frame, _ in traceback.walk_tb(error.__traceback__)]
    for frame in reversed(frames):
        for value in reversed(list(frame.f_locals.values())):
            ours = isinstance(value, QPainter) and not any(value is other for other in handed_in)
            if ours and value.isActive():
                value.end()
