"""The measuring chain as data: everything between the computer's numbers and the unit's terminals."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from epidote.core import effects
from epidote.core.errors import SettingError
from epidote.core.quantities.units import Conversion, QuantityError, parse, to_db
from epidote.core.settings import make_settings, setting

STALE_DAYS = 90


class Calibration(BaseModel):
    """One value as it was found: what (a field of Chain), the value, when and how, and its spread while it was
    taken.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    what: str
    value: float
    unit: str = ""
    on: date
    how: str = ""
    spread_db: float | None = None
    channel: int | None = None


class SourceAtPoint(BaseModel):
    """A source as a reference microphone heard it at one point: what is needed to make its sound flat there.

    points: rows of frequency in Hz, rising, and level in dB SPL at a generator level of 0 dBFS. inverted: whether a
    positive sample gives a negative pressure. microphone: the serial number of the reference microphone.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    on: date
    place: str = ""
    microphone: str = ""
    inverted: bool = False
    points: tuple[tuple[float, float], ...]

    @model_validator(mode="after")
    def _rises(self) -> SourceAtPoint:
        frequencies = [f for f, _ in self.points]
        if len(frequencies) < 2 or frequencies[0] <= 0 or frequencies != sorted(set(frequencies)):
            raise SettingError("A source needs at least two rows of frequency and level, in ascending order.")
        return self

    @property
    def band(self) -> tuple[float, float]:
        """First and last frequency in Hz."""
        return self.points[0][0], self.points[-1][0]


class Chain(BaseModel):
    """Full scales are RMS volts of a full-scale sine (AES17) at the interface's own terminals; None: not calibrated.

    From the unit to the numbers: divider (probe), or microphones instead of it; preamplifier; input.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)

    name: str = setting("Uncalibrated chain", "Chain name", "Name of the chain", max_length=80)
    device: str = setting(
        "", "Device", "Sound device, as listed by “epidote devices”", max_length=200, affects=effects.INTERFACE
    )
    rate: float = setting(48000.0, "Sample rate", "Sample rate", "Hz", ge=8000, le=384000)
    buffer: int | None = setting(
        None,
        "Buffer size",
        "Buffer size in frames; empty for the device's default",
        ge=16,
        le=65536,
        affects=effects.LITTLE,
    )
    outputs: tuple[int, ...] = setting(
        (1, 2), "Output channels", "Output channels of the device, in order", min_length=1, max_length=64
    )
    inputs: tuple[int, ...] = setting(
        (1, 2), "Input channels", "Input channels of the device, in order", min_length=1, max_length=64
    )
    input_names: tuple[str, ...] = setting((), "Input names", "Names of the inputs", max_length=64)
    output_full_scale: float | None = setting(
        None,
        "Output voltage at 0 dBFS",
        "RMS output voltage of a 0 dBFS sine",
        "V",
        gt=0,
        le=1000,
        affects=effects.GENERATOR_VOLTAGE,
    )
    output_ohms: float | None = setting(None, "Output resistance", "Output resistance", "Ω", ge=0, le=1e6)
    output_ceiling: float = setting(
        0.0, "Maximum output level", "Maximum output level; never exceeded", "dBFS", ge=-120, le=0
    )
    output_ceiling_volts: float | None = setting(
        None, "Maximum output voltage", "Maximum output voltage; never exceeded", "V", gt=0, le=1000
    )
    unit_input_ohms: float | None = setting(
        None, "Unit input resistance", "Measured input impedance of the unit", "Ω", gt=0, le=1e9
    )
    load_ohms: float | None = setting(
        None, "Load resistance", "Load resistance at the unit's output", "Ω", gt=0, le=1e7
    )
    load_watts: float | None = setting(None, "Load power rating", "Power rating of the load", "W", gt=0, le=1e5)
    load_confirmed: bool = setting(
        False, "Load measured", "The load resistance was measured, not only entered", affects=effects.LOAD_KNOWN
    )
    probe_ratio: float = setting(
        1.0,
        "Probe ratio",
        "Divider ratio between the unit and the input (10 = 10:1)",
        ge=1,
        le=10000,
        affects=effects.LITTLE,
    )
    microphone_sensitivities: tuple[float, ...] = setting(
        (),
        "Microphone sensitivity",
        "Microphone sensitivity in V/Pa, one per input; 0 for one not calibrated, empty for no microphones",
        "V",
        affects=effects.MICROPHONE,
    )
    microphone_correction: tuple[tuple[float, ...], ...] = setting(
        (), "Microphone correction", "Microphone correction: frequency, dB, optional phase; of all microphones"
    )
    microphone_corrections: tuple[tuple[tuple[float, ...], ...], ...] = setting(
        (),
        "Microphone corrections",
        "Correction of each microphone, one per input: frequency, dB, optional phase; empty: none",
        max_length=64,
    )
    microphone_serials: tuple[str, ...] = setting(
        (), "Microphone serial numbers", "Serial numbers of the microphones, one per input", max_length=64
    )
    source: SourceAtPoint | None = setting(
        None, "Source", "Level of the source at the measuring point, measured with a reference microphone"
    )
    preamp_gain_db: float = setting(
        0.0,
        "Preamp gain",
        "Gain between the probe or microphone and the input",
        "dB",
        ge=-80,
        le=100,
        affects=effects.INPUT_NOISE,
    )
    input_full_scale: float | None = setting(
        None,
        "Input voltage at 0 dBFS",
        "RMS input voltage that reads 0 dBFS",
        "V",
        gt=0,
        le=1000,
        affects=effects.INPUT_NOISE,
    )
    input_ohms: float | None = setting(None, "Input resistance", "Input resistance", "Ω", gt=0, le=1e9)
    path_delay: float = setting(
        0.0,
        "Path delay",
        "Maximum delay of the unit, e.g. a wireless link; the recording continues for this time",
        "s",
        ge=0,
        le=30,
    )
    gain_setting: str = setting(
        "",
        "Gain setting (note)",
        "Note on the interface's gain settings",
        max_length=200,
        affects=effects.INTERFACE_GAIN,
    )
    calibrated_on: date | None = setting(None, "Calibrated on", "Date of the last calibration", affects=effects.LITTLE)
    calibrations: tuple[Calibration, ...] = setting((), "Calibrations", "All calibrations, oldest first")

    @model_validator(mode="after")
    def _fits(self) -> Chain:
        for numbers in (self.outputs, self.inputs):
            if min(numbers) < 1 or len(set(numbers)) != len(numbers):
                raise SettingError("Channel numbers start at 1 and each may be used once.")
        if any(s < 0 for s in self.microphone_sensitivities):
            raise SettingError("A microphone's sensitivity cannot be negative. Enter 0 for one that is not calibrated.")
        for rows in (self.microphone_correction, *self.microphone_corrections):
            places = [row[0] for row in rows]
            if any(len(row) not in (2, 3) for row in rows) or places != sorted(set(places)):
                raise SettingError(
                    "A correction needs rows of frequency, dB and optional phase, in ascending order of frequency."
                )
        return self

    @property
    def stimulus_channels(self) -> tuple[int, ...]:
        """Channels of a stimulus that drives every output: 1 to their number."""
        return tuple(range(1, len(self.outputs) + 1))

    @property
    def calibrated(self) -> bool:
        return self.input_full_scale is not None

    @property
    def unit_full_scale(self) -> float | None:
        """RMS volts at the unit's output that read 0 dBFS: the input's full scale, less the preamplifier, times the
        probe's ratio.
        """
        if self.input_full_scale is None:
            return None
        return float(self.input_full_scale * self.probe_ratio * 10 ** (-self.preamp_gain_db / 20))

    @property
    def acoustic(self) -> bool:
        """Whether microphones listen to the unit."""
        return bool(self.microphone_sensitivities)

    def scale(self, channel: int) -> tuple[float | None, str]:
        """RMS of what reads 0 dBFS in a channel (from 1), and its unit: V, or Pa where a microphone listens.

        None: not calibrated.
        """
        volts = self.unit_full_scale
        if not self.acoustic:
            return volts, "V"
        sensitivity = self._sensitivity(channel)
        if volts is None or sensitivity is None:
            return None, "Pa"
        return volts / sensitivity, "Pa"

    def _sensitivity(self, channel: int) -> float | None:
        """Return a microphone's sensitivity in V/Pa; None for one that is not calibrated. One alone holds for all."""
        known = self.microphone_sensitivities
        if len(known) == 1:
            return known[0] or None
        if channel <= len(known):
            return known[channel - 1] or None
        return None

    def correction_of(self, channel: int) -> tuple[tuple[float, ...], ...]:
        """Return the correction of the microphone at a channel (from 1): its own, else that of all; empty for none."""
        if 1 <= channel <= len(self.microphone_corrections) and self.microphone_corrections[channel - 1]:
            return self.microphone_corrections[channel - 1]
        return self.microphone_correction

    def serial_of(self, channel: int) -> str:
        """Return the serial number of the microphone at a channel (from 1), or ""."""
        if 1 <= channel <= len(self.microphone_serials):
            return self.microphone_serials[channel - 1]
        return ""

    def with_microphone(
        self, channel: int, *, serial: str | None = None, correction: tuple[tuple[float, ...], ...] | None = None
    ) -> Chain:
        """Return the chain with another serial number or correction of the microphone at a channel (from 1). Raises
        SettingError.
        """
        changes: dict[str, Any] = {}
        if serial is not None:
            changes["microphone_serials"] = _placed(self.microphone_serials, channel, serial, "", len(self.inputs))
        if correction is not None:
            own = _placed(self.microphone_corrections, channel, correction, (), len(self.inputs))
            changes["microphone_corrections"] = own
        return self.changed(**changes)

    def offset_db(self, channel: int) -> float | None:
        """Return what turns a digital ratio in dB into a voltage gain, or into Pa per V, in dB.

        None when either side is not calibrated.
        """
        terminal, _ = self.scale(channel)
        if terminal is None or self.output_full_scale is None:
            return None
        return to_db(terminal / self.output_full_scale)

    @property
    def ceiling_dbfs(self) -> float:
        """The lower of both ceilings; that in volts holds once the output is calibrated."""
        if self.output_ceiling_volts is None or self.output_full_scale is None:
            return self.output_ceiling
        return min(self.output_ceiling, to_db(self.output_ceiling_volts / self.output_full_scale))

    def conversion(self) -> Conversion:
        """How levels at the unit's output convert between FS, V, Pa and W."""
        sensitivity = next((s for s in self.microphone_sensitivities if s > 0), None)
        return Conversion(self.unit_full_scale, self.load_ohms, 1 / sensitivity if sensitivity else None, self.rate)

    def drive(self) -> Conversion:
        """How levels at the chain's output (what drives the unit) convert between FS and V."""
        return Conversion(self.output_full_scale, None, None, self.rate)

    def wired(self) -> Chain:
        """Return the same chain with its output wired to its input: no probe, no microphone, no load.

        For the baseline.
        """
        without: dict[str, Any] = {
            "probe_ratio": 1.0,
            "load_ohms": None,
            "load_confirmed": False,
            "microphone_sensitivities": (),
            "microphone_correction": (),
            "microphone_corrections": (),
            "microphone_serials": (),
            "source": None,
            "unit_input_ohms": None,
        }
        return self.model_copy(update=without)

    def changed(self, **changes: Any) -> Chain:
        """Return the chain with other values, checked as any chain is. Raises SettingError."""
        return make_settings(Chain, {**self.model_dump(), **changes})

    def with_conditions(self, conditions: Mapping[str, str]) -> Chain:
        """Return the chain as a row's conditions make it: its load, probe (as 10:1), rate and buffer.

        Raises SettingError for a value that none can have; a condition that says something else than a number is the
        row's own matter.
        """
        changes: dict[str, Any] = {}
        load = _number(conditions.get("load", ""), "Ω")
        if load is not None and load != self.load_ohms:
            changes |= {"load_ohms": load, "load_confirmed": False}
        probe = _number(conditions.get("probe", "").removesuffix(":1"), "ratio")
        if probe is not None:
            changes["probe_ratio"] = probe
        rate, buffer = _number(conditions.get("rate", ""), "Hz"), _number(conditions.get("buffer", ""), "samples")
        if rate is not None:
            changes["rate"] = rate
        if buffer is not None:
            changes["buffer"] = round(buffer)
        if changes:
            return self.changed(**changes)
        return self

    def differs_from(self, other: Chain) -> tuple[str, ...]:
        """In what the converters' side of two chains differs, in words: then the baseline of one says nothing about
        the other.
        """
        differences = []
        if self.rate != other.rate:
            differences.append("rate")
        if (
            interface_of(self.device)
            and interface_of(other.device)
            and interface_of(self.device) != interface_of(other.device)
        ):
            differences.append("device")
        if (self.outputs, self.inputs) != (other.outputs, other.inputs):
            differences.append("channels")
        gains = ("output_full_scale", "input_full_scale", "preamp_gain_db", "gain_setting")
        if any(getattr(self, name) != getattr(other, name) for name in gains):
            differences.append("gain")
        if self.buffer != other.buffer:
            differences.append("buffer")
        return tuple(differences)

    def drives_like(self, other: Chain) -> bool:
        """Whether both bring the same voltage to the unit: else the first run with the new one starts low and asks."""
        names = ("device", "outputs", "output_full_scale", "load_ohms")
        return all(getattr(self, name) == getattr(other, name) for name in names)

    def latest(self, what: str, channel: int | None = None) -> Calibration | None:
        """Return the last calibration of a field, with its day, value and spread."""
        return next(
            (c for c in reversed(self.calibrations) if c.what == what and (channel is None or c.channel == channel)),
            None,
        )

    def age_days(self, today: date) -> int | None:
        """Days since what is oldest among the values that levels rest on was calibrated; None when nothing was."""
        dates = [
            c.on
            for c in map(self.latest, ("input_full_scale", "output_full_scale", "microphone_sensitivities"))
            if c is not None
        ]
        if not dates and self.calibrated_on is not None:
            dates = [self.calibrated_on]
        if dates:
            return (today - min(dates)).days
        return None

    def stale(self, today: date) -> bool:
        """Whether the calibration is too old to rely on, or in the future, which no honest clock says."""
        age = self.age_days(today)
        return age is not None and not -1 <= age <= STALE_DAYS

    def calibrated_with(self, entry: Calibration, **changes: Any) -> Chain:
        """Return the chain with a new calibration: its values changed, the entry kept beside the earlier ones."""
        update = {**changes, "calibrated_on": entry.on, "calibrations": (*self.calibrations, entry)}
        return Chain.model_validate({**self.model_dump(), **update})


def stored_chain(text: str) -> Chain:
    """Return a chain from the JSON that a run keeps; an uncalibrated one where the text is no chain."""
    try:
        return Chain.model_validate_json(text)
    except ValidationError:
        return Chain()


T = TypeVar("T")


def _placed(values: tuple[T, ...], channel: int, value: T, empty: T, count: int) -> tuple[T, ...]:
    """Return values by channel with one put at a channel (from 1), as many as there are channels."""
    if not 1 <= channel <= count:
        raise SettingError(
            f"The chain has {count} inputs; there is no channel {channel}. Use one of its inputs, or change the chain."
        )
    filled = [*values, *([empty] * (count - len(values)))]
    filled[channel - 1] = value
    return tuple(filled)


def _number(text: str, unit: str) -> float | None:
    """Return a condition as a positive number; None for one that is not there or says something else."""
    try:
        quantity = parse(text, unit)
    except QuantityError:
        return None
    if quantity.unit == unit and quantity.value > 0:
        return quantity.value
    return None


def interface_of(device: str) -> str:
    """Return the interface of a device's name: every simulated bench stands behind the same one."""
    if device.startswith("standin:"):
        return "standin"
    return device
