"""Sounds of music and speech with known beginnings, made from textbook models: plucked strings (Karplus, Strong
1983), struck strings with stiff partials, drums, syllables of pulses through three formants, clicks. The constants are
ours.
"""

from collections.abc import Callable

import numpy as np
from scipy.signal import lfilter

RATE = 48000
STRUM = np.array([82.0, 110.0, 147.0, 196.0, 247.0])  # Hz
SPACING = 0.9  # s


def ended(x: np.ndarray, seconds: float = 0.05) -> np.ndarray:
    """The same without a step at its end, which would be a click."""
    frames = min(round(seconds * RATE), x.size // 2)
    x[x.size - frames :] *= np.cos(np.arange(frames) / frames * np.pi / 2) ** 2
    return x


def string(rng: np.random.Generator, frequency: float, seconds: float) -> np.ndarray:
    period = int(RATE / frequency)
    loop = np.zeros(period + 2)
    loop[0], loop[period], loop[period + 1] = 1, -0.498, -0.498
    burst = np.zeros(round(seconds * RATE))
    burst[:period] = rng.uniform(-1, 1, period)
    return ended(lfilter([1.0], loop, burst))


def pluck(rng: np.random.Generator) -> np.ndarray:
    return 0.3 * string(rng, rng.uniform(80, 600), 1.2)


def strum(rng: np.random.Generator) -> np.ndarray:
    out, begin = np.zeros(round(1.3 * RATE)), 0
    for frequency in STRUM * rng.uniform(0.9, 1.3):
        out[begin : begin + RATE] += 0.2 * string(rng, frequency, 1.0)
        begin += int(rng.uniform(0.008, 0.02) * RATE)
    return out


def piano(rng: np.random.Generator) -> np.ndarray:
    t = np.arange(round(1.2 * RATE)) / RATE
    lowest = rng.uniform(100, 800)
    orders = np.arange(1, 20)
    partials = orders * lowest * np.sqrt(1 + 0.0004 * orders**2)
    notes = sum(
        np.exp(-t * (1.5 + 0.4 * n)) * np.sin(2 * np.pi * f * t + rng.uniform(0, 2 * np.pi)) / n
        for n, f in zip(orders, partials, strict=True)
        if f < 10000
    )
    rise = 1 - np.exp(-((t / rng.uniform(0.001, 0.004)) ** 2))
    hammer = rng.standard_normal(t.size) * np.exp(-t / 0.008) * (1 - np.exp(-t / 0.0007))
    return ended(0.2 * notes * rise + 0.03 * hammer)


def drum(rng: np.random.Generator) -> np.ndarray:
    t = np.arange(round(0.7 * RATE)) / RATE
    skin = np.sin(2 * np.pi * rng.uniform(60, 200) * t * (1 + 0.3 * np.exp(-t / 0.03))) * np.exp(-t / 0.15)
    tail = rng.standard_normal(t.size) * np.exp(-t / rng.uniform(0.03, 0.1))
    return ended((0.4 * skin + 0.25 * tail) * (1 - np.exp(-t / 0.0003)))


def syllable(rng: np.random.Generator) -> np.ndarray:
    t = np.arange(round(0.35 * RATE)) / RATE
    voice = np.zeros(t.size)
    pulses = np.cumsum(np.maximum(1, RATE / rng.uniform(90, 220) * rng.normal(1, 0.01, 200)).astype(int))
    voice[pulses[pulses < t.size]] = 1
    for formant, width in ((rng.uniform(300, 800), 80), (rng.uniform(900, 2200), 120), (rng.uniform(2400, 3200), 180)):
        r = np.exp(-np.pi * width / RATE)
        voice = lfilter([1 - r], [1, -2 * r * np.cos(2 * np.pi * formant / RATE), r * r], voice)
    swell = np.minimum(1, t / rng.uniform(0.01, 0.02)) * np.minimum(1, (t[-1] - t) / 0.06)
    plosive = 0.15 * rng.standard_normal(t.size) * np.exp(-t / 0.006)
    return 0.4 * swell * voice / np.abs(voice).max() + plosive


def click(rng: np.random.Generator) -> np.ndarray:
    return np.array([0.5])


SOUNDS: dict[str, Callable[[np.random.Generator], np.ndarray]] = {
    "pluck": pluck,
    "strum": strum,
    "piano": piano,
    "drum": drum,
    "syllable": syllable,
    "click": click,
}


def scene(kind: str, seed: int, count: int = 10) -> tuple[np.ndarray, np.ndarray]:
    """``count`` sounds of one kind, and the frames at which they begin."""
    rng = np.random.default_rng(seed)
    out = np.zeros(round((SPACING * count + 1.5) * RATE))
    begins = (RATE * (0.5 + SPACING * np.arange(count) + rng.uniform(0, 0.25, count))).astype(int)
    for begin in begins:
        sound = rng.uniform(0.4, 1) * SOUNDS[kind](rng)
        sound = ended(sound[: out.size - begin]) if sound.size > 1 else sound
        out[begin : begin + sound.size] += sound
    return out, begins


def organ(rng: np.random.Generator, seconds: float) -> np.ndarray:
    """A chord that is held, with a tremulant: nothing begins in it."""
    t = np.arange(round(seconds * RATE)) / RATE
    notes = [131.0, 165.0, 196.0, 262.0, 330.0]
    chord = sum(np.sin(2 * np.pi * f * k * t + rng.uniform(0, 2 * np.pi)) / k for f in notes for k in range(1, 7))
    return 0.05 * chord * (1 + 0.1 * np.sin(2 * np.pi * 5.5 * t))
