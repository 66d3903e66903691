"""Units that play by themselves after a command: the command is played, the answer recorded and cut by its marks.

The unit plays the marked file of the run from a library of its own, on its own clock, when it likes. Recording ends
when all of the file must have been heard, or when no answer comes in time.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from epidote.audio.device import Cancelled, Device, Progress
from epidote.audio.files.sound_file import read_material
from epidote.core.analysis.delay.clock_offset import MOST_PPM, MarkedRecording, to_player_clock, with_clock
from epidote.core.errors import MeasurementError, SettingError
from epidote.core.signals.signal import Samples, Signal, as_readonly
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.marked_sequence import MarkedSequence
from epidote.core.stimuli.noise import MATERIAL
from epidote.measurement.device_setup import no_progress, not_cancelled
from epidote.measurement.offline import marked_file
from epidote.measurement.processing import process
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import store_run
from epidote.study.models import ReadOnlyError, RunSummary
from epidote.study.store import Study

TIME_OUT = 10.0  # s after the command within which an answer must begin
_LEAD, _ROOM = 0.5, 1.0  # s of silence before the command, and after the answer
_BLOCK = 0.02  # s
_OVER_BACKGROUND = 10 ** (12 / 20)
_LEAST = 1e-4  # FS, below which nothing is an answer
_LONGEST_COMMAND = 30.0  # s


@dataclass(frozen=True)
class Answer:
    """When an answer begins, by its level over the background before the command.

    command_end, latest: frames at which the command has ended, and by which an answer must have begun; frames: of the
    file that is expected.
    """

    rate: float
    command_end: int
    latest: int
    frames: int

    def onset(self, signal: Signal) -> int | None:
        """Return the first frame after the command at which the loudest channel rises over the background."""
        block = round(_BLOCK * self.rate)
        levels = _block_levels(signal.samples, block)
        before = levels[: max(1, round(_LEAD * self.rate / 2) // block)]
        threshold = max(_LEAST, _OVER_BACKGROUND * float(np.median(before)))
        first = -(-self.command_end // block)
        heard = np.flatnonzero(levels[first:] > threshold)
        if not heard.size:
            return None
        return int((first + heard[0]) * block)

    def enough(self, signal: Signal) -> bool:
        """Whether the answer is whole, or will not come."""
        if signal.frames < self.command_end:
            return False
        onset = self.onset(signal)
        if onset is None:
            return signal.frames >= self.latest
        return signal.frames >= onset + self.frames


def _block_levels(samples: Samples, block: int) -> Samples:
    """Return the greatest RMS of the channels (blocks,)."""
    count = samples.shape[0] // block
    parts = np.square(samples[: count * block]).reshape(count, block, -1).mean(axis=1)
    return np.asarray(np.sqrt(parts.max(axis=1)))


def command_samples(path: Path, rate: float) -> Samples:
    """Return a command clip (frames,), its channels as one, at a rate. Raises UnusableInputError, SettingError."""
    clip = read_material(str(path), rate).samples.mean(axis=1)
    if not np.abs(clip).max(initial=0.0) > 0:
        raise SettingError(f"{path.name} is silent. Use a recording of the spoken command.")
    if clip.size > _LONGEST_COMMAND * rate:
        raise SettingError(f"{path.name} is longer than {_LONGEST_COMMAND:g} s. Use the command alone.")
    return np.asarray(clip)


def measure_commanded(
    study: Study,
    order: RunPlan,
    device: Device,
    command: Path,
    *,
    time_out: float = TIME_OUT,
    progress: Progress = no_progress,
    cancelled: Cancelled = not_cancelled,
) -> RunSummary:
    """Play the command, wait for the unit to play the order's marked file, record it and keep the run.

    Raises MeasurementError where no answer comes, UnusableInputError where it is not that file; nothing is kept then.
    """
    if study.read_only:
        raise ReadOnlyError(f"{study.path.name} is read-only ({study.why_read_only}). Nothing was measured.")
    order = RunPlan(
        order.subject_id,
        order.column_id,
        order.procedure,
        order.settings,
        order.chain.changed(device=device.info.name),
    )
    file = marked_file(order.procedure, order.settings, order.chain)
    recording, answer = _exchanged(
        order, device, command, file, time_out=time_out, progress=progress, cancelled=cancelled
    )
    onset = answer.onset(recording)
    if onset is None:
        raise MeasurementError(
            f"The unit did not answer within {time_out:g} s after the command. Nothing was saved. Check that it hears"
            " the command, that the stimulus file is in its library, and its volume."
        )
    kept = Signal(recording.samples[max(0, onset - round(_LEAD * recording.rate)) :], recording.rate)
    parts, clock = to_player_clock(kept, file)
    result = with_clock(process(study, order, parts), [clock], kept.rate)
    words = f"{device.info.title}, after the command {command.name}"
    return store_run(study, order, words, result, [MarkedRecording(kept, file)], source=None)


def _exchanged(
    order: RunPlan,
    device: Device,
    command: Path,
    file: MarkedSequence,
    *,
    time_out: float,
    progress: Progress,
    cancelled: Cancelled,
) -> tuple[Signal, Answer]:
    """Return what was recorded from the command on, and how the answer is found in it."""
    chain = order.chain
    rate = chain.rate
    clip = command_samples(command, rate)
    lead = round(_LEAD * rate)
    command_end = lead + clip.size + round(0.3 * rate)  # a room's answer to the command is not the unit's
    length = round(file.frames * rate / file.rate * (1 + MOST_PPM * 1e-6) + _ROOM * rate)
    answer = Answer(rate, command_end, command_end + round(time_out * rate), length)
    samples = np.zeros(answer.latest + length)
    samples[lead : lead + clip.size] = clip * min(1.0, 10 ** (chain.ceiling_dbfs / 20) / float(np.abs(clip).max()))
    stimulus = Stimulus(
        MATERIAL,
        rate,
        {"level": 0.0, "lead": lead, "sounding": float(clip.size), "frames": samples.size},
        chain.stimulus_channels,
        as_readonly(samples),
    )
    enough: Callable[[Signal], bool] = answer.enough
    recording = device.exchange(
        stimulus, ceiling_dbfs=chain.ceiling_dbfs, progress=progress, cancelled=cancelled, enough=enough
    )
    return recording.signal, answer
