"""Curves and readings as CSV that says what it is: conditions and cautions stand in the file, numbers keep their
full precision.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Sequence

from epidote.core.results.channels import channel_key, channel_name
from epidote.core.results.result import Curve
from epidote.core.text import spreadsheet_cell, visible
from epidote.study.models import RunSummary


def describe_run(run: RunSummary) -> str:
    """Return settings and chain of a run in one line."""
    chain = {k: v for k, v in run.chain.model_dump(mode="json").items() if v is not None}
    return (
        f"{run.procedure} {json.dumps(dict(run.settings))}, chain {json.dumps(chain)}, {run.device},"
        f" {run.made:%Y-%m-%d %H:%M} UTC, run {run.id}"
    )


def readings_csv(runs: Sequence[tuple[str, RunSummary]], notes: Sequence[str] = ()) -> str:
    """One line per reading. runs: (subject's full name, run); notes: lines of their own."""
    out = io.StringIO()
    out.writelines(f"# note: {visible(note)}\n" for note in notes)
    writer = csv.writer(out, lineterminator="\n")
    for name, run in runs:
        out.write(f"# {visible(name)}: {visible(describe_run(run))}\n")
    writer.writerow(
        ["subject", "procedure", "reading", "channel", "value", "unit", "spread", "floor", "at", "cautions", "run"]
    )
    for name, run in runs:
        for r in run.readings:
            at = "; ".join(f"{k}={v}" for k, v in r.at.items())
            cautions = " ".join(dict.fromkeys([*map(str, r.cautions), *run.cautions]))
            writer.writerow(
                [
                    spreadsheet_cell(visible(name)),
                    run.procedure,
                    spreadsheet_cell(visible(r.key)),
                    channel_key(r.channel),
                    _plain(r.value),
                    spreadsheet_cell(visible(r.unit)),
                    _plain(r.spread),
                    _plain(r.floor),
                    spreadsheet_cell(visible(at)),
                    cautions,
                    run.id,
                ]
            )
    return out.getvalue()


def curves_csv(curves: Sequence[tuple[str, RunSummary, Sequence[Curve]]], notes: Sequence[str] = ()) -> str:
    """Curves side by side where they share their x, below each other otherwise.

    curves: (subject's full name, run, its curves).
    """
    out = io.StringIO()
    out.writelines(f"# note: {visible(note)}\n" for note in notes)
    writer = csv.writer(out, lineterminator="\n")
    groups: list[tuple[Curve, list[tuple[str, Curve]]]] = []
    for name, run, run_curves in curves:
        out.write(f"# {visible(name)}: {visible(describe_run(run))}\n")
        if run.cautions:
            out.write(f"# {name}: cautions: {', '.join(run.cautions)}\n")
        for curve in run_curves:
            for first, members in groups:
                if first.x.shape == curve.x.shape and first.x_unit == curve.x_unit and bool((first.x == curve.x).all()):
                    members.append((name, curve))
                    break
            else:
                groups.append((curve, [(name, curve)]))
    for index, (first, members) in enumerate(groups):
        if index:
            out.write("\n")
        writer.writerow(
            [
                f"x ({first.x_unit})",
                *(
                    spreadsheet_cell(visible(f"{name}, {channel_name(c.channel)}, {c.key} ({c.y_unit})"))
                    for name, c in members
                ),
            ]
        )
        for row in zip(first.x.tolist(), *(c.y.tolist() for _, c in members), strict=True):
            writer.writerow([repr(value) for value in row])
    return out.getvalue()


def _plain(value: float | None) -> str:
    if value is None:
        return ""
    return repr(value)
