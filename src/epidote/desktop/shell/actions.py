"""Every command as data: name, words, shortcut, place in the menu bar, what it does and what it needs.

Menu bar, context menus, keyboard and the command search are made from this one list.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from epidote.desktop.pages.matrix.panels.side_panel import TABS
from epidote.desktop.shell.availability import Availability
from epidote.desktop.shell.page_list import PAGES

if TYPE_CHECKING:
    from PySide6.QtWidgets import QMenu

    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.shell.air_actions import AirActions
    from epidote.desktop.shell.file_actions import FileActions
    from epidote.desktop.shell.routine_actions import RoutineActions
    from epidote.desktop.shell.row_actions import RowActions
    from epidote.desktop.shell.window_port import WindowCommands
    from epidote.desktop.state.session import Session

Requirement = Callable[[], str]

# titles with the letter that opens each; "/" leads to a submenu
MENUS = ("&File", "&Edit", "&View", "Matri&x", "Mea&sure", "&Graph", "&Help")


@dataclass(frozen=True)
class Command:
    """words: with & before the letter that selects it in its menu. menu: "File", or "File/&Import" for a submenu.

    needs: what must be so before it can be carried out; each returns "" or why it cannot be. edits: why the study
    cannot be changed, of a command that changes it. state: of a command that switches something, whether that is on.
    fill: of a submenu that is made when it is opened. gap: a separator stands before it.
    """

    name: str
    words: str
    shortcut: str
    menu: str
    do: Callable[[], None]
    needs: tuple[Requirement, ...] = ()
    edits: Requirement | None = None
    state: Callable[[], bool] | None = None
    fill: Callable[[QMenu], None] | None = None
    gap: bool = False

    @property
    def title(self) -> str:
        """The words without the mark of their letter."""
        return self.words.replace("&", "")

    @property
    def path(self) -> str:
        """Where it stands: "File, Import"."""
        return self.menu.replace("&", "").replace("/", ", ")

    def forbidden(self) -> str:
        """Why it may not change the study; "" where it may, or where it changes nothing."""
        if self.edits is None:
            return ""
        return self.edits()

    def missing(self) -> str:
        """Why it cannot be carried out; "" where it can."""
        return self.forbidden() or next((why for need in self.needs if (why := need())), "")


def _nothing() -> None:
    """Stand in for the action of a submenu, which only opens."""


def commands_of(
    window: WindowCommands,
    session: Session,
    matrix: MatrixPage,
    rows: RowActions,
    files: FileActions,
    *,
    air: AirActions,
    routines: RoutineActions,
) -> list[Command]:
    """Everything that can be done, in the order of the menus."""
    can = Availability(session, matrix)
    return [
        *_file(window, files, routines, can),
        *_edit(window, session, matrix, files, can),
        *_view(window, matrix, rows, can),
        *_matrix(rows, can),
        *_chain_of_row(air, can),
        *_routines(routines, can),
        *_measure(window, matrix, rows, can),
        *_air(air, can),
        *_graph(window, matrix, can),
        *_help(window),
    ]


def _file(window: WindowCommands, files: FileActions, routines: RoutineActions, can: Availability) -> list[Command]:
    into, out = "File/&Import", "File/&Export"
    change = can.writable
    return [
        Command("new", "&New study…", "Ctrl+N", "File", window.new_study),
        Command("open", "&Open study…", "Ctrl+O", "File", window.choose_study),
        Command("recent", "Open &recent", "", "File", window.show_start, fill=window.fill_recent),
        Command("demo", "Open &demo study", "", "File", window.open_demo),
        Command("analyse", "&Analyse recording…", "Ctrl+Shift+O", "File", files.choose_recordings),
        Command("start page", "&Start page", "Ctrl+Shift+N", "File", window.show_start),
        Command("curve in", "&Curve…", "", into, files.take_curve, (can.unit_row,), change, gap=True),
        Command("recording in", "&Recording…", "", into, files.take_recording, (can.row, can.column), change),
        Command("claims in", "C&laims from CSV…", "", into, files.take_claims, (can.unit_row,), change),
        Command("unzip", "&Study from ZIP…", "", into, files.open_zip),
        Command("export", "&Graph or data…", "Ctrl+E", out, files.export, (can.graph,)),
        Command("stimulus out", "&Stimulus file…", "", out, files.write_stimulus, (can.study, can.row, can.column)),
        Command("zip", "S&tudy as ZIP…", "", out, files.zip_study, (can.study,)),
        Command("merge", "&Merge study…", "", "File", routines.merge, (can.study,), change, gap=True),
        Command("person", "O&perator…", "", "File", files.ask_person, (), change),
        Command("quit", "&Quit", "Ctrl+Q", "File", window.quit, gap=True),
    ]


def _edit(
    window: WindowCommands, session: Session, matrix: MatrixPage, files: FileActions, can: Availability
) -> list[Command]:
    return [
        Command("undo", "&Undo", "Ctrl+Z", "Edit", session.undo.undo, (can.undo,), can.writable),
        Command("redo", "&Redo", "Ctrl+Shift+Z", "Edit", session.undo.redo, (can.redo,), can.writable),
        Command("copy graph", "&Copy graph", "Ctrl+Shift+G", "Edit", files.copy_graph, (can.graph,), gap=True),
        Command("copy table", "Copy r&eadings", "Ctrl+Shift+T", "Edit", files.copy_table, (can.runs,)),
        Command(
            "whole column",
            "&Select measured cells in column",
            "Ctrl+L",
            "Edit",
            matrix.selection.select_column,
            (can.study,),
            gap=True,
        ),
        Command("preferences", "&Preferences…", "Ctrl+,", "Edit", window.edit_preferences, gap=True),
    ]


def _view(window: WindowCommands, matrix: MatrixPage, rows: RowActions, can: Availability) -> list[Command]:
    go = "View/&Go to"
    letters = {"readings": "&Readings", "conditions": "C&onditions", "claims": "C&laims", "difference": "&Difference"}
    return [
        *(
            Command(
                f"page {kind.title}",
                kind.menu_words,
                f"Alt+{i}",
                "View",
                lambda n=kind.title: window.show_page(n),  # type: ignore[misc]
                state=lambda n=kind.title: window.page_in_view() == n,  # type: ignore[misc]
            )
            for i, kind in enumerate(PAGES, start=1)
        ),
        *(
            Command(
                f"beside {key}",
                f"{letters.get(key, f'&{words}')} panel",
                f"Ctrl+Alt+{i}",
                "View",
                lambda k=key: matrix.beside.show(k),  # type: ignore[misc]
                state=lambda k=key: matrix.beside.tab == k,  # type: ignore[misc]
                gap=i == 1,
            )
            for i, (key, words) in enumerate(TABS, start=1)
        ),
        Command("to matrix", "Focus &matrix", "F6", go, matrix.table.setFocus, gap=True),
        Command("to graph", "Focus &graph", "F7", go, window.focus_graph, (can.study,)),
        Command("to side", "Focus &side panel", "F8", go, window.focus_side, (can.study,)),
        *(
            Command(
                f"chain {block.lower()}",
                f"&{block}",
                "",
                "View/Chain bloc&k",
                lambda b=block: window.show_chain(b.lower()),  # type: ignore[misc]
                (can.study,),
            )
            for block in ("Source", "Output", "Unit", "Load", "Probe", "Input")
        ),
        Command("latencies", "Latency &table", "Ctrl+Shift+L", "View", rows.show_latencies, (can.study,)),
        Command(
            "large graph",
            "Ma&ximise graph",
            "F11",
            "View",
            matrix.toggle_large_graph,
            (can.study,),
            state=lambda: matrix.graph_is_large,
            gap=True,
        ),
        Command(
            "four graphs",
            "Fo&ur graphs",
            "Ctrl+Shift+F",
            "View",
            matrix.toggle_four_graphs,
            (can.study,),
            state=lambda: matrix.four_graphs,
        ),
        Command(
            "panel below",
            "Panel &below graph",
            "Ctrl+Shift+P",
            "View",
            matrix.toggle_panel_below,
            (can.study,),
            state=lambda: matrix.panel_is_below,
        ),
    ]


def _matrix(rows: RowActions, can: Availability) -> list[Command]:
    change, unit, row = can.writable, (can.unit_row,), (can.row,)
    return [
        Command("add row", "&Add row…", "Ctrl+R", "Matrix", rows.add_row, (), change),
        Command("change row", "&Edit row…", "F2", "Matrix", rows.change_row, unit, change),
        Command("duplicate", "D&uplicate row…", "Ctrl+D", "Matrix", rows.duplicate_row, unit, change),
        Command("delete row", "&Delete row", "Ctrl+Delete", "Matrix", rows.delete_row, unit, change),
        Command(
            "reference",
            "&Set as reference",
            "Ctrl+B",
            "Matrix",
            rows.toggle_reference,
            row,
            change,
            rows.is_reference,
            gap=True,
        ),
        Command("show row", "Show row in &graph", "Ctrl+H", "Matrix", rows.toggle_row, row, change, rows.is_shown),
        Command("row up", "&Move row up", "Ctrl+Shift+Up", "Matrix", lambda: rows.move_row(-1), unit, change, gap=True),
        Command("row down", "Move row d&own", "Ctrl+Shift+Down", "Matrix", lambda: rows.move_row(1), unit, change),
        Command("column left", "Move column le&ft", "", "Matrix", lambda: rows.move_column(-1), (can.column,), change),
        Command("column right", "Move column righ&t", "", "Matrix", lambda: rows.move_column(1), (can.column,), change),
        Command("add column", "Add &column…", "Ctrl+Shift+C", "Matrix", rows.add_column, (), change, gap=True),
        Command("headline", "Main &reading", "", "Matrix", _nothing, (can.column,), change, fill=rows.fill_headline),
        Command("delete column", "De&lete column", "", "Matrix", rows.delete_column, (can.column,), change),
    ]


def _measure(window: WindowCommands, matrix: MatrixPage, rows: RowActions, can: Availability) -> list[Command]:
    change, run, runs, comparing = can.writable, (can.run,), (can.runs,), matrix.beside.comparing
    menu = "Measure"
    return [
        Command(
            "measure", "&Measure selected empty cells", "Ctrl+M", menu, matrix.measure_empty, (can.empty_cells,), change
        ),
        Command("again", "Measure &again", "F5", menu, matrix.run_again, runs, change),
        Command("other settings", "Measure with &other settings…", "Shift+F5", menu, matrix.offer_measure, run, change),
        Command("repeat often", "&Repeat measurements…", "Ctrl+F5", menu, comparing.repeat, runs, change),
        Command(
            "repeat",
            "Measure row &like reference",
            "Ctrl+Shift+D",
            menu,
            rows.repeat_reference,
            (can.like_reference,),
            change,
        ),
        Command("swap channels", "Measure with channels &swapped…", "", menu, comparing.swap_channels, runs, change),
        Command("baseline", "Measure &baseline…", "Ctrl+Shift+B", menu, rows.measure_baseline, (), change),
        Command("guided", "First measurement, &guided", "Ctrl+Shift+M", menu, window.show_guided),
        Command("recompute", "Re&compute…", "Ctrl+Shift+R", menu, matrix.offer_recompute, run, change, gap=True),
        Command("history", "&Earlier runs", "", menu, _nothing, (can.run,), fill=rows.fill_history),
        Command("align", "Align &paths…", "Ctrl+Shift+A", menu, rows.align_paths, (can.study, can.runs)),
        Command("delete run", "&Delete run", "Ctrl+Backspace", menu, rows.delete_run, run, change),
        Command("stop", "S&top output and measurement", "Esc", menu, window.silence, gap=True),
    ]


def _chain_of_row(air: AirActions, can: Availability) -> list[Command]:
    return [
        Command(
            "row chain", "C&hain of row", "", "Matrix", _nothing, (can.unit_row,), can.writable, fill=air.fill_row_chain
        )
    ]


def _routines(routines: RoutineActions, can: Availability) -> list[Command]:
    into, out, change = "File/&Import", "File/&Export", can.writable
    there = (can.study, routines.why_no_routine)
    return [
        Command(
            "make routine",
            "Create routine from ro&w…",
            "",
            "Matrix",
            routines.make_of_row,
            (can.unit_row,),
            change,
            gap=True,
        ),
        Command("edit routine", "Edit rout&ine…", "", "Matrix", routines.edit, there, change),
        Command("import routine", "R&outine…", "", into, routines.take_in, (can.study,), change),
        Command("export routine", "&Routine…", "", out, routines.write, there),
        Command("export passes", "R&esults of routine…", "", out, routines.write_passes, there),
    ]


def _air(air: AirActions, can: Availability) -> list[Command]:
    return [
        Command(
            "keep source",
            "Sa&ve source with chain…",
            "",
            "Measure",
            air.keep_source,
            (can.run, air.why_no_source),
            can.writable,
            gap=True,
        ),
        Command("sounds", "So&unds of run", "", "Measure", _nothing, (air.why_no_sound,), fill=air.fill_sounds),
        Command(
            "inverse out", "&Inverse response…", "", "File/&Export", air.write_inverse, (can.run, air.why_no_inverse)
        ),
    ]


def _graph(window: WindowCommands, matrix: MatrixPage, can: Availability) -> list[Command]:
    look, pins, lines = matrix.look, matrix.pins, matrix.line_editor
    curve, limits, change = (can.study, can.graph), "Graph/&Limits", can.writable
    return [
        Command("next view", "&Next curve type", "Ctrl+Right", "Graph", look.next_view, curve),
        Command("previous view", "&Previous curve type", "Ctrl+Left", "Graph", lambda: look.next_view(-1), curve),
        Command("next axis", "Next &x-axis quantity", "Ctrl+Shift+Right", "Graph", look.next_axis, curve),
        Command("step up", "Next sweep &step", "Ctrl+PgUp", "Graph", lambda: look.next_step(1), curve),
        Command("step down", "Pre&vious sweep step", "Ctrl+PgDown", "Graph", lambda: look.next_step(-1), curve),
        Command(
            "percent",
            "Ratios in p&ercent",
            "Ctrl+U",
            "Graph",
            look.toggle_percent,
            state=lambda: look.percent,
            gap=True,
        ),
        *(
            Command(
                f"channel {n}",
                f"Channel &{n}",
                f"Ctrl+{n}",
                "Graph",
                lambda n=n: look.toggle_channel(n),  # type: ignore[misc]
                state=lambda n=n: n in look.channels,  # type: ignore[misc]
            )
            for n in (1, 2)
        ),
        Command("corners", "Pin -&3 dB points", "Ctrl+3", "Graph", pins.corners, curve, change, gap=True),
        Command("apply pin", "Set &gate at last pin", "", "Graph", pins.apply, (pins.why_not_applied,), change),
        Command("clear pins", "&Remove pins", "", "Graph", pins.clear, (can.pins,), change),
        Command("draw upper", "Draw &upper limit", "Ctrl+Shift+U", limits, lambda: lines.draw("upper"), curve, change),
        Command("draw lower", "Draw &lower limit", "Ctrl+Shift+J", limits, lambda: lines.draw("lower"), curve, change),
        Command("around reference", "Limits &around reference…", "", limits, lines.about_reference, curve, change),
        Command("from rows", "Limits from &selected rows", "", limits, lines.from_chosen, curve, change),
        Command("enter limit", "&Enter limit…", "", limits, lines.typed, curve, change),
        Command("import limit", "&Import limit…", "", limits, lines.imported, curve, change),
        Command("new guide", "New &guide…", "", limits, lines.new_guide, curve, change),
        Command("whole graph", "Reset &zoom", "Ctrl+0", "Graph", window.whole_graph, (can.graph,), gap=True),
    ]


def _help(window: WindowCommands) -> list[Command]:
    return [
        Command("find command", "&Find command…", "Ctrl+K", "Help", window.find_command),
        Command("help", "Context &help", "F1", "Help", window.show_help),
        Command("shortcuts", "&Keyboard shortcuts", "Shift+F1", "Help", window.show_shortcuts),
        Command("about", "&About Epidote", "", "Help", window.show_about, gap=True),
    ]
