"""What the selected cells can be exported as.

Each exporter is declared here with its ending; writing happens on the study's thread.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from epidote.audio.files.sound_file import write_whole
from epidote.desktop.plotting.export import export_picture
from epidote.study.interchange.archive import run_json
from epidote.study.interchange.csv_export import curves_csv, describe_run, readings_csv
from epidote.study.interchange.curve_text import text_of

if TYPE_CHECKING:
    from epidote.core.results.result import Curve
    from epidote.desktop.plotting.figure import Figure
    from epidote.desktop.plotting.viewport import Viewport
    from epidote.desktop.theme import Theme
    from epidote.study.models import RunSummary


@dataclass(frozen=True)
class SelectedRun:
    """A selected run under its row's full name: the curves that the graph shows of it, all its curves, and the notes
    that apply to it.
    """

    name: str
    run: RunSummary
    shown: tuple[Curve, ...]
    curves: tuple[Curve, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True)
class Selection:
    """What is exported, gathered on the interface's thread: nothing of it changes afterwards."""

    runs: tuple[SelectedRun, ...]
    channels: frozenset[int]
    figure: Figure | None
    view: Viewport | None
    theme: Theme

    @property
    def notes(self) -> list[str]:
        return [f"{one.name}: {note}" for one in self.runs for note in one.notes]


def _write_picture(path: Path, selection: Selection) -> None:
    if selection.figure is not None and selection.view is not None:
        export_picture(path, selection.figure, selection.view, selection.theme)


def _write_curves(path: Path, selection: Selection) -> None:
    curves = [(one.name, one.run, list(one.shown)) for one in selection.runs]
    write_whole(path, curves_csv(curves, selection.notes).encode())


def _write_readings(path: Path, selection: Selection) -> None:
    write_whole(path, readings_csv([(one.name, one.run) for one in selection.runs], selection.notes).encode())


def _write_texts(path: Path, selection: Selection) -> None:
    """A text file for each curve in view; of several the row's name and the channel stand in the file's name."""
    found = [(one, curve) for one in selection.runs for curve in one.shown if curve.channel in selection.channels]
    for one, curve in found:
        phases = (p for p in one.curves if p.key == "phase" and p.channel == curve.channel)
        if curve.key == "level":
            phase = next(phases, None)
        else:
            phase = None
        plain = "".join(ch if ch.isalnum() or ch in " -" else "_" for ch in one.name)
        if len(found) == 1:
            target = path
        else:
            target = path.with_name(f"{path.stem} {plain} ch {curve.channel}.txt")
        write_whole(target, text_of(curve, phase, [f"{one.name}: {describe_run(one.run)}"]).encode())


def _write_json(path: Path, selection: Selection) -> None:
    runs = [
        {
            "name": one.name,
            **run_json(one.run),
            "notes": [f"{one.name}: {note}" for note in one.notes],
            "curves": [c.to_json() for c in one.curves],
        }
        for one in selection.runs
    ]
    write_whole(path, json.dumps({"runs": runs}, allow_nan=False).encode())


@dataclass(frozen=True)
class Exporter:
    """One kind of file: how its name ends, what it is called, and what writes it (raises EpidoteError)."""

    ending: str
    title: str
    write: Callable[[Path, Selection], None]

    @property
    def pattern(self) -> str:
        """As the file dialog takes it."""
        return f"{self.title} (*{self.ending})"


EXPORTERS = (
    Exporter(".png", "PNG image", _write_picture),
    Exporter(".svg", "SVG image", _write_picture),
    Exporter(".pdf", "PDF document", _write_picture),
    Exporter(".csv", "Curves, CSV", _write_curves),
    Exporter("readings.csv", "Readings, CSV", _write_readings),
    Exporter(".txt", "Curves, text", _write_texts),
    Exporter(".json", "Selected runs, JSON", _write_json),
)


def exporter_of(path: Path) -> Exporter | None:
    """The exporter whose ending fits best; None for a name that ends in none of them."""
    fitting = [e for e in EXPORTERS if path.name.lower().endswith(e.ending)]
    return max(fitting, key=lambda e: len(e.ending), default=None)


def named(path: Path, chosen_pattern: str) -> Path:
    """The path with an ending: its own, or that of the kind that was chosen in the dialog."""
    if exporter_of(path) is not None:
        return path
    exporter = next((e for e in EXPORTERS if e.pattern == chosen_pattern), EXPORTERS[0])
    if exporter.ending.startswith("."):
        space = ""
    else:
        space = " "
    return path.with_name(path.name + space + exporter.ending)
