#!/usr/bin/env python3
"""How long a staircase takes against the time its tones sound, what a step costs, and how near its figures come to
closed forms.
"""

from __future__ import annotations

from epidote.runtime import prepare

prepare()

import math
import time

import numpy as np

from epidote.audio.device import DeviceInfo
from epidote.core.analysis.sine import stepped_tone as steps
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.stepped_tones import ScheduledStep, steps_of
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse

RATE, LATE = 96000.0, 2048
CHAIN = Chain(rate=RATE)
NOISE = 1e-6 * np.random.default_rng(1).standard_normal((round(60 * RATE), 2))


class Paced:
    """A formula behind converters that hand out sound at its own pace, two channels."""

    info = DeviceInfo("paced", "paced formula", "benchmark", 2, 2, (96000,), 24)

    def __init__(self, unit, *, real: bool) -> None:
        self.unit, self.real = unit, real

    def exchange(self, stimulus, *, ceiling_dbfs, progress, cancelled, enough=None):
        late = np.zeros((stimulus.frames, 2))
        late[LATE:] = stimulus.samples()[:-LATE, None]
        begun, block = time.monotonic(), 1024
        back = self.unit(late) + NOISE[: stimulus.frames]
        for end in range(block, back.shape[0] + block, block):
            if self.real:
                time.sleep(max(0.0, begun + end / RATE - time.monotonic()))
            if enough is not None and enough(Signal(back[:end], RATE)):
                return Recording(Signal(back[:end], RATE), stimulus)
        return Recording(Signal(back, RATE), stimulus)


def carried_out(key, unit, *, real=False, **values):
    chosen = make_settings(procedure(key).Settings, values)
    begun = time.perf_counter()
    recordings = play_and_record(key, chosen, CHAIN, Paced(unit, real=real))
    result = analyse(key, recordings, chosen, CHAIN)
    return result, recordings, time.perf_counter() - begun


def row(what: str, measured: str, figure: str) -> None:
    print(f"{what.ljust(86)} {measured.rjust(18)}   {figure}")


def main() -> None:
    carried_out("distortion-level", lambda x: np.clip(x, -0.95, 0.95), steps=3)  # everything is loaded
    for dwell in (0.25, 0.4, 1.0):
        _, recordings, gone = carried_out(
            "distortion-level", lambda x: np.clip(x, -0.95, 0.95), real=True, dwell=dwell, steps=30, stop_at=100
        )
        ends = [(r.signal.frames, s) for r in recordings for s in steps_of(r.stimulus)]
        tones = sum(s.frames for heard, s in ends if s.first + s.frames <= heard) / RATE
        count = sum(len(steps_of(r.stimulus)) for r in recordings)
        row(
            f"staircase of 30 steps of {dwell:g} s and {count - 30} fine ones, two channels, over its tones",
            f"{gone / tones:.3f}",
            "1.15",
        )
    _, recordings, gone = carried_out("distortion-frequency", lambda x: x, real=True, level=-20)
    tones = sum(s.frames for r in recordings for s in steps_of(r.stimulus)) / RATE
    row("31 frequencies, two channels, over their tones", f"{gone / tones:.3f}", "1.15")
    for dwell in (0.1, 0.25, 0.4):
        x = 0.1 * np.sin(2 * np.pi * 997 / RATE * np.arange(round(0.68 * dwell * RATE)))
        times = []
        for seed in range(12):
            noisy = x + 1e-6 * np.random.default_rng(seed).standard_normal(x.size)
            begun = time.perf_counter()
            steps.measure_step(
                noisy, RATE, ScheduledStep(0, x.size, 997.0, -20.0), 10, (20.0, 20000.0), weighting=Weighting.NONE
            )
            times.append(time.perf_counter() - begun)
        row(f"analysis of a step of {dwell:g} s, one channel, over its dwell", f"{np.median(times) / dwell:.3f}", "0.1")

    clip = 0.3
    result, *_ = carried_out(
        "distortion-level", lambda x: np.clip(x, -clip, clip), frequency=997, stop_on="THD", dwell=0.25
    )
    for name, thd in (("1pct", 0.01), ("2pct", 0.02), ("limit", 0.05)):
        reading = result.reading(f"level_at_{name}")
        row(
            f"output of a hard clipper at {100 * thd:g} % THD, against the Fourier series",
            f"{abs(reading.value - 20 * math.log10(clip * clipped(thd))):.4f} dB",
            "0.05 dB",
        )
    result, *_ = carried_out("intermodulation", lambda x: x + 0.01 * x**2 + 0.005 * x**3, level=0)
    row(
        "d_m2 and d_m3 of a polynomial, 60 Hz + 7 kHz, against the closed form",
        f"{abs(result.reading('modulation_d2').value - 20 * math.log10(0.01592119011)):.5f},"
        f" {abs(result.reading('modulation_d3').value - 20 * math.log10(0.004776357033)):.5f} dB",
        "-",
    )
    _, recordings, gone = carried_out("multitone", lambda x: x)
    row(
        "multitone of 4 s, two channels: analysis over its period",
        f"{(time_of_analysis('multitone', recordings)) / 4:.3f}",
        "-",
    )


def time_of_analysis(key: str, recordings) -> float:
    begun = time.perf_counter()
    analyse(key, recordings, procedure(key).Settings(), CHAIN)
    return time.perf_counter() - begun


def clipped(thd: float) -> float:
    """Fundamental over the clip level where H3 to H9 of a clipped sine reach this THD."""

    def series(ratio: float) -> tuple[float, float]:
        phi = math.asin(ratio)
        b1 = 2 / math.pi * (phi + ratio * math.sqrt(1 - ratio**2))
        rest = [
            2 / math.pi * (math.sin((n - 1) * phi) / (n * (n - 1)) + math.sin((n + 1) * phi) / (n * (n + 1)))
            for n in (3, 5, 7, 9)
        ]
        return b1, math.hypot(*rest) / b1

    low, high = 0.5, 1.0
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (middle, high) if series(middle)[1] > thd else (low, middle)
    return series(low)[0] / low


if __name__ == "__main__":
    main()
