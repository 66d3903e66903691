"""A simulated sound interface with a stand-in wired between its output and its input.

It is told what a person would do at the bench (wire a unit, turn its knobs) and hands out what a sound card would:
numbers.
"""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np

from epidote.audio.device import Cancelled, DeviceInfo, Enough, FormatRefusedError, Progress, Wiring, playable
from epidote.audio.simulated.live import SimulatedLive
from epidote.core.errors import CancelledError, SettingError
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus, on_outputs
from epidote.standins.amplifier import HAVELMAR_A25, ORVANE_K3, OSTREL_P40, QUILLMAR_S60, TAMSEL_C12
from epidote.standins.converter import Converter
from epidote.standins.delay_units import FERRIN_V9, OSKELL_N3, SORVANE_L8, TOLMARK_X1, Link
from epidote.standins.line_fixture import LineFixture
from epidote.standins.line_inserts import VELMORA_T2
from epidote.standins.line_units import BRESKAN_R7, LUNVIK_D2, PELLWORTH_I4
from epidote.standins.loudspeaker import DOME_SPEAKER
from epidote.standins.players import EBBLE_R1, LANDOR_W2, MERRICK_T1
from epidote.standins.room import HAVELMAR_DOME
from epidote.standins.two_way import KELWIN_T2

RATES = (44100, 48000, 88200, 96000, 176400, 192000)
PREFIX = "standin:"
_BLOCK_SECONDS = 0.02


class StandIn(Protocol):
    """A unit on the simulated bench."""

    def set_to(self, conditions: Mapping[str, str]) -> StandIn:
        """Return the unit with its knobs as the conditions say; conditions that are no knob leave it alone."""

    def process(
        self, volts: Samples, rate: float, load_ohms: float, rng: np.random.Generator, powered_for: float
    ) -> Samples:
        """Output (frames, channels) in V for an input in V; ``powered_for``: seconds since it was switched on."""


@runtime_checkable
class Adjustable(Protocol):
    """A unit that knows what its knobs can be set to."""

    @property
    def choices(self) -> Mapping[str, tuple[str, ...]]:
        """Values by the name of the condition."""


@dataclass(frozen=True)
class Bench:
    """What stands on the simulated bench: converters, a resistive load, a divider, and one unit or a wire."""

    title: str
    unit: StandIn | None
    output: Converter = Converter(full_scale=4.0, noise_db=-117.0, latency=29.3, coupling=0.0)
    input: Converter = Converter(full_scale=8.0, noise_db=-119.0, latency=38.9, offset=2e-6, second=8e-7, third=1.4e-6)
    divider: float = 4.0
    load_ohms: float = 8.0
    buffers: int = 512
    link: Link = Link()
    inputs: int = 2


_MICROPHONE_INPUT = Converter(full_scale=1.0, noise_db=-118.0, latency=38.9)

BENCHES = {
    "wire": Bench("Stand-in interface, loopback", None, divider=1.0),
    "ostrel-p40": Bench("Stand-in interface with an Ostrel P40", OSTREL_P40),
    "havelmar-a25": Bench("Stand-in interface with a Havelmar A25", HAVELMAR_A25),
    "tamsel-c12": Bench("Stand-in interface with a Tamsel C12", TAMSEL_C12),
    "orvane-k3": Bench("Stand-in interface with an Orvane K3", ORVANE_K3),
    "quillmar-s60": Bench("Stand-in interface with a Quillmar S60", QUILLMAR_S60),
    "dome-line": Bench("Stand-in fixture for Ostrel H20 amplifiers, one after the other", LineFixture()),
    "breskan-r7": Bench("Stand-in interface with a Breskan R7", BRESKAN_R7),
    "lunvik-d2": Bench("Stand-in interface with a Lunvik D2 converter", LUNVIK_D2),
    "pellworth-i4": Bench("Stand-in interface with a Pellworth I4", PELLWORTH_I4),
    "velmora-t2": Bench("Stand-in interface with a Velmora T2 isolation box", VELMORA_T2, divider=1.0),
    "sorvane-l8": Bench("Stand-in interface Sorvane L8, loopback", None, divider=1.0, buffers=128, link=SORVANE_L8),
    "tolmark-x1": Bench("Stand-in interface with a Tolmark X1 behind a digital link", TOLMARK_X1, divider=1.0),
    "ferrin-v9": Bench("Stand-in interface with a Ferrin V9 effects processor", FERRIN_V9, divider=1.0),
    "oskell-n3": Bench(
        "Stand-in interface: left direct, right through an Oskell N3 network path", OSKELL_N3, divider=1.0
    ),
    "landor-w2": Bench("Stand-in interface with a Landor W2 wireless receiver", LANDOR_W2, divider=1.0),
    "ebble-r1": Bench("Stand-in interface with an Ebble R1 field recorder", EBBLE_R1, divider=1.0),
    "merrick-t1": Bench("Stand-in interface with a Merrick T1 talking player", MERRICK_T1, divider=1.0),
    "havelmar-dome": Bench(
        "Stand-in dome with eight seats, six microphones at one of them",
        HAVELMAR_DOME,
        input=_MICROPHONE_INPUT,
        divider=1.0,
        inputs=6,
    ),
    "kelwin-t2": Bench(
        "Stand-in loudspeaker Kelwin T2, a measuring and a cheap microphone at 1 m",
        KELWIN_T2,
        input=_MICROPHONE_INPUT,
        divider=1.0,
    ),
    "kelwin-d6": Bench("Stand-in interface with a Kelwin D6 loudspeaker behind 10 Ω", DOME_SPEAKER, divider=1.0),
}


class SimulatedDevice:
    """Runs as fast as it can, or at the pace of sound with ``real_time``.

    The same seed gives the same recordings again.
    """

    def __init__(
        self, bench: str, wiring: Wiring, conditions: Mapping[str, str], *, seed: int = 0, real_time: bool = False
    ) -> None:
        self._bench = BENCHES[bench]
        rate = wiring.rate
        if round(rate) not in RATES:
            offered = ", ".join(f"{r / 1000:g}" for r in RATES)
            raise FormatRefusedError(
                f"The stand-in interface does not support {rate / 1000:g} kHz. Supported: {offered} kHz."
            )
        self.info = device_info(bench)
        for numbers, there, what in (
            (wiring.outputs, self.info.outputs, "outputs"),
            (wiring.inputs, self.info.inputs, "inputs"),
        ):
            if max(numbers, default=1) > there:
                raise FormatRefusedError(
                    f"The stand-in interface has {there} {what}; the chain uses number {max(numbers)}. Change the"
                    " channels on the Chain page."
                )
        self._wiring, self._rate = wiring, rate
        self._buffer = wiring.buffer or self._bench.buffers
        require_settable(self._bench, conditions)
        self._unit = self._bench.unit.set_to(conditions) if self._bench.unit else None
        self._load = _load_of(conditions, self._bench.load_ohms)
        self._rng = np.random.default_rng([seed, *bench.encode(), *str(sorted(conditions.items())).encode()])
        self._connection = conditions.get("connection", "")
        self._crossed = conditions.get("wiring", "") == "swapped"  # the unit's channels, at its input and its output
        self._clock = 0.0
        self._real_time = real_time

    def exchange(
        self,
        stimulus: Stimulus,
        *,
        ceiling_dbfs: float,
        progress: Progress,
        cancelled: Cancelled,
        enough: Enough | None = None,
    ) -> Recording:
        played = playable(stimulus, self._rate, ceiling_dbfs)
        driven = on_outputs(played, stimulus.channels, len(self._wiring.outputs))
        return Recording(self._exchanged(driven, progress, cancelled, enough), stimulus)

    def record(self, seconds: float, *, progress: Progress, cancelled: Cancelled) -> Recording:
        silence = np.zeros((max(1, round(seconds * self._rate)), len(self._wiring.outputs)))
        return Recording(self._exchanged(silence, progress, cancelled))

    def _exchanged(
        self, played: Samples, progress: Progress, cancelled: Cancelled, enough: Enough | None = None
    ) -> Signal:
        if cancelled():
            raise CancelledError("Stopped before anything was played. Measure again when ready.")
        recorded = self._run(played, cancelled)
        frames = self._pace(recorded, progress, cancelled, enough)
        self._clock += frames / self._rate
        return Signal(recorded[:frames], self._rate)

    def listen(self, *, ceiling_dbfs: float) -> SimulatedLive:
        return SimulatedLive(self._later, self._rate, len(self._wiring.outputs), len(self._wiring.inputs), ceiling_dbfs)

    def latency(self) -> float | None:
        return (
            2 * self._buffer / self._rate
        )  # what such an interface's driver would say: its buffers, not its converters

    def _later(self, numbers: Samples, before: float) -> Samples:
        """One stretch out of continuous sound, ``before`` s after listening began."""
        clock, self._clock = self._clock, self._clock + before
        try:
            return self._run(numbers, lambda: False, settled=True)
        finally:
            self._clock = clock

    def _run(self, played: Samples, cancelled: Cancelled, *, settled: bool = False) -> Samples:
        """Numbers (frames, outputs) out, numbers (frames, inputs) back.

        ``settled``: coupling capacitors have charged long since.
        """
        b, rate = self._bench, self._rate
        late = np.zeros((played.shape[0], self.info.outputs))
        begins = b.link.frames(self._buffer, rate, self._connection, self._rng)
        late[begins:, [n - 1 for n in self._wiring.outputs]] = played[: max(0, played.shape[0] - begins)]
        volts = b.output.to_volts(late, rate, self._rng)
        if self._unit is not None:
            _stop_if(cancelled)
            if self._crossed:
                there = volts[:, ::-1]
            else:
                there = volts
            volts = self._unit.process(np.ascontiguousarray(there), rate, self._load, self._rng, self._clock)
            if self._crossed:
                volts = volts[:, ::-1]
        _stop_if(cancelled)
        if settled:
            volts = volts - volts.mean(axis=0)
        recorded = b.input.to_numbers(volts / b.divider, rate, self._rng)
        return np.ascontiguousarray(recorded[:, [n - 1 for n in self._wiring.inputs]])

    def _pace(self, recorded: Samples, progress: Progress, cancelled: Cancelled, enough: Enough | None) -> int:
        """Hand out the recording block by block, so that progress, cancelling and stopping work as with a real device.

        Return how many frames came out.
        """
        frames = int(recorded.shape[0])
        duration = frames / self._rate
        if self._real_time or enough is not None:
            steps = max(1, round(duration / _BLOCK_SECONDS))
        else:
            steps = 10
        begun = time.monotonic()
        for step in range(1, steps + 1):
            if self._real_time:
                time.sleep(max(0.0, begun + duration * step / steps - time.monotonic()))
            _stop_if(cancelled)
            progress(step / steps)
            so_far = frames * step // steps
            if enough is not None and enough(Signal(recorded[:so_far], self._rate)):
                return so_far
        return frames

    def close(self) -> None:
        """Nothing to give back."""


def _stop_if(cancelled: Cancelled) -> None:
    if cancelled():
        raise CancelledError("Stopped. This run was not saved.")


def require_settable(bench: Bench, conditions: Mapping[str, str]) -> None:
    """Raise SettingError for a condition that the unit, its connection or its load cannot have.

    Without that it would be measured as it was before, and no difference found.
    """
    choices = dict(_choices_of(bench.unit))
    if bench.link.safety:
        choices["connection"] = tuple(bench.link.safety)
    for name, value in conditions.items():
        if name in choices and value not in choices[name]:
            raise SettingError(
                f"“{name} = {value}” is not possible with this device. Nothing was measured; change the row. Available:"
                f" {', '.join(choices[name])}."
            )
        if name == "load" and _resistance(value) is None:
            raise SettingError(
                f"“load = {value}” is not a resistance. Nothing was measured; change the row to, for example, load ="
                " 8 Ω."
            )


def _choices_of(unit: object) -> Mapping[str, tuple[str, ...]]:
    """Return what a unit can be set to; nothing for one that has no knobs, or none that it knows."""
    return unit.choices if isinstance(unit, Adjustable) else {}


def _resistance(text: str) -> float | None:
    try:
        return parse_as(text, "Ω")
    except QuantityError:
        return None


def _load_of(conditions: Mapping[str, str], usual: float) -> float:
    """Return the load somebody put on, if a condition says so: "load": "4 Ω"."""
    ohms = _resistance(conditions.get("load", ""))
    return usual if ohms is None else ohms


def device_info(bench: str) -> DeviceInfo:
    """Return what a simulated bench is listed as."""
    return DeviceInfo(PREFIX + bench, BENCHES[bench].title, "simulated", 2, BENCHES[bench].inputs, RATES, 24)
