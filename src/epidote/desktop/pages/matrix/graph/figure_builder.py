"""From chosen runs to what is shown: the figure, and the table of readings.

Arithmetic is the core's; this only arranges.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.comparison.differences.axes import Axis
from epidote.core.comparison.differences.difference import (
    difference_curve,
    differing_settings,
    greatest_deviation,
    reading_difference,
)
from epidote.core.comparison.differences.gain_alignment import Levelling, levelled
from epidote.core.comparison.differences.operating_points import (
    OperatingPoint,
    PointAxis,
    at_point,
)
from epidote.core.procedures.protocol import CurveView
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_plain, format_quantity, format_reading
from epidote.core.quantities.units import DB_PER_NEPER, in_percent
from epidote.core.results.caution import Caution, unique
from epidote.core.results.curve_features import curve_at, noise_uncertainty, slope
from epidote.core.results.kinds import CurveRole, curve_kind, reading_kind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, annotations_of
from epidote.core.settings import describe_settings, label_of
from epidote.core.wording.differences import difference_words, ranges_words
from epidote.desktop.plotting.figure import Figure, PinMark, Trace
from epidote.study.models import Column, Pin, RunSummary, Subject

X_TITLES = {"s": "Time", "shot": "Burst"}
_COUNTS = ("shot",)  # units of x that only number something
_LEVEL_CURVES = {"dB", "dBFS", "dBV"}
_USUAL = (
    "rate",
    "load_ohms",
    "level",
    "band_low",
    "band_high",
    "weighting",
    "duration",
)  # what a reader asks of two runs first
_CONDITION_OF = {
    "load_ohms": "load",
    "probe_ratio": "probe",
}  # values of the chain that a row's condition of another name sets


@dataclass(frozen=True, eq=False)
class Chosen:
    """One chosen run with its curves of the view."""

    subject: Subject
    run: RunSummary
    curves: tuple[Curve, ...]
    is_reference: bool


@dataclass(frozen=True)
class Cell:
    """One cell of the readings: text, and the cautions that weaken it."""

    text: str
    cautions: tuple[Caution, ...] = ()


@dataclass(frozen=True)
class ReadingRow:
    """entry: of a kept point, its number; key and unit: of a reading."""

    title: str
    cells: tuple[Cell, ...]
    entry: int | None = None
    key: str = ""
    unit: str = ""


@dataclass(frozen=True)
class ReadingTable:
    """columns: (title, colour of the row or -1, whether it is a difference)."""

    columns: tuple[tuple[str, int, bool], ...]
    rows: tuple[ReadingRow, ...]
    cautions: tuple[str, ...]
    alike: str
    differs: str
    summary: str = ""


def _trace(chosen: Chosen, curve: Curve, percent: bool) -> Trace:
    def shown(values: np.ndarray | None) -> np.ndarray | None:
        if values is None:
            return None
        if percent:
            return in_percent(values)
        return values

    y = shown(curve.y)
    assert y is not None
    return Trace(
        chosen.subject.full_name,
        curve.channel,
        chosen.subject.colour,
        curve.x,
        y,
        shown(curve.floor),
        chosen.subject.is_baseline,
    )


def _in_view(chosen: Sequence[Chosen], channels: set[int]) -> Iterator[tuple[Chosen, Curve]]:
    """Yield the curves that are shown, those of the baseline first, so that the others lie over them."""
    for one in sorted(chosen, key=lambda c: not c.subject.is_baseline):
        if one.subject.shown:
            yield from ((one, curve) for curve in one.curves if curve.channel in channels)


@dataclass(frozen=True)
class _Pair:
    """A curve of a run and the reference's of the same channel; reference is None where the two are not compared.

    shift: by how many dB the curve was aligned with the reference, None where it was not.
    """

    one: Chosen
    curve: Curve
    reference: Curve | None
    shift: float | None

    @staticmethod
    def of(one: Chosen, curve: Curve, base: Chosen | None, by: Levelling | None) -> _Pair:
        if base is None or one is base or one.subject.is_baseline:
            return _Pair(one, curve, None, None)
        own = next((c for c in base.curves if c.channel == curve.channel), None)
        moved = levelled(curve, own, by) if own is not None and by is not None else None
        if moved is None:
            return _Pair(one, curve, own, None)
        return _Pair(one, moved[0], own, moved[1])

    def difference(self) -> Curve | None:
        return None if self.reference is None else difference_curve(self.curve, self.reference)

    def doubt(self, less: Curve) -> Any:
        """Return the standard deviation of the difference at its x."""
        assert self.reference is not None
        return np.hypot(noise_uncertainty(self.curve, less.x), noise_uncertainty(self.reference, less.x))

    def deviation(self, less: Curve, band: tuple[float, float] | None, *, percent: bool) -> list[tuple[int, str]]:
        """Return the row's colour, and its greatest deviation in words; none where there is none in the band."""
        most = greatest_deviation(less, *(band or (-math.inf, math.inf)))
        if most is None:
            return []
        value, unit = (in_percent(most.value) - 100, "%") if percent else (most.value, less.y_unit)
        size = format_quantity(value, unit, digits=3, signed=True)
        aligned = "" if self.shift is None else f" (aligned by {self.shift:+.2f} dB)"
        return [(self.one.subject.colour, f"{size} at {format_quantity(most.at, less.x_unit, digits=3)}{aligned}")]


def make_figure(
    column: Column,
    view: CurveView,
    chosen: Sequence[Chosen],
    channels: set[int],
    percent: bool,
    pins: Sequence[Pin],
    axis: Axis | None = None,
    band: tuple[float, float] | None = None,
    by: Levelling | None = None,
) -> Figure:
    """Return the graph of the chosen runs; with a reference among them, the others' differences from it in a second
    strip.

    band: where the greatest deviation is looked for; by: how gains are brought to the reference's first.
    """
    percent = percent and view.ratio
    traces, differences, crossings, deviations = [], [], [], []
    reference = next((c for c in chosen if c.is_reference), None)
    unit, x_unit = "dB", "Hz"
    names = short_names([c.subject for c in chosen])
    for one, curve in _in_view(chosen, channels):
        unit, x_unit = curve.y_unit, curve.x_unit
        pair = _Pair.of(one, curve, reference, by)
        traces.append(_trace(one, pair.curve, percent))
        less = pair.difference() if view.compared else None
        if less is None or reference is None:
            continue
        shown = in_percent(less.y) - 100 if percent else less.y
        differences.append(replace(_trace(one, less, False), floor=None, y=shown))
        if curve.channel == min(channels):
            deviations += pair.deviation(less, band, percent=percent)
        if less.y_unit == "dB":
            of = f", channel {curve.channel}" if len(channels) > 1 else ""
            uncertainty = pair.doubt(less)
            crossings.append(ranges_words(names[one.subject.id] + of, names[reference.subject.id], less, uncertainty))
    notes = [f"{c.subject.full_name}: {_settings_words(c.run)}" for c in chosen]
    notes += [f"! {c.subject.full_name}: {Caution(k).words}" for c in chosen for k in c.run.cautions]
    words = view.group.lower() if view.title == view.group.lower() else view.title
    y_unit = "%" if percent else unit
    # the difference of two levels is in dB, whatever they refer to
    difference_unit = "dB" if unit in _LEVEL_CURVES and not percent else y_unit
    return Figure(
        title=column.title if words == column.title.lower() else f"{column.title}: {words}",
        x_title=axis.title if axis is not None else X_TITLES.get(x_unit, "Frequency"),
        x_unit=x_unit,
        y_title=view.axis,
        y_unit=y_unit,
        x_is_count=x_unit in _COUNTS,
        log_x=axis.log if axis is not None else view.log_x,
        traces=tuple(traces),
        differences=tuple(differences),
        difference_unit=difference_unit,
        reference_name=reference.subject.full_name if reference else "",
        pins=tuple(PinMark(p.id, n, p.x) for n, p in enumerate(pins, start=1)),
        notes=(*crossings, *notes),
        crossings=tuple(crossings),
        marks=_marks(reference or next(iter(chosen), None), channels),
        band=band if differences else None,
        deviations=tuple(deviations),
        aligned=_aligned_words(by) if differences else "",
    )


def _aligned_words(by: Levelling | None) -> str:
    """How gains were brought to one level, for the graph."""
    if by is None:
        return ""
    places = [format_plain(x, "Hz") for x in (by.low, by.high) if x is not None]
    return f", aligned {'at' if by.high is None else 'over'} {' to '.join(places)}"


def _marks(chosen: Chosen | None, channels: set[int]) -> tuple[tuple[float, str], ...]:
    """Harmonics, or products, of the reference or the first run; where they crowd, the first of them."""
    if chosen:
        curve = next((c for c in chosen.curves if c.channel in channels), None)
    else:
        curve = None
    if curve is not None:
        return tuple(annotations_of(curve))
    return ()


@lru_cache(maxsize=256)
def _settings_said(key: str, settings_json: str) -> str:
    """Two dozen rows of a graph were mostly measured with the same settings."""
    return describe_settings(procedure(key).Settings, json.loads(settings_json))


def _settings_words(run: RunSummary) -> str:
    """Return the settings and the chain of a run, for a picture."""
    values = _settings_said(run.procedure, json.dumps(dict(run.settings)))
    chain = run.chain
    load = ""
    if chain.load_ohms:
        load = f", {chain.load_ohms:g} Ω"
    who = "".join(
        f", {w}" for w in (run.person and f"operator {run.person}", run.firmware and f"firmware {run.firmware}") if w
    )
    return (
        f"{values}; {chain.name}, {chain.rate / 1000:g} kHz{load}; {run.device};"
        f" {run.made.astimezone():%d %b %Y %H:%M}{who}"
    )


def make_table(
    titles: dict[str, str],
    chosen: Sequence[Chosen],
    channel: int,
    percent: bool,
    pins: Sequence[Pin],
    view_title: str,
    points: Sequence[tuple[int, OperatingPoint]] = (),
    whole: Mapping[int, Sequence[Curve]] | None = None,
) -> ReadingTable:
    """Return readings side by side, the differences from the reference, and what the chosen runs have in common.

    points: kept operating points by their entry's number; whole: every curve of each run, by its number.
    """
    reference = next((c for c in chosen if c.is_reference), None)
    others = [c for c in chosen if reference and c is not reference and not c.subject.is_baseline]
    ordered = sorted(chosen, key=lambda c: (not c.is_reference, c.subject.is_baseline))
    names = short_names([c.subject for c in ordered])
    columns = [(names[c.subject.id], -1 if c.subject.is_baseline else c.subject.colour, False) for c in ordered]
    columns += [("Difference", c.subject.colour, True) for c in others]
    readings = {c.run.id: {r.key: r for r in c.run.readings if r.channel == channel} for c in ordered}
    keys = dict.fromkeys(k for c in ordered for k in readings[c.run.id])
    rows = _pin_rows(ordered, others, reference, channel, pins, view_title)
    rows += _point_rows(ordered, others, reference, channel, points, whole or {}, percent)
    for key in sorted(keys, key=lambda k: list(titles).index(k) if k in titles else 999):
        cells = [_reading_cell(readings[c.run.id].get(key), percent) for c in ordered]
        cells += [
            _difference_cell(readings[c.run.id].get(key), readings[reference.run.id].get(key) if reference else None)
            for c in others
        ]
        unit = next((r.unit for c in ordered if (r := readings[c.run.id].get(key)) is not None), "")
        rows.append(ReadingRow(titles.get(key, key), tuple(cells), None, key, unit))
    cautions = _cautions(ordered)
    units = [c for c in ordered if not c.subject.is_baseline]
    similarities, differs = _likeness(units)
    return ReadingTable(
        tuple(columns), tuple(rows), tuple(cautions), similarities, differs, _range_of_gain(units, readings)
    )


def _cautions(chosen: Sequence[Chosen]) -> list[str]:
    """Each caution once, with the rows that it holds for; those of the chain hold for all."""
    rows: dict[Caution, list[str]] = {}
    names = short_names([c.subject for c in chosen])
    for c in chosen:
        for key in dict.fromkeys(c.run.cautions):
            rows.setdefault(Caution(key), []).append(names[c.subject.id])
    general = (Caution.UNCALIBRATED, Caution.LOAD_UNCONFIRMED)
    own = [f"{', '.join(concerned)}: {caution.words}" for caution, concerned in rows.items() if caution not in general]
    return own + [caution.words for caution in rows if caution in general]


def _range_of_gain(chosen: Sequence[Chosen], readings: dict[int, dict[str, Reading]]) -> str:
    """Return what a volume control does: the greatest and the least gain among rows of one unit that differ by their
    conditions.
    """
    kinds = procedure(chosen[0].run.procedure).readings if chosen else ()
    key = next((kind.range_of for kind in kinds if kind.range_of), "")
    if not key or len({c.subject.unit.id for c in chosen if c.subject.unit}) != 1:
        return ""
    gains = [(r.value, c) for c in chosen if (r := readings[c.run.id].get(key)) is not None and r.value is not None]
    if len(gains) < 2:
        return ""
    least, most = min(gains, key=lambda g: g[0]), max(gains, key=lambda g: g[0])
    short = short_names([c.subject for c in chosen])
    names = [short[c.subject.id].partition(" ")[2] for _, c in (least, most)]
    span = format_quantity(most[0] - least[0], "dB", digits=4)
    return (
        f"Gain range {span}: maximum {format_quantity(most[0], 'dB')} ({names[1]}), minimum"
        f" {format_quantity(least[0], 'dB')} ({names[0]})."
    )


def short_names(subjects: Sequence[Subject]) -> dict[int, str]:
    """By row: the unit's name, or what tells it from the same unit under other conditions."""
    same_name: dict[str, list[Subject]] = {}
    for subject in subjects:
        same_name.setdefault(subject.name, []).append(subject)
    return {
        s.id: name if len(twins) == 1 else _told_apart(s, twins) for name, twins in same_name.items() for s in twins
    }


def _told_apart(subject: Subject, twins: Sequence[Subject]) -> str:
    telling = [f"{k} {v}" for k, v in subject.conditions.items() if any(o.conditions.get(k) != v for o in twins)]
    return f"{subject.unit.model if subject.unit else subject.name} {', '.join(telling)}"


def _reading_cell(reading: Reading | None, percent: bool) -> Cell:
    if reading is None:
        return Cell("")
    if percent and reading_kind(reading.key).ratio and reading.value is not None:
        value = in_percent(reading.value)
        if reading.spread:
            spread = value * reading.spread / DB_PER_NEPER
        else:
            spread = None
        return Cell(format_quantity(value, "%", digits=3, uncertainty=spread), reading.cautions)
    return Cell(format_reading(reading), reading.cautions)


def _difference_cell(reading: Reading | None, reference: Reading | None) -> Cell:
    if reading is None or reference is None or not reading_kind(reading.key).compared:
        return Cell("")
    less = reading_difference(reading, reference)
    if less is None:
        return Cell("")
    if less.ratio_db is not None and reading.unit == "V":
        return Cell(format_quantity(less.ratio_db, "dB", signed=True))
    # of a frequency the difference is worth no more than a millionth
    if less.unit == "Hz":
        least = abs(reference.value or 0) * 1e-6
    else:
        least = 0.0
    return Cell(
        format_quantity(less.value, less.unit, digits=3, uncertainty=max(less.spread or 0.0, least), signed=True),
        unique((*reading.cautions, *reference.cautions)),
    )


def _pin_rows(
    ordered: Sequence[Chosen],
    others: Sequence[Chosen],
    reference: Chosen | None,
    channel: int,
    pins: Sequence[Pin],
    view_title: str,
) -> list[ReadingRow]:
    """Return what the curves say at each pin, and the slope between the first two."""

    def curve_of(c: Chosen) -> Curve | None:
        return next((k for k in c.curves if k.channel == channel), None)

    rows = []
    for number, pin in enumerate(pins, start=1):
        values: dict[int, tuple[float | None, str]] = {}
        for c in ordered:
            curve = curve_of(c)
            values[c.run.id] = (curve_at(curve, pin.x) if curve else None, curve.y_unit if curve else "dB")
        cells = [Cell(format_quantity(*values[c.run.id])) for c in ordered]
        for c in others:
            mine, base = values[c.run.id], values[reference.run.id] if reference else (None, "")
            if mine[1] in _LEVEL_CURVES:
                unit = "dB"
            else:
                unit = mine[1]
            cells.append(
                Cell(
                    "" if mine[0] is None or base[0] is None else format_quantity(mine[0] - base[0], unit, signed=True)
                )
            )
        curve = next((k for k in map(curve_of, ordered) if k), None)
        rows.append(
            ReadingRow(
                f"{view_title} at pin {number}, {format_quantity(pin.x, curve.x_unit if curve else 'Hz', digits=4)}",
                tuple(cells),
            )
        )
    if len(pins) >= 2:
        slopes = []
        for c in ordered:
            curve = curve_of(c)
            usable = curve is not None and curve.x_unit == "Hz" and curve.y_unit in _LEVEL_CURVES
            slopes.append(
                Cell(format_quantity(slope(curve, pins[0].x, pins[1].x), "dB/oct") if usable and curve else "")
            )
        if any(c.text for c in slopes):
            rows.append(ReadingRow("Slope, pin 1 to 2", tuple(slopes + [Cell("") for _ in others])))
    return rows


def _point_rows(
    ordered: Sequence[Chosen],
    others: Sequence[Chosen],
    reference: Chosen | None,
    channel: int,
    points: Sequence[tuple[int, OperatingPoint]],
    whole: Mapping[int, Sequence[Curve]],
    percent: bool,
) -> list[ReadingRow]:
    """Return what the curves say at the kept operating points; the differences in the fitting way."""
    rows = []
    for entry, point in points:
        readings = {c.run.id: _at_point(whole.get(c.run.id, ()), point, channel) for c in ordered}
        for title in dict.fromkeys(t for per_run in readings.values() for t in per_run):
            readings_at_point = {run: per_run.get(title) for run, per_run in readings.items()}
            cells = [
                (
                    _reading_cell(r, percent and curve_kind(point.curve).ratio)
                    if (r := readings_at_point[c.run.id]) is not None
                    else Cell("")
                )
                for c in ordered
            ]
            for c in others:
                mine, base = (
                    readings_at_point[c.run.id],
                    readings_at_point[reference.run.id] if reference is not None else None,
                )
                cells.append(
                    Cell(
                        difference_words(mine.value, base.value, mine.unit)
                        if mine is not None and base is not None
                        else ""
                    )
                )
            rows.append(ReadingRow(title, tuple(cells), entry))
    return rows


def _at_point(curves: Sequence[Curve], point: OperatingPoint, channel: int) -> dict[str, Reading]:
    """Return readings of one channel at a point, by title; of several axes the one that people read first."""
    order = ("W", "V", "Hz", "s", "dBFS")
    readings = sorted(
        (r for r in at_point(curves, point) if r.channel == channel),
        key=lambda r: order.index(r.unit) if r.unit in order else 9,
    )
    out: dict[str, Reading] = {}
    for r in readings:
        if curve_kind(point.curve).role is CurveRole.RESPONSE:
            name = "Level"
        else:
            name = point.curve.upper().replace("_", "+")
        out.setdefault(
            f"{name} at {point.name}" if point.by is PointAxis.X else f"At {r.key}", replace(r, key=point.curve)
        )
    return out


def _likeness(chosen: Sequence[Chosen]) -> tuple[str, str]:
    """Return what two or more runs have in common and where they differ, in words."""
    if len(chosen) < 2:
        return "", ""
    differ = differing_settings([(dict(c.run.settings), c.run.chain.model_dump(mode="json")) for c in chosen])
    units = len({c.subject.unit.id for c in chosen if c.subject.unit})
    names = dict.fromkeys(k for c in chosen for k in c.subject.conditions)
    conditions = [n for n in names if len({c.subject.conditions.get(n) for c in chosen}) > 1]
    # what a row says as a condition is not said again as the chain's value
    is_condition = [_CONDITION_OF.get(n, n) in conditions for n in differ]
    differ = [n for n, already in zip(differ, is_condition, strict=True) if not already]
    differs = (["unit"] if units > 1 else []) + conditions + [_label_in(chosen[0].run, n) for n in differ]
    settings = {**chosen[0].run.settings, **chosen[0].run.chain.model_dump(mode="json")}
    same = [n for n in _USUAL if n in settings and n not in differ and _CONDITION_OF.get(n, n) not in conditions]
    common = [_label_in(chosen[0].run, n) for n in same]
    return ", ".join(common), ", ".join(differs) or "nothing (same unit, conditions and settings)"


def _label_in(run: RunSummary, name: str) -> str:
    """Return what the window calls a setting of the run's procedure, or a value of its chain."""
    model = procedure(run.procedure).Settings
    return label_of(model if name in model.model_fields else Chain, name)
