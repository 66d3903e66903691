#!/usr/bin/env python3
"""The accuracy table: synthetic recordings of known truth, analysed as any recording is.

Figures to reach: docs/methods.md.
"""

from __future__ import annotations

import numpy as np

from epidote.core.analysis.sine.sine_fit import fit_tone
from epidote.core.analysis.spectral.weighting import Weighting, power_weight
from epidote.core.chain.chain import Chain
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

RATE = 48000.0
CHAIN = Chain()
RNG = np.random.default_rng(2026)


def row(what: str, measured: str, figure: str) -> None:
    print(f"{what.ljust(74)}{measured.rjust(22)}   {figure}")


def quantised(x: np.ndarray) -> np.ndarray:
    steps = 2.0**23
    return np.round(x * steps + RNG.random(x.size) - RNG.random(x.size)) / steps


def tone(x: np.ndarray, **settings):
    return Tone().analyse([Recording(Signal(x, RATE))], ToneSettings(**settings), CHAIN)


def tones() -> None:
    n = 48000
    t = np.arange(n) / RATE
    worst = 0.0
    for f in (20.3, 997.1, 6000.7, 19997.0):
        level = tone(quantised(0.9 * np.cos(2 * np.pi * f * t))).reading("level").value
        worst = max(worst, abs(level - 20 * np.log10(0.9)))
    row("level of a tone, 24 bit, 1 s", f"{worst:.7f} dB", "0.0001 dB")

    sigma = 2.0**-23 * 0.5  # triangular dither and rounding: an LSB²/4
    for size_db in (-120, -140):
        size = 0.5 * 10 ** (size_db / 20)
        errors = []
        for _ in range(60):
            f = RNG.uniform(100, 6000)
            x = quantised(0.5 * np.cos(2 * np.pi * f * t) + size * np.cos(2 * np.pi * 2 * f * t + 1))
            errors.append(abs(fit_tone(x, RATE, f, 10).amplitudes[1]) - size)
        ratio = np.sqrt(np.mean(np.square(errors))) / (sigma * np.sqrt(2 / n))
        row(f"H2 at {size_db} dB, 24 bit with dither, 1 s: rms error over the Cramér-Rao bound", f"{ratio:.2f}", "1.2")

    for noise_db in (-60, -100, -135):
        errors = []
        for seed in range(10):
            noise = np.random.default_rng(seed).standard_normal(n) * 10 ** (noise_db / 20)
            result = tone(0.5 * np.cos(2 * np.pi * 997.3 * t) + noise)
            spectrum = np.fft.rfft(noise)
            k = np.fft.rfftfreq(n, 1 / RATE)
            true = 10 * np.log10(4 / n**2 * np.sum(np.abs(spectrum[(k >= 20) & (k <= 20000)]) ** 2))
            errors.append(result.reading("noise").value - true)
        row(
            f"noise in the band at {noise_db} dBFS, 1 s, against the very samples: rms",
            f"{np.sqrt(np.mean(np.square(errors))):.5f} dB",
            "0.002 dB",
        )

    eta = 10 ** (60 / 10)
    bound = RATE * np.sqrt(12 / ((2 * np.pi) ** 2 * eta * n * (n * n - 1.0)))
    errors = []
    for _ in range(60):
        f = RNG.uniform(100, 10000)
        x = np.cos(2 * np.pi * f * t + 1) + RNG.standard_normal(n) / np.sqrt(2 * eta)
        errors.append(tone(x).reading("frequency").value - f)
    row(
        "frequency, 1 s at 60 dB SNR: rms error over the Cramér-Rao bound",
        f"{np.sqrt(np.mean(np.square(errors))) / bound:.2f}",
        "1.5",
    )

    f = np.geomspace(10, 0.45 * RATE, 1000)
    poles = (
        12194.217148**2
        * f**4
        / (
            (f**2 + 20.5989970576**2)
            * np.sqrt((f**2 + 107.652648643**2) * (f**2 + 737.862230736**2))
            * (f**2 + 12194.217148**2)
        )
    )
    at_1k = (
        12194.217148**2
        * 1e12
        / (
            (1e6 + 20.5989970576**2)
            * np.sqrt((1e6 + 107.652648643**2) * (1e6 + 737.862230736**2))
            * (1e6 + 12194.217148**2)
        )
    )
    worst = np.max(np.abs(10 * np.log10(power_weight(f, Weighting.A)) - 20 * np.log10(poles / at_1k)))
    row("A-weighting against the analytic response, to 0.45 of the rate", f"{worst:.6f} dB", "0.01 dB")


def through(x: np.ndarray, response) -> np.ndarray:
    size = 2 * x.size
    f = np.fft.rfftfreq(size, 1 / RATE)
    return np.fft.irfft(np.fft.rfft(x, size) * response(f), size)[: x.size]


def high_pass(f, corner=10.0):
    s = 1j * f / corner
    return s**2 / (s**2 + 2**0.5 * s + 1)


def sweeps() -> None:
    for window in ("fixed", "by frequency"):
        settings = ResponseSettings(duration=4, window=window)
        stimulus = settings.played(RATE)
        for noise, figure in (
            (0.0, "0.00001 dB, 0.0001°"),
            (10 ** (-90 / 20) / 2**0.5, "0.002 dB fixed, 0.0005 dB by frequency"),
        ):
            worst = angle = 0.0
            for path in (np.ones_like, high_pass, lambda f: high_pass(f) / (1 + 1j * f / 30000)):
                y = through(stimulus.samples(), path) + noise * RNG.standard_normal(stimulus.frames)
                result = Response().analyse([Recording(Signal(y, RATE), stimulus)], settings, CHAIN)
                level, phase = result.curve("level"), result.curve("phase")
                exact = path(level.x)
                worst = max(worst, np.abs(level.y - 20 * np.log10(np.abs(exact))).max())
                angle = max(angle, np.abs((phase.y - np.degrees(np.angle(exact)) + 180) % 360 - 180).max())
            row(
                f"response, 4 s sweep, window {window}, {'no noise' if noise == 0 else '-90 dBFS white noise'}",
                f"{worst:.6f} dB, {angle:.5f}°",
                figure,
            )

    settings = ResponseSettings(duration=10)
    stimulus = settings.played(RATE)
    x, a, size = stimulus.samples(), 10 ** (-6 / 20), 1 << 20
    wide = np.zeros(2 * size + 1, complex)
    wide[: size // 2 + 1] = 4 * np.fft.rfft(x, size)
    over = np.fft.irfft(wide, 4 * size)
    for level_db in (-60, -100):
        h = 10 ** (level_db / 20)
        a2, a3 = 2 * h / a, 4 * h / a**2
        y = np.fft.irfft(np.fft.rfft(over + a2 * over**2 + a3 * over**3)[: size // 2 + 1] / 4, size)[: x.size]
        result = Response().analyse([Recording(Signal(y, RATE), stimulus)], settings, CHAIN)
        for low in (40, 100):
            worst = 0.0
            for n in (2, 3):
                curve = result.curve(f"h{n}")
                inside = (curve.x >= low) & (curve.x <= 6000)
                worst = max(worst, np.abs(curve.y[inside] - 20 * np.log10(h / (1 + 0.75 * a3 * a * a))).max())
            figure = {(-60, 40): "0.05 dB", (-60, 100): "0.001 dB", (-100, 100): "0.02 dB"}.get((level_db, low), "-")
            row(f"H2 and H3 at {level_db} dB, 10 s sweep, {low} Hz to 6 kHz", f"{worst:.5f} dB", figure)

    worst = 0.0
    settings = ResponseSettings(duration=4)
    stimulus = settings.played(RATE)
    for corner in (30.0, 200.0):
        y = through(stimulus.samples(), lambda f, c=corner: (1j * f / c) / (1 + 1j * f / c))
        found = (
            Response().analyse([Recording(Signal(y, RATE), stimulus)], settings, CHAIN).reading("bandwidth_low").value
        )
        reference = 1 / (1 + (corner / 1000) ** 2) / 2
        exact = corner * np.sqrt(reference / (1 - reference))
        worst = max(worst, abs(found / exact - 1))
    row("-3 dB corner of a first-order high-pass", f"{100 * worst:.5f} %", "0.05 %")

    settings = ResponseSettings(duration=2)
    stimulus = settings.played(RATE)
    x = stimulus.samples()
    spectrum = np.fft.rfft(x)
    w = 2 * np.pi * np.arange(spectrum.size) / x.size
    clean = through(x, lambda f: np.exp(-2j * np.pi * f * 50.37 / RATE))
    for snr in (60, 20, 0):
        sigma = np.sqrt(np.mean(np.square(x[x != 0]))) / 10 ** (snr / 20)
        bound = 1 / np.sqrt(2 * np.sum(w**2 * np.abs(spectrum) ** 2) / (x.size * sigma**2))
        found = []
        for _ in range(30):
            y = clean + sigma * RNG.standard_normal(x.size)
            found.append(
                Response().analyse([Recording(Signal(y, RATE), stimulus)], settings, CHAIN).reading("delay").value
                * RATE
                - 50.37
            )
        row(
            f"delay, 2 s sweep at {snr} dB SNR: rms error over the Cramér-Rao bound",
            f"{np.sqrt(np.mean(np.square(found))) / bound:.2f}",
            "1.2",
        )


if __name__ == "__main__":
    row("what", "measured", "figure to reach")
    tones()
    sweeps()
