"""A run as a claim, a limit or another run is held against it: its readings, curves, settings and conditions."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from epidote.core.chain.chain import Chain
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve


@dataclass(frozen=True, eq=False)
class Evidence:
    """One run. curves: asked only when they are needed; spreads: by (reading's key, channel), one standard deviation
    over repeats; place: of its row among the unit's, the first being how it is usually set; highest_output: in V, that
    any run of the unit reached, asked only when it is needed.
    """

    run: int
    procedure: str
    name: str
    settings: Mapping[str, Any]
    chain: Chain
    conditions: Mapping[str, str]
    readings: tuple[Reading, ...]
    curves: Callable[[], tuple[Curve, ...]]
    cautions: tuple[str, ...] = ()
    spreads: Mapping[tuple[str, int], float] = field(default_factory=dict)
    place: int = 0
    highest_output: Callable[[], float | None] = lambda: None

    def channels(self, key: str) -> list[Reading]:
        """Return a reading of every channel that has it."""
        return [r for r in self.readings if r.key == key and r.value is not None]

    def curves_of(self, key: str, x_unit: str) -> list[Curve]:
        return [c for c in self.curves() if c.key == key and c.x_unit == x_unit]

    def own_highest_output(self) -> float | None:
        """Return the highest level in V that this run measured at the unit's output; None where it measured none."""
        levels = [r.value for r in self.readings if r.key == "level" and r.unit == "V" and r.value is not None]
        for curve in self.curves():
            if curve.x_unit == "V" and curve.x.size:
                levels.append(float(curve.x.max()))
        return max(levels, default=None)

    def volts(self, level: str) -> float | None:
        """Return a typed level at the unit's output in volts; None where the chain cannot tell."""
        try:
            return parse_as(level, "V", self.chain.conversion())
        except QuantityError:
            return None

    @property
    def buffer(self) -> int | None:
        """Of its chain, or as its conditions name it."""
        digits = "".join(c for c in self.conditions.get("buffer", "") if c.isdigit())
        return self.chain.buffer or (int(digits) if digits else None)

    def spread(self, reading: Reading) -> float:
        """One standard deviation: over repeats where there are any, never less than what the estimator says of
        itself.
        """
        return max(self.spreads.get((reading.key, reading.channel), 0.0), reading.spread or 0.0)
