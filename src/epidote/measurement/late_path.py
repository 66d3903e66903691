"""A path that is late, as a wireless one: recording goes on for as long, and what has to stand where it was played is
moved back there.
"""

from __future__ import annotations

import numpy as np

from epidote.audio.device import Cancelled, Device, DeviceInfo, Enough, Live, Progress
from epidote.core.analysis.cross_correlation import correlation
from epidote.core.errors import MeasurementError
from epidote.core.quantities.statistics import NORMAL_MEDIAN
from epidote.core.quantities.units import to_db
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal, as_readonly
from epidote.core.signals.stimulus import Stimulus, finds_itself
from epidote.core.stimuli.marked_sequence import marker_chirp
from epidote.core.stimuli.noise import MATERIAL

_STANDS_OUT = 12.0  # times the noise of the correlation
_EARLY = 0.005  # s by which a recording is cut before the delay, so that a path that wavers is not cut off


class LatePath:
    """A device behind a path that is late by up to ``seconds``."""

    def __init__(self, device: Device, seconds: float, rate: float) -> None:
        self._device, self._seconds, self._rate = device, seconds, rate
        self.info: DeviceInfo = device.info
        self._late: int | None = None

    def exchange(
        self,
        stimulus: Stimulus,
        *,
        ceiling_dbfs: float,
        progress: Progress,
        cancelled: Cancelled,
        enough: Enough | None = None,
    ) -> Recording:
        """Play the stimulus and record until all of it must have come back."""
        longer = _longer(stimulus, round(self._seconds * self._rate))
        by_itself = finds_itself(stimulus.kind)
        if not by_itself and self._late is None:
            self._late = self._delay_of(stimulus, ceiling_dbfs, progress, cancelled)
        whole = self._device.exchange(
            longer,
            ceiling_dbfs=ceiling_dbfs,
            progress=progress,
            cancelled=cancelled,
            enough=enough if by_itself else None,
        )
        if by_itself:
            return Recording(whole.signal, stimulus, whole.faults)
        begin = self._late or 0
        cut = whole.signal.samples[begin : begin + stimulus.frames]
        return Recording(Signal(np.ascontiguousarray(cut), whole.signal.rate), stimulus, whole.faults)

    def _delay_of(self, stimulus: Stimulus, ceiling_dbfs: float, progress: Progress, cancelled: Cancelled) -> int:
        """Play a mark as loud as the stimulus and return by how many frames it comes late, a little less."""
        peak = float(np.abs(stimulus.by_output()).max())
        chirp = marker_chirp(self._rate, min(ceiling_dbfs, to_db(peak) if peak > 0 else -20.0))
        samples = np.concatenate([chirp, np.zeros(round(self._seconds * self._rate))])
        parameters = {"level": 0.0, "lead": 0.0, "sounding": float(chirp.size), "frames": samples.size}
        mark = Stimulus(MATERIAL, self._rate, parameters, stimulus.channels, as_readonly(samples))
        heard = self._device.exchange(mark, ceiling_dbfs=ceiling_dbfs, progress=progress, cancelled=cancelled).signal
        loudest = 1 + int(np.argmax(np.square(heard.samples).sum(axis=0)))
        height = np.abs(correlation(heard.channel(loudest), chirp)[: heard.frames])
        place = int(np.argmax(height))
        if height[place] <= _STANDS_OUT * float(np.median(height)) / NORMAL_MEDIAN:
            raise MeasurementError(
                f"Nothing came back within {self._seconds:g} s, the path delay set in the chain. Nothing was"
                " saved. Check the connection, or raise the path delay on the Chain page."
            )
        return max(0, place - round(_EARLY * self._rate))

    def record(self, seconds: float, *, progress: Progress, cancelled: Cancelled) -> Recording:
        """Record without playing anything."""
        return self._device.record(seconds, progress=progress, cancelled=cancelled)

    def listen(self, *, ceiling_dbfs: float) -> Live:
        """Listen until the result is closed."""
        return self._device.listen(ceiling_dbfs=ceiling_dbfs)

    def latency(self) -> float | None:
        """Round trip in s as the device states it, without the path."""
        return self._device.latency()

    def close(self) -> None:
        """Close the device."""
        self._device.close()


def _longer(stimulus: Stimulus, frames: int) -> Stimulus:
    """Return the same sound with so many frames of silence after it."""
    columns = stimulus.by_output()
    if stimulus.material is not None and columns.shape[1] > 1:
        silence = np.zeros((frames, columns.shape[1]))
        parameters = {**stimulus.parameters, "frames": stimulus.frames + frames}
        material = as_readonly(np.concatenate([columns, silence]))
        return Stimulus(stimulus.kind, stimulus.rate, parameters, stimulus.channels, material, stimulus.original)
    if columns.shape[1] > 1:  # each output has its own noise, which is made with silence after it
        parameters = {**stimulus.parameters, "frames": stimulus.frames + frames}
        return Stimulus(stimulus.kind, stimulus.rate, parameters, stimulus.channels)
    samples = np.concatenate([columns[:, 0], np.zeros(frames)])
    parameters = {"level": 0.0, "lead": 0.0, "sounding": float(stimulus.frames), "frames": samples.size}
    return Stimulus(MATERIAL, stimulus.rate, parameters, stimulus.channels, as_readonly(samples))
