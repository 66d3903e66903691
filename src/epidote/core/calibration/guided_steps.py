"""The guided calibrations: what each asks, what it takes from the live level, and what it makes of both.

The screen only asks and shows.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import date

from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.calibration.methods import (
    damping_factor,
    from_two_loads,
    full_scale,
    loading_error_db,
    plausibility,
    sensitivity,
    through_series,
)
from epidote.core.chain.chain import Calibration, Chain
from epidote.core.errors import SettingError
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import from_db, to_db


@dataclass(frozen=True)
class Prompt:
    """A value the user types."""

    key: str
    words: str
    unit: str
    usual: str = ""


@dataclass(frozen=True)
class CapturedLevel:
    """A level taken from the live input: dBFS of the tone (or weighted level of noise), its spread in dB, and what
    was played meanwhile.
    """

    level: float
    spread: float
    played: float
    rest: float = -math.inf


@dataclass(frozen=True)
class CalibrationOutcome:
    """What a guide came to: the changed chain, the value in words, whether it is plausible and why, and a further
    sentence.
    """

    chain: Chain
    value: str
    plausible: bool
    judgement: str
    note: str = ""


Typed = Mapping[str, float]
Levels = Mapping[str, CapturedLevel]


@dataclass(frozen=True)
class CalibrationGuide:
    """key; the block it belongs to; the question it answers; steps in words; what it asks; which levels it takes
    ((key, words) each).

    plays: dBFS of the tone it plays, None when nothing; weighting: it plays noise instead, and its levels are weighted
    as a meter's are. ``reckon(chain, channel, typed, levels, today)`` gives what it came to. Raises SettingError or
    UnusableInputError in words.
    """

    key: str
    block: str
    title: str
    first: str
    asks: tuple[Prompt, ...]
    takes: tuple[tuple[str, str], ...]
    reckon: Callable[[Chain, int, Typed, Levels, date], CalibrationOutcome]
    plays: float | None = None
    weighting: Weighting | None = None
    follows: bool = False  # the input that hears the tone is the one that is calibrated


def _entry(
    what: str,
    value: float,
    unit: str,
    today: date,
    how: str,
    *,
    spread: float | None = None,
    channel: int | None = None,
) -> Calibration:
    if spread is not None and math.isfinite(spread):
        given = spread
    else:
        given = None
    return Calibration(what=what, value=value, unit=unit, on=today, how=how, spread_db=given, channel=channel)


def _found(
    chain: Chain, entry: Calibration, old: float | None, note: str = "", **changes: object
) -> CalibrationOutcome:
    if entry.unit != "dB":
        plausible, judgement = plausibility(entry.value, old)
    else:
        plausible, judgement = _db_plausibility(entry.value, old)
    return CalibrationOutcome(
        chain.calibrated_with(entry, **changes),
        format_quantity(entry.value, entry.unit, digits=5),
        plausible,
        judgement,
        note,
    )


def _db_plausibility(new: float, old: float | None) -> tuple[bool, str]:
    return plausibility(from_db(new), None if old is None else from_db(old))


def _output(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    played = GUIDES["output_full_scale"].plays
    assert played is not None
    value = full_scale(typed["volts"], min(played, chain.ceiling_dbfs))
    entry = _entry("output_full_scale", value, "V", today, "a meter at the output", spread=None, channel=channel)
    return _found(chain, entry, chain.output_full_scale, output_full_scale=value)


def _input(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    captured = levels["level"]
    value = full_scale(typed["volts"], captured.level)
    entry = _entry(
        "input_full_scale", value, "V", today, "a known voltage at the input", spread=captured.spread, channel=channel
    )
    return _found(chain, entry, chain.input_full_scale, _clean(captured), input_full_scale=value)


def _input_by_wire(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    if chain.output_full_scale is None:
        raise SettingError("The output is not calibrated. Calibrate the output first.")
    captured = levels["level"]
    loss = 1.0
    if chain.output_ohms and chain.input_ohms:
        loss = chain.input_ohms / (chain.input_ohms + chain.output_ohms)
    value = full_scale(chain.output_full_scale * from_db(captured.played) * loss, captured.level)
    entry = _entry(
        "input_full_scale",
        value,
        "V",
        today,
        "the calibrated output (loopback)",
        spread=captured.spread,
        channel=channel,
    )
    return _found(chain, entry, chain.input_full_scale, _clean(captured), input_full_scale=value)


def _clean(captured: CapturedLevel) -> str:
    if captured.rest > -40:
        return f"The source has {captured.rest:.0f} dB of distortion and noise; the meter and this reading may differ."
    return ""


def _input_volts(chain: Chain, level: float) -> float:
    if chain.input_full_scale is None:
        raise SettingError("The input is not calibrated. Calibrate the input first.")
    return chain.input_full_scale * from_db(level)


def _probe(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    captured = levels["level"]
    value = typed["volts"] / _input_volts(chain, captured.level) * from_db(chain.preamp_gain_db)
    if value < 1:
        raise SettingError(
            f"The calculated probe ratio is {value:.4g}, below 1. Check the voltage and the preamp gain."
        )
    entry = _entry(
        "probe_ratio", value, "", today, "a known voltage at the probe tip", spread=captured.spread, channel=channel
    )
    return _found(chain, entry, chain.probe_ratio if chain.probe_ratio != 1 else None, probe_ratio=value)


def _preamp(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    captured = levels["level"]
    value = to_db(_input_volts(chain, captured.level) / typed["volts"])
    entry = _entry(
        "preamp_gain_db",
        value,
        "dB",
        today,
        "a known voltage at the preamplifier",
        spread=captured.spread,
        channel=channel,
    )
    return _found(chain, entry, chain.preamp_gain_db or None, preamp_gain_db=value)


def _load(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    entry = _entry("load_ohms", typed["ohms"], "Ω", today, "a meter across the load")
    return _found(chain, entry, chain.load_ohms, load_ohms=typed["ohms"], load_confirmed=True)


def _microphone(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    captured = levels["level"]
    volts = _input_volts(chain, captured.level) * from_db(-chain.preamp_gain_db)
    value = sensitivity(volts, typed["spl"])
    old = chain.microphone_sensitivities
    if channel <= len(old):
        before = old[channel - 1]
    else:
        before = None
    others = [*old, *([0.0] * max(0, channel - len(old)))]  # 0: not calibrated yet
    others[channel - 1] = value
    entry = _entry(
        "microphone_sensitivities",
        value,
        "V",
        today,
        f"{typed['spl']:g} dB SPL at the microphone",
        spread=captured.spread,
        channel=channel,
    )
    outcome = _found(chain, entry, before, microphone_sensitivities=tuple(others))
    return CalibrationOutcome(
        outcome.chain,
        f"{format_quantity(value, 'V')}/Pa",
        outcome.plausible,
        outcome.judgement,
        _usual_microphone(value),
    )


def _usual_microphone(value: float) -> str:
    if not 2e-4 <= value <= 0.2:
        return "Measurement microphones typically have 1 to 50 mV/Pa. Check the preamp gain."
    return ""


def _unit_input(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    before, after = levels["without"], levels["with"]
    ohms = through_series(typed["ohms"], from_db(before.level), from_db(after.level))
    entry = _entry(
        "unit_input_ohms",
        ohms,
        "Ω",
        today,
        f"{typed['ohms']:g} Ω in series",
        spread=max(before.spread, after.spread),
        channel=channel,
    )
    source = chain.output_ohms or 0.0
    if source:
        note = f"Loading loss with {source:g} Ω output resistance: {loading_error_db(source, ohms):.3f} dB."
    else:
        note = "Enter the output resistance to see the loading loss."
    return _found(chain, entry, chain.unit_input_ohms, note, unit_input_ohms=ohms)


def _output_resistance(chain: Chain, channel: int, typed: Typed, levels: Levels, today: date) -> CalibrationOutcome:
    one, two = typed["first_ohms"], typed["second_ohms"] or math.inf
    ohms = from_two_loads(one, from_db(levels["first"].level), two, from_db(levels["second"].level))
    factor = damping_factor(one, ohms)
    entry = _entry(
        "unit_output_ohms",
        ohms,
        "Ω",
        today,
        f"{one:g} Ω and {'no load' if two == math.inf else f'{two:g} Ω'}",
        spread=levels["first"].spread,
        channel=channel,
    )
    if factor:
        note = f"Damping factor {factor:.0f} at {one:g} Ω."
    else:
        note = "Too small to measure."
    old = chain.latest("unit_output_ohms")
    return _found(chain, entry, old.value if old else None, note)


_LEVEL = (("level", "Wait until the level is steady, then read it"),)
GUIDES: dict[str, CalibrationGuide] = {
    g.key: g
    for g in (
        CalibrationGuide(
            "output_full_scale",
            "output",
            "Calibrate output with a voltmeter",
            "Connect a voltmeter to output 1 and play the 1 kHz tone",
            (Prompt("volts", "Enter the meter reading (RMS)", "V"),),
            (),
            _output,
            plays=-20.0,
        ),
        CalibrationGuide(
            "input_full_scale",
            "input",
            "Calibrate input with a known voltage",
            "Apply a known voltage to the input",
            (Prompt("volts", "Enter the voltage (RMS)", "V"),),
            _LEVEL,
            _input,
            plays=None,
        ),
        CalibrationGuide(
            "input_by_wire",
            "input",
            "Calibrate input from the calibrated output",
            "Connect output 1 to the input and play the 1 kHz tone",
            (),
            _LEVEL,
            _input_by_wire,
            plays=-12.0,
        ),
        CalibrationGuide(
            "load_ohms",
            "load",
            "Measure load resistance",
            "Disconnect the unit and connect an ohmmeter across the load",
            (Prompt("ohms", "Enter the reading minus the lead resistance", "Ω"),),
            (),
            _load,
        ),
        CalibrationGuide(
            "unit_output_ohms",
            "load",
            "Measure unit output resistance and damping factor",
            "Play the 1 kHz tone through the unit, well below its maximum output",
            (
                Prompt("first_ohms", "Enter the lower load resistance", "Ω", "4 Ω"),
                Prompt("second_ohms", "Enter the higher load resistance (0 for no load)", "Ω", "8 Ω"),
            ),
            (
                ("first", "Connect the lower load resistance and read the level"),
                ("second", "Connect the higher load resistance and read the level again"),
            ),
            _output_resistance,
            plays=-30.0,
        ),
        CalibrationGuide(
            "unit_input_ohms",
            "unit",
            "Measure unit input resistance",
            "Play the 1 kHz tone through the unit, well below its maximum output",
            (Prompt("ohms", "Enter the value of the series resistor", "Ω", "10 kΩ"),),
            (
                ("without", "Read the level without the resistor"),
                ("with", "Insert the resistor in series with the unit's input and read the level again"),
            ),
            _unit_input,
            plays=-30.0,
        ),
        CalibrationGuide(
            "probe_ratio",
            "probe",
            "Calibrate probe ratio",
            "Apply a known voltage to the probe tip",
            (Prompt("volts", "Enter the voltage (RMS)", "V"),),
            _LEVEL,
            _probe,
        ),
        CalibrationGuide(
            "preamp_gain_db",
            "probe",
            "Calibrate preamp gain",
            "Apply a known voltage to the preamp input",
            (Prompt("volts", "Enter the voltage (RMS)", "V"),),
            _LEVEL,
            _preamp,
        ),
        CalibrationGuide(
            "microphone",
            "probe",
            "Calibrate microphone with a sound calibrator",
            "Fit the calibrator to the microphone and switch it on",
            (Prompt("spl", "Enter the calibrator level", "dB SPL", "94 dB SPL"),),
            _LEVEL,
            _microphone,
            follows=True,
        ),
        *(
            CalibrationGuide(
                f"sound_level_{w.lower()}",
                "probe",
                f"Calibrate microphone with a sound level meter ({w})",
                "Place the meter next to the microphone and play the noise",
                (Prompt("spl", f"Enter the meter reading ({w}-weighted, time-averaged)", "dB SPL"),),
                _LEVEL,
                _microphone,
                plays=-30.0,
                weighting=w,
            )
            for w in (Weighting.A, Weighting.C)
        ),
    )
}
