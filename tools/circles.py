#!/usr/bin/env python3
"""Import circles among the modules of Epidote: none is allowed, not even for types.

Exits with 1 and names each circle.
"""

from __future__ import annotations

import sys

import grimp


def circles(graph: grimp.ImportGraph) -> list[list[str]]:
    """Modules that import each other by way of others: the strongly connected components of more than one (Tarjan
    1972).
    """
    number: dict[str, int] = {}
    lowest: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(module: str) -> None:
        number[module] = lowest[module] = len(number)
        stack.append(module)
        for imported in graph.find_modules_directly_imported_by(module):
            if imported not in number:
                visit(imported)
                lowest[module] = min(lowest[module], lowest[imported])
            elif imported in stack:
                lowest[module] = min(lowest[module], number[imported])
        if lowest[module] == number[module]:
            component = stack[stack.index(module) :]
            del stack[stack.index(module) :]
            if len(component) > 1:
                found.append(sorted(component))

    sys.setrecursionlimit(10_000)
    for module in sorted(graph.modules):
        if module not in number:
            visit(module)
    return found


def main() -> int:
    found = circles(grimp.build_graph("epidote", cache_dir=None))
    for component in found:
        print("These modules import each other: " + ", ".join(component))
    return 1 if found else 0


if __name__ == "__main__":
    raise SystemExit(main())
