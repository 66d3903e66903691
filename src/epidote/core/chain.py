"""The measuring chain as data: everything between the computer's numbers and the unit's terminals."""

from __future__ import annotations

import tomllib
from datetime import date

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from epidote.core.errors import UnusableInputError
from epidote.core.quantity import Conversion, to_db


class Chain(BaseModel):
    """Output and input full scale are RMS volts of a full-scale sine (AES17) at the chain's own terminals; None: not calibrated."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = Field("Uncalibrated chain", description="the chain's name", max_length=80)
    rate: float = Field(48000.0, ge=8000, le=384000, description="sample rate", json_schema_extra={"unit": "Hz"})
    output_full_scale: float | None = Field(
        None, gt=0, le=1000, description="voltage at the output for 0 dBFS", json_schema_extra={"unit": "V"}
    )
    input_full_scale: float | None = Field(
        None, gt=0, le=1000, description="voltage at the input that reads 0 dBFS", json_schema_extra={"unit": "V"}
    )
    probe_ratio: float = Field(1.0, ge=1, le=10000, description="divider between the unit and the input (10 means 10 : 1)")
    load_ohms: float | None = Field(None, gt=0, le=1e7, description="load at the unit's output", json_schema_extra={"unit": "Ω"})
    load_confirmed: bool = Field(False, description="the load was measured, not only typed")
    output_ceiling: float = Field(0.0, ge=-120, le=0, description="level the output never exceeds", json_schema_extra={"unit": "dBFS"})
    calibrated_on: date | None = Field(None, description="day of the last calibration")

    @property
    def calibrated(self) -> bool:
        return self.input_full_scale is not None

    @property
    def unit_full_scale(self) -> float | None:
        """RMS volts at the unit's output that read 0 dBFS: the input's full scale times the probe's ratio."""
        return None if self.input_full_scale is None else self.input_full_scale * self.probe_ratio

    @property
    def gain_offset_db(self) -> float | None:
        """What turns a digital ratio in dB into a voltage gain in dB; None when either side is not calibrated."""
        if self.unit_full_scale is None or self.output_full_scale is None:
            return None
        return to_db(self.unit_full_scale / self.output_full_scale)

    def conversion(self) -> Conversion:
        """How levels at the unit's output convert between FS, V and W."""
        return Conversion(self.unit_full_scale, self.load_ohms, None, self.rate)

    def wired(self) -> Chain:
        """The same chain with its output wired to its input: no probe, no load. For the baseline."""
        return self.model_copy(update={"probe_ratio": 1.0, "load_ohms": None})

    def drive(self) -> Conversion:
        """How levels at the chain's output (what drives the unit) convert between FS and V."""
        return Conversion(self.output_full_scale, None, None, self.rate)


def chain_from_toml(text: str) -> Chain:
    """A chain from its TOML form (docs/formats.md). Raises UnusableInputError naming the faulty entry."""
    try:
        return Chain.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise UnusableInputError(f"The chain file is not readable TOML: {error}.") from error
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "the file"
        raise UnusableInputError(f"In the chain file, “{where}” does not fit: {first['msg'].lower()}.") from error


def chain_to_toml(chain: Chain) -> str:
    """The chain as readable TOML; entries that are not set are left out."""
    lines = []
    for name, field in Chain.model_fields.items():
        value = getattr(chain, name)
        if value is None:
            continue
        if isinstance(value, bool):
            text = "true" if value else "false"
        elif isinstance(value, str):
            text = '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'
        else:
            text = str(value)
        extra = field.json_schema_extra
        unit = f", {extra['unit']}" if isinstance(extra, dict) and "unit" in extra else ""
        lines.append(f"{name} = {text}  # {field.description}{unit}")
    return "\n".join(lines) + "\n"
