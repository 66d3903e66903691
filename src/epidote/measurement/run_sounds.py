"""Sounds made of a run's recordings, such as the residual of a sweep: to be heard, or kept as a file."""

from __future__ import annotations

from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from epidote.audio.device import Cancelled
from epidote.audio.files.sound_file import encode, write_whole
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.protocol import RunSound
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.units import to_db
from epidote.core.settings import make_settings
from epidote.core.signals.signal import Samples
from epidote.core.stimuli.noise import from_samples
from epidote.measurement.device_setup import no_progress, open_for_chain
from epidote.study.models import RunSummary
from epidote.study.store import Study

_PEAK_DB = -3.0  # of the sound as it is heard or written
_MOST_RAISED_DB = 80.0
_HEARD_DB = -20.0  # peak: what is played goes to the unit


@dataclass(frozen=True, eq=False)
class MadeSound:
    """samples (frames,) in FS at a rate in Hz, raised by raised_db over how it was recorded."""

    samples: Samples
    rate: float
    raised_db: float


def sounds_of(run: RunSummary) -> tuple[RunSound, ...]:
    """Return the sounds that can be made of a run."""
    sounds: tuple[RunSound, ...] = procedure(run.procedure).sounds
    return sounds


def make_run_sound(study: Study, run_id: int, key: str, channel: int) -> MadeSound:
    """Return a sound of a run's channel (from 1), raised so that its peak is -3 dBFS. Raises EpidoteError."""
    run = study.run(run_id)
    proc = procedure(run.procedure)
    offered = [sound.key for sound in proc.sounds]
    if key not in offered:
        names = ", ".join(offered) or "none"
        raise SettingError(f"“{proc.title}” makes no sound “{key}”. Available: {names}. Select another run or sound.")
    recordings = study.acquired(run.id).recordings
    channels = recordings[0].signal.channels if recordings else 0
    if not 1 <= channel <= channels:
        raise SettingError(f"The run has {channels} channels; there is no channel {channel}. Select one of them.")
    made = proc.make_sound(key, recordings, make_settings(proc.Settings, run.settings), run.chain, channel)
    x = made.samples[:, 0]
    peak = float(np.abs(x).max(initial=0.0))
    if not peak > 0:
        raise UnusableInputError("There is nothing to hear: the sound is silent. Select another channel or run.")
    raised = min(_PEAK_DB - to_db(peak), _MOST_RAISED_DB)
    return MadeSound(x * 10 ** (raised / 20), made.rate, raised)


def write_run_sound(study: Study, run_id: int, key: str, channel: int, path: Path) -> MadeSound:
    """Write a sound of a run as a WAV or FLAC file, by its name. Raises EpidoteError."""
    kind = path.suffix.lower().removeprefix(".")
    if kind not in ("wav", "flac"):
        raise UnusableInputError(f"{path.name}: only .wav and .flac can be written. Use one of these names.")
    sound = make_run_sound(study, run_id, key, channel)
    write_whole(path, encode(sound.samples[:, None], sound.rate, kind.upper(), "24"))
    return sound


def play_run_sound(study: Study, run_id: int, key: str, channel: int, cancelled: Cancelled) -> str:
    """Play a sound of a run on the device of its chain, no louder than -20 dBFS and the chain's ceiling. Returns what
    was heard, in words. Raises EpidoteError.
    """
    sound = make_run_sound(study, run_id, key, channel)
    chain = study.run(run_id).chain.changed(rate=sound.rate)
    level = min(_HEARD_DB, chain.ceiling_dbfs)
    samples = sound.samples * 10 ** ((level - _PEAK_DB) / 20)
    stimulus = from_samples(samples, rate=sound.rate, level=level, channels=chain.stimulus_channels)
    with closing(open_for_chain(chain, chain.device, {}, seed=0, real_time=True)) as device:
        device.exchange(stimulus, ceiling_dbfs=chain.ceiling_dbfs, progress=no_progress, cancelled=cancelled)
        title = device.info.title
    raised = sound.raised_db + level - _PEAK_DB
    return f"Played on {title}, {raised:+.0f} dB re the recording."
