"""Playing what a procedure asks for, and recording what comes back."""

from __future__ import annotations

from collections.abc import Callable

from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.chain.chain import Chain
from epidote.core.errors import MeasurementError
from epidote.core.procedures.protocol import InterruptibleStimulus, stimulus_of
from epidote.core.procedures.registry import procedure
from epidote.core.settings import Settings, labelled
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.measurement.device_setup import no_progress, not_cancelled


def play_and_record(
    key: str,
    settings: Settings,
    chain: Chain,
    device: Device,
    progress: Progress = no_progress,
    *,
    cancelled: Cancelled = not_cancelled,
) -> list[Recording]:
    """Conduct a procedure on a device. Raises what the device and the procedure raise; nothing is kept then.

    Where a part is worth keeping, what was recorded before it was cancelled is returned instead.
    """
    with labelled(type(settings)):
        return _play_and_record(key, settings, chain, device, progress, cancelled=cancelled)


def _play_and_record(
    key: str, settings: Settings, chain: Chain, device: Device, progress: Progress, *, cancelled: Cancelled
) -> list[Recording]:
    proc = procedure(key)
    conduct = proc.conduct(settings, chain)
    expected = max(proc.duration(settings, chain), 1e-3)
    recordings: list[Recording] = []
    done = 0.0
    try:
        request = next(conduct)
        while True:
            stimulus = stimulus_of(request)
            begun, share = done, stimulus.frames / stimulus.rate / expected
            recording = device.exchange(
                stimulus,
                ceiling_dbfs=chain.ceiling_dbfs,
                cancelled=not_cancelled if proc.keeps_part else cancelled,
                enough=_enough(request, proc.keeps_part, cancelled),
                progress=lambda part, b=begun, s=share: progress(min(1.0, b + part * s)),  # type: ignore[misc]
            )
            done += share
            recordings.append(recording.with_reference())
            if proc.keeps_part and cancelled():
                break
            request = conduct.send(recording)
    except StopIteration:
        pass
    if not recordings:
        raise MeasurementError(f"The procedure “{key}” played nothing. Nothing was saved; change its settings.")
    return recordings


def _enough(
    request: Stimulus | InterruptibleStimulus, keeps_part: bool, cancelled: Cancelled
) -> Callable[[Signal], bool] | None:
    if not isinstance(request, InterruptibleStimulus) and not keeps_part:
        return None

    def enough(signal: Signal) -> bool:
        if keeps_part and cancelled():
            return True
        return isinstance(request, InterruptibleStimulus) and request.enough(signal)

    return enough
