"""Painting that cannot take the window with it."""

from __future__ import annotations

import functools
import traceback
from collections.abc import Callable
from typing import Any, TypeVar

from epidote.desktop.faults import faults

F = TypeVar("F", bound=Callable[..., Any])


def guarded(paint: F) -> F:
    """For paintEvent and its like: an exception is reported, and the painter it left open is closed.

    A painter that is still active when the event returns ends the process. It lives in the frames of the traceback, so those are
    cleared; one that Qt handed in is put back to the state it came in.
    """

    @functools.wraps(paint)
    def painted(self: Any, *args: Any) -> None:
        try:
            paint(self, *args)
        except Exception as error:  # noqa: BLE001  whatever it is, the window must live
            faults().report(error, f"painting {type(self).__name__}")
            traceback.clear_frames(error.__traceback__)

    return painted  # type: ignore[return-value]
