"""The gate as a setting, and what it makes of an impulse response (docs/methods.md, Response through air)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BeforeValidator

from epidote.core import effects
from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.acoustics.impulse_gate import (
    LONGEST,
    SHORTEST,
    gated_response,
    open_response,
    propose_gate,
)
from epidote.core.errors import SettingError
from epidote.core.procedures.common.channels import per_channel
from epidote.core.quantities.units import QuantityError, parse
from epidote.core.results.kinds import ReadingKind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Result
from epidote.core.settings import OnlyWith, setting
from epidote.core.signals.recording import Recording

_UNREFLECTED = 0.1  # s: the gate where no reflection is found
OPEN, PROPOSED = "none", "auto"
LOWEST_FREQUENCY = ReadingKind(
    "lowest_frequency",
    "Lowest frequency",
    compared=False,
    meaning="Lowest valid frequency: 1/(length of the gate).",
)


def gate_time(text: str) -> float | None:
    """Return a typed gate in s; None for an open one, a proposed one, and no gate. Raises SettingError."""
    if text in ("", OPEN, PROPOSED):
        return None
    try:
        quantity = parse(text, "s")
    except QuantityError as error:
        raise SettingError(f"use a time such as 8ms, {PROPOSED} or {OPEN}, not “{text}”") from error
    if quantity.unit != "s" or not SHORTEST <= quantity.value <= LONGEST:
        raise SettingError(f"use a time from {SHORTEST * 1000:g} ms to {LONGEST:g} s, {PROPOSED} or {OPEN}")
    return quantity.value


def _gate(value: object) -> str:
    text = f"{value}".strip().lower()
    gate_time(text)
    return text


GateText = Annotated[str, BeforeValidator(_gate)]


def gate_setting(only_with: OnlyWith | None = None) -> Any:
    """Return the field of the gate."""
    return setting(
        "",
        "Gate",
        "Gate of the impulse response: a time such as 8ms, “auto” for everything before the first reflection,"
        " “none” for all of it, with the decay; empty for the time window",
        max_length=20,
        affects=effects.IMPULSE_WINDOW,
        only_with=only_with,
    )


@dataclass(frozen=True)
class Gate:
    """What counts of the impulse response: ``seconds`` after the arrival, all of it where ``open``, else what the
    time window keeps.
    """

    seconds: float | None = None
    open: bool = False

    @property
    def lowest(self) -> float | None:
        """Lowest frequency in Hz at which the response says something; None without a gate."""
        if self.seconds is None:
            return None
        return 1 / self.seconds

    def response(self, d: dc.Deconvolved, *, by_frequency: bool) -> dc.Linear:
        """Return the frequency response of what counts."""
        if self.seconds is not None:
            return gated_response(d, self.seconds)
        if self.open:
            return open_response(d)
        return dc.linear_response(d, by_frequency=by_frequency)


def gate_of(recording: Recording, kernel: dc.Kernel, text: str, channels: int) -> Gate:
    """Return the gate that a setting asks for; a proposed one ends before the first reflection of any channel."""
    if text == OPEN:
        return Gate(open=True)
    if text != PROPOSED:
        return Gate(gate_time(text))

    def found(number: int) -> Result:
        d = dc.deconvolve(recording.signal.channel(number), kernel)
        proposed = propose_gate(d) if d.found else None
        return Result((), (Reading("gate", number, proposed, "s"),))

    gates = [r.readings[0].value for r in per_channel(channels, found)]
    return Gate(min((g for g in gates if g is not None), default=_UNREFLECTED))
