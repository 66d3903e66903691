"""``compare map``: curves of rows over a numeric condition, with beamwidth and directivity where it is an angle."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.cli.study import PathArgument
from epidote.cli.uniformity import OptionalChannel, curves_over


def compare_map(
    path: PathArgument,
    column: Annotated[str, typer.Argument(help="column, by its title or procedure")],
    over: Annotated[str, typer.Option(help="numeric condition in which the rows differ, such as angle")] = "angle",
    unit: Annotated[str, typer.Option(help="only rows whose name starts with this")] = "",
    curve: Annotated[str, typer.Option(help="curve of the map [default: that of the matrix]")] = "",
    *,
    channel: OptionalChannel = None,
    to: Annotated[float | None, typer.Option(help="value of the condition that becomes 0 dB")] = None,
    as_json: Json = False,
) -> int:
    """Tabulate curves over a numeric condition; for angles with beamwidth and directivity index."""
    from epidote.core.comparison.conditions.curve_map import beamwidth, directivity_index, make_map

    found = curves_over(path, column, over, unit=unit, curve=curve, channel=channel)
    curves = [(subject.conditions[over], own) for subject, own in found.rows]
    made = make_map(curves, over, to)
    width, index = beamwidth(made), directivity_index(made)
    if as_json:
        data: dict[str, Any] = {
            "column": found.column.title,
            "curve": found.key,
            "over": over,
            "unit": made.unit,
            "values": made.values.tolist(),
            "x": made.x.tolist(),
            "levels": made.levels.tolist(),
            "beamwidth": width.y.tolist() if width is not None else None,
            "directivity_index": index.y.tolist() if index is not None else None,
        }
        print_json(data)
        return 0
    for value, levels in zip(made.values, made.levels, strict=True):
        say(f"{over} {value:g}: {levels.min():.1f} to {levels.max():.1f} {made.unit}")
    if width is not None:
        say(f"Beamwidth (-6 dB): {width.y.min():.0f}° to {width.y.max():.0f}°")
    if index is not None:
        say(f"Directivity index: {index.y.min():.1f} to {index.y.max():.1f} dB")
    return 0
