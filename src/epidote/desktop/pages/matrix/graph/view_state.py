"""How the chosen runs are looked at: which kind of curve, against which axis, in % or dB, which channels, which step
of a staircase.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from epidote.core.errors import in_window
from epidote.core.results.channels import default_channel
from epidote.core.results.kinds import CurveRole
from epidote.desktop.widgets.tips import UNIT_TIPS, channel_options, channel_tips, common_names
from epidote.study.annotations import valid

if TYPE_CHECKING:
    from epidote.core.comparison.differences.axes import Axis
    from epidote.core.procedures.protocol import CurveView
    from epidote.desktop.pages.matrix.graph.chosen import Chosen
    from epidote.desktop.pages.matrix.graph.panel import GraphPanel
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.desktop.plotting.figure import Figure, Line
    from epidote.study.models import Column, Pin, RunSummary

    OverlaySource = Callable[[Figure, str, list[Chosen], set[int]], tuple[tuple[Line, ...], tuple[str, ...]]]

DENSITY = "spectrum per hertz"
DENSITY_SOURCE = "spectrum"  # the curve that is shown per hertz, where its bins' noise bandwidth is known
_MOST_STEPS = 24
NOTHING_SELECTED = "No measured cell selected. Select cells of one column to overlay their curves."
NOTHING_MEASURED = "Nothing measured in this column yet."
READINGS_ONLY = "This procedure has readings only."


@dataclass(frozen=True)
class DrawnRuns:
    """The runs of a figure that was drawn.

    pins: x of the column's pins; title: of the curves' y axis, "" without curves.
    """

    column: Column
    chosen: list[Chosen]
    pins: tuple[Pin, ...]
    title: str


class GraphViewState:
    """The same runs seen in several ways; nothing is measured again."""

    def __init__(self, selection: MatrixSelection) -> None:
        self._selection, self._session = selection, selection.session
        self._panel: GraphPanel | None = None
        self._overlays: OverlaySource = lambda *_: ((), ())
        self._drawn: Callable[[DrawnRuns], None] = lambda _: None
        self._waited_for: Callable[[], None] = lambda: None
        self._shown: tuple[int, str, str, str] | None = None
        self._view_of: dict[str, str] = {}
        self._axis_of: dict[str, str] = {}
        self._views: tuple[CurveView, ...] = ()
        self._axes: tuple[Axis, ...] = ()
        self._places: list[float] = []  # of the steps, in what was stepped
        self._place: float | None = None
        self._stepped: dict[tuple[int, float], tuple[Any, ...]] = {}
        self._asked: set[tuple[int, float]] = set()
        self.key: str | None = None
        self.axis: Axis | None = None
        self.outdated = False  # the figure is not that of the selected runs, whose curves are still to come
        self.percent = False
        self.channels = {1}
        self._channels_chosen = False  # else the channel that says most is shown
        self.band: tuple[float, float] | None = None  # where deviations are looked for
        self.align = "no"
        self._session.opened.connect(self._forget)

    def _forget(self) -> None:
        """Another study is open: its columns, runs and channels have the same numbers, but nothing else in common."""
        self._shown, self._view_of, self._axis_of = None, {}, {}
        self._views, self._axes, self.key, self.axis = (), (), None, None
        self._places, self._place, self._stepped, self._asked = [], None, {}, set()
        self.channels, self._channels_chosen = {1}, False
        self.band, self.align = None, "no"
        self.outdated = False

    def attach(
        self,
        panel: GraphPanel,
        overlays: OverlaySource,
        drawn: Callable[[DrawnRuns], None],
        waited_for: Callable[[], None],
    ) -> None:
        """Show in a panel.

        overlays: the lines of a figure of curves, and what the runs do at limits; drawn: called after each figure;
        waited_for: called where curves must be computed before there is a figure.
        """
        self._panel, self._overlays, self._drawn, self._waited_for = panel, overlays, drawn, waited_for

    @property
    def panel(self) -> GraphPanel:
        """The panel that shows the graph. Before it is attached there is none."""
        assert self._panel is not None
        return self._panel

    def figure(self) -> Figure | None:
        """Return the figure in view."""
        return self.panel.graph.figure()

    # -- showing -----------------------------------------------------------------------------------

    def show(self, column: Column) -> None:
        """Show the graph and the readings of the chosen runs, whose curves are loaded."""
        from epidote.core.comparison.differences.axes import axes_of

        cells = self._selection.shown_runs()
        proc, panel = procedure_named(column.procedure), self.panel
        available = [c for _, r in cells for c in self._selection.curves_of(r.id)]
        self._views = _views_of(proc, available)
        panel.heading.setText(column.title)
        panel.show_extra(*_extra_of(proc))
        if not self._views:
            self._show_nothing(column)
            return
        view = next((v for v in self._views if v.key == self._view_of.get(column.procedure)), self._views[0])
        self.key = view.key
        # some curves are of one channel only, such as of the microphone that is the unit
        of_view = {c.channel for c in available if c.key == view.key}
        channels = sorted(of_view or {c.channel for c in available})
        self._keep_channels(channels)
        self._axes = axes_of(c for c in available if c.key == view.key)
        self.axis = next(
            (a for a in self._axes if a.key == self._axis_of.get(column.procedure)),
            self._axes[0] if self._axes else None,
        )
        siblings = [v for v in self._views if v.group == view.group]
        panel.views.set_options([(g, g) for g in dict.fromkeys(v.group for v in self._views)], [view.group])
        panel.variants.set_options(
            [(v.key, v.title[:1].upper() + v.title[1:]) for v in siblings] if len(siblings) > 1 else [], [view.key]
        )
        panel.axes.set_options([(a.key, a.words) for a in self._axes], [self.axis.key] if self.axis else [])
        panel.channels.set_options(
            channel_options(channels, common_names(run.chain.input_names for _, run in cells)),
            [str(c) for c in self.channels],
            channel_tips(channels),
        )
        panel.units.set_options(
            [("%", "%"), ("dB", "dB")] if view.ratio else [], ["%" if self.percent else "dB"], UNIT_TIPS
        )
        self._offer_aligning(view, [s for s, _ in cells])
        stepping = view in proc.step_views
        self._offer_steps(available if stepping else [])
        if stepping and not self._steps_ready([r for _, r in cells]):
            self._waited_for()
            return
        self._draw(column, view)

    def _draw(self, column: Column, view: CurveView) -> None:
        from epidote.desktop.pages.matrix.graph.chosen import Chosen
        from epidote.desktop.pages.matrix.graph.figure_builder import make_figure

        overview = self._session.overview
        assert overview is not None
        chosen = [
            Chosen(s, r, self._curves(r, view), s.id == overview.reference) for s, r in self._selection.shown_runs()
        ]
        pins = overview.pins_of(column.id, self.pin_key or view.key)
        figure = make_figure(
            column,
            view,
            chosen,
            self.channels,
            self.percent,
            pins=pins,
            axis=self.axis,
            band=self.band,
            by=self.levelling(),
        )
        lines, checks = self._overlays(figure, view.key, chosen, self.channels)
        sentences = tuple(dict.fromkeys(line.words for line in lines if line.words))
        sentences += tuple(
            f"Note on {c.subject.full_name}: {note}" for c in chosen for note in overview.notes_on(c.subject, c.run)
        )
        figure = replace(
            figure,
            lines=lines,
            held=checks,
            notes=(*figure.notes[: len(figure.crossings)], *checks, *figure.notes[len(figure.crossings) :], *sentences),
        )
        shown = (column.id, view.key, figure.y_unit, self.axis.key if self.axis else "")
        if self._shown is not None and shown[:2] != self._shown[:2] and self.band is not None:
            self.band = None  # a band belongs to the axis it was dragged on
            self._draw(column, view)
            return
        self.outdated = False
        self.panel.graph.set_figure(figure, keep_zoom=shown == self._shown)
        self._draw_others(column, view)
        self._shown = shown
        self._drawn(DrawnRuns(column, chosen, tuple(pins), view.axis))

    def _draw_others(self, column: Column, view: CurveView) -> None:
        """Draw other curves of the same runs in the further graphs, where those are shown."""
        if not self.panel.four_shown:
            return
        from epidote.desktop.pages.matrix.graph.chosen import Chosen
        from epidote.desktop.pages.matrix.graph.figure_builder import make_figure

        overview = self._session.overview
        first_of_groups = {v.group: v for v in reversed(self._views) if v.group != view.group}
        others = [v for v in self._views if v in first_of_groups.values()]
        others += [v for v in self._views if v is not view and v not in others]
        drawable = [v for v in others if not v.key.startswith("step_")]
        for number, other in enumerate(self.panel.others):
            if number >= len(drawable) or overview is None:
                other.show_figure("", "", None)
                continue
            shown = drawable[number]
            chosen = [
                Chosen(s, r, self._plain_curves(r, shown), s.id == overview.reference)
                for s, r in self._selection.shown_runs()
            ]
            figure = make_figure(column, shown, chosen, self.channels, self.percent, pins=())
            other.show_figure(shown.key, shown.group, figure)

    def _plain_curves(self, run: RunSummary, view: CurveView) -> tuple[Any, ...]:
        """Return a run's curves of a view, each kind on the first of its axes."""
        curves = [c for c in self._selection.curves_of(run.id) if c.key == view.key]
        return tuple(c for c in curves if c.x_unit == curves[0].x_unit)

    def show_four(self, on: bool) -> None:
        """Show three more graphs beside the main one, or that one alone."""
        self.panel.show_four(on)
        self._selection.refresh()

    def _show_nothing(self, column: Column) -> None:
        """Show readings without a curve."""
        from epidote.desktop.pages.matrix.graph.chosen import Chosen

        overview = self._session.overview
        assert overview is not None
        self.key = self.axis = None
        panel = self.panel
        for choice in (panel.views, panel.variants, panel.axes, panel.channels, panel.units):
            choice.set_options([], [])
        self._offer_steps([])
        self.outdated = False
        panel.graph.set_figure(None, keep_zoom=False, instead=self._why_nothing(column))
        chosen = [Chosen(s, r, (), s.id == overview.reference) for s, r in self._selection.shown_runs()]
        if chosen:
            self._drawn(DrawnRuns(column, chosen, (), ""))

    def _why_nothing(self, column: Column) -> str:
        """Say why there is no curve to draw."""
        overview = self._session.overview
        if self._selection.shown_runs():
            return READINGS_ONLY
        if overview is not None and any(of == column.id for _, of in overview.runs):
            return NOTHING_SELECTED
        return NOTHING_MEASURED

    def _curves(self, run: RunSummary, view: CurveView) -> tuple[Any, ...]:
        """Return a run's curves of a view, on the chosen axis."""
        from epidote.core.comparison.differences.axes import on_axis, per_hertz

        if self._place is not None and (run.id, self._place) in self._stepped and view.key.startswith("step_"):
            return tuple(c for c in self._stepped[run.id, self._place] if c.key == view.key)
        if view.key == DENSITY:
            return tuple(
                d
                for c in self._selection.curves_of(run.id)
                if c.key == DENSITY_SOURCE and (d := per_hertz(c)) is not None
            )
        curves = [c for c in self._selection.curves_of(run.id) if c.key == view.key]
        if self.axis is None:
            return tuple(curves)
        return tuple(
            on_axis(c, self.axis, run.chain.scale(c.channel)[0]) for c in curves if c.x_unit == self.axis.source
        )

    def in_view(self, run_id: int) -> tuple[Any, ...]:
        """Return a run's curves as they are shown, for an export."""
        view = next((v for v in self._views if v.key == self.key), None)
        run = next((r for _, r in self._selection.shown_runs() if r.id == run_id), None)
        if view is not None and run is not None:
            return self._curves(run, view)
        return ()

    @property
    def placed_setting(self) -> str:
        """The setting whose value can be placed on the curves in view by a pin; "" for none."""
        return next((v.places for v in self._views if v.key == self.key), "")

    @property
    def pin_key(self) -> str | None:
        """Under which name pins of this view are kept: each axis has its own."""
        if self.key is None or self.axis is None or self.axis is self._axes[0]:
            return self.key
        return f"{self.key} against {self.axis.key}"

    # -- bringing gains to one level ---------------------------------------------------------------

    def _offer_aligning(self, view: CurveView, rows: list[Any]) -> None:
        overview = self._session.overview
        there = (
            view.role is CurveRole.RESPONSE
            and overview is not None
            and overview.reference in {s.id for s in rows}
            and len(rows) > 1
        )
        options = [
            ("no", "As measured"),
            ("1k", "Aligned at 1 kHz"),
            *([("band", "Aligned over band")] if self.band else []),
        ]
        if self.align not in dict(options):
            self.align = "no"
        self.panel.aligning.set_options(options if there else [], [self.align])
        if not there:
            self.align = "no"

    def levelling(self) -> Any:
        """How curves are brought to the reference's level before they are compared; None: they are not."""
        from epidote.core.comparison.differences.gain_alignment import Levelling

        if self.align == "1k":
            return Levelling(1000.0)
        if self.align == "band" and self.band is not None:
            return Levelling(*self.band)
        return None

    def set_band(self, band: tuple[float, float] | None) -> None:
        """Look for the greatest deviation between two x only; None: everywhere."""
        self.band = band
        self._selection.refresh()

    # -- kept operating points ---------------------------------------------------------------------

    def points(self, column: Column) -> list[tuple[int, Any]]:
        """Return the column's kept points with their entries' numbers."""
        from epidote.core.comparison.differences.operating_points import OperatingPoint

        overview = self._session.overview
        if overview is None:
            return []
        own = (e for e in overview.of_kind("point") if e.owner.column == column.id)
        return [(e.id, point) for e, point in valid(own, OperatingPoint)]

    def keep_point(self, text: str) -> None:
        """Keep a typed operating point of the curves in view as a reading of the column."""
        from epidote.core.comparison.differences.operating_points import parse_point
        from epidote.core.quantities.units import QuantityError
        from epidote.desktop.state import edits
        from epidote.study.models import Owner

        column = self._selection.current_column()
        if column is None or self.key is None or not text.strip():
            return
        curves = [
            c for _, r in self._selection.shown_runs() for c in self._selection.curves_of(r.id) if c.key == self.key
        ]
        if not curves:
            return
        order = ("W", "Hz", "V", "dBFS")
        units = sorted({c.x_unit for c in curves}, key=lambda u: order.index(u) if u in order else 9)
        try:
            point = parse_point(text, self.key, units, curves[0].y_unit)
        except QuantityError as error:
            self._selection.failed.emit(in_window(error))
            return
        edits.add_entry(
            self._session, "point", point.model_dump(mode="json"), f"Add point {point.name}", Owner(column=column.id)
        )

    # -- single steps of a staircase ---------------------------------------------------------------

    def _offer_steps(self, curves: list[Any]) -> None:
        """Offer the steps that the chosen runs have, by their drive or frequency."""
        stepped = next((c for c in curves if c.x_unit in ("dBFS", "Hz") and not c.key.startswith("step_")), None)
        if stepped is None:
            self._places = []
            self.panel.show_step("")
            return
        unit = stepped.x_unit
        self._places = sorted(
            {
                round(float(x), 3 if unit == "dBFS" else 1)
                for c in curves
                if c.key == stepped.key and c.x_unit == unit
                for x in c.x
            }
        )
        if self._place not in self._places:
            self._place = self._places[-1]
        from epidote.core.quantities.formatting import format_quantity

        self.panel.show_step(f"{format_quantity(self._place, unit, digits=4)}{' generator' if unit == 'dBFS' else ''}")

    def next_step(self, by: int) -> None:
        """Look at a step further up or down the staircase."""
        if self._places and self._place in self._places:
            i = self._places.index(self._place) + by
            self._place = self._places[max(0, min(i, len(self._places) - 1))]
            self._selection.refresh()

    def _steps_ready(self, runs: list[RunSummary]) -> bool:
        """Whether the step's curves are there; otherwise they are computed from the recordings, and then shown."""
        place = self._place
        assert place is not None
        missing = [r for r in runs if (r.id, place) not in self._stepped]
        missing_runs = [r for r in missing if (r.id, place) not in self._asked]
        if not missing_runs:
            return not missing
        self._asked.update((r.id, place) for r in missing_runs)

        def ask(study: Any) -> dict[int, tuple[Any, ...]]:
            from epidote.measurement.processing import step_curves

            if self._place != place:  # somebody has gone on to another step meanwhile
                return {}
            return {r.id: step_curves(study, r, place) for r in missing_runs}

        def done(curves_by_run: dict[int, tuple[Any, ...]]) -> None:
            self._asked.difference_update((r.id, place) for r in missing_runs)
            self._stepped.update({(run_id, place): curves for run_id, curves in curves_by_run.items()})
            while len(self._stepped) > _MOST_STEPS:
                self._stepped.pop(next(iter(self._stepped)))
            self._selection.refresh()

        self._session.ask(ask, done)
        return False

    # -- choosing ----------------------------------------------------------------------------------

    def choice_changed(self) -> None:
        """Somebody pressed one of the buttons about the graph."""
        column, panel = self._selection.current_column(), self.panel
        if column is not None and panel.views.on():
            group = [v for v in self._views if v.group == panel.views.on()[0]]
            chosen = panel.variants.on()
            self._view_of[column.procedure] = next((v.key for v in group if v.key in chosen), group[0].key)
            if panel.axes.on():
                self._axis_of[column.procedure] = panel.axes.on()[0]
        if panel.aligning.on():
            self.align = panel.aligning.on()[0]
        if panel.units.on():
            self.percent = "%" in panel.units.on()
        channels = {int(c) for c in panel.channels.on()} or self.channels
        self._channels_chosen = self._channels_chosen or channels != self.channels
        self.channels = channels
        self._selection.refresh()

    def _keep_channels(self, channels: list[int]) -> None:
        """Keep the chosen channels where these curves have them; else show the one that says most."""
        if self._channels_chosen and self.channels & set(channels):
            self.channels = self.channels & set(channels)
        else:
            self.channels = {default_channel(channels)}

    @property
    def first_channel(self) -> int:
        """The channel of those in view that single figures are given for."""
        return default_channel(self.channels)

    def show_view(self, key: str) -> None:
        """Show the curves of that key."""
        column = self._selection.current_column()
        if column is not None:
            self._view_of[column.procedure] = key
            self._selection.refresh()

    def next_view(self, by: int = 1) -> None:
        keys = [v.key for v in self._views]
        if self.key in keys:
            self.show_view(keys[(keys.index(self.key) + by) % len(keys)])

    def show_axis(self, key: str) -> None:
        column = self._selection.current_column()
        if column is not None:
            self._axis_of[column.procedure] = key
            self._selection.refresh()

    def next_axis(self) -> None:
        if self._axes and self.axis is not None:
            self.show_axis(self._axes[(self._axes.index(self.axis) + 1) % len(self._axes)].key)

    def set_percent(self, percent: bool) -> None:
        """Show ratios in % or in dB, everywhere."""
        self.percent = percent
        self._selection.refresh()

    def toggle_percent(self) -> None:
        self.set_percent(not self.percent)

    def toggle_channel(self, channel: int) -> None:
        self._channels_chosen = True
        self.channels = (self.channels ^ {channel}) or self.channels
        self._selection.refresh()


def _extra_of(proc: Any) -> tuple[str, str]:
    """Return words and name of the command that a procedure's runs have beside the usual ones."""
    if proc.aligns_paths:
        return "Align paths…", "align"
    if any(kind.total_latency for kind in proc.readings):
        return "Latency table", "latencies"
    return "", ""


def _views_of(proc: Any, available: list[Any]) -> tuple[CurveView, ...]:
    """Return the procedure's views as far as there are curves, with what can be made of those."""
    keys = {c.key for c in available}
    views: list[CurveView] = []
    for view in proc.views:
        if view.key in keys:
            views.append(view)
            if view.key == DENSITY_SOURCE and any("enbw_hz" in c.meta for c in available if c.key == view.key):
                views.append(replace(view, key=DENSITY, title="density", axis="Level in 1 Hz bandwidth"))
    return (*views, *(proc.step_views if available else ()))


def procedure_named(key: str) -> Any:
    """Return a procedure by its key; the procedures are loaded when first asked for."""
    from epidote.core.procedures.registry import procedure

    return procedure(key)
