"""The benchmarks follow the code: what they import is there."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

BENCHMARKS = Path(__file__).resolve().parents[2] / "tools" / "benchmarks"


@pytest.mark.parametrize("name", sorted(path.stem for path in BENCHMARKS.glob("*.py")))
def test_a_benchmark_finds_what_it_measures(name: str) -> None:
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": str(BENCHMARKS)}
    outcome = subprocess.run(
        [sys.executable, "-c", f"import {name}"], env=environment, capture_output=True, text=True, check=False
    )
    assert outcome.returncode == 0, outcome.stderr
