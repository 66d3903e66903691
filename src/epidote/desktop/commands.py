"""Every command as data: name, words, shortcut, what it does. Menu, context menu and keyboard are made from this one list."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from epidote.desktop.matrix.beside import TABS

if TYPE_CHECKING:
    from epidote.desktop.main_window import MainWindow


@dataclass(frozen=True)
class Command:
    """``group``: the menu it stands in. ``edits``: it changes the study, so a read-only one greys it out."""

    name: str
    words: str
    shortcut: str
    group: str
    do: Callable[[], None]
    edits: bool = False


GROUPS = ("Study", "Row", "Run", "Graph", "View")


def commands_of(window: MainWindow) -> list[Command]:
    """Everything that can be done, each with its words, its key and its place in the menu."""
    m, r, files = window.matrix, window.rows, window.files
    return [
        Command("new", "New study …", "Ctrl+N", "Study", window.new_study),
        Command("open", "Open a study …", "Ctrl+O", "Study", window.choose_study),
        Command("demo", "Open the demo study", "", "Study", window.open_demo),
        Command("baseline", "Measure the baseline …", "Ctrl+Shift+B", "Run", r.measure_baseline, True),
        Command("export", "Export graph or numbers …", "Ctrl+E", "Study", files.export),
        Command("zip", "Write the whole study as a zip …", "", "Study", files.zip_study),
        Command("unzip", "Open a zipped study …", "", "Study", files.open_zip),
        Command("person", "Who measures …", "", "Study", files.ask_person, True),
        Command("curve in", "Take a curve from a text file …", "", "Run", files.take_curve, True),
        Command("copy graph", "Copy the graph", "Ctrl+Shift+G", "Graph", files.copy_graph),
        Command("copy table", "Copy the readings", "Ctrl+Shift+T", "Graph", files.copy_table),
        Command("repeat often", "Repeat the chosen runs several times …", "Ctrl+F5", "Run", m.beside.comparing.repeat, True),
        Command("swap channels", "Measure with the channels swapped …", "", "Run", m.beside.comparing.swap_channels, True),
        Command("draw upper", "Draw an upper limit", "Ctrl+Shift+U", "Graph", lambda: m.lines.draw("upper"), True),
        Command("draw lower", "Draw a lower limit", "Ctrl+Shift+J", "Graph", lambda: m.lines.draw("lower"), True),
        *(
            Command(f"beside {key}", f"Beside the graph: {words.lower()}", f"Ctrl+Alt+{i}", "View", lambda k=key: m.beside.show(k))  # type: ignore[misc]
            for i, (key, words) in enumerate(TABS, start=1)
        ),
        Command("preferences", "Preferences …", "Ctrl+,", "Study", window.edit_preferences),
        Command("quit", "Quit", "Ctrl+Q", "Study", window.quit),
        Command("undo", "Undo", "Ctrl+Z", "Row", window.session.undo.undo, True),
        Command("redo", "Redo", "Ctrl+Shift+Z", "Row", window.session.undo.redo, True),
        Command("add row", "Add a row …", "Ctrl+R", "Row", r.add_row, True),
        Command("change row", "Change the row …", "F2", "Row", r.change_row, True),
        Command("duplicate", "Duplicate the row with one condition changed …", "Ctrl+D", "Row", r.duplicate_row, True),
        Command("reference", "Make the row the reference", "Ctrl+B", "Row", r.toggle_reference, True),
        Command("show row", "Show or hide the row on the graph", "Ctrl+H", "Row", r.toggle_row, True),
        Command("delete row", "Delete the row", "Ctrl+Delete", "Row", r.delete_row, True),
        Command("add column", "Add a column …", "Ctrl+Shift+C", "Run", r.add_column, True),
        Command("delete column", "Delete the column", "", "Run", r.delete_column, True),
        Command("measure", "Measure the chosen empty cells", "Ctrl+M", "Run", m.measure_empty, True),
        Command("again", "Run again", "F5", "Run", m.run_again, True),
        Command("recompute", "Recompute with other settings …", "Ctrl+Shift+R", "Run", m.offer_recompute, True),
        Command("repeat", "Repeat the reference's procedures on this row", "Ctrl+Shift+D", "Run", r.repeat_reference, True),
        Command("align", "Align the paths by hand …", "Ctrl+Shift+A", "Run", r.align_paths),
        Command("latencies", "Latencies side by side …", "Ctrl+Shift+L", "Run", r.show_latencies),
        Command("delete run", "Delete the run", "Ctrl+Backspace", "Run", r.delete_run, True),
        Command("stop", "Silence: stop what plays and what measures", "Esc", "Run", window.silence),
        Command("whole column", "Choose the whole column", "Ctrl+L", "Graph", m.choose_column),
        Command("next view", "Next kind of curve", "Ctrl+Right", "Graph", m.look.next_view),
        Command("previous view", "Previous kind of curve", "Ctrl+Left", "Graph", lambda: m.look.next_view(-1)),
        Command("next axis", "Next axis", "Ctrl+Shift+Right", "Graph", m.look.next_axis),
        Command("step up", "Step of the staircase: further up", "Ctrl+PgUp", "Graph", m.look.next_step),
        Command("step down", "Step of the staircase: further down", "Ctrl+PgDown", "Graph", lambda: m.look.next_step(-1)),
        Command("percent", "% or dB", "Ctrl+U", "Graph", m.look.toggle_percent),
        Command("channel 1", "Channel 1 on or off", "Ctrl+1", "Graph", lambda: m.look.toggle_channel(1)),
        Command("channel 2", "Channel 2 on or off", "Ctrl+2", "Graph", lambda: m.look.toggle_channel(2)),
        Command("corners", "Pins at the -3 dB points", "Ctrl+3", "Graph", m.pins.corners, True),
        Command("clear pins", "Remove the pins", "", "Graph", m.pins.clear, True),
        Command("whole graph", "Show the whole graph", "Ctrl+0", "Graph", window.whole_graph),
        *(
            Command(f"page {name}", f"Go to the page {name}", f"Alt+{i}", "View", lambda n=name: window.show_page(n))  # type: ignore[misc]
            for i, name in enumerate(("Chain", "Watch", "Matrix"), start=1)
        ),
        Command("to matrix", "Go to the matrix", "F6", "View", m.table.setFocus),
        Command("to graph", "Go to the graph", "F7", "View", window.focus_graph),
        Command("to side", "Go to the readings or settings", "F8", "View", window.focus_side),
    ]
