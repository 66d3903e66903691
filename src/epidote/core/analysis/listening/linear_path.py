"""The linear path from a sound to a recording of it, by least squares: a filter of many taps, and what lasts longer
than they do at low frequencies. Step 3 of docs/methods.md, Programme.
"""

from __future__ import annotations

import math

import numpy as np

from epidote.core.analysis.listening.normal_equations import NormalEquations
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

WHITENED = 1e-3  # of the greatest magnitude: below it a frequency no longer counts like all others
_REGULARISED = 1e-9  # of the reference's power
_REFINEMENTS = 2
# of the filters for low frequencies: highest frequency in Hz, and at most one tap for so many frames
_SLOW_STAGES = ((4000.0, 8), (250.0, 4))
_SLOW_TAPS, _SLOW_BEFORE, _LEAST_SLOW = 4096, 8, 32  # taps, share before the main one


class LinearFit:
    """The least-squares filter from a reference (frames,) to a recording, the normal equations made once.

    near: a fit of nearly the same reference, whose inverse then leads to this one's solutions.
    """

    def __init__(self, reference: Samples, taps: int, before: int, near: LinearFit | None = None) -> None:
        self.taps, self.before = taps, before
        self.frames = reference.size
        self.size = even_fast_len(reference.size + 2 * taps)
        self.spectrum = transforms.rfft(reference, self.size)
        column = transforms.irfft(np.square(np.abs(self.spectrum)), self.size)[:taps]
        column = column.copy()
        column[0] *= 1 + _REGULARISED
        known: NormalEquations | None = near._equations if near is not None and near.taps == taps else None
        self._equations: NormalEquations = NormalEquations(column, known)

    def correlated(self, x: Samples) -> Samples:
        """Return the correlation of x (frames,) with the reference at the taps' lags (taps,)."""
        height = transforms.irfft(transforms.rfft(x, self.size) * np.conj(self.spectrum), self.size)
        return np.asarray(np.take(height, np.arange(-self.before, self.taps - self.before), mode="wrap"))

    def solve(self, x: Samples, *, refine: bool = True) -> Samples:
        """Return the filter (taps,) whose output from the reference is nearest to x (frames,)."""
        path = self._equations.solve(self.correlated(x))
        if not refine:
            return path
        # refinement: what the model leaves of the record, fitted again, takes the regularisation's bias away
        for _ in range(_REFINEMENTS):
            path = path + self._equations.solve(self.correlated(x - self.through(path)))
        return path

    def main_tap(self, modelled: Samples) -> tuple[int, int]:
        """Return the tap at which the reference lies in what was modelled (frames,), and its sign: by a correlation in
        which all frequencies that the reference has count nearly alike. The greatest tap itself says nothing where the
        reference has no energy, as below a voice.
        """
        cross = transforms.rfft(modelled, self.size) * np.conj(self.spectrum)
        magnitude = np.abs(cross)
        height = transforms.irfft(cross / (magnitude + WHITENED * magnitude.max() + 1e-300), self.size)
        taps = np.take(height, np.arange(-self.before, self.taps - self.before), mode="wrap")
        main = int(np.argmax(np.abs(taps)))
        return main, 1 if taps[main] >= 0 else -1

    def through(self, path: Samples) -> Samples:
        """Return the reference through a filter (frames,)."""
        circle = np.zeros(self.size)
        circle[: self.taps - self.before] = path[self.before :]
        circle[self.size - self.before :] = path[: self.before]
        return np.asarray(transforms.irfft(self.spectrum * transforms.rfft(circle), self.size)[: self.frames])


def modelled_through(fit: LinearFit, path: Samples, heard: Samples, rate: float) -> Samples:
    """Return the reference through a path (frames,), and through what of the linear path is longer: at low frequencies,
    where couplings remember for a second, more filters are fitted one after the other to what is left, at lower rates.
    """
    modelled = fit.through(path)
    for highest, share in _SLOW_STAGES:
        modelled = modelled + _slow_part(fit, heard - modelled, rate, highest, share)
    return modelled


def _slow_part(fit: LinearFit, left: Samples, rate: float, highest: float, share: int) -> Samples:
    """Return what of the rest (frames,) follows from the reference below a frequency in Hz."""
    keep = math.floor(highest * fit.size / rate)
    count = 2 * keep
    taps = min(_SLOW_TAPS, round(fit.frames * count / fit.size) // share)
    if taps < _LEAST_SLOW or 2 * highest > rate / 2:
        return np.zeros(fit.frames)
    spectra = fit.spectrum[: keep + 1], transforms.rfft(left, fit.size)[: keep + 1]
    reference, wanted = (transforms.irfft(spectrum * (count / fit.size), count) for spectrum in spectra)
    slow = LinearFit(reference, taps, taps // _SLOW_BEFORE)
    found = slow.through(slow.solve(wanted, refine=False))
    wide = np.zeros(fit.size // 2 + 1, complex)
    wide[: keep + 1] = transforms.rfft(found, count) * (fit.size / count)
    wide[keep] = 0.0
    return transforms.irfft(wide, fit.size, overwrite_x=True)[: fit.frames]
