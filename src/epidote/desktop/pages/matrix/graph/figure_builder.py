"""From chosen runs to what is shown: the figure, and the table of readings.

Arithmetic is the core's; this only arranges.
"""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from functools import lru_cache
from typing import Any

import numpy as np

from epidote.core.comparison.differences.axes import Axis
from epidote.core.comparison.differences.difference import (
    difference_curve,
    greatest_deviation,
)
from epidote.core.comparison.differences.gain_alignment import Levelling, levelled
from epidote.core.procedures.protocol import CurveView
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_plain, format_quantity, format_ratio
from epidote.core.quantities.units import from_db, in_percent
from epidote.core.results.caution import Caution
from epidote.core.results.channels import channel_name, default_channel
from epidote.core.results.curve_features import noise_uncertainty
from epidote.core.results.result import Curve, annotations_of
from epidote.core.settings import describe_settings
from epidote.core.wording.differences import ranges_words
from epidote.desktop.pages.matrix.graph.chosen import LEVEL_UNITS, Chosen, short_names
from epidote.desktop.plotting.figure import Figure, PinMark, Trace
from epidote.study.models import Column, Pin, RunSummary

X_TITLES = {"s": "Time", "shot": "Burst"}
_COUNTS = ("shot",)  # units of x that only number something


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
        if percent:  # a share of a share is said as a ratio, never as so many percent more
            size = f"×{format_ratio(from_db(most.value))}"
        else:
            size = format_quantity(most.value, less.y_unit, digits=3, signed=True)
        aligned = "" if self.shift is None else f" (aligned by {self.shift:+.2f} dB)"
        return [(self.one.subject.colour, f"{size} at {format_quantity(most.at, less.x_unit, digits=3)}{aligned}")]


def make_figure(
    column: Column,
    view: CurveView,
    chosen: Sequence[Chosen],
    channels: set[int],
    percent: bool,
    *,
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
        differences.append(replace(_trace(one, less, False), floor=None))
        if curve.channel == default_channel(channels):
            deviations += pair.deviation(less, band, percent=percent)
        if less.y_unit == "dB":
            of = f", {channel_name(curve.channel)}" if len(channels) > 1 else ""
            uncertainty = pair.doubt(less)
            crossings.append(ranges_words(names[one.subject.id] + of, names[reference.subject.id], less, uncertainty))
    notes = [*_settings_in_words(chosen), *_cautions_in_words(chosen)]
    words = view.group.lower() if view.title == view.group.lower() else view.title
    y_unit = "%" if percent else unit
    # the difference of two levels is in dB, whatever they refer to; so is that of two shares, as a ratio
    difference_unit = "dB" if unit in LEVEL_UNITS or percent else unit
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
    return f"{values}; {chain.name}, {chain.rate / 1000:g} kHz{load}"


def _settings_in_words(chosen: Sequence[Chosen]) -> list[str]:
    """Return one line for all runs that were measured alike: rows, settings, devices, when and by whom."""
    alike: dict[str, list[Chosen]] = {}
    for one in chosen:
        alike.setdefault(_settings_words(one.run), []).append(one)
    lines = []
    for words, those in alike.items():
        names = "; ".join(one.subject.full_name for one in those)
        devices = "; ".join(dict.fromkeys(one.run.device for one in those))
        times = sorted(one.run.made.astimezone() for one in those)
        when = f"{times[0]:%d %b %Y %H:%M}"
        if times[-1] - times[0] >= timedelta(minutes=1):
            when += f" to {times[-1]:%d %b %Y %H:%M}"
        who = dict.fromkeys(
            word
            for one in those
            for word in (
                one.run.person and f"operator {one.run.person}",
                one.run.firmware and f"firmware {one.run.firmware}",
            )
            if word
        )
        lines.append(f"{names}: {'; '.join((words, devices, when, *who))}")
    return lines


def _cautions_in_words(chosen: Sequence[Chosen]) -> list[str]:
    """Return each caution of the runs that bears on the curves in view once, with the rows it holds for."""
    units = {unit for one in chosen for curve in one.curves for unit in (curve.x_unit, curve.y_unit)}
    holds_for: dict[Caution, list[str]] = {}
    for one in chosen:
        for caution in map(Caution, dict.fromkeys(one.run.cautions)):
            if caution.bears_on(units):
                holds_for.setdefault(caution, []).append(one.subject.full_name)
    return [
        f"! {caution.words}" if len(names) == len(chosen) else f"! {'; '.join(names)}: {caution.words}"
        for caution, names in holds_for.items()
    ]
