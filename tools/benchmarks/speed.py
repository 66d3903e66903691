#!/usr/bin/env python3
"""The speed table: ratios to one FFT of the same length, to real time, and to an empty window, on this machine in
one run.
"""

from __future__ import annotations

import compileall
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from epidote.runtime import prepare

prepare()

import numpy as np
import plain_scipy
import scipy.fft
from timing import best, row

from epidote.core.analysis import sweep_deconvolution as deconvolution
from epidote.core.chain.chain import Chain
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.signals import stimulus as stimuli
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

ROOT = Path(__file__).resolve().parents[2]
CHAIN = Chain()


def analyses() -> None:
    for rate in (48000.0, 192000.0):
        n = round(10 * rate)
        t = np.arange(n) / rate
        rng = np.random.default_rng(1)
        x = 0.5 * np.cos(2 * np.pi * 997.1234 * t) + 1e-6 * rng.standard_normal(n)
        one = best(lambda x=x: scipy.fft.rfft(x))
        recording = Recording(Signal(x, rate))
        spent = best(lambda r=recording: Tone().analyse([r], ToneSettings(), CHAIN))
        row(f"tone, 10 s at {rate / 1000:g} kHz, one channel", f"{spent / one:.1f} rffts", "under 3")
        stereo = Recording(Signal(np.column_stack([x, x]), rate))
        both = best(lambda r=stereo: Tone().analyse([r], ToneSettings(), CHAIN), 5)
        _beside_plain("tone", rate, spent, best(lambda x=x, f=rate: plain_scipy.thd_n(x[:, None], f), 5), 1)
        plain = best(lambda r=stereo, f=rate: plain_scipy.thd_n(r.signal.samples, f), 5)
        _beside_plain("tone", rate, both, plain, 2)
        row(f"tone, 10 s at {rate / 1000:g} kHz, two channels, per channel", f"{both / 2 / one:.1f} rffts", "under 3")
        settings = ResponseSettings(duration=9.3)
        stimulus = settings.played(rate)
        y = stimulus.samples() + 1e-6 * rng.standard_normal(stimulus.frames)
        one = best(lambda y=y: scipy.fft.rfft(y, scipy.fft.next_fast_len(y.size, real=True)))
        recording = Recording(Signal(y, rate), stimulus)

        def first(r: Recording = recording, s: ResponseSettings = settings) -> None:
            stimuli._render.cache_clear()
            deconvolution._kernel.cache_clear()
            Response().analyse([r], s, CHAIN)

        row(
            f"response, 10 s at {rate / 1000:g} kHz, one channel, the first of its kind",
            f"{best(first, 5) / one:.1f} rffts",
            "-",
        )
        spent = best(lambda r=recording, s=settings: Response().analyse([r], s, CHAIN), 5)
        row(f"response, 10 s at {rate / 1000:g} kHz, one channel", f"{spent / one:.1f} rffts", "under 6")
        played = stimulus.samples()
        _beside_plain("response", rate, spent, best(lambda p=played, y=y: plain_scipy.magnitude(p, y[:, None]), 5), 1)
        two = Recording(Signal(np.column_stack([y, y]), rate), stimulus)
        spent = best(lambda r=two, s=settings: Response().analyse([r], s, CHAIN), 5)
        plain = best(lambda p=played, r=two: plain_scipy.magnitude(p, r.signal.samples), 5)
        _beside_plain("response", rate, spent, plain, 2)
        row(
            f"response, 10 s at {rate / 1000:g} kHz, two channels, per channel",
            f"{spent / 2 / one:.1f} rffts",
            "under 6",
        )
        if rate == 192000:
            row("response, 10 s at 192 kHz stereo, of real time", f"1/{10 / spent:.0f}", "under 1/100")
            row("tone, 10 s at 192 kHz stereo, of real time", f"1/{10 / both:.0f}", "under 1/100")


def _beside_plain(name: str, rate: float, spent: float, plain: float, channels: int) -> None:
    words = "one channel" if channels == 1 else "two channels"
    row(f"{name}, 10 s at {rate / 1000:g} kHz, {words}, of a plain script's time", f"{spent / plain:.2f}", "under 0.5")


EMPTY = """
import os, sys, time
from PySide6.QtWidgets import QApplication, QMainWindow
app = QApplication([])
class Window(QMainWindow):
    def paintEvent(self, event):
        print(time.time() - float(os.environ["BEGUN"])); sys.stdout.flush(); os._exit(0)
w = Window(); w.resize(1280, 800); w.show(); app.exec()
"""
FULL = """
import os, sys, time
begun = float(os.environ["BEGUN"])
told = {}
def tell(what):
    if what not in told:
        told[what] = time.time() - begun
import epidote.study.store
from epidote.desktop import app
from epidote.desktop.pages.matrix.matrix_table import delegate as cells
from epidote.desktop.plotting import graph_widget as view
painted, drawn = cells.MatrixDelegate.paint, view.GraphWidget.paintEvent
def paint_cell(self, *a):
    painted(self, *a); tell("matrix")
def paint_graph(self, *a):
    drawn(self, *a)
    if self.figure() is not None:
        tell("graph")
        print(told["matrix"], told["graph"]); sys.stdout.flush(); os._exit(0)
cells.MatrixDelegate.paint = paint_cell
view.GraphWidget.paintEvent = paint_graph
app.run(sys.argv[1])
"""


def started(code: str, *arguments: str) -> list[float]:
    environment = {**os.environ, "BEGUN": str(time.time())}
    environment.setdefault("QT_QPA_PLATFORM", "offscreen")
    out = subprocess.run(
        [sys.executable, "-c", code, *arguments],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
        timeout=60,
    ).stdout
    return [float(v) for v in out.split()]


def starting() -> None:
    from epidote.demo.scenario import fill_demo, open_demo

    compileall.compile_dir(str(ROOT / "src"), quiet=1)  # as the set-up does
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "Demo.epidote"
        study = open_demo(path)
        fill_demo(study, lambda _: None)
        study.close()
        empty, full = [], []
        for _ in range(9):
            empty.append(started(EMPTY)[0])
            full.append(started(FULL, str(path)))
    window = float(np.median(empty))
    matrix, graph = np.median(full, axis=0)
    row("an empty PySide6 window, from the process' start", f"{1000 * window:.0f} ms", "-")
    row(
        "the window with the demo's matrix painted",
        f"{1000 * matrix:.0f} ms = {matrix / window:.2f}",
        "at most 2.5 empty windows",
    )
    row("... and its first graph painted", f"{1000 * graph:.0f} ms", "within 2 s of the window")
    spent = best(lambda: subprocess.run([str(ROOT / "start"), "--version"], check=True, capture_output=True), 5)
    row("./start --version with nothing missing", f"{1000 * spent:.0f} ms", "under 1 s")


if __name__ == "__main__":
    analyses()
    starting()
    row("greatest memory of this process", f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB", "-")
