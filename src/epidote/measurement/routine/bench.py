"""The bench of a routine: its device, kept open from unit to unit."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager, closing, nullcontext

from epidote.audio.device import Cancelled, Device
from epidote.audio.soundcard.device import PREFIX as SOUND_PREFIX
from epidote.core.calibration.precheck import Precheck
from epidote.core.chain.chain import Chain
from epidote.measurement.device_setup import open_for_chain, run_low_level_precheck, run_precheck, wiring_of

SERIAL = "serial"  # the condition by which a simulated fixture is told which unit lies on it


class RoutineBench:
    """Opens the device of a chain when it is first needed, and again where chain or unit ask for it."""

    def __init__(
        self,
        name: str,
        *,
        seed: int = 0,
        real_time: bool = False,
        opening: AbstractContextManager[object] | None = None,
    ) -> None:
        self.name = name
        self._seed, self._real_time, self._opening = seed, real_time, opening
        self._device: Device | None = None
        self._opened_for: object = None
        self.gaps: list[float] = []

    def device(self, chain: Chain, conditions: Mapping[str, str], serial: str) -> Device:
        """Return the device as a chain uses it. Raises SettingError, FormatRefusedError, DeviceLostError."""
        key: object = (wiring_of(chain), chain.ceiling_dbfs, chain.path_delay)
        told: dict[str, str] = {}
        if not self.name.startswith(SOUND_PREFIX):
            # somebody puts the unit on the simulated fixture and turns its knobs
            told = {**conditions, SERIAL: serial}
            key = (key, tuple(sorted(told.items())))
        if self._device is None or key != self._opened_for:
            self.close()
            opening, self._opening = self._opening or nullcontext(), None
            with opening:
                self._device = open_for_chain(chain, self.name, told, seed=self._seed, real_time=self._real_time)
            self._opened_for = key
        return self._device

    def look(
        self, chain: Chain, conditions: Mapping[str, str], serial: str, level: float, *, careful: bool, stop: Cancelled
    ) -> Precheck:
        """Return what a second of tone says about the connections, with each output by itself, too; careful: far below
        the level.
        """
        device = self.device(chain, conditions, serial)
        if careful:
            return run_low_level_precheck(device, chain, level, stop)
        return run_precheck(device, chain, level, alone=True, cancelled=stop)

    def close(self) -> None:
        """Give the device back; it is opened again when it is needed."""
        if self._device is not None:
            with closing(self._device):
                self._device, self._opened_for = None, None
