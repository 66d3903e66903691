"""What is loaded when: nothing below the desktop knows Qt, and what shows first loads little."""

import ast
import subprocess
import sys
from pathlib import Path

import grimp
import pytest

from tools.circles import circles


def loaded_by(code: str) -> set[str]:
    """Names of the modules that a fresh process has loaded after some code."""
    out = subprocess.run(
        [sys.executable, "-c", f"{code}\nimport sys; print('\\n'.join(sys.modules))"],
        capture_output=True,
        text=True,
        check=True,
    )
    return set(out.stdout.split())


def test_no_qt_below_the_desktop():
    code = """
import importlib, pkgutil
for part in ("core", "standins", "audio", "study", "measurement", "batch", "demo", "cli"):
    top = importlib.import_module(f"epidote.{part}")
    for module in pkgutil.walk_packages(getattr(top, "__path__", []), top.__name__ + "."):
        importlib.import_module(module.name)
"""
    assert not {m for m in loaded_by(code) if m.startswith(("PySide6", "shiboken6"))}


def test_help_loads_neither_scipy_nor_qt():
    code = (
        "import contextlib, io\nfrom epidote.cli.app import run_command\nwith"
        " contextlib.redirect_stdout(io.StringIO()): assert run_command(['--help']) == 0"
    )
    assert not {m for m in loaded_by(code) if m.split(".")[0] in ("scipy", "PySide6", "numpy")}


def test_the_window_shows_before_anything_that_computes_is_loaded():
    code = (
        "from epidote.desktop.app import application\napplication()\nfrom epidote.desktop.shell.main_window import"
        " MainWindow\nw = MainWindow(); w.show(); w.close()"
    )
    assert not {m for m in loaded_by(code) if m.split(".")[0] in ("numpy", "scipy", "pydantic", "soundfile", "typer")}


@pytest.mark.parametrize(
    ("imports", "expected"),
    [
        ("a-b b-c a-c", []),
        ("a-b b-a", [["a", "b"]]),
        ("a-b b-c c-d d-b e-a", [["b", "c", "d"]]),
        ("a-b b-a c-d d-c b-c", [["a", "b"], ["c", "d"]]),
    ],
)
def test_import_circles_are_found(imports, expected):
    graph = grimp.ImportGraph()
    for one in imports.split():
        importer, imported = one.split("-")
        graph.add_import(importer=importer, imported=imported)
    assert sorted(circles(graph)) == expected


def test_no_two_classes_have_one_name():
    source = Path(__file__).resolve().parents[1] / "src" / "epidote"
    where: dict[str, list[str]] = {}
    for file in source.rglob("*.py"):
        for node in ast.parse(file.read_text()).body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                where.setdefault(node.name, []).append(str(file.relative_to(source)))
    assert not {name: files for name, files in where.items() if len(files) > 1}
