"""Guides: lines and areas on a graph with a name, a source and a sentence. They judge nothing; they help to read."""

from __future__ import annotations

from collections.abc import Sequence

from pydantic import BaseModel, ConfigDict, Field, model_validator

COMMON_PRACTICE = "rule of thumb"


class GraphGuide(BaseModel):
    """A line at y, a line at x, or an area between two of either.

    curves: the kinds of curve it is drawn with; unit of x or y as stored.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=80)
    sentence: str = Field("", max_length=400)
    source: str = Field(COMMON_PRACTICE, max_length=400)
    curves: tuple[str, ...] = Field(min_length=1)
    x_unit: str = ""  # of the place, when it is one
    y_unit: str = ""
    low: float
    high: float | None = None  # an area's other side

    @model_validator(mode="after")
    def _is_one_thing(self) -> GraphGuide:
        if bool(self.x_unit) == bool(self.y_unit):
            raise ValueError("a guide is either horizontal or vertical")
        if self.high is not None and self.high <= self.low:
            raise ValueError("the second value must be greater than the first")
        return self

    @property
    def words(self) -> str:
        return f"{self.name}: {self.sentence}{' ' if self.sentence else ''}({self.source})"

    def fits(self, key: str, x_unit: str, y_unit: str) -> bool:
        """Whether it belongs on a graph of such curves."""
        return key in self.curves and (self.x_unit == x_unit if self.x_unit else self.y_unit == y_unit)


_THD = ("thd_n", "thd")
SHIPPED: tuple[GraphGuide, ...] = (
    GraphGuide(
        name="Rated power, 1 %",
        sentence="Rated power is stated at 1 % distortion.",
        curves=_THD,
        y_unit="dB",
        low=-40.0,
    ),
    GraphGuide(
        name="Clipping, 2 %",
        sentence="Usual distortion at the onset of clipping.",
        curves=_THD,
        y_unit="dB",
        low=-33.9794,
    ),
    GraphGuide(
        name="Sweep end, 5 %", sentence="Level sweeps usually stop here.", curves=_THD, y_unit="dB", low=-26.0206
    ),
    GraphGuide(
        name="-3 dB",
        sentence="3 dB below the level at 1 kHz, where bandwidth is usually stated.",
        curves=("level",),
        y_unit="dB re 1 kHz",
        low=-3.0,
    ),
    GraphGuide(
        name="Live playing, 8 to 9 ms",
        sentence="Higher latency disturbs live playing.",
        curves=("latency_by_shot",),
        y_unit="s",
        low=0.008,
        high=0.009,
    ),
)


FORMER_NAMES = {"-3 dB (half power)": "-3 dB"}  # of shipped guides that a study may have switched off


def fitting(guides: Sequence[GraphGuide], key: str, x_unit: str, y_unit: str) -> list[GraphGuide]:
    """Those that belong on a graph of such curves."""
    return [g for g in guides if g.fits(key, x_unit, y_unit)]
