"""One channel's levels as they stand at the unit: in volts or pascals where the chain states them, re digital full
scale otherwise.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from epidote.core.chain.chain import Chain
from epidote.core.quantities.units import DB_PER_NEPER, LEVEL_UNITS, to_db
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.signals.signal import Signal

_LEVELS = {"V": "dBV", "Pa": "dB SPL"}


@dataclass(frozen=True)
class ChannelScale:
    """channel from 1; full: RMS of what reads 0 dBFS, in ``base`` (V or Pa); None: not calibrated."""

    channel: int
    full: float | None
    base: str

    @staticmethod
    def of(chain: Chain, channel: int) -> ChannelScale:
        return ChannelScale(channel, *chain.scale(channel))

    @staticmethod
    def at(signal: Signal, chain: Chain, channel: int) -> ChannelScale:
        """Of a channel of a signal, which may be in volts already."""
        if signal.unit == "FS":
            return ChannelScale.of(chain, channel)
        return ChannelScale(channel, None, "V")

    @property
    def unit(self) -> str:
        """Of samples and direct voltages: V, Pa or FS."""
        if self.full:
            return self.base
        return "FS"

    @property
    def level_unit(self) -> str:
        """Of levels: dBV, dB SPL or dBFS."""
        if self.full:
            return _LEVELS[self.base]
        return "dBFS"

    @property
    def level_offset(self) -> float:
        """What turns dBFS into ``level_unit``, in dB."""
        if self.full:
            return to_db(self.full / LEVEL_UNITS[self.level_unit][1])
        return 0.0

    @property
    def peak_scale(self) -> float:
        """What a sample of 1 is, in ``unit``: the peak of a full-scale sine."""
        if self.full:
            return self.full * math.sqrt(2)
        return 1.0

    def level(
        self,
        key: str,
        mean_square: float,
        at: Mapping[str, float | str],
        spread_db: float | None = None,
        cautions: tuple[Caution, ...] = (),
    ) -> Reading:
        """Return a level from a mean square in FS² (0 dBFS: 1/2)."""
        if self.full is None:
            if mean_square > 0:
                value = 10 * math.log10(2 * mean_square)
            else:
                value = None
            return Reading(key, self.channel, value, "dBFS", at, None, spread_db, cautions)
        value = self.full * math.sqrt(2 * max(mean_square, 0.0))
        if spread_db is None:
            spread = None
        else:
            spread = value * spread_db / DB_PER_NEPER
        return Reading(key, self.channel, value, self.base, at, None, spread, cautions)
