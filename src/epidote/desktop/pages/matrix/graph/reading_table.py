"""The readings of the chosen runs side by side, with what the runs have in common."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from epidote.core.chain.chain import Chain
from epidote.core.comparison.differences.difference import differing_settings, reading_difference
from epidote.core.comparison.differences.operating_points import OperatingPoint, PointAxis, at_point
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_quantity, format_reading
from epidote.core.quantities.units import DB_PER_NEPER, in_percent
from epidote.core.results.caution import Caution, Weight, unique
from epidote.core.results.curve_features import curve_at, slope
from epidote.core.results.kinds import CurveRole, curve_kind, reading_kind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.settings import label_of
from epidote.core.wording.differences import difference_words
from epidote.desktop.pages.matrix.graph.chosen import LEVEL_UNITS, Chosen, short_names
from epidote.study.models import Pin, RunSummary

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
class CautionNote:
    """A caution with what it holds for: rows, readings, or all of them ("")."""

    caution: Caution
    holds_for: str

    @property
    def words(self) -> str:
        if self.holds_for:
            return f"{self.holds_for}: {self.caution.words}"
        return self.caution.words


@dataclass(frozen=True)
class ReadingTable:
    """columns: (title, colour of the row or -1, whether it is a difference)."""

    columns: tuple[tuple[str, int, bool], ...]
    rows: tuple[ReadingRow, ...]
    cautions: tuple[CautionNote, ...]
    alike: str
    differs: str
    summary: str = ""


def make_table(
    titles: dict[str, str],
    chosen: Sequence[Chosen],
    channel: int,
    percent: bool,
    pins: Sequence[Pin],
    *,
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
    rows = _pin_rows(ordered, others, reference, channel, pins, view_title=view_title)
    rows += _point_rows(ordered, others, reference, channel, points, whole=whole or {}, percent=percent)
    for key in sorted(keys, key=lambda k: list(titles).index(k) if k in titles else 999):
        cells = [_reading_cell(readings[c.run.id].get(key), percent) for c in ordered]
        cells += [
            _difference_cell(readings[c.run.id].get(key), readings[reference.run.id].get(key) if reference else None)
            for c in others
        ]
        unit = next((r.unit for c in ordered if (r := readings[c.run.id].get(key)) is not None), "")
        rows.append(ReadingRow(titles.get(key, key), tuple(cells), None, key, unit))
    in_view = {r.unit for per_run in readings.values() for r in per_run.values()}
    axes = {unit for one in ordered for curve in one.curves for unit in (curve.x_unit, curve.y_unit)}
    cautions = _cautions(ordered, in_view | axes, {row.title: row for row in rows})
    units = [c for c in ordered if not c.subject.is_baseline]
    similarities, differs = _likeness(units)
    summary = "\n".join(words for words in (_range_of_gain(units, readings), *_findings(ordered, readings)) if words)
    return ReadingTable(tuple(columns), tuple(rows), tuple(cautions), similarities, differs, summary)


def _findings(ordered: Sequence[Chosen], readings: Mapping[int, Mapping[str, Reading]]) -> list[str]:
    """Return what procedures found, in words, each with its row."""
    names = short_names([c.subject for c in ordered])
    found = []
    for c in ordered:
        words = dict.fromkeys(str(r.at["finding"]) for r in readings[c.run.id].values() if "finding" in r.at)
        found += [f"{names[c.subject.id]}: {sentence}." for sentence in words]
    return found


_ORDER = (Weight.INVALID, Weight.DOUBTFUL, Weight.NOTE)
_MOST_NAMED = 3


def _cautions(chosen: Sequence[Chosen], units: set[str], rows: Mapping[str, ReadingRow]) -> list[CautionNote]:
    """Return each caution that bears on what is in view once, the weightiest first.

    Those of a run name the rows they hold for, unless they hold for all; those of single readings name the readings.
    units: of the readings and axes in view.
    """
    names = short_names([c.subject for c in chosen])
    of_runs: dict[Caution, list[str]] = {}
    for c in chosen:
        for key in dict.fromkeys(c.run.cautions):
            if Caution(key).bears_on(units):
                of_runs.setdefault(Caution(key), []).append(names[c.subject.id])
    of_readings: dict[Caution, list[str]] = {}
    for title, row in rows.items():
        for caution in unique(k for cell in row.cells for k in cell.cautions):
            if caution not in of_runs:
                of_readings.setdefault(caution, []).append(title)
    notes = [CautionNote(k, "" if len(own) == len(chosen) else _listed(own)) for k, own in of_runs.items()]
    notes += [CautionNote(k, _listed(own)) for k, own in of_readings.items()]
    return sorted(notes, key=lambda note: _ORDER.index(note.caution.weight))


def _listed(names: Sequence[str]) -> str:
    """Return names as a list; of many the first few and how many more."""
    shown = ", ".join(names[:_MOST_NAMED])
    if len(names) > _MOST_NAMED:
        shown += f" and {len(names) - _MOST_NAMED} more"
    return shown


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
    *,
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
            if mine[1] in LEVEL_UNITS:
                unit = "dB"
            else:
                unit = mine[1]
            cells.append(
                Cell(
                    "" if mine[0] is None or base[0] is None else format_quantity(mine[0] - base[0], unit, signed=True)
                )
            )
        # what x is, any curve in view says, even where this channel has none
        curve = next((k for c in ordered for k in c.curves), None)
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
            usable = curve is not None and curve.x_unit == "Hz" and curve.y_unit in LEVEL_UNITS
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
    *,
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
