"""Which devices there are, and opening one by its name."""

from __future__ import annotations

from collections.abc import Mapping

from epidote.audio.device import Device, DeviceInfo
from epidote.audio.simulated import BENCHES, PREFIX, SimulatedDevice, device_info
from epidote.core.errors import SettingError


def devices() -> list[DeviceInfo]:
    return [device_info(bench) for bench in BENCHES]


def open_device(name: str, rate: float, conditions: Mapping[str, str], *, seed: int = 0, real_time: bool = False) -> Device:
    """Open a device; a simulated unit is set to the conditions, as somebody at the bench would do. Raises SettingError, FormatRefusedError."""
    bench = name.removeprefix(PREFIX)
    if not name.startswith(PREFIX) or bench not in BENCHES:
        raise SettingError(f"There is no device “{name}”. There are: {', '.join(d.name for d in devices())}.")
    return SimulatedDevice(bench, rate, conditions, seed=seed, real_time=real_time)
