"""Chain and device together, before and beside the runs: opening, the short shot, the careful first start."""

from __future__ import annotations

from collections.abc import Mapping

from epidote.audio.device import Cancelled, Device, Wiring
from epidote.audio.registry import open_device
from epidote.audio.soundcard.device import PREFIX as SOUND_PREFIX
from epidote.core.calibration.precheck import Precheck, evaluate_precheck, precheck_stimuli
from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import MeasurementError
from epidote.measurement.late_path import LatePath
from epidote.study.store import Study

FIRST_START_DB = -40.0
_DRIVEN = "driven"


class BenchNotReadyError(MeasurementError):
    """The short shot before a run says that the run would be wasted."""


def not_cancelled() -> bool:
    """Return a run that nobody cancels."""
    return False


def no_progress(share: float) -> None:
    """Progress that nobody watches."""


def wiring_of(chain: Chain) -> Wiring:
    """Return how a chain uses its device: rate, channels, buffer."""
    return Wiring(chain.rate, chain.outputs, chain.inputs, chain.buffer)


def open_for_chain(
    chain: Chain, name: str, conditions: Mapping[str, str], *, seed: int = 0, real_time: bool = False
) -> Device:
    """Open a device as the chain uses it. Raises SettingError, FormatRefusedError, DeviceLostError."""
    device = open_device(
        name, wiring_of(chain), conditions, ceiling_dbfs=chain.ceiling_dbfs, seed=seed, real_time=real_time
    )
    if chain.path_delay > 0:
        return LatePath(device, chain.path_delay, chain.rate)
    return device


def run_precheck(
    device: Device,
    chain: Chain,
    level: float,
    *,
    below_db: float = 0.0,
    alone: bool = False,
    cancelled: Cancelled = not_cancelled,
) -> Precheck:
    """Return a second of tone at ``level`` dBFS less ``below_db``, and what it says about a run at ``level``.

        Raises what the device raises.

    ``alone``: then the same on the first output only, to see whether channels are swapped.
    """
    precheck_level = min(level, chain.ceiling_dbfs) - below_db
    stimuli = precheck_stimuli(chain.rate, precheck_level, alone and min(len(chain.outputs), len(chain.inputs)) > 1)
    recordings = [
        device.exchange(s, ceiling_dbfs=chain.ceiling_dbfs, progress=no_progress, cancelled=cancelled) for s in stimuli
    ]
    return evaluate_precheck(recordings, [True] * len(chain.inputs), below_db, through_air=chain.acoustic)


def run_low_level_precheck(
    device: Device, chain: Chain, level: float, cancelled: Cancelled = not_cancelled
) -> Precheck:
    """Return the short shot with which the first run through a changed chain begins: 40 dB down, channels looked at
    too.
    """
    return run_precheck(device, chain, level, below_db=-FIRST_START_DB, alone=True, cancelled=cancelled)


def needs_safe_start(study: Study, chain: Chain) -> bool:
    """Whether this chain drives a real device as no run of the study has yet. A simulated unit cannot be harmed."""
    if not chain.device.startswith(SOUND_PREFIX):
        return False
    before = study.setting(_DRIVEN)
    return not before or not chain_from_toml(before).drives_like(chain)


def remember_safe_start(study: Study, chain: Chain) -> None:
    """From now on the study knows how this chain drives."""
    study.set_setting(_DRIVEN, chain_to_toml(chain))
