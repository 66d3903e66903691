"""What runs can be exported as: one registry for window and command line.

An exporter is declared here with its key and its ending; the window adds pictures of its graph
(``desktop/pages/matrix/exporters.py``).
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from epidote.audio.files.sound_file import write_whole
from epidote.core.results.channels import short_channel_name
from epidote.study.interchange.archive import run_json
from epidote.study.interchange.csv_export import curves_csv, describe_run, readings_csv
from epidote.study.interchange.curve_text import text_of

if TYPE_CHECKING:
    from epidote.core.results.result import Curve
    from epidote.study.models import RunSummary


@dataclass(frozen=True)
class ExportedRun:
    """A run under its row's full name: the curves that are asked for, all its curves, and the notes that apply to
    it.
    """

    name: str
    run: RunSummary
    shown: tuple[Curve, ...]
    curves: tuple[Curve, ...]
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class RunExport:
    """What is exported; channels: of the curves that are asked for."""

    runs: tuple[ExportedRun, ...]
    channels: frozenset[int]

    @property
    def notes(self) -> list[str]:
        return [f"{one.name}: {note}" for one in self.runs for note in one.notes]


T_contra = TypeVar("T_contra", bound=RunExport, contravariant=True)


@dataclass(frozen=True)
class Exporter(Generic[T_contra]):
    """One kind of file: its key on the command line, how its name ends, what it is called, and what writes it (raises
    EpidoteError).
    """

    key: str
    ending: str
    title: str
    write: Callable[[Path, T_contra], None]

    @property
    def pattern(self) -> str:
        """As a file dialog takes it."""
        return f"{self.title} (*{self.ending})"


def _write_curves(path: Path, export: RunExport) -> None:
    curves = [(one.name, one.run, list(one.shown)) for one in export.runs]
    write_whole(path, curves_csv(curves, export.notes).encode())


def _write_readings(path: Path, export: RunExport) -> None:
    write_whole(path, readings_csv([(one.name, one.run) for one in export.runs], export.notes).encode())


def _write_texts(path: Path, export: RunExport) -> None:
    """Write a text file for each curve; of several the row's name and the channel stand in the file's name."""
    curves = [(one, curve) for one in export.runs for curve in one.shown if curve.channel in export.channels]
    for one, curve in curves:
        phase = None
        if curve.key == "level":
            phase = next((c for c in one.curves if c.key == "phase" and c.channel == curve.channel), None)
        target = path
        if len(curves) > 1:
            plain = "".join(ch if ch.isalnum() or ch in " -" else "_" for ch in one.name)
            target = path.with_name(f"{path.stem} {plain} {short_channel_name(curve.channel).lower()}.txt")
        write_whole(target, text_of(curve, phase, [f"{one.name}: {describe_run(one.run)}"]).encode())


def _write_json(path: Path, export: RunExport) -> None:
    runs = [
        {
            "name": one.name,
            **run_json(one.run),
            "notes": [f"{one.name}: {note}" for note in one.notes],
            "curves": [curve.to_json() for curve in one.curves],
        }
        for one in export.runs
    ]
    write_whole(path, json.dumps({"runs": runs}, allow_nan=False).encode())


CURVES = Exporter("curves", ".csv", "Curves, CSV", _write_curves)
READINGS = Exporter("readings", "readings.csv", "Readings, CSV", _write_readings)
EXPORTERS: tuple[Exporter[RunExport], ...] = (
    CURVES,
    READINGS,
    Exporter("text", ".txt", "Curves, text", _write_texts),
    Exporter("json", ".json", "Selected runs, JSON", _write_json),
)


E = TypeVar("E", bound=Exporter[Any])


def exporter_of(path: Path, exporters: Iterable[E]) -> E | None:
    """Return the exporter whose ending fits best; None for a name that ends in none of them."""
    fitting = [exporter for exporter in exporters if path.name.lower().endswith(exporter.ending)]
    return max(fitting, key=lambda exporter: len(exporter.ending), default=None)
