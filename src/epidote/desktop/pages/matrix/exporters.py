"""What the selected cells can be exported as: pictures of the graph, and what the study exports everywhere.

Writing happens on the study's thread.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from epidote.desktop.plotting.export import export_picture
from epidote.study.interchange.exporters import EXPORTERS as STUDY_EXPORTERS
from epidote.study.interchange.exporters import Exporter, RunExport, exporter_of

if TYPE_CHECKING:
    from epidote.desktop.plotting.figure import Figure
    from epidote.desktop.plotting.viewport import Viewport
    from epidote.desktop.theme import Theme


@dataclass(frozen=True)
class GraphExport(RunExport):
    """The runs with the graph that shows them, gathered on the interface's thread: nothing of it changes afterwards."""

    figure: Figure | None
    view: Viewport | None
    theme: Theme


def _write_picture(path: Path, export: GraphExport) -> None:
    if export.figure is not None and export.view is not None:
        export_picture(path, export.figure, export.view, export.theme)


EXPORTERS: tuple[Exporter[GraphExport], ...] = (
    Exporter("png", ".png", "PNG image", _write_picture),
    Exporter("svg", ".svg", "SVG image", _write_picture),
    Exporter("pdf", ".pdf", "PDF document", _write_picture),
    *STUDY_EXPORTERS,
)


def named(path: Path, chosen_pattern: str) -> Path:
    """Return the path with an ending: its own, or that of the kind that was chosen in the dialog."""
    if exporter_of(path, EXPORTERS) is not None:
        return path
    exporter = next((e for e in EXPORTERS if e.pattern == chosen_pattern), EXPORTERS[0])
    space = " "
    if exporter.ending.startswith("."):
        space = ""
    return path.with_name(path.name + space + exporter.ending)
