"""Sound equalised before it is played, by a curve of gain over frequency, without a change of its timing that could be
avoided: the filter has minimum phase.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from epidote.core.errors import SettingError
from epidote.core.quantities.column_text import layouts, lines_of
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

_TAPS = 2**15  # of the filter: 0.7 s at 48 kHz, which is finer than any curve
_MOST_DB = 40.0
TextReader = Callable[[str], str]
_READER: list[TextReader] = []


def set_text_reader(reader: TextReader) -> None:
    """Who knows files says how a text file (its path) is read."""
    _READER[:] = [reader]


def read_gains(path: str) -> tuple[Samples, Samples]:
    """Return frequencies in Hz, rising, and gains in dB of a text file. Raises SettingError, UnusableInputError."""
    if not _READER:
        raise SettingError("Text files cannot be read here. Leave “{equaliser}” empty.", "equaliser")
    tables = layouts(lines_of(_READER[0](path)))
    if len(tables) != 1 or tables[0].values.shape[0] < 2 or tables[0].values.shape[1] < 2:
        raise SettingError(
            f"{path} is no curve of frequency and gain: at least two lines of two numbers are needed, with one possible"
            " reading. Use another file.",
            "equaliser",
        )
    frequency, gain = tables[0].values[:, 0], tables[0].values[:, 1]
    if frequency[0] <= 0 or np.any(np.diff(frequency) <= 0) or np.abs(gain).max() > _MOST_DB:
        raise SettingError(
            f"{path}: frequencies must be above 0 Hz and in ascending order, gains at most {_MOST_DB:g} dB either way."
            " Use another file.",
            "equaliser",
        )
    return frequency, gain


def minimum_phase(frequency: Samples, gain: Samples, rate: float) -> Samples:
    """Return the filter (taps,) whose gain in dB is straight over log frequency between the points (n,), and constant
    beyond them; by the folded cepstrum (Oppenheim, Schafer; from memory).
    """
    bins = np.arange(_TAPS // 2 + 1) * rate / _TAPS
    bins[0] = bins[1] / 2
    log_gain = np.interp(np.log(bins), np.log(frequency), gain) * np.log(10) / 20
    cepstrum = transforms.irfft(log_gain.astype(complex), _TAPS)
    cepstrum[1 : _TAPS // 2] *= 2
    cepstrum[_TAPS // 2 + 1 :] = 0
    return transforms.irfft(np.exp(transforms.rfft(cepstrum)), _TAPS)


def equalise(x: Samples, rate: float, frequency: Samples, gain: Samples) -> Samples:
    """Return x (frames, channels) through such a filter, of the same length."""
    taps = minimum_phase(frequency, gain, rate)
    size = even_fast_len(x.shape[0] + taps.size)
    spectrum = transforms.rfft(x, size, axis=0) * transforms.rfft(taps, size)[:, None]
    return np.asarray(transforms.irfft(spectrum, size, axis=0)[: x.shape[0]])
