#!/usr/bin/env python3
"""Delay and drift of one material by two ways against the Cramér-Rao bound, and what they cost."""

from __future__ import annotations

from epidote.runtime import prepare

prepare()

import math
import time

import numpy as np
import scipy.fft

from epidote.core.analysis.delay.delay_estimation import delay_between
from epidote.core.analysis.delay.path_comparison import compare_paths
from epidote.core.signals.resampling import resample
from epidote.core.signals.sample_source import ArraySource

RATE, LOW, HIGH = 48000, 100.0, 8000.0


def material(seconds: float, seed: int) -> np.ndarray:
    """Noise of the band, silent at its end."""
    n = round(seconds * RATE)
    spectrum = scipy.fft.rfft(np.random.default_rng(seed).standard_normal(n))
    f = np.arange(spectrum.size) * RATE / n
    spectrum[(f < LOW) | (f > HIGH)] = 0
    x = scipy.fft.irfft(spectrum, n)
    x[-3000:] = 0
    return x / x.std()


def sweep(seconds: float, seed: int) -> np.ndarray:
    """Exponential, over the band, loud as the seed says nothing about."""
    n = round(seconds * RATE) - 3000
    t = np.arange(n) / n
    ratio = math.log(HIGH / LOW)
    x = np.sin(2 * math.pi * LOW * n / RATE / ratio * (np.exp(ratio * t) - 1) + seed)
    x[:500] *= np.linspace(0, 1, 500)
    x[-500:] *= np.linspace(1, 0, 500)
    return np.concatenate([x, np.zeros(3000)])


def drums(seconds: float, seed: int) -> np.ndarray:
    """Hits of decaying noise over a falling thump, eight in two seconds."""
    rng = np.random.default_rng(seed)
    n = round(seconds * RATE)
    x = np.zeros(n)
    t = np.arange(9000) / RATE
    for k in range(int(4 * seconds) - 1):
        at = round((0.25 * k + 0.01 * rng.random()) * RATE)
        hit = rng.standard_normal(t.size) * np.exp(-t / 0.02) + 2 * np.sin(
            2 * math.pi * 90 * t * np.exp(-3 * t)
        ) * np.exp(-t / 0.06)
        x[at : at + t.size] += hit[: n - at]
    return x


def music(seconds: float, seed: int) -> np.ndarray:
    """Notes of ten falling harmonics that die away."""
    rng = np.random.default_rng(seed)
    n = round(seconds * RATE)
    x = np.zeros(n)
    t = np.arange(RATE // 2) / RATE
    for k in range(int(6 * seconds) - 3):
        at, pitch = round(k / 6 * RATE), 220 * 2 ** (rng.integers(0, 24) / 12)
        note = (
            sum(np.sin(2 * math.pi * pitch * h * t + rng.random() * 6) / h for h in range(1, 11))
            * np.exp(-t / 0.15)
            * np.minimum(1, t / 0.004)
        )
        x[at : at + t.size] += note[: n - at]
    return x


def limit_of(x: np.ndarray, sigma: float) -> float:
    """Cramér-Rao bound in frames of the delay of a known signal in white noise: sigma over the root of the energy of
    its slope, in the band (Kay, Fundamentals of Statistical Signal Processing I, 3.11; from memory).
    """
    spectrum = scipy.fft.rfft(x, 2 * x.size)
    w = math.pi * np.arange(spectrum.size) / x.size
    inside = (w > 2 * math.pi * LOW / RATE) & (w < 2 * math.pi * HIGH / RATE)
    return sigma / math.sqrt(float((np.abs(spectrum[inside]) ** 2 * w[inside] ** 2).sum()) / x.size)


def bound(seconds: float, snr: float) -> float:
    """Of a delay in frames: known reference, noise in one (Knapp, Carter 1976)."""
    return RATE / math.sqrt(2 * seconds * 10 ** (snr / 10) * (HIGH**3 - LOW**3) / 3 * (2 * math.pi) ** 2)


def noise(x: np.ndarray, snr: float, rng: np.random.Generator) -> np.ndarray:
    return 10 ** (-snr / 20) * math.sqrt(RATE / 2 / (HIGH - LOW)) * rng.standard_normal(x.size)


def row(what: str, measured: str, figure: str) -> None:
    print(f"{what.ljust(70)} {measured.rjust(24)}   {figure}")


def main() -> None:
    rng = np.random.default_rng(0)
    for snr in (60, 40, 20, 0):
        errors = []
        for seed in range(60):
            x, true = material(2, seed), 123.37 + rng.random()
            size = 2 * x.size
            late = scipy.fft.irfft(
                scipy.fft.rfft(x, size) * np.exp(-2j * np.pi / size * np.arange(size // 2 + 1) * true), size
            )[: x.size]
            errors.append(delay_between(x, late + noise(x, snr, rng), RATE, (LOW, HIGH), 0.5).frames - true)
        ratio = math.sqrt(np.mean(np.square(errors))) / bound(2 - 3000 / RATE, snr)
        row(f"delay, 2 s of noise at {snr} dB, over the bound", f"{ratio:.2f}", "1.2")
    for make in (sweep, drums, music):
        told = []
        for snr in (60, 40, 20, 0):
            ratios = []
            for seed in range(40):
                x, true = make(2, seed), 123.37 + rng.random()
                size = 2 * x.size
                late = scipy.fft.irfft(
                    scipy.fft.rfft(x, size) * np.exp(-2j * np.pi / size * np.arange(size // 2 + 1) * true), size
                )[: x.size]
                sigma = 10 ** (-snr / 20) * x.std()
                found = delay_between(x, late + sigma * rng.standard_normal(x.size), RATE, (LOW, HIGH), 0.5)
                ratios.append((getattr(found, "frames", math.inf) - true) / limit_of(x, sigma))
            told.append(f"{math.sqrt(np.mean(np.square(ratios))):.2f}")
        row(f"delay, 2 s of {make.__name__} at 60, 40, 20, 0 dB, over the bound", ", ".join(told), "1.2")
    for snr in (60, 20):
        errors = []
        for seed in range(8):
            x, ppm = material(10, seed), 100.0 * (rng.random() - 0.5)
            late = resample(np.concatenate([np.zeros(600), x, np.zeros(600)]), 1 - ppm * 1e-6, 300.0, x.size)
            (found,) = compare_paths(
                ArraySource(x, RATE), [ArraySource(late + noise(x, snr, rng), RATE)], (LOW, HIGH), 0.5, events=False
            )
            errors.append(found.drift - (1 / (1 - ppm * 1e-6) - 1))
        limit = bound(10, snr) / RATE * math.sqrt(12) / 10
        row(
            f"drift, 10 s of noise at {snr} dB, over the bound",
            f"{math.sqrt(np.mean(np.square(errors))) / limit:.2f}",
            "1.5",
        )
        row("    the bound", f"{1e6 * limit:.2g} ppm", "-")
    x = material(10, 0)
    begun = time.perf_counter()
    scipy.fft.rfft(x)
    one = time.perf_counter() - begun
    begun = time.perf_counter()
    compare_paths(ArraySource(x, RATE), [ArraySource(np.roll(x, 480), RATE)], (LOW, HIGH), 1.0, events=True)
    gone = time.perf_counter() - begun
    row("paths, 10 s, no drift: of real time, and over one rfft", f"1/{10 / gone:.0f}, {gone / one:.0f}", "-")


if __name__ == "__main__":
    main()
