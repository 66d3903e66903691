"""Curves of an analysed tone."""

from __future__ import annotations

import numpy as np

from epidote.core.analysis.sine.tone import ToneAnalysis
from epidote.core.analysis.spectral.spectrum import bin_frequencies, line_levels
from epidote.core.analysis.spectral.windows import BLACKMAN_HARRIS_7 as WINDOW
from epidote.core.chain.channel_scale import ChannelScale
from epidote.core.results.result import Curve, encode_annotations


def tone_curves(c: ToneAnalysis, terminal: ChannelScale) -> tuple[Curve, ...]:
    """Spectrum in dBFS, dBV or dB SPL (a line reads its level), and a few cycles of the signal and of what is not
    its fundamental.
    """
    number = terminal.channel
    frequencies, level = (
        bin_frequencies(c.spectrum.size, c.rate / c.frames),
        line_levels(c.spectrum, terminal.level_offset),
    )
    meta: dict[str, float | str] = {
        "window": WINDOW.name,
        "enbw_hz": WINDOW.enbw * c.rate / c.frames,
        "frames": float(c.frames),
        "marks": encode_annotations((n * c.fit.frequency, f"H{n}") for n in range(1, len(c.fit.amplitudes) + 1)),
    }
    shown = min(c.frames, max(64, round(_CYCLES_SHOWN * c.rate / c.fit.frequency)), 16384)
    first = (c.frames - shown) // 2
    t = np.arange(shown) / c.rate
    centred = np.arange(first, first + shown) - (c.frames - 1) / 2
    w = 2 * np.pi * c.fit.frequency / c.rate
    if len(c.fit.amplitudes) > 1:
        overtones = np.sum(
            [np.real(a * np.exp(1j * k * w * centred)) for k, a in enumerate(c.fit.amplitudes[1:], 2)], axis=0
        )
    else:
        overtones = 0.0
    peak, unit = terminal.peak_scale, terminal.unit
    return (
        Curve("spectrum", number, frequencies[1:], level[1:], "Hz", terminal.level_unit, None, meta),
        Curve("waveform", number, t, peak * c.samples[first : first + shown], "s", unit),
        Curve("residual", number, t, peak * (c.fit.residual[first : first + shown] + overtones), "s", unit),
    )


_CYCLES_SHOWN = 5
