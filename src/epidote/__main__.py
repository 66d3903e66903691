"""The command ``epidote``: the application when no command is given, the command line otherwise."""

from __future__ import annotations

import sys
from pathlib import Path


def main() -> None:
    arguments = sys.argv[1:]
    if not arguments or (len(arguments) == 1 and (arguments[0] == "demo" or Path(arguments[0]).is_dir())):
        # the application's own way in: none of the command line's machinery is loaded before its window shows
        from epidote.desktop.app import run

        sys.exit(run(arguments[0] if arguments else None))
    if arguments == ["--version"]:
        from epidote import __version__

        sys.stdout.write(f"epidote {__version__}\n")
        return
    from epidote.cli.app import run_command

    sys.exit(run_command(arguments))


if __name__ == "__main__":
    main()
