"""Which devices there are, and opening one by its name."""

from __future__ import annotations

from collections.abc import Mapping

from epidote.audio.device import Device, DeviceInfo, Wiring
from epidote.audio.simulated.device import BENCHES, PREFIX, SimulatedDevice, device_info
from epidote.audio.soundcard.device import PREFIX as SOUND_PREFIX
from epidote.audio.soundcard.device import SoundCard, sound_cards
from epidote.core.errors import SettingError


def devices() -> list[DeviceInfo]:
    """Sound cards first, then the stand-ins. Asks the sound servers, which takes a good part of a second."""
    return [*sound_cards(), *(device_info(bench) for bench in BENCHES)]


def open_device(
    name: str,
    wiring: Wiring,
    conditions: Mapping[str, str],
    *,
    ceiling_dbfs: float = 0.0,
    seed: int = 0,
    real_time: bool = False,
) -> Device:
    """Open a device; a simulated unit is set to the conditions, as somebody at the bench would do.

    Raises SettingError, FormatRefusedError.
    """
    if name.startswith(SOUND_PREFIX):
        return SoundCard(name, wiring, ceiling_dbfs=ceiling_dbfs)
    bench = name.removeprefix(PREFIX)
    if not name.startswith(PREFIX) or bench not in BENCHES:
        raise SettingError(f"Unknown device “{name}”. Available: {', '.join(d.name for d in devices())}.")
    return SimulatedDevice(bench, wiring, conditions, seed=seed, real_time=real_time)
