"""``study curve-in`` and ``study curve-out``: curves as text files."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from epidote.cli.common import say
from epidote.cli.compare import Channel
from epidote.cli.study import PathArgument, find_subject
from epidote.core.errors import SettingError
from epidote.core.results.channels import channel_name
from epidote.study.store import Study


class SeparatorName(StrEnum):
    """Separators of columns, as the command line names them."""

    AUTO, TAB, SEMICOLON, COMMA, SPACE = "auto", "tab", "semicolon", "comma", "space"


class DecimalName(StrEnum):
    """Decimal marks, as the command line names them."""

    AUTO, POINT, COMMA = "auto", "point", "comma"


class UnitName(StrEnum):
    """Units of a curve's level, as the command line names them."""

    AUTO, HZ, KHZ = "auto", "Hz", "kHz"


def curve_in(
    path: PathArgument,
    file: Annotated[Path, typer.Argument(help="text file with columns frequency, level and optional phase")],
    subject: Annotated[str, typer.Option(help="subject (row) to add the curve to")],
    separator: Annotated[SeparatorName, typer.Option(help="column separator")] = SeparatorName.AUTO,
    decimal: Annotated[DecimalName, typer.Option(help="decimal separator")] = DecimalName.AUTO,
    *,
    unit: Annotated[UnitName, typer.Option("--frequency-unit", help="unit of the frequency column")] = UnitName.AUTO,
    first: Annotated[
        int, typer.Option("--frequency-column", min=0, max=64, help="frequency column (from 1); 0: detect")
    ] = 0,
) -> int:
    """Import a curve from a text file as a response run.

    A file that can be read in two ways is refused with the option that decides.
    """
    from epidote.measurement.offline import import_curve
    from epidote.study.interchange.curve_text import TextOptions, readings_of_file

    separator_, decimal_, unit_ = ("" if v == "auto" else str(v) for v in (separator, decimal, unit))
    options = TextOptions(separator_, decimal_, unit_, first)
    with Study(path) as study:
        run = import_curve(study, find_subject(study, subject), file, options)
        read = readings_of_file(file, options)[0]
        say(f"run {run.id}: {file.name}, {read.words} ({read.preview})")
    return 0


def curve_out(
    path: PathArgument,
    run: Annotated[int, typer.Argument(help="run number")],
    out: Annotated[Path, typer.Argument(help="text file to write")],
    curve: Annotated[str, typer.Option(help="curve to export")] = "level",
    channel: Channel = 1,
) -> int:
    """Export a curve, with phase if available, as a text file."""
    from epidote.audio.files.sound_file import write_whole
    from epidote.core.procedures.registry import current_curve_key
    from epidote.study.interchange.csv_export import describe_run
    from epidote.study.interchange.curve_text import text_of

    with Study(path) as study:
        curves_of_channel = [c for c in study.curves(run) if c.channel == channel]
        curve = current_curve_key(study.run(run).procedure, curve)
        level = next((c for c in curves_of_channel if c.key == curve), None)
        if level is None:
            raise SettingError(
                f"Run {run} has no curve “{curve}” in {channel_name(channel)}. Available:"
                f" {', '.join(sorted({c.key for c in curves_of_channel}))}."
            )
        if curve == "level":
            phase = next((c for c in curves_of_channel if c.key == "phase"), None)
        else:
            phase = None
        write_whole(out, text_of(level, phase, [describe_run(study.run(run))]).encode())
        say(f"{out}: {level.x.size} points")
    return 0
