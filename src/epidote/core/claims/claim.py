"""A published figure as data: what it is of, its limit, and the conditions it holds under."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, InstanceOf, PlainSerializer, model_validator

from epidote.core.claims.claimed_quantity import Bound, ClaimedQuantity, quantity_named
from epidote.core.quantities.formatting import format_plain, format_quantity


def _known_quantity(value: object) -> object:
    """Return a stored name as the quantity that it names."""
    if isinstance(value, str):
        return quantity_named(value)
    return value


_StoredByName = Annotated[
    InstanceOf[ClaimedQuantity], BeforeValidator(_known_quantity), PlainSerializer(str, return_type=str)
]


class Claim(BaseModel):
    """low and high in ``unit``: the limits, either of which may be open; of a typical figure both are the figure
    itself.

    frequency to frequency_high: one frequency, or the range that it holds over (of a response: its band). level: as it
    was typed, at the unit's output. limit_percent: the distortion at which a power or an output is stated.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    claimed: _StoredByName
    sense: Bound
    unit: str = Field(max_length=12)
    low: float | None = None
    high: float | None = None
    frequency: float | None = Field(None, gt=0, le=1e6)
    frequency_high: float | None = Field(None, gt=0, le=1e6)
    level: str = Field("", max_length=40)
    load_ohms: float | None = Field(None, gt=0, le=1e7)
    band_low: float | None = Field(None, ge=0, le=1e6)
    band_high: float | None = Field(None, gt=0, le=1e6)
    weighting: str = Field("", max_length=8)
    limit_percent: float | None = Field(None, gt=0, le=100)
    channels: int | None = Field(None, ge=1, le=64)
    buffer: int | None = Field(None, ge=1, le=1 << 20)
    rate: float | None = Field(None, gt=0, le=1e6)
    text: str = Field("", max_length=400)
    source: str = Field("", max_length=400)

    @model_validator(mode="after")
    def _has_a_figure(self) -> Claim:
        if self.low is None and self.high is None:
            raise ValueError("a claim needs a value")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("the lower limit must not exceed the upper limit")
        return self

    @property
    def figure(self) -> str:
        """The figure in words: "at most 0.005 %", "within ±0.5 dB"."""
        if self.sense is Bound.WITHIN:
            if self.high is None or self.low is None:
                if self.high is None:
                    one = self.low
                else:
                    one = self.high
                return f"within {format_quantity(one, self.unit, signed=True)}"
            if self.high == -self.low:
                return f"within ±{format_plain(self.high, self.unit)}"
            if not self.claimed.deviation:
                half = format_plain((self.high - self.low) / 2, "dB" if self.unit.startswith("dB") else self.unit)
                return f"{format_plain((self.high + self.low) / 2, self.unit)} ±{half}"
            return f"within +{self.high:g}/-{-self.low:g} {self.unit}"
        value = self.low if self.high is None else self.high
        return f"{self.sense} {format_plain(value, self.unit)}"

    @property
    def conditions(self) -> tuple[str, ...]:
        """Each condition in words, in the order people name them."""
        return (*self._conditions_of_signal(), *self._conditions_of_measurement())

    def _conditions_of_signal(self) -> list[str]:
        parts = []
        if self.frequency is not None:
            parts.append(_span_in_words(self.frequency, self.frequency_high))
        if self.level:
            parts.append(self.level)
        if self.limit_percent is not None:
            parts.append(f"at {self.limit_percent:g} % distortion")
        if self.load_ohms is not None:
            parts.append(format_plain(self.load_ohms, "Ω"))
        return parts

    def _conditions_of_measurement(self) -> list[str]:
        parts = []
        if self.band_high is not None:
            parts.append(f"bandwidth {_span_in_words(self.band_low, self.band_high)}")
        if self.weighting:
            parts.append("unweighted" if self.weighting == "none" else f"{self.weighting}-weighted")
        if self.channels is not None:
            parts.append(f"{self.channels} channels")
        if self.buffer is not None:
            parts.append(f"buffer {self.buffer}")
        if self.rate is not None:
            parts.append(f"rate {format_plain(self.rate, 'Hz')}")
        return parts

    @property
    def words(self) -> str:
        """What was understood, whole."""
        name = self.claimed.name[0].upper() + self.claimed.name[1:]
        return f"{name} {', '.join([self.figure, *self.conditions])}"


def _span_in_words(low: float | None, high: float | None) -> str:
    """“20 Hz to 20 kHz”, or the one limit there is."""
    return " to ".join(format_plain(f, "Hz") for f in (low, high) if f)
