"""Playing what a procedure asks for, and recording what comes back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.chain.chain import Chain
from epidote.core.errors import MeasurementError
from epidote.core.procedures.protocol import Conduct, InterruptibleStimulus, stimulus_of
from epidote.core.procedures.registry import procedure
from epidote.core.settings import Settings, labelled
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.measurement.device_setup import no_progress, not_cancelled


@dataclass
class PreparedPlay:
    """What a procedure plays first, made before it is needed; the rest follows from what comes back."""

    conduct: Conduct
    first: Stimulus | InterruptibleStimulus | None


def prepare_play(key: str, settings: Settings, chain: Chain) -> PreparedPlay:
    """Make a procedure's first stimulus. Raises SettingError for settings that do not fit the chain."""
    with labelled(type(settings)):
        conduct: Conduct = procedure(key).conduct(settings, chain)
        return PreparedPlay(conduct, next(conduct, None))


def play_and_record(
    key: str,
    settings: Settings,
    chain: Chain,
    device: Device,
    progress: Progress = no_progress,
    *,
    cancelled: Cancelled = not_cancelled,
    prepared: PreparedPlay | None = None,
) -> list[Recording]:
    """Conduct a procedure on a device. Raises what the device and the procedure raise; nothing is kept then.

    Where a part is worth keeping, what was recorded before it was cancelled is returned instead. prepared: its first
    stimulus, where that was made before.
    """
    play = prepared or prepare_play(key, settings, chain)
    with labelled(type(settings)):
        return _play_and_record(key, settings, chain, device, progress, cancelled=cancelled, play=play)


def _play_and_record(
    key: str,
    settings: Settings,
    chain: Chain,
    device: Device,
    progress: Progress,
    *,
    cancelled: Cancelled,
    play: PreparedPlay,
) -> list[Recording]:
    proc = procedure(key)
    expected = max(proc.duration(settings, chain), 1e-3)
    recordings: list[Recording] = []
    done = 0.0
    try:
        request = play.first
        while request is not None:
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
            request = play.conduct.send(recording)
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
