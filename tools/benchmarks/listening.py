#!/usr/bin/env python3
"""Programme and clips: time and memory of analysing a minute of stereo, of aligning a clip, and of playing clips, as
ratios to the sound's own time. ``listening.py [SECONDS]``
"""

from __future__ import annotations

import resource
import sys
import time

from epidote.runtime import prepare

prepare()

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.live.clip_player import ClipPlayer, PlayOrder
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals.recording import beside_original
from epidote.core.signals.resampling import resample
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.music import music
from epidote.measurement.listening.clips import aligned_samples

RATE = 48000.0
BLOCK = 512


def recorded(seconds: float) -> tuple[np.ndarray, np.ndarray]:
    """A minute of music through two channels with a clock 300 ppm off, 123.4 samples late, and noise."""
    x = music(rate=RATE, duration=seconds, level=-12.0).samples()
    y = resample(x, 1 / (1 + 300e-6), -123.4, x.size + 4800)
    noise = 1e-6 * np.random.default_rng(0).standard_normal((y.size, 2))
    return x, np.column_stack([0.5 * y, 0.4 * y]) + noise


def main() -> None:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    x, heard = recorded(seconds)
    recording = beside_original(Signal(heard, RATE), Signal(x[:, None], RATE))
    proc = procedure("programme")
    settings = make_settings(proc.Settings, {"duration": min(seconds, 120.0)})
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    wall, cpu = time.perf_counter(), time.process_time()
    result = proc.analyse([recording], settings, Chain(rate=RATE))
    wall, cpu = time.perf_counter() - wall, time.process_time() - cpu
    more = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024 - before
    print(f"analysis of {seconds:g} s of stereo: {wall:.1f} s, {cpu:.1f} s of CPU ({cpu / seconds:.2f} of its time)")
    print(f"memory: {more:.0f} MB above the {before:.0f} MB of the recording and the program")
    for channel in (1, 2):
        reading = result.reading("residual_equalised", channel)
        print(f"residual, equalised, channel {channel}: {reading.value if reading else None} dB")
    wall = time.perf_counter()
    aligned_samples(heard, x[:, None], RATE)
    print(f"aligning it for listening: {time.perf_counter() - wall:.1f} s")
    player = ClipPlayer(RATE, 2, 0.0, [heard] * 4)
    cpu = time.process_time()
    blocks = round(10 * RATE / BLOCK)
    for number in range(blocks):
        if number % 20 == 0:
            player.order(PlayOrder(number // 20 % 4, True, 1.0, 5.0, -20.0))
        player.next(BLOCK)
    print(f"playing four clips, switching five times a second: {(time.process_time() - cpu) / 10:.3f} of real time")


if __name__ == "__main__":
    main()
