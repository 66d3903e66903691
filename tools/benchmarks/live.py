#!/usr/bin/env python3
"""The live view: share of one core that the Watch page takes at 192 kHz, two channels, 2^18 points, thirty frames a
second, painted; and whether memory grows. ``live.py [SECONDS] [MINUTES OF SOUND AT SPEED]``
"""

from __future__ import annotations

import os
import resource
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_CONFIG_HOME"] = os.environ["XDG_DATA_HOME"] = tempfile.mkdtemp(prefix="epidote-live-")

from epidote.runtime import prepare

prepare()

import numpy as np
from PySide6.QtCore import QEventLoop, QTimer

import epidote.study.store  # noqa: F401  NumPy and SciPy are loaded on one thread
from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.live.spectrum_analyser import LENGTHS
from epidote.desktop.app import application
from epidote.desktop.pages.watch.spectrum_widget import SpectrumWidget
from epidote.desktop.shell.main_window import MainWindow
from epidote.measurement import device_setup as bench
from epidote.study.store import create_study

RATE = 192000
LENGTH = 2**18


class Sound:
    """A tone and noise on two channels, made beforehand: what is measured is the application, not the source."""

    rate = float(RATE)

    def __init__(self, at_speed: bool) -> None:
        t = np.arange(2 * RATE) / RATE
        noise = 1e-6 * np.random.default_rng(0).standard_normal((t.size, 2))
        self._loop = np.column_stack([0.5 * np.sin(2 * np.pi * 1000 * t), 0.1 * np.sin(2 * np.pi * 50 * t)]) + noise
        self._at_speed, self._begun, self.given = at_speed, time.monotonic(), 0

    def read(self) -> np.ndarray:
        due = self.given + RATE // 30 if self._at_speed else int((time.monotonic() - self._begun) * RATE)
        first, count = self.given % RATE, min(due - self.given, RATE)
        self.given += count
        return self._loop[first : first + count]

    def play(self, *_: object) -> None: ...
    def mute(self) -> None: ...
    def close(self) -> None: ...

    def place(self) -> int:
        return 0

    def faults(self) -> tuple[str, ...]:
        return ()


class Card:
    def __init__(self, sound: Sound) -> None:
        self._sound = sound

    def listen(self, **_: object) -> Sound:
        return self._sound

    def close(self) -> None: ...


def settle(seconds: float) -> None:
    loop = QEventLoop()
    QTimer.singleShot(round(seconds * 1000), loop.quit)
    loop.exec()


def resident() -> float:
    """MB in use now."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 1e6


painted = [0]
_paint = SpectrumWidget.paintEvent


def _counting(self: SpectrumWidget, event: object) -> None:
    _paint(self, event)  # type: ignore[arg-type]
    painted[0] += 1


SpectrumWidget.paintEvent = _counting  # type: ignore[method-assign, assignment]


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 15.0
    minutes = float(sys.argv[2]) if len(sys.argv) > 2 else 10.0
    path = Path(tempfile.mkdtemp()) / "Live.epidote"
    study = create_study(path, "Live")
    study.set_setting(
        "chain", chain_to_toml(Chain(rate=RATE, device="standin:wire", output_full_scale=4.0, input_full_scale=8.0))
    )
    study.close()
    application()
    window = MainWindow()
    window.show()
    window.session.open_path(path)
    settle(1.5)
    window.show_page("Watch")
    settle(1.0)
    page = window.page_named("Watch")
    assert page is not None
    page.settings.length.setCurrentIndex(LENGTHS.index(LENGTH))
    for at_speed in (False, True):
        sound = Sound(at_speed)
        bench.open_for_chain = lambda *_, s=sound, **__: Card(s)  # type: ignore[assignment]
        page.start()
        settle(3.0)
        before, cpu, begun, memory = painted[0], time.process_time(), time.monotonic(), resident()
        given = sound.given
        while time.monotonic() - begun < seconds if not at_speed else sound.given - given < minutes * 60 * RATE:
            settle(0.5)
        gone = time.monotonic() - begun
        if at_speed:
            heard = (sound.given - given) / RATE / 60
            print(
                f"memory over {heard:.1f} min of sound, heard in {gone / 60:.1f} min: {resident() - memory:+.1f} MB"
                " (none wanted)"
            )
        else:
            share = (time.process_time() - cpu) / gone
            print(
                f"192 kHz, 2 channels, 2^18 points, {(painted[0] - before) / gone:.1f} frames/s painted: {share:.0%} of"
                " one core (under 60 %)"
            )
        window.session.live.stop()
        window.session.live.wait()
        settle(0.5)
    window.close()


if __name__ == "__main__":
    main()
