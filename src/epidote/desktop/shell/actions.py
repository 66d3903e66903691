"""Every command as data: name, words, shortcut, what it does.

Menu, context menu and keyboard are made from this one list.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from epidote.desktop.pages.matrix.panels.side_panel import TABS
from epidote.desktop.shell.page_list import PAGES

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.page import MatrixPage
    from epidote.desktop.shell.file_actions import FileActions
    from epidote.desktop.shell.row_actions import RowActions
    from epidote.desktop.shell.window_port import WindowCommands
    from epidote.desktop.state.session import Session


@dataclass(frozen=True)
class Command:
    """``group``: the menu it stands in. ``edits``: it changes the study, so a read-only one greys it out.

    ``state``: of a command that switches something, whether that is on.
    """

    name: str
    words: str
    shortcut: str
    group: str
    do: Callable[[], None]
    edits: bool = False
    state: Callable[[], bool] | None = None


GROUPS = ("Study", "Row", "Run", "Graph", "View")


def commands_of(
    window: WindowCommands, session: Session, matrix: MatrixPage, rows: RowActions, files: FileActions
) -> list[Command]:
    """Everything that can be done, each with its words, its key and its place in the menu."""
    m, r = matrix, rows
    return [
        Command("new", "New study…", "Ctrl+N", "Study", window.new_study),
        Command("open", "Open study…", "Ctrl+O", "Study", window.choose_study),
        Command("demo", "Open demo study", "", "Study", window.open_demo),
        Command("baseline", "Measure baseline…", "Ctrl+Shift+B", "Run", r.measure_baseline, True),
        Command("export", "Export graph or data…", "Ctrl+E", "Study", files.export),
        Command("zip", "Export study as ZIP…", "", "Study", files.zip_study),
        Command("unzip", "Import study from ZIP…", "", "Study", files.open_zip),
        Command("person", "Operator…", "", "Study", files.ask_person, True),
        Command("curve in", "Import curve…", "", "Run", files.take_curve, True),
        Command("copy graph", "Copy graph", "Ctrl+Shift+G", "Graph", files.copy_graph),
        Command("copy table", "Copy readings", "Ctrl+Shift+T", "Graph", files.copy_table),
        Command("repeat often", "Repeat measurements…", "Ctrl+F5", "Run", m.beside.comparing.repeat, True),
        Command("swap channels", "Measure with channels swapped…", "", "Run", m.beside.comparing.swap_channels, True),
        Command("draw upper", "Draw upper limit", "Ctrl+Shift+U", "Graph", lambda: m.line_editor.draw("upper"), True),
        Command("draw lower", "Draw lower limit", "Ctrl+Shift+J", "Graph", lambda: m.line_editor.draw("lower"), True),
        *(
            Command(f"beside {key}", f"{words} panel", f"Ctrl+Alt+{i}", "View", lambda k=key: m.beside.show(k))  # type: ignore[misc]
            for i, (key, words) in enumerate(TABS, start=1)
        ),
        Command("preferences", "Preferences…", "Ctrl+,", "Study", window.edit_preferences),
        Command("quit", "Quit", "Ctrl+Q", "Study", window.quit),
        Command("undo", "Undo", "Ctrl+Z", "Row", session.undo.undo, True),
        Command("redo", "Redo", "Ctrl+Shift+Z", "Row", session.undo.redo, True),
        Command("add row", "Add row…", "Ctrl+R", "Row", r.add_row, True),
        Command("change row", "Edit row…", "F2", "Row", r.change_row, True),
        Command("duplicate", "Duplicate row…", "Ctrl+D", "Row", r.duplicate_row, True),
        Command("reference", "Set as reference", "Ctrl+B", "Row", r.toggle_reference, True, r.is_reference),
        Command("show row", "Show row in graph", "Ctrl+H", "Row", r.toggle_row, True, r.is_shown),
        Command("delete row", "Delete row", "Ctrl+Delete", "Row", r.delete_row, True),
        Command("add column", "Add column…", "Ctrl+Shift+C", "Run", r.add_column, True),
        Command("delete column", "Delete column", "", "Run", r.delete_column, True),
        Command("measure", "Measure selected empty cells", "Ctrl+M", "Run", m.measure_empty, True),
        Command("again", "Measure again", "F5", "Run", m.run_again, True),
        Command("recompute", "Recompute…", "Ctrl+Shift+R", "Run", m.offer_recompute, True),
        Command("repeat", "Measure row like reference", "Ctrl+Shift+D", "Run", r.repeat_reference, True),
        Command("align", "Align paths…", "Ctrl+Shift+A", "Run", r.align_paths),
        Command("latencies", "Latency table", "Ctrl+Shift+L", "Run", r.show_latencies),
        Command("delete run", "Delete run", "Ctrl+Backspace", "Run", r.delete_run, True),
        Command("stop", "Stop output and measurement", "Esc", "Run", window.silence),
        Command("whole column", "Select measured cells in column", "Ctrl+L", "Graph", m.selection.select_column),
        Command("next view", "Next curve type", "Ctrl+Right", "Graph", m.look.next_view),
        Command("previous view", "Previous curve type", "Ctrl+Left", "Graph", lambda: m.look.next_view(-1)),
        Command("next axis", "Next x-axis quantity", "Ctrl+Shift+Right", "Graph", m.look.next_axis),
        Command("step up", "Next sweep step", "Ctrl+PgUp", "Graph", m.look.next_step),
        Command("step down", "Previous sweep step", "Ctrl+PgDown", "Graph", lambda: m.look.next_step(-1)),
        Command(
            "percent", "Ratios in percent", "Ctrl+U", "Graph", m.look.toggle_percent, False, lambda: m.look.percent
        ),
        Command(
            "channel 1",
            "Channel 1",
            "Ctrl+1",
            "Graph",
            lambda: m.look.toggle_channel(1),
            False,
            lambda: 1 in m.look.channels,
        ),
        Command(
            "channel 2",
            "Channel 2",
            "Ctrl+2",
            "Graph",
            lambda: m.look.toggle_channel(2),
            False,
            lambda: 2 in m.look.channels,
        ),
        Command("corners", "Pin -3 dB points", "Ctrl+3", "Graph", m.pins.corners, True),
        Command("clear pins", "Remove pins", "", "Graph", m.pins.clear, True),
        Command("whole graph", "Reset zoom", "Ctrl+0", "Graph", window.whole_graph),
        *(
            Command(f"page {name}", f"{name} page", f"Alt+{i}", "View", lambda n=name: window.show_page(n))  # type: ignore[misc]
            for i, name in enumerate((kind.title for kind in PAGES), start=1)
        ),
        Command("to matrix", "Focus matrix", "F6", "View", m.table.setFocus),
        Command("to graph", "Focus graph", "F7", "View", window.focus_graph),
        Command("to side", "Focus side panel", "F8", "View", window.focus_side),
    ]
