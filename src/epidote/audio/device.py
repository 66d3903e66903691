"""The one seam to sound: play a stimulus and record at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from epidote.core.errors import MeasurementError
from epidote.core.live.clip_player import PlayOrder
from epidote.core.quantities.units import from_db
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.generator import GeneratorSettings

Progress = Callable[[float], None]
Cancelled = Callable[[], bool]
Enough = Callable[[Signal], bool]


class DeviceLostError(MeasurementError):
    """The device vanished or refused in the middle of a measurement."""


class FormatRefusedError(MeasurementError):
    """The device cannot run at the wanted rate or channel count."""


@dataclass(frozen=True)
class Wiring:
    """How a device is used: rate in Hz, its outputs and inputs in the chain's order (channels from 1), frames per
    block (None: its own).
    """

    rate: float
    outputs: tuple[int, ...] = (1, 2)
    inputs: tuple[int, ...] = (1, 2)
    buffer: int | None = None


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


class Live(Protocol):
    """Continuous listening, with something playing meanwhile or nothing."""

    rate: float

    def read(self) -> Samples:
        """Everything (frames, channels) that came in since the last call, in FS. Raises DeviceLostError."""

    def play(self, programme: GeneratorSettings, samples: Samples | None = None) -> None:
        """Play this from the next block on; ``samples`` is what a file holds, at the device's rate.

        Raises SettingError.
        """

    def play_clips(self, clips: Sequence[Samples]) -> None:
        """Have clips (frames, channels) of one shape, at the device's rate, ready in place of what was played; they
        sound by ``order``. Raises SettingError.
        """

    def order(self, order: PlayOrder) -> None:
        """Switch, loop, pause or set the level of the clips, from the next block on."""

    def place(self) -> int:
        """Return the frame of the clips that is about to sound; 0 without clips."""

    def mute(self) -> None:
        """Silence within one block, until something is played again."""

    def faults(self) -> tuple[str, ...]:
        """Return what the device complained about so far."""

    def close(self) -> None: ...


class Device(Protocol):
    """A sound device, real or simulated."""

    info: DeviceInfo

    def exchange(
        self,
        stimulus: Stimulus,
        *,
        ceiling_dbfs: float,
        progress: Progress,
        cancelled: Cancelled,
        enough: Enough | None = None,
    ) -> Recording:
        """Play the stimulus and record meanwhile; ``progress`` is told shares from 0 to 1.

        Frame 0 of the recording is the stimulus' own.

        ``enough`` is asked of what came back so far, a few times a second at least: once it says so, the output is
        silent within one block and the recording ends there. Never plays above the ceiling, and is silent within one
        block when cancelled. Raises CancelledError, DeviceLostError, FormatRefusedError, MeasurementError.
        """

    def record(self, seconds: float, *, progress: Progress, cancelled: Cancelled) -> Recording:
        """Record without playing anything. Raises the same."""

    def listen(self, *, ceiling_dbfs: float) -> Live:
        """Listen until the result is closed. Nothing else can be done with the device meanwhile."""

    def latency(self) -> float | None:
        """Round trip in s as the device states it, None when it does not; shown, not believed."""

    def close(self) -> None: ...


def playable(stimulus: Stimulus, rate: float, ceiling_dbfs: float) -> Samples:
    """Return the stimulus' samples (frames, 1), the same for all outputs, or (frames, outputs).

    Raises FormatRefusedError for one of another rate, MeasurementError for one above the ceiling.
    """
    if stimulus.rate != rate:
        raise FormatRefusedError(
            f"The device runs at {rate:g} Hz, the stimulus at {stimulus.rate:g} Hz. Nothing was played; use the same"
            " sample rate for both."
        )
    played = stimulus.by_output()
    if float(np.abs(played).max()) > from_db(ceiling_dbfs) * (1 + 1e-9):
        raise MeasurementError(
            f"The stimulus would exceed the chain's maximum output level of {ceiling_dbfs:g} dBFS. Nothing was played;"
            " reduce its level."
        )
    return played
