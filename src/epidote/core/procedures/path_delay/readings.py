"""What “paths” says: readings and curves of what was found."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

import numpy as np

from epidote.core.analysis.delay.delay_estimation import Delay, NoCorrelation
from epidote.core.analysis.delay.echo_cepstrum import Echo
from epidote.core.analysis.delay.path_comparison import PathEstimate
from epidote.core.procedures.path_delay.settings import PathsSettings
from epidote.core.results.caution import Caution, caution_when, unique
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result

_KEYS = (("delay", "s"), ("delay_samples", "samples"), ("level", "dB"), ("polarity", "ratio"), ("drift_ppm", "ppm"))
_OF_EVENTS = ("level", "time_spread", "delay_spread")
_PER_OCTAVE, _COHERENT = 12, 0.5


def transients_of(result: Result) -> list[dict[str, Any]]:
    """Each transient: channel, time in s in the first, delay in s, level in dB, and the standard deviations of time
    and delay in s.
    """
    transients = []
    for delays in (c for c in result.curves if c.key == "transient_delay"):
        others = {name: result.curve(f"transient_{name}", delays.channel) for name in _OF_EVENTS}
        for row, (time, delay) in enumerate(zip(delays.x, delays.y, strict=True)):
            event = {"channel": delays.channel, "time": float(time), "delay": float(delay)}
            # runs of earlier versions have no spreads
            transients.append(
                event | {name: float(curve.y[row]) for name, curve in others.items() if curve is not None}
            )
    return transients


def path_result(
    estimate: PathEstimate | NoCorrelation | None,
    number: int,
    rate: float,
    settings: PathsSettings,
    cautions: list[Caution],
) -> Result:
    """Return what was found of one way, None where one of the two is silent."""
    at: dict[str, float | str] = {
        "against_channel": 1.0,
        "band_low_hz": settings.band_low,
        "band_high_hz": min(settings.band_high, rate / 2),
    }

    def nothing(reason: Caution, correlation: float) -> Result:
        own = (
            *(Reading(k, number, None, u, at, cautions=(reason,)) for k, u in _KEYS),
            Reading("correlation", number, correlation, "ratio", at),
        )
        return Result((), own, unique((*cautions, reason)))

    if estimate is None:
        return nothing(Caution.SILENT, 0.0)
    if isinstance(estimate, NoCorrelation):
        return nothing(Caution.NOTHING_IN_COMMON, estimate.correlation)
    if estimate.delay.dispersed:
        cautions.append(Caution.DISPERSED)
    if estimate.wavers:
        cautions.append(Caution.DELAY_CHANGES)
    if estimate.delay.ambiguous:
        cautions.append(Caution.AMBIGUOUS)
    return Result(_curves(estimate, number, rate, settings), _readings(estimate, number, rate, at), unique(cautions))


def _curves(estimate: PathEstimate, number: int, rate: float, settings: PathsSettings) -> tuple[Curve, ...]:
    times, delays = estimate.course
    curves = []
    if times.size > 1:
        curves.append(Curve("delay_over_time", number, times, delays / rate, "s", "s"))
    if estimate.events:
        when = np.array([e.time for e in estimate.events])
        for name, unit in (("delay", "s"), ("level", "dB"), ("delay_spread", "s"), ("time_spread", "s")):
            curves.append(
                Curve(
                    f"transient_{name}", number, when, np.array([getattr(e, name) for e in estimate.events]), "s", unit
                )
            )
    return (*curves, *_response(estimate, number, rate, settings))


def _response(estimate: PathEstimate, number: int, rate: float, settings: PathsSettings) -> Iterator[Curve]:
    """Phase with the delay taken out, group delay and coherence, in twelfths of an octave, where the two are alike.

    Group delay from bin to bin: less the argument of the sum of H[k+1] conj(H[k]) over 2 pi times a bin's width, which
    no jump of the phase by a turn disturbs; weighted by what is there (common practice, no source).
    """
    if estimate.path is None:
        return
    path, left = estimate.path, -estimate.path.delay
    f = path.width * np.arange(path.response.size)
    h = path.response * path.polarity * np.exp(2j * np.pi * f * left / rate)
    steps = h[1:] * np.conj(h[:-1])
    low, high = max(settings.band_low, 2 * path.width), min(settings.band_high, 0.49 * rate)
    if low >= high:
        return
    rows = []
    for centre in low * 2 ** (np.arange(math.floor(_PER_OCTAVE * math.log2(high / low)) + 1) / _PER_OCTAVE):
        first = max(1, round(centre * 2 ** (-0.5 / _PER_OCTAVE) / path.width))
        end = max(first + 2, round(centre * 2 ** (0.5 / _PER_OCTAVE) / path.width))
        coherence = float(path.coherence[first:end].mean())
        if end <= f.size and coherence > _COHERENT:
            late = -float(np.angle(steps[first : end - 1].sum())) / (2 * np.pi * path.width)
            rows.append(
                (
                    centre,
                    float(np.degrees(np.angle(h[first:end].sum()))),
                    estimate.delay.frames / rate + late,
                    coherence,
                )
            )
    if len(rows) > 1:
        x, phase, late_by, similarity = np.array(rows).T
        yield Curve("phase", number, x, phase, "Hz", "°")
        yield Curve("group_delay", number, x, late_by, "Hz", "s")
        yield Curve("coherence", number, x, similarity, "Hz", "ratio")


def _readings(estimate: PathEstimate, number: int, rate: float, at: dict[str, float | str]) -> tuple[Reading, ...]:
    d = estimate.delay
    drifts = estimate.drift != 0
    if drifts:
        where = {**at, "at": "the middle of the first"}
    else:
        where = at
    cautions = caution_when(d.ambiguous, Caution.AMBIGUOUS)
    readings = [
        Reading("delay", number, d.frames / rate, "s", where, None, d.spread_with_shift / rate, cautions),
        Reading("delay_samples", number, d.frames, "samples", where, None, d.spread_with_shift, cautions),
        *_alternative(d, number, rate, where),
        Reading("optimum_delay", number, d.best / rate, "s", where, None, d.spread / rate, cautions),
        Reading("level", number, d.level_db, "dB", at, None, d.level_spread if math.isfinite(d.level_spread) else None),
        Reading("polarity", number, float(d.polarity), "ratio", at),
        Reading("correlation", number, d.correlation, "ratio", at),
        Reading("correlation_before", number, d.before, "ratio", at),
    ]
    if np.isfinite(estimate.drift_spread):
        readings.append(
            Reading("drift_ppm", number, 1e6 * estimate.drift, "ppm", at, None, 1e6 * estimate.drift_spread)
        )
    else:
        readings.append(Reading("drift_ppm", number, None, "ppm", at, cautions=(Caution.PARTIAL,)))
    readings.append(Reading("delay_modulation", number, estimate.wavers / rate, "s", at))
    readings.append(Reading("null_depth", number, estimate.null_db, "dB", at))
    if estimate.events:
        delays = np.array([e.delay for e in estimate.events])
        readings.append(Reading("transients", number, float(delays.size), "ratio", at))
        if delays.size > 1:
            readings.append(Reading("transient_spread", number, float(delays.std(ddof=1)), "s", at))
    return tuple(readings)


def _alternative(delay: Delay, number: int, rate: float, where: dict[str, float | str]) -> list[Reading]:
    """How likely the delay is, and the nearest of the others; ``at`` lists all."""
    if not delay.ambiguous:
        return []
    own, *others = delay.rivals
    listed = "; ".join(
        f"{1000 * r.frames / rate:.4g} ms ({r.likelihood:.0%}{', inverted' if r.polarity < 0 else ''})" for r in others
    )
    at = {**where, "alternatives": listed}
    nearest = min(others, key=lambda r: abs(r.frames - delay.frames))
    return [
        Reading("delay_likelihood", number, own.likelihood, "ratio", at),
        Reading(
            "alternative",
            number,
            nearest.frames / rate,
            "s",
            {**at, "likelihood": nearest.likelihood},
            None,
            delay.spread / rate,
        ),
    ]


def echo_result(echo: Echo | None, settings: PathsSettings, rate: float, cautions: list[Caution]) -> Result:
    """Return what was found of two arrivals in one signal."""
    at: dict[str, float | str] = {"band_low_hz": settings.band_low, "band_high_hz": min(settings.band_high, rate / 2)}
    if echo is None:
        none = Reading("arrival_separation", 1, None, "s", at, cautions=(Caution.ONE_ARRIVAL,))
        return Result((), (none,), unique((*cautions, Caution.ONE_ARRIVAL)))
    return Result(
        (Curve("echo", 1, echo.delays, echo.heights, "s", "ratio"),),
        (
            Reading("arrival_separation", 1, echo.apart, "s", at),
            Reading(
                "second_level", 1, 20 * math.log10(abs(echo.gain)), "dB", {**at, "of": "the fainter re the louder"}
            ),
            Reading("polarity", 1, 1.0 if echo.gain > 0 else -1.0, "ratio", at),
            Reading("comb_null", 1, echo.null_hz, "Hz", at),
            Reading("comb_depth", 1, echo.depth_db if math.isfinite(echo.depth_db) else None, "dB", at),
        ),
        unique(cautions),
    )
