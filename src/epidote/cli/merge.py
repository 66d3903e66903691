"""``study merge``: the studies of several benches put together."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say, warn
from epidote.cli.stopping import stoppable
from epidote.core.errors import CancelledError


def merge(
    into: Annotated[Path, typer.Argument(help="study folder to add to")],
    sources: Annotated[list[Path], typer.Argument(help="study folders whose content is added; they are not changed")],
    as_json: Json = False,
) -> int:
    """Add the units, runs and routine results of other studies; existing entries are not duplicated."""
    from epidote.study.merge import merge_study
    from epidote.study.store import Study

    reports = []
    with Study(into) as study, stoppable() as stop:
        for source in sources:
            reports.append((source, merge_study(study, source, stop.is_set)))
            if stop.is_set():
                break
    if as_json:
        print_json({"merged": [{"from": str(source), **asdict(report)} for source, report in reports]})
    else:
        for source, report in reports:
            say(
                f"{source.name}: {report.units} units, {report.rows} rows, {report.runs} runs, {report.passes} passes"
                f" added; {report.known} runs were there already"
            )
            for words in report.conflicts:
                warn(words)
    if stop.is_set():
        raise CancelledError(
            "Stopped. What was added until then is saved; run the same command again to go on from here."
        )
    return 0
