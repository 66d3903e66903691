"""The command ``epidote``: the application when no command is given, the command line otherwise."""

from __future__ import annotations

import sys
from pathlib import Path

from epidote.runtime import prepare


def main() -> None:
    """Start the window, or a command where arguments name one."""
    prepare()
    arguments = sys.argv[1:]
    study = _to_show(arguments)
    if study is not None:
        # the application's own way in: none of the command line's machinery is loaded before its window shows
        if study:
            import epidote.study.store  # noqa: F401  before Qt, whose loader reads the source of every module after it
        from epidote.desktop.app import run

        sys.exit(run(study))
    if arguments == ["--version"]:
        from epidote import __version__

        sys.stdout.write(f"epidote {__version__}\n")
        return
    from epidote.cli.app import run_command

    sys.exit(run_command(arguments))


def _to_show(arguments: list[str]) -> str | None:
    """Return what the application is to open: "" for nothing, "demo", or a study's folder.

    None when a command is meant.
    """
    if not arguments:
        return ""
    if arguments == ["demo"] or (len(arguments) == 1 and Path(arguments[0]).is_dir()):
        return arguments[0]
    return None


if __name__ == "__main__":
    main()
