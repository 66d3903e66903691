"""What runs say about a claimed quantity: for each run the figure that stands for it, and in what its conditions
differ from the claim's.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np

from epidote.core.claims.claim import Bound, Claim, ClaimedQuantity
from epidote.core.claims.condition_check import (
    SAME_FREQUENCY,
    USUAL_BAND,
    USUAL_FREQUENCY,
    USUAL_LEVEL,
    USUAL_LIMIT,
    Candidate,
    ConditionCheck,
)
from epidote.core.claims.evidence import Evidence
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import from_db, to_db
from epidote.core.results.curve_features import curve_at, last_x_below, noise_uncertainty
from epidote.core.results.result import Curve


def candidates_for(claim: Claim, evidence: list[Evidence]) -> list[Candidate]:
    """Every figure there is for a claim, whatever its conditions."""
    look = _EXTRACTORS[claim.claimed]
    return [f for e in evidence for f in look(claim, e)]


def _distortion(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if claim.claimed is ClaimedQuantity.THD:
        key = "thd"
    elif claim.claimed is ClaimedQuantity.THD_N:
        key = "thd_n"
    else:
        key = "sinad"
    weighting = e.settings.get("weighting", "none")
    if e.procedure == "tone" and claim.frequency_high is None:
        for reading in e.channels(key):
            c = ConditionCheck(claim, e)
            level = next((r for r in e.channels("level") if r.channel == reading.channel), None)
            c.frequency(float(reading.at.get("frequency_hz", 0)) or USUAL_FREQUENCY)
            c.level(level.value if level is not None and level.unit == "V" else None)
            c.load()
            if key != "thd":
                c.of(reading)
                c.weighting(weighting)
            yield c.told(reading)
    if key == "sinad":
        return
    if e.procedure == "distortion-level" and claim.frequency_high is None:
        yield from _along_levels(claim, e, key, weighting)
    if e.procedure == "distortion-frequency":
        yield from _along_frequencies(claim, e, key, weighting)


def _along_levels(claim: Claim, e: Evidence, key: str, weighting: object) -> Iterator[Candidate]:
    if e.chain.load_ohms:
        x_unit = "W"
    else:
        x_unit = "V"
    level = claim.level or (USUAL_LEVEL if x_unit == "W" else "")
    if level:
        volts = e.volts(level)
    else:
        volts = None
    for curve in e.curves_of(key, x_unit):
        c = ConditionCheck(claim, e)
        c.frequency(float(e.settings.get("frequency", USUAL_FREQUENCY)))
        c.load()
        if key != "thd":
            c.band(e.settings.get("band_low"), e.settings.get("band_high"))
            c.weighting(weighting)
        if not claim.level and level:
            c.assumed.append(level)
        if volts is None:
            continue
        found = c.at_point(curve, volts**2 / e.chain.load_ohms if e.chain.load_ohms else volts)
        if found is not None:
            yield found


def _along_frequencies(claim: Claim, e: Evidence, key: str, weighting: object) -> Iterator[Candidate]:
    level = str(e.settings.get("level", ""))
    if level:
        volts = e.volts(level)
    else:
        volts = None
    for curve in e.curves_of(key, "Hz"):
        c = ConditionCheck(claim, e)
        c.level(volts)
        c.load()
        if key != "thd":
            c.band(e.settings.get("band_low"), e.settings.get("band_high"))
            c.weighting(weighting)
        if claim.frequency_high is None or claim.frequency is None:
            at = claim.frequency or USUAL_FREQUENCY
            c.frequency(at)
            found = c.at_point(curve, at)
        else:
            found = _worst(c, curve, claim.frequency, claim.frequency_high)
        if found is not None:
            yield found


def _worst(c: ConditionCheck, curve: Curve, low: float, high: float) -> Candidate | None:
    """The greatest value of a curve in a range, which it must cover."""
    inside = np.flatnonzero((curve.x >= low * 0.97) & (curve.x <= high * 1.03) & np.isfinite(curve.y))
    if inside.size == 0:
        return None
    if curve.x[0] > low * 1.06 or curve.x[-1] < high / 1.06:
        c.say(
            "measured",
            f"{format_quantity(curve.x[0], 'Hz', digits=3)} to {format_quantity(curve.x[-1], 'Hz', digits=3)}",
            f"{format_quantity(low, 'Hz', digits=3)} to {format_quantity(high, 'Hz', digits=3)}",
        )
    return c.at_point(curve, float(curve.x[inside[int(np.argmax(curve.y[inside]))]]))


def _response(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure not in ("response", "multitone"):
        return
    for curve in e.curves_of("level", "Hz"):
        c = ConditionCheck(claim, e)
        low, high = claim.frequency or USUAL_BAND[0], claim.frequency_high or claim.frequency or USUAL_BAND[1]
        if claim.frequency is None:
            c.assumed.append("20 Hz to 20 kHz")
        if claim.load_ohms is not None:
            c.load()
        if curve.x[0] > low * 1.001 or curve.x[-1] < high / 1.001:
            c.say(
                "measured",
                f"{format_quantity(curve.x[0], 'Hz', digits=3)} to {format_quantity(curve.x[-1], 'Hz', digits=3)}",
                f"{format_quantity(low, 'Hz', digits=3)} to {format_quantity(high, 'Hz', digits=3)}",
            )
        reference = curve_at(curve, USUAL_FREQUENCY if low <= USUAL_FREQUENCY <= high else math.sqrt(low * high))
        ends = {x: v for x in (low, high) if (v := curve_at(curve, x)) is not None}
        inside = (curve.x >= low) & (curve.x <= high)
        if reference is None or not inside.any():
            continue
        places = np.append(curve.x[inside], list(ends))
        values = np.append(curve.y[inside], list(ends.values())) - reference
        # what the noise may add or take where the curve lies farthest off
        extremes = np.array([places[int(np.argmin(values))], places[int(np.argmax(values))]])
        spread = max(float(noise_uncertainty(curve, extremes).max()), e.spreads.get(("flatness", curve.channel), 0.0))
        yield Candidate(
            e,
            curve.channel,
            float(values.max()),
            "dB",
            spread,
            None,
            float(values.min()),
            (),
            tuple(c.unlike),
            tuple(c.assumed),
        )


def _noise(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure != "noise":
        return
    key, measured = _noise_key(claim)
    for reading in e.channels(key):
        c = ConditionCheck(claim, e)
        c.of(reading)
        if not claim.weighting and measured:
            c.assumed.append(f"{measured}-weighted")
        else:
            c.weighting(measured)
        if claim.claimed is ClaimedQuantity.SNR:
            reference = str(e.settings.get("reference_level", ""))
            if claim.level:
                c.level(e.volts(reference))
            else:
                c.assumed.append(f"re {reference}")
        yield c.told(reading)


def _noise_key(claim: Claim) -> tuple[str, str]:
    """The reading that answers a claim about noise, and the weighting with which it is measured."""
    if claim.claimed is ClaimedQuantity.DYNAMIC_RANGE:
        return ("dynamic_range", "468") if claim.weighting == "468" else ("dynamic_range_a", "A")
    if claim.claimed is ClaimedQuantity.SNR:
        return ("snr_a", "A") if claim.weighting == "A" else ("snr", "")
    weighted = {"A": ("noise_a", "A"), "468": ("noise_468", "468")}
    return weighted.get(claim.weighting, ("noise", ""))


def _crosstalk(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure != "crosstalk":
        return
    if claim.frequency_high is None:
        for reading in e.channels("crosstalk"):
            at = float(reading.at.get("frequency_hz", USUAL_FREQUENCY))
            if claim.frequency is None or abs(at / claim.frequency - 1) <= SAME_FREQUENCY:
                c = ConditionCheck(claim, e)
                c.frequency(at)
                yield c.told(reading)
                continue
            curve = next((k for k in e.curves_of("crosstalk", "Hz") if k.channel == reading.channel), None)
            if curve is not None:
                found = ConditionCheck(claim, e).at_point(curve, claim.frequency)
            else:
                found = None
            if found is not None:
                yield found
        return
    for curve in e.curves_of("crosstalk", "Hz"):
        found = _worst(ConditionCheck(claim, e), curve, claim.frequency or USUAL_BAND[0], claim.frequency_high)
        if found is not None:
            yield found


def _power(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure != "distortion-level":
        return
    power = claim.claimed is ClaimedQuantity.POWER
    limit = claim.limit_percent or USUAL_LIMIT
    if power:
        x_unit = "W"
    else:
        x_unit = "V"
    known = {1.0: "at_1pct", 2.0: "at_2pct", float(e.settings.get("stop_at", 0)): "at_limit"}.get(limit)
    for curve in e.curves_of("thd_n" if str(e.settings.get("stop_on", "THD+N")) == "THD+N" else "thd", x_unit):
        c = ConditionCheck(claim, e)
        c.frequency(float(e.settings.get("frequency", USUAL_FREQUENCY)))
        c.load()
        if claim.limit_percent is None:
            c.assumed.append(f"at {limit:g} % distortion")
        if claim.channels is not None and claim.channels > len({r.channel for r in e.readings}):
            c.assumed.append(f"{len({r.channel for r in e.readings})} of {claim.channels} channels measured")
        if known:
            reading = next(
                (r for r in e.channels(f"{'power' if power else 'level'}_{known}") if r.channel == curve.channel), None
            )
        else:
            reading = None
        if reading is not None:
            yield c.told(reading)
            continue
        reached = last_x_below(curve, to_db(limit / 100))
        if reached is not None:
            yield Candidate(
                e,
                curve.channel,
                reached[0],
                x_unit,
                0.0,
                None,
                None,
                (),
                tuple(c.unlike),
                tuple(c.assumed),
                open_above=not reached[1],
            )


def _gain(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    keys = {"gain": "gain", "response": "gain_1k"}
    if claim.claimed is ClaimedQuantity.BALANCE:
        keys = {"gain": "balance"}
    for reading in e.channels(keys.get(e.procedure, "-")):
        if claim.claimed is ClaimedQuantity.BALANCE and reading.channel == 1:
            continue
        c = ConditionCheck(claim, e)
        if e.procedure == "gain" or claim.frequency is not None:
            c.frequency(float(reading.at.get("frequency_hz", USUAL_FREQUENCY)))
        value = reading.value or 0.0
        balance = claim.claimed is ClaimedQuantity.BALANCE and claim.sense is not Bound.WITHIN
        yield c.told(reading, abs(value) if balance else value)


def _sensitivity(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    """What input brings the claimed output, by the gain that was measured."""
    level = claim.level or str(e.settings.get("output_level", ""))
    if e.procedure == "gain":
        volts = e.volts(level)
    else:
        volts = None
    for reading in e.channels("gain") if volts is not None else ():
        c = ConditionCheck(claim, e)
        c.frequency(float(reading.at.get("frequency_hz", USUAL_FREQUENCY)))
        if not claim.level:
            c.assumed.append(f"for {level}")
        value = (volts or 0.0) / from_db(reading.value or 0.0)
        spread = value * e.spread(reading) * math.log(10) / 20
        yield c.told(replace(reading, key="input", value=value, unit="V", spread=spread, floor=None))


def _latency(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure != "latency":
        return
    for reading in e.channels("latency"):
        c = ConditionCheck(claim, e)
        if claim.buffer is not None and e.buffer != claim.buffer:
            c.say("buffer", str(e.buffer or "not specified"), str(claim.buffer))
        elif claim.buffer is None and e.buffer is not None:
            c.assumed.append(f"buffer {e.buffer}")
        if claim.rate is not None and abs(e.chain.rate / claim.rate - 1) > 1e-3:
            c.say("rate", format_quantity(e.chain.rate, "Hz", digits=4), format_quantity(claim.rate, "Hz", digits=4))
        elif claim.rate is None:
            c.assumed.append(format_quantity(e.chain.rate, "Hz", digits=4))
        yield c.told(reading)


def _intermodulation(claim: Claim, e: Evidence) -> Iterator[Candidate]:
    if e.procedure != "intermodulation":
        return
    keys: tuple[str, ...]
    if claim.claimed is ClaimedQuantity.MODULATION:
        keys = ("modulation_distortion",)
    else:
        keys = ("difference_d2", "difference_d3")
    if claim.claimed is ClaimedQuantity.MODULATION:
        usual = (60.0, 7000.0)
    else:
        usual = (19000.0, 20000.0)
    for channel in sorted({r.channel for r in e.readings}):
        there = [r for key in keys for r in e.channels(key) if r.channel == channel]
        if not there:
            continue
        reading = max(there, key=lambda r: r.value or -math.inf)
        c = ConditionCheck(claim, e)
        tones = (float(reading.at.get("frequency_1_hz", 0)), float(reading.at.get("frequency_2_hz", 0)))
        wanted = (claim.frequency or usual[0], claim.frequency_high or usual[1])
        named = " + ".join(format_quantity(f, "Hz", digits=3) for f in wanted)
        if any(abs(a / b - 1) > SAME_FREQUENCY for a, b in zip(tones, wanted, strict=True)):
            c.say("tones", " + ".join(format_quantity(f, "Hz", digits=3) for f in tones), named)
        elif claim.frequency is None:
            c.assumed.append(named)
        levels = [
            r.value
            for r in (*e.channels("level_1"), *e.channels("level_2"))
            if r.channel == channel and r.value and r.unit == "V"
        ]
        c.level(math.hypot(*levels) if len(levels) == 2 else None)
        c.load()
        yield c.told(reading)


_EXTRACTORS: dict[ClaimedQuantity, Callable[[Claim, Evidence], Iterator[Candidate]]] = {
    ClaimedQuantity.THD: _distortion,
    ClaimedQuantity.THD_N: _distortion,
    ClaimedQuantity.SINAD: _distortion,
    ClaimedQuantity.RESPONSE: _response,
    ClaimedQuantity.SNR: _noise,
    ClaimedQuantity.DYNAMIC_RANGE: _noise,
    ClaimedQuantity.NOISE: _noise,
    ClaimedQuantity.CROSSTALK: _crosstalk,
    ClaimedQuantity.POWER: _power,
    ClaimedQuantity.OUTPUT: _power,
    ClaimedQuantity.GAIN: _gain,
    ClaimedQuantity.BALANCE: _gain,
    ClaimedQuantity.SENSITIVITY: _sensitivity,
    ClaimedQuantity.LATENCY: _latency,
    ClaimedQuantity.MODULATION: _intermodulation,
    ClaimedQuantity.DIFFERENCE: _intermodulation,
}
