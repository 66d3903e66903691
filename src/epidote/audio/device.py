"""The one seam to sound: play a stimulus and record at once."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

from epidote.core.errors import MeasurementError
from epidote.core.signal import Recording, Stimulus

Progress = Callable[[float], None]
Cancelled = Callable[[], bool]


class DeviceLostError(MeasurementError):
    """The device vanished or refused in the middle of a measurement."""


class FormatRefusedError(MeasurementError):
    """The device cannot run at the wanted rate or channel count."""


@dataclass(frozen=True)
class DeviceInfo:
    """name: what ``--device`` takes; title: for people; rates in Hz."""

    name: str
    title: str
    kind: str
    outputs: int
    inputs: int
    rates: tuple[int, ...]
    bits: int


class Device(Protocol):
    info: DeviceInfo

    def exchange(self, stimulus: Stimulus, *, ceiling_dbfs: float, progress: Progress, cancelled: Cancelled) -> Recording:
        """Play the stimulus and record meanwhile; ``progress`` is told shares from 0 to 1.

        Never plays above the ceiling. Raises CancelledError, DeviceLostError, FormatRefusedError.
        """

    def close(self) -> None: ...
