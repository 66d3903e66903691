"""What the Watch page's aim compares with what, and shows in its panel."""

from __future__ import annotations

import math
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError, in_window
from epidote.core.live.aim import AimKind, AimMeter, parse_aim
from epidote.core.live.meter_readings import Figures, figures
from epidote.core.live.spectrum_analyser import HeldSpectrum
from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import from_db
from epidote.desktop.pages.watch.aim_panel import TYPED, AimPanel
from epidote.desktop.pages.watch.meter_panels import gain_words
from epidote.desktop.theme import Theme

NO_GENERATOR = "A gain needs the generator: select Sine and start the output."


@dataclass(frozen=True)
class LiveInputs:
    """What comes in now: figures of each input, gain from the generator to each in dB (None: not known), snapshots."""

    figures: Sequence[Figures]
    gains: Sequence[float | None]
    chain: Chain
    snapshots: Mapping[str, HeldSpectrum]


class AimControl:
    """Feeds the panel; targets that cannot be understood are said in it."""

    def __init__(self, theme: Theme) -> None:
        self.panel = AimPanel(theme)
        self.panel.changed.connect(self._restart)
        self._meter = AimMeter()
        self._levels: tuple[HeldSpectrum, tuple[float, ...]] | None = None  # of the last snapshot, dBFS per channel
        self.stop()

    def _restart(self) -> None:
        self._meter.reset()

    def stop(self) -> None:
        """Say what is to be done first; the live view has stopped."""
        self._meter.reset()
        self.panel.offer(2, [])
        self.panel.say("Start the live view, then adjust the level on the unit.")

    def forget(self) -> None:
        """Another study is open, without the snapshots of the former one."""
        self._levels = None
        self.stop()

    def show(self, now: LiveInputs) -> None:
        """Show how far the chosen input is off its target."""
        panel = self.panel
        if not now.figures:  # nothing has been recorded yet
            return
        panel.offer(len(now.figures), list(now.snapshots))
        channel = min(int(panel.channel.currentData() or 0), len(now.figures) - 1)
        try:
            off, words = self._off(channel, now)
        except EpidoteError as error:
            panel.say(in_window(error))
            return
        state = self._meter.push(off, time.monotonic()) if off is not None else None
        if state is None:
            panel.say(words if off is None else "No signal at this input.")
        else:
            panel.show_state(state, words)

    def _off(self, channel: int, now: LiveInputs) -> tuple[float | None, str]:
        """Return by how many dB the input is above its target, and its value in words; None with what is missing."""
        level = now.figures[channel].rms
        own = _level_words(level, now.chain, channel)
        like = str(self.panel.like.currentData() or TYPED)
        if like.startswith("input "):
            other = min(int(like.removeprefix("input ")), len(now.figures) - 1)
            return level - now.figures[other].rms, own
        if like.startswith("snapshot "):
            name = like.removeprefix("snapshot ")
            if name not in now.snapshots:
                return None, f"The snapshot “{name}” was deleted. Select another target."
            return level - self._snapshot_level(now.snapshots[name], channel), own
        aim = parse_aim(self.panel.target.text(), now.chain.conversion())
        if aim.kind is AimKind.LEVEL:
            return level - aim.wanted, own
        gain = now.gains[channel]
        if gain is None:
            return None, NO_GENERATOR
        return gain - aim.wanted, gain_words(gain)

    def _snapshot_level(self, snapshot: HeldSpectrum, channel: int) -> float:
        known, levels = self._levels or (None, ())
        if known is not snapshot:
            samples = np.atleast_2d(snapshot.recent.T)
            levels = tuple(figures(x, snapshot.rate).rms for x in samples)
            self._levels = (snapshot, levels)
        return levels[min(channel, len(levels) - 1)]


def _level_words(level: float, chain: Chain, channel: int) -> str:
    """Return a level of an input in volts, or in dBFS without calibration."""
    full, unit = chain.scale(channel + 1)
    if full is None or not math.isfinite(level):
        return f"{level:.2f} dBFS"
    return f"{format_quantity(full * from_db(level), unit, digits=4)}, {level:.2f} dBFS"
