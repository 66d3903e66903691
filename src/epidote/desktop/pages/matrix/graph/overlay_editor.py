"""Making guides and limits of the Matrix page's graph: by hand, about a reference, from good units, from a file."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QMenu

from epidote.core.errors import EpidoteError
from epidote.desktop.state import edits
from epidote.desktop.widgets.plain import button_text

if TYPE_CHECKING:
    from epidote.core.comparison.graph_guides import GraphGuide
    from epidote.desktop.pages.matrix.graph.overlays import GraphOverlays
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.study.models import Entry


class OverlayEditor:
    """The menu of lines on the graph, and the commands that make and change them."""

    def __init__(self, selection: MatrixSelection, view: GraphViewState, overlays: GraphOverlays) -> None:
        self._selection, self._view, self._session = selection, view, selection.session
        self._overlays = overlays
        self._drawing = ""  # the side of the limit that is being drawn, "" for none

    def fill_menu(self, menu: QMenu) -> None:
        menu.clear()
        writable = self._session.writable
        off = self._overlays.hidden()
        shown = self._view.figure()
        if shown is not None:
            fitting = list(dict.fromkeys([*(line.name for line in shown.lines), *off]))
        else:
            fitting = []
        for name in fitting:
            action = menu.addAction(button_text(name), partial(self._overlays.toggle, name))
            action.setCheckable(True)
            action.setChecked(name not in off)
        if fitting:
            menu.addSeparator()
        has = shown is not None and bool(shown.traces)
        for words, do in (
            ("Draw upper limit", lambda: self.draw("upper")),
            ("Draw lower limit", lambda: self.draw("lower")),
            ("Limits around reference…", self.about_reference),
            ("Limits from selected rows", self.from_chosen),
            ("Enter limit…", self.typed),
            ("Import limit…", self.imported),
            ("New guide…", self.new_guide),
        ):
            menu.addAction(words, do).setEnabled(writable and has)
        drawn: set[str] = set()
        if shown is not None:
            drawn = {line.name for line in shown.lines}
        changeable = [(entry, guide) for entry, guide in self._overlays.guides() if guide.name in drawn]
        if changeable:
            change = menu.addMenu("Edit")
            change.setEnabled(writable)
            for entry, guide in changeable:
                change.addAction(button_text(guide.name), partial(self.change_guide, entry, guide))
        own = [
            *((e, g.name) for e, g in self._overlays.guides() if e is not None),
            *((e, f"Limit {limit.name}") for e, limit in self._overlays.limits()),
        ]
        if own:
            gone = menu.addMenu("Delete")
            gone.setEnabled(writable)
            for entry, name in own:
                gone.addAction(button_text(name), partial(edits.delete_entry, self._session, entry.id, name))

    def draw(self, side: str) -> None:
        """Draw a limit by hand on the graph; ``drawn`` is called with its corners."""
        self._drawing = side
        self._view.panel.graph.start_drawing()

    def drawn(self, corners: list[tuple[float, float]]) -> None:
        import math

        figure = self._view.figure()
        if figure is None or not self._drawing:
            return
        if figure.y_unit == "%":
            corners = [(x, 20 * math.log10(max(y, 1e-12) / 100)) for x, y in corners]
        if len(corners) == 1:  # one corner: a limit right across
            corners = [(figure.x_extent().low, corners[0][1]), (figure.x_extent().high, corners[0][1])]
        self._keep({self._drawing: tuple(corners)}, f"{self._drawing.capitalize()} limit", "drawn by hand")

    def _keep(self, sides: dict[str, Any], name: str, source: str) -> None:
        from pydantic import ValidationError

        from epidote.core.comparison.limits import Limit
        from epidote.core.settings import validation_words

        figure, column, key = self._view.figure(), self._selection.current_column(), self._view.key
        if figure is None or column is None or key is None:
            return
        if figure.y_unit == "%":
            y_unit = "dB"
        else:
            y_unit = figure.y_unit
        try:
            limit = Limit(
                name=self._free(name),
                procedure=column.procedure,
                key=key,
                unit=y_unit,
                x_unit=figure.x_unit,
                source=source,
                **sides,
            )
        except ValidationError as error:
            self._selection.failed.emit(
                f"Invalid limit: {validation_words(error)}. Nothing was added; correct the values."
            )
            return
        edits.add_entry(self._session, "limit", limit.model_dump(mode="json"), f"Add limit “{limit.name}”")

    def _free(self, name: str) -> str:
        """Return a name that no limit has yet."""
        used_names = {limit.name for _, limit in self._overlays.limits()}
        return next(n for i in range(1, 999) if (n := name if i == 1 else f"{name} {i}") not in used_names)

    def _chosen_curves(self) -> list[tuple[Any, Any]]:
        """(row, curve of the first channel shown) of every chosen run that is no baseline."""
        channel = self._view.first_channel
        curves = []
        for subject, run in self._selection.selected_runs():
            if subject.is_baseline:
                continue
            curve = next((c for c in self._view.in_view(run.id) if c.channel == channel), None)
            if curve is not None:
                curves.append((subject, curve))
        return curves

    def about_reference(self, distance: float | None = None) -> None:
        """Limits so many dB above and below the reference's curve, or the first chosen one's."""
        from PySide6.QtWidgets import QInputDialog

        from epidote.core.comparison.limits import around_curve

        chosen, overview, column = self._chosen_curves(), self._session.overview, self._selection.current_column()
        if not chosen or overview is None or column is None:
            return
        subject, curve = next(((s, c) for s, c in chosen if s.id == overview.reference), chosen[0])
        if distance is None:
            distance, go = QInputDialog.getDouble(
                self._view.panel,
                "Limits around reference",
                f"Tolerance above and below {subject.full_name}, in {curve.y_unit}",
                1.0,
                0.001,
                1000.0,
                3,
            )
            if not go:
                return
        limit = around_curve(
            self._free(f"±{distance:g} {curve.y_unit}"),
            column.procedure,
            curve,
            distance,
            distance,
            source=f"around {subject.full_name}",
        )
        edits.add_entry(self._session, "limit", limit.model_dump(mode="json"), "Add limits around reference")

    def from_chosen(self) -> None:
        """Limits three standard deviations about the mean of the chosen rows."""
        from epidote.core.comparison.limits import from_reference_units

        column = self._selection.current_column()
        try:
            limit = from_reference_units(
                self._free("Good units"), column.procedure if column else "", [c for _, c in self._chosen_curves()]
            )
        except EpidoteError as error:
            self._selection.failed.emit(f"{error} Select their cells first.")
            return
        edits.add_entry(self._session, "limit", limit.model_dump(mode="json"), "Add limits from selected rows")

    def typed(self, text: str | None = None) -> None:
        """Corners as "20 -3, 1000 -1, 20000 -3"; upper unless it begins with "lower"."""
        from PySide6.QtWidgets import QInputDialog

        from epidote.study.interchange.curve_text import parse_text_curve

        if text is None:
            text, go = QInputDialog.getText(
                self._view.panel,
                "Enter limit",
                "Side, then points (x value) separated by commas, e.g. upper 20 3, 1000 1, 20000 3",
            )
            if not go:
                return
        if text.strip().lower().startswith("lower"):
            side = "lower"
        else:
            side = "upper"
        body = text.strip().removeprefix("lower").removeprefix("upper").strip()
        try:
            curve, _ = parse_text_curve(
                "\n".join(part.strip() for part in body.replace(";", ",").split(",")), "The limit"
            )
        except EpidoteError as error:
            self._selection.failed.emit(f"{error} Nothing was added. Example: upper 20 3, 1000 1, 20000 3")
            return
        self._keep(
            {side: tuple(zip(curve.x.tolist(), curve.y.tolist(), strict=True))}, f"{side.capitalize()} limit", "entered"
        )

    def imported(self) -> None:
        """Import a limit from a text file of two columns; upper, or lower as the user says."""
        from pathlib import Path

        from PySide6.QtWidgets import QFileDialog, QInputDialog

        from epidote.desktop.widgets.curve_preview import ask_reading
        from epidote.study.interchange.curve_text import readings_of_file

        name, _ = QFileDialog.getOpenFileName(
            self._view.panel,
            "Import limit (columns: x, value)",
            str(Path.home()),
            "Text files (*.txt *.csv *.tsv *.frd);;All files (*)",
        )
        if not name:
            return
        side, go = QInputDialog.getItem(
            self._view.panel, "Import limit", "Type", ["upper limit", "lower limit"], 0, False
        )
        if go:
            try:
                interpretations = readings_of_file(Path(name))
            except EpidoteError as error:
                self._selection.failed.emit(str(error))
                return
            options = ask_reading(self._view.panel, Path(name).name, interpretations)
            reading = next((r for r in interpretations if r.options == options), None)
            if reading is None:
                return
            curve = reading.level
            self._keep(
                {side.split()[0]: tuple(zip(curve.x.tolist(), curve.y.tolist(), strict=True))},
                Path(name).stem[:60],
                f"from {Path(name).name}",
            )

    def new_guide(self) -> None:
        """Ask for a guide at a typed value, with a name and a sentence."""
        from epidote.core.comparison.graph_guides import GraphGuide
        from epidote.desktop.pages.matrix.graph.guide_dialog import GuideDialog

        figure, key = self._view.figure(), self._view.key
        if figure is None or key is None:
            return
        dialog = GuideDialog(self._view.panel, figure.x_unit, "dB" if figure.y_unit == "%" else figure.y_unit)
        if dialog.exec():
            guide = GraphGuide(curves=(key,), **dialog.values())
            edits.add_entry(self._session, "guide", guide.model_dump(mode="json"), f"Add guide “{guide.name}”")

    def change_guide(self, entry: Entry | None, guide: GraphGuide) -> None:
        """Change place, name or sentence of a guide; a shipped one becomes one of the study's own."""
        from epidote.core.comparison.graph_guides import GraphGuide
        from epidote.desktop.pages.matrix.graph.guide_dialog import GuideDialog

        dialog = GuideDialog(self._view.panel, guide.x_unit or "", guide.y_unit.removesuffix(" re 1 kHz"), guide)
        if dialog.exec():
            if guide.y_unit:
                unit = {"y_unit": guide.y_unit}
            else:
                unit = {"x_unit": guide.x_unit}
            made = GraphGuide(curves=guide.curves, **{**dialog.values(), **unit}).model_dump(mode="json")
            if entry is None:
                edits.add_entry(self._session, "guide", made, f"Edit guide “{guide.name}”")
            else:
                edits.change_entry(self._session, entry.id, entry.data, made, f"Edit guide “{guide.name}”")

    def limit_reading(self, key: str, unit: str, title: str, *, text: str | None = None) -> None:
        """Ask for a limit of a reading: "at most 0.01 %", "at least 100 dB"."""
        from PySide6.QtWidgets import QInputDialog

        from epidote.core.comparison.limits import Limit
        from epidote.core.quantities.units import QuantityError, parse_as

        column = self._selection.current_column()
        if column is None:
            return
        if text is None:
            text, go = QInputDialog.getText(
                self._view.panel, f"Limit for “{title}”", f"“at most” or “at least”, then a value in {unit}"
            )
            if not go:
                return
        lower = text.strip().lower().startswith(("at least", ">", "min"))
        body = text.strip().lower()
        for word in ("at most", "at least", "<=", ">=", "<", ">", "max", "min"):
            if body.startswith(word):
                body = body.removeprefix(word).strip()
        try:
            value = parse_as(text.strip()[len(text.strip()) - len(body) :], unit)
        except QuantityError as error:
            self._selection.failed.emit(f"{error} Nothing was added. Example: at most 0.01 %")
            return
        side = {"lower" if lower else "upper": ((0.0, value),)}
        limit = Limit(name=self._free(title), procedure=column.procedure, key=key, unit=unit, source="typed", **side)
        edits.add_entry(self._session, "limit", limit.model_dump(mode="json"), f"Add limit for {title}")
