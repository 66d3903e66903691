#!/usr/bin/env python3
"""Figures of sound through air: cost of band levels, many channels, and how often a loose part is found."""

from __future__ import annotations

import math
import resource
import sys
import time
from concurrent.futures import ProcessPoolExecutor

from epidote.runtime import prepare

prepare()

import numpy as np
import scipy.fft
from timing import best, row

from epidote.core.chain.chain import Chain
from epidote.core.comparison.conditions.uniformity import uniformity
from epidote.core.procedures.registry import procedure
from epidote.core.results.channels import AVERAGE
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.signals.stimulus import Stimulus

RATE = 48000
SEATS, MICROPHONES, SECONDS = 8, 6, 30


def band_levels() -> None:
    """Print the cost of eight seats with six microphones, in rffts of each channel's length."""
    levels = procedure("band-levels")
    settings = make_settings(levels.Settings, {"background": 0.0, "duration": float(SECONDS)})
    rng = np.random.default_rng(0)
    seats = [0.05 * rng.standard_normal((SECONDS * RATE, MICROPHONES)) for _ in range(SEATS)]
    one = best(lambda: scipy.fft.rfft(seats[0][:, 0].copy()))
    begun, spent = time.perf_counter(), time.process_time()
    results = [levels.analyse([Recording(Signal(x, RATE))], settings, Chain()) for x in seats]
    found = uniformity({str(n): r.curve("levels", AVERAGE) for n, r in enumerate(results)})
    wall, cpu = time.perf_counter() - begun, time.process_time() - spent
    each = SEATS * MICROPHONES * one
    row("8 seats, 6 microphones, 30 s, with uniformity", f"{cpu / each:.1f} rffts of each channel", "under 4")
    row("the same, time", f"{wall:.1f} s, {found.largest:.2f} dB", "-")


def many_channels() -> None:
    """Print time and memory of 32 channels of a minute."""
    levels = procedure("band-levels")
    settings = make_settings(levels.Settings, {"background": 0.0, "duration": 60.0})
    x = 0.05 * np.random.default_rng(0).standard_normal((60 * RATE, 32))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.perf_counter()
    levels.analyse([Recording(Signal(x, RATE))], settings, Chain())
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    row("32 channels of 60 s", f"{time.perf_counter() - begun:.1f} s, {more:.0f} MB more", f"{x.nbytes / 2**20:.0f} MB")


def _sweep() -> Stimulus:
    """Return the sweep of the default settings."""
    settings = make_settings(procedure("impulsive-distortion").Settings, {})
    return settings.played(Chain())


def _unit(seed: int, width: float) -> np.ndarray:
    """A good unit with harmonics and noise 70 dB below; clicks of so many s, 0.1 % of the peak, for width > 0."""
    stimulus = _sweep()
    rng = np.random.default_rng(seed)
    y = stimulus.samples().copy()
    peak = float(np.abs(y).max())
    t = (np.arange(y.size) - stimulus["lead"]) / RATE
    cycles = stimulus["first"] * stimulus["length"] * np.exp(np.clip(t, 0, 10) / stimulus["length"])
    f = cycles / stimulus["length"]
    inside = (t >= 0) & (t < 10) & (f > 20) & (f < 2000)
    orders, first_db, slope_db = ((5, -40.0, -6.0), (29, -40.0, -4.5), (29, -78.0, -1.0), (9, -30.0, -5.0))[seed % 4]
    for order in range(2, orders + 1):
        level = peak * 10 ** ((first_db + slope_db * (order - 2)) / 20)
        y += level * np.sin(2 * np.pi * (order * cycles + rng.uniform())) * (inside & (order * f < 0.45 * RATE))
    if width > 0:
        phase = cycles - rng.uniform()
        pulse_t = (np.arange(math.ceil(width * RATE) + 2) - width * RATE / 2 - 1) / RATE
        pulse = np.where(np.abs(pulse_t) < width / 2, 0.5 + 0.5 * np.cos(2 * np.pi * pulse_t / width), 0.0)
        places = np.flatnonzero(np.diff(np.floor(phase)) > 0)
        for place in places[(f[places] > 85) & (f[places] < 107)]:
            y[place : place + pulse.size] += 1e-3 * peak * pulse
    else:
        place = int(rng.uniform(0.3, 0.7) * y.size)
        y[place : place + 4] += 0.1  # a click from elsewhere
    return y + peak / math.sqrt(2) * 10 ** (-70 / 20) * rng.standard_normal(y.size)


def _judged(case: tuple[int, float]) -> tuple[bool, bool]:
    """Whether a verdict is given, and whether its frequency is right within a sixth of an octave."""
    seed, width = case
    proc = procedure("impulsive-distortion")
    x = _unit(seed, width)
    result = proc.analyse([Recording(Signal(x[:, None], RATE), _sweep())], proc.Settings(), Chain())
    impulses, where = result.reading("impulses"), result.reading("worst_frequency")
    verdict = impulses.value is not None and not impulses.cautions
    near = where.value is not None and abs(math.log2(where.value / math.sqrt(85 * 107))) < 1 / 6
    return verdict, near


def loose_parts() -> None:
    """Print how many of 50 loose parts are found, and how many of 200 good units get a verdict."""
    with ProcessPoolExecutor() as pool:
        for width in (1e-4, 3e-4):
            found = list(pool.map(_judged, [(seed, width) for seed in range(50)]))
            right = sum(verdict and near for verdict, near in found)
            row(f"clicks of {width * 1e3:g} ms, 0.1 % of the peak", f"{right} of 50", "50 of 50")
        good = list(pool.map(_judged, [(1000 + seed, 0.0) for seed in range(200)]))
        row("verdicts on good units", f"{sum(v for v, _ in good)} of 200", "0")


if __name__ == "__main__":
    band_levels()
    many_channels()
    if "--all" in sys.argv:
        loose_parts()
