"""How the speed and scale tables time a piece of work and print a row."""

from __future__ import annotations

import time
from collections.abc import Callable


def best(work: Callable[[], object], times: int = 9) -> float:
    """Seconds of the quickest of several runs: the one least disturbed by the rest of the machine."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        found.append(time.perf_counter() - begun)
    return min(found)


def row(what: str, measured: str, figure: str) -> None:
    print(f"{what.ljust(78)}{measured.rjust(16)}   {figure}", flush=True)
