"""Opening a device to listen: its outputs alone, at the clips' own rate or the nearest that it has."""

from __future__ import annotations

from epidote.audio.device import Device, FormatRefusedError, Wiring
from epidote.audio.registry import devices, open_device


def open_output(name: str, rate: float, outputs: tuple[int, ...], ceiling_dbfs: float) -> Device:
    """Open a device's outputs; clips of another rate are brought to the device's. Raises SettingError,
    FormatRefusedError, DeviceLostError.
    """

    def opened(at: float) -> Device:
        return open_device(name, Wiring(at, outputs, ()), {}, ceiling_dbfs=ceiling_dbfs, real_time=True)

    try:
        return opened(rate)
    except FormatRefusedError:
        offered = next((d.rates for d in devices() if d.name == name), ())
        # the next higher rate loses nothing; else the highest there is
        higher = [r for r in sorted(offered) if r > rate]
        nearest = higher[0] if higher else max(offered, default=0)
        if not nearest or nearest == rate:
            raise
        return opened(float(nearest))
