"""The benchmarks follow the code: what they import is there."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

BENCHMARKS = Path(__file__).resolve().parents[2] / "tools" / "benchmarks"


def test_benchmarks_find_what_they_measure() -> None:
    names = sorted(path.stem for path in BENCHMARKS.glob("*.py"))
    assert len(names) > 10
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(BENCHMARKS)}
    code = "; ".join(f"import {name}" for name in names)
    outcome = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=False)
    assert outcome.returncode == 0, outcome.stderr
