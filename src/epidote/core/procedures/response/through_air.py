"""The response through air (docs/methods.md, Response through air): the gate before the first reflection, the room's
decay when it is open, the sensitivity of a loudspeaker, and the power average over microphones.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.acoustics.decay import OCTAVES, Decay, decay_of, in_octave
from epidote.core.analysis.acoustics.impulse_gate import energy_time
from epidote.core.chain.chain import Chain
from epidote.core.procedures.common.gates import LOWEST_FREQUENCY, Gate
from epidote.core.procedures.common.power_average import average_reading, suspect_channels
from epidote.core.procedures.protocol import CurveView
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.quantities.units import PASCAL_DB, to_db
from epidote.core.results.average import average_curve
from epidote.core.results.caution import Caution, unique
from epidote.core.results.channels import AVERAGE
from epidote.core.results.kinds import ReadingKind, Shown
from epidote.core.results.level_readings import level_readings
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.signals.signal import Samples

_VIEWED = 0.05  # s of the energy-time curve at least
_LONGEST_VIEW = 3.0  # s
_DECAY_POINTS, _VIEW_POINTS = 2000, 6000
_SENSITIVITY_BAND = (200.0, 4000.0)  # Hz: where most loudspeakers are flat (common practice, no source)
_VOLTS = 2.83  # V: 1 W into 8 ohms

VIEWS = (
    CurveView(
        "energy_time",
        "Impulse",
        "energy-time",
        "Envelope of the impulse response",
        log_x=False,
        compared=False,
        places="gate",
    ),
    CurveView("decay", "Decay", "decay", "Level of the decay", log_x=False, compared=False),
    CurveView("reverberation", "Decay", "T20", "Reverberation time T20 by octave"),
    CurveView("early_decay", "Decay", "EDT", "Early decay time by octave"),
)
READINGS = (
    LOWEST_FREQUENCY,
    ReadingKind(
        "edt", "Early decay time", meaning="Time for 60 dB from the first 10 dB of the decay (EDT, ISO 3382-1)."
    ),
    ReadingKind(
        "t20", "Reverberation time T20", meaning="Time for 60 dB from the decay between -5 and -25 dB (ISO 3382-2)."
    ),
    ReadingKind(
        "sensitivity_voltage",
        "Sensitivity 2.83 V/1 m",
        meaning="Mean level from 200 Hz to 4 kHz at a distance of 1 m and a voltage of 2.83 V.",
    ),
    ReadingKind(
        "sensitivity_power",
        "Sensitivity 1 W/1 m",
        meaning="Mean level from 200 Hz to 4 kHz at a distance of 1 m and 1 W into the rated impedance.",
    ),
    ReadingKind(
        "unlike_others",
        "Outlying microphones",
        shown=Shown.COUNT,
        compared=False,
        meaning="Number of microphones without a sweep, or with a level more than 15 dB from the others at 1 kHz.",
    ),
)


def air_results(d: dc.Deconvolved, gate: Gate, recorded: int, number: int) -> Result:
    """Return the energy-time curve, and the decay where the gate is open.

    recorded: frames of the recording, beyond which nothing is known.
    """
    rate, stimulus = d.kernel.rate, d.kernel.stimulus
    if gate.seconds is None and not gate.open:
        return Result((), ())
    # what was recorded after the sweep's end says how long the response to its last frequency is known
    known = recorded - (stimulus.frames - stimulus["tail"]) - d.delay
    known = int(min(max(known, _VIEWED * rate), d.kernel.frames * 0.8))
    if gate.seconds is not None:
        viewed = max(_VIEWED, 3 * gate.seconds)
    else:
        viewed = min(_LONGEST_VIEW, known / rate)
    time, level = _thinned(*energy_time(d.impulse, d.peak, rate, viewed))
    curves = [Curve("energy_time", number, time, level, "s", "dB", None, _gate_meta(gate))]
    if gate.lowest is not None and gate.seconds is not None:
        lowest = Reading("lowest_frequency", number, gate.lowest, "Hz", {"gate_s": gate.seconds})
        return Result(tuple(curves), (lowest,))
    tail = np.take(d.impulse, np.arange(d.peak, d.peak + known), mode="wrap")
    return _decay_results(tail, rate, number, curves)


def _thinned(time: Samples, level: Samples) -> tuple[Samples, Samples]:
    """Return a curve of at most so many points as can be seen, each the highest of those that it stands for."""
    step = -(-level.size // _VIEW_POINTS)
    if step < 2:
        return time, level
    whole = level.size // step * step
    return time[:whole:step], level[:whole].reshape(-1, step).max(axis=1)


def _gate_meta(gate: Gate) -> dict[str, float | str]:
    if gate.seconds is None:
        return {}
    return {"gate_s": gate.seconds}


def _decay_results(tail: Samples, rate: float, number: int, curves: list[Curve]) -> Result:
    """Return decay curve and times of the whole band, and the times by octave."""
    whole = decay_of(tail, rate)
    if whole.time.size > 1:
        step = max(1, whole.time.size // _DECAY_POINTS)
        curves.append(Curve("decay", number, whole.time[::step], whole.level[::step], "s", "dB"))
    octaves = [f for f in OCTAVES if f * math.sqrt(2) < rate / 2]
    by_octave = [(f, decay_of(in_octave(tail, rate, f), rate)) for f in octaves]
    for key, times in (
        ("reverberation", [(f, d.t20) for f, d in by_octave]),
        ("early_decay", [(f, d.edt) for f, d in by_octave]),
    ):
        known = [(f, t) for f, t in times if t is not None]
        if len(known) > 1:
            x, y = np.array(known).T
            curves.append(Curve(key, number, x, y, "Hz", "s"))
    return Result(
        tuple(curves),
        (_decay_reading("edt", whole.edt, whole, number), _decay_reading("t20", whole.t20, whole, number)),
    )


def _decay_reading(key: str, value: float | None, decay: Decay, number: int) -> Reading:
    cautions = () if value is not None else (Caution.RANGE_TOO_SMALL,)
    return Reading(key, number, value, "s", {"range_db": decay.range_db}, cautions=cautions)


def sensitivity_readings(level: Curve, settings: ResponseSettings, chain: Chain) -> list[Reading]:
    """Return the level at 1 m of a loudspeaker at 2.83 V and at 1 W, where distance and calibration are known.

    level: gain in dB re 1 Pa/V.
    """
    full_scale, unit = chain.scale(max(1, level.channel))
    if not settings.distance or full_scale is None or unit != "Pa" or chain.output_full_scale is None:
        return []
    low, high = max(_SENSITIVITY_BAND[0], float(level.x[0])), min(_SENSITIVITY_BAND[1], float(level.x[-1]))
    inside = (level.x >= low) & (level.x <= high)
    if not inside.any():
        return []
    # the points lie evenly over log frequency: their mean power is that of pink noise
    mean = 10 * math.log10(float(np.mean(10 ** (level.y[inside] / 10))))
    at_1_m = mean + PASCAL_DB + to_db(settings.distance)
    where: dict[str, float | str] = {"low_hz": low, "high_hz": high, "distance_m": settings.distance}
    one_watt = {**where, "impedance_ohms": settings.rated_ohms}
    return [
        Reading("sensitivity_voltage", level.channel, at_1_m + to_db(_VOLTS), "dB SPL", where),
        Reading("sensitivity_power", level.channel, at_1_m + 10 * math.log10(settings.rated_ohms), "dB SPL", one_watt),
    ]


def averaged_over_microphones(results: Sequence[Result], settings: ResponseSettings, chain: Chain) -> Result:
    """Return the power average of the channels' levels, with what is read off it; times are averaged as they are
    (ISO 3382-2).
    """
    levels = [c for r in results for c in r.curves if c.key == "level"]
    names = ", ".join(str(c.channel) for c in levels)
    level = average_curve(levels, names)
    if level is None:
        return Result((), ())
    # one standard deviation of each point is not known: microphones share the source's noise
    readings = [*level_readings(level, None), *sensitivity_readings(level, settings, chain)]
    for key in ("lowest_frequency", "edt", "t20"):
        own = [g for r in results for g in r.readings if g.key == key]
        averaged = average_reading(own, names, as_power=False)
        if averaged is not None:
            readings.append(averaged)
    readings += _left_out(results, levels)
    cautions = unique(c for r in readings for c in r.cautions if c is Caution.UNLIKE_OTHERS)
    return Result((level,), tuple(replace(r, channel=AVERAGE) for r in readings), cautions)


def _left_out(results: Sequence[Result], levels: Sequence[Curve]) -> list[Reading]:
    """Return the microphones that are unlike the others, named: those in which the sweep was not found, which the
    average leaves out, and those whose level at 1 kHz is far from the others', which it does not.
    """
    at_1k = [g for r in results for g in r.readings if g.key == "gain_1k"]
    heard = {c.channel for c in levels}
    dead = [g.channel for g in at_1k if g.channel not in heard]
    odd = [n for n in suspect_channels([g for g in at_1k if g.channel in heard]) if n in heard]
    words = []
    if dead:
        words.append(f"no sweep in channel {', '.join(map(str, dead))}, excluded from the average")
    if odd:
        words.append(f"channel {', '.join(map(str, odd))} differs from the others, included in the average")
    if not words:
        return []
    finding = "; ".join(words)
    own = (Caution.UNLIKE_OTHERS,)
    return [Reading("unlike_others", AVERAGE, float(len(dead) + len(odd)), "", {"finding": finding}, cautions=own)]
