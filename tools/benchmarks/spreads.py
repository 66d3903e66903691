#!/usr/bin/env python3
"""How far readings lie from the truth, in the spreads they state: rms over many seeds, for every procedure and five
kinds of noise.

An ideal unit (gain 1 with a little distortion, a late path) plus noise; the truth of a reading is what it says without
noise. Readings of the noise itself have their mean over all seeds for a truth. White, pink, a rumble within the band,
hum, and 16 bits without dither.

    tools/benchmarks/spreads.py [--seeds N] [--procedure KEY]... [--noise NAME]...
"""

from __future__ import annotations

import argparse
import math
import sys
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

from epidote.core.chain.chain import Chain
from epidote.core.procedures.protocol import stimulus_of
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal

RATE = 48000.0
LEVEL = 1e-5  # standard deviation of the white noise, FS
SETTINGS: dict[str, dict[str, Any]] = {
    "tone": {"duration": 1.0, "frequency": 997.0},
    "response": {"duration": 2.0},
    "noise": {"duration": 2.0},
    "latency": {"shots": 5, "longest": 0.1},
    "paths": {"duration": 4.0},
    "distortion-level": {"steps": 4, "dwell": 0.3, "start_level": -20.0, "stop_level": -6.0},
    "distortion-frequency": {"points_per_octave": 1, "dwell": 0.3, "start_frequency": 100.0, "stop_frequency": 6000.0},
    "intermodulation": {"duration": 1.0},
    "multitone": {"duration": 1.0},
    "crosstalk": {"duration": 0.3, "points_per_octave": 1},
    "gain": {"duration": 1.0},
    "impedance": {"duration": 2.0},
    "spectrum": {"duration": 1.0},
}
# where something lies or which step it was, and what the stand-in noise itself moves (an offset of half a step, a line
# under a harmonic)
OF_NO_TRUTH = (
    "lowest_thd_n_level",
    "worst_frequency",
    "minimum_frequency",
    "maximum_frequency",
    "headroom",
    "polarity",
)
DISTORTING = (1.0, 1e-3, 5e-4)  # of x, x², x³
OF_DISTORTION = (
    "tone",
    "distortion-level",
    "distortion-frequency",
    "intermodulation",
)  # the others are tried with a linear unit
LATE = 321.4  # frames


def shaped(rng: np.random.Generator, frames: int, shape: Callable[[Samples], Samples]) -> Samples:
    spectrum = np.fft.rfft(rng.standard_normal(frames))
    f = np.fft.rfftfreq(frames, 1 / RATE)
    return np.asarray(np.fft.irfft(spectrum * shape(np.maximum(f, f[1])), frames))


def white(x: Samples, rng: np.random.Generator) -> Samples:
    return x + LEVEL * rng.standard_normal(x.size)


def pink(x: Samples, rng: np.random.Generator) -> Samples:
    return x + LEVEL * shaped(rng, x.size, lambda f: np.sqrt(1000 / f))


def rumble(x: Samples, rng: np.random.Generator) -> Samples:
    """From 25 to 60 Hz, outweighing all else in the band."""
    return white(x, rng) + 750 * LEVEL * shaped(rng, x.size, lambda f: ((f > 25) & (f < 60)).astype(float))


def hum(x: Samples, rng: np.random.Generator) -> Samples:
    """The same hum in every trial: what it adds to a level is no chance."""
    t = np.arange(x.size) / RATE
    orders = ((1, 30.0), (2, 60.0), (3, 20.0), (5, 10.0), (6, 5.0))
    return white(x, rng) + LEVEL * sum(a * np.cos(2 * np.pi * 50.013 * n * t + n**2) for n, a in orders)


def undithered(x: Samples, rng: np.random.Generator) -> Samples:
    return np.round(x * 2**15 + rng.uniform(-0.5, 0.5)) / 2**15


NOISES: dict[str, Callable[[Samples, np.random.Generator], Samples]] = {
    f.__name__: f for f in (white, pink, rumble, hum, undithered)
}


def measured(
    key: str, settings: Any, noise: Callable[[Samples, np.random.Generator], Samples] | None, seed: int
) -> Result:
    """One run of a procedure on the ideal unit; without noise: the truth.

    What differs from seed to seed beside the noise is the delay.
    """
    rng = np.random.default_rng(seed)
    chain, carried = Chain(rate=RATE), procedure(key)
    conduct = carried.conduct(settings, chain)
    recordings: list[Recording] = []
    unit = DISTORTING if key in OF_DISTORTION else DISTORTING[:1]
    late_by = LATE + np.random.default_rng(seed + 10_000).uniform(-24, 24)
    try:
        wanted = next(conduct)
        while True:
            stimulus = stimulus_of(wanted)
            played = 0.93 * stimulus.samples()
            spectrum = np.fft.rfft(played, 2 * played.size)
            turns = 2 * np.pi * np.arange(spectrum.size) / (2 * played.size)
            late = np.fft.irfft(spectrum * np.exp(-1j * turns * late_by), 2 * played.size)[: played.size]
            # the second channel: half as loud, so that it differs from the first
            through = [sum(c * (share * late) ** n for n, c in enumerate(unit, start=1)) for share in (1.0, 0.5)]
            if key == "paths":
                through[0] = played
            noisy = [np.asarray(one) if noise is None else noise(np.asarray(one), rng) for one in through]
            recording = Recording(Signal(np.column_stack(noisy), RATE), stimulus)
            recordings.append(recording)
            wanted = conduct.send(recording)
    except StopIteration:
        pass
    return carried.analyse(recordings, settings, chain)


@lru_cache(maxsize=2000)
def true_result(key: str, seed: int) -> Result:
    """The same without noise; curves are not kept."""
    settings = make_settings(procedure(key).Settings, SETTINGS.get(key, {}))
    return replace(measured(key, settings, None, seed), curves=())


def table(key: str, noise: str, seeds: int) -> Iterator[tuple[str, int, float, float, float, int]]:
    """Reading, channel, rms of error over spread, share within 2, median spread, seeds; one row for each that has a
    spread.
    """
    settings = make_settings(procedure(key).Settings, SETTINGS.get(key, {}))
    found: dict[tuple[str, int], list[tuple[float, float, float]]] = {}
    without: dict[tuple[str, int], int] = {}
    for seed in range(seeds):
        result, truth = measured(key, settings, NOISES[noise], seed), true_result(key, seed)
        for reading in result.readings:
            of = (reading.key, reading.channel)
            true = truth.reading(*of)
            if reading.value is None or Caution.NOISE_DOMINATED in reading.cautions or reading.key in OF_NO_TRUTH:
                continue
            if not reading.spread:
                without[of] = without.get(of, 0) + 1
                continue
            found.setdefault(of, []).append(
                (reading.value, reading.spread, math.nan if true is None or true.value is None else true.value)
            )
    for of, rows in found.items():
        value, spread, true = np.array(rows).T
        # what the noise itself is has no truth without it
        own = of[0] in (
            "noise",
            "hum",
            "snr",
            "thd_n",
            "sinad",
            "enob",
            "noise_a",
            "noise_468",
            "distortion_noise",
            "lowest_thd_n",
            "worst",
            "mains_sum",
        ) or key in ("noise", "spectrum")
        error = value - (value.mean() if own or not np.isfinite(true).all() else true)
        over = error / spread
        yield (
            *of,
            math.sqrt(float(np.mean(over**2))),
            float(np.mean(np.abs(over) <= 2)),
            float(np.median(spread)),
            len(rows),
        )
    for of, count in without.items():
        yield (*of, math.nan, math.nan, math.nan, -count)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seeds", type=int, default=200)
    parser.add_argument("--procedure", action="append")
    parser.add_argument("--noise", action="append", choices=list(NOISES))
    asked = parser.parse_args()
    for key in asked.procedure or list(procedures()):
        for noise in asked.noise or NOISES:
            for reading, channel, rms, within, spread, count in table(key, noise, asked.seeds):
                if channel > 1 and key not in ("paths", "crosstalk"):
                    continue
                said = "no spread" if count < 0 else f"{rms:6.2f} {within:5.0%} {spread:10.3g}"
                print(f"{key:22} {noise:10} {reading:22} {channel} {abs(count):4} {said}", flush=True)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
