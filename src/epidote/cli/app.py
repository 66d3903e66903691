"""The commands, and what they exit with.

0 done; 2 wrong usage; 3 input that cannot be read or does not fit; 4 could not be carried out; 5 limit not met; 6 not
decided, as the margin is within the uncertainty.
"""

from __future__ import annotations

import os
import sys
from typing import Annotated

import typer

from epidote.cli import (
    analyse,
    batch,
    compare,
    curve_files,
    curve_maps,
    judge,
    listen,
    measure,
    merge,
    recordings,
    routine,
    stats,
    study,
    uniformity,
)
from epidote.core.errors import EpidoteError
from epidote.core.text import visible

app = typer.Typer(
    name="epidote",
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
)


@app.callback()
def show_version(
    version: Annotated[bool, typer.Option("--version", help="print the version", is_eager=True)] = False,
) -> None:
    """Measure and compare audio devices. Without a command, or with the path of a study, the application opens."""
    if version:
        from epidote import __version__

        sys.stdout.write(f"epidote {__version__}\n")
        raise typer.Exit


app.command("stimulus")(analyse.stimulus)
app.command("analyse")(analyse.analyse)
app.command("measure")(measure.measure)
app.command("devices")(measure.devices)
app.command("procedures")(measure.list_procedures)
app.command("demo")(measure.demo)
app.command("loudness")(listen.loudness)
study.app.command("curve-in")(curve_files.curve_in)
study.app.command("curve-out")(curve_files.curve_out)
study.app.command("import-recording")(recordings.import_recording)
study.app.command("await")(recordings.await_recording)
study.app.command("attach")(recordings.attach)
study.app.command("keep-source")(recordings.keep_source)
study.app.command("sound")(recordings.sound)
study.app.command("inverse")(recordings.inverse)
study.app.command("merge")(merge.merge)
compare.app.command("claims")(judge.claims)
compare.app.command("map")(curve_maps.compare_map)
compare.app.command("uniformity")(uniformity.compare_uniformity)
compare.app.command("limits")(judge.limits)
app.add_typer(study.app, name="study")
app.add_typer(compare.app, name="compare")
app.add_typer(listen.app, name="listen")
app.add_typer(routine.app, name="routine")
app.command("stats")(stats.stats)
app.command("batch")(batch.batch)


def run_command(arguments: list[str]) -> int:
    """Run one command; errors go to standard error in words, never as a traceback."""
    try:
        outcome = app(arguments, standalone_mode=False)
        if isinstance(outcome, int):
            return outcome
        return 0
    except EpidoteError as error:
        _tell(str(error))
        return error.exit_code
    except typer.Exit as stop:
        return stop.exit_code
    except (typer.Abort, KeyboardInterrupt):
        _tell("stopped. Everything finished before is saved.")
        return 4
    except BrokenPipeError:
        # the reader of our output has gone; there is nobody left to tell
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        _tell(f"{error.filename or 'the system'}: {error.strerror}. Everything finished before is saved.")
        return 3
    except Exception as error:  # noqa: BLE001  the last door before a traceback
        if hasattr(error, "format_message"):  # click's own usage errors
            _tell(f"{error.format_message()} See “epidote --help”.")
            return 2
        sys.stderr.write(
            f"epidote: internal error ({type(error).__name__}: {error}). Everything finished before is saved.\n"
        )
        return 4


def _tell(words: str) -> None:
    """Print an error on its own line; control characters are shown, not sent to the terminal."""
    sys.stderr.write(f"epidote: {visible(words, lines=True)}\n")
