"""What an engineer would write in a few lines of NumPy and SciPy for the same recordings, with fewer results: to
compare the time with.

Tone: THD+N alone, from one windowed spectrum. Response: the deconvolved magnitude alone, without a window on its
impulse response.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import fft, signal

_LOBE = 8  # bins of the main lobe to either side


def thd_n(x: NDArray[np.float64], rate: float, band: tuple[float, float] = (20.0, 20000.0)) -> list[float]:
    """THD+N in dB of each channel of x (frames, channels)."""
    window = signal.windows.blackmanharris(x.shape[0], sym=False)
    spectrum = fft.rfft((x - x.mean(axis=0)) * window[:, None], axis=0)
    power = np.abs(spectrum) ** 2
    f = fft.rfftfreq(x.shape[0], 1 / rate)
    inside = (f >= band[0]) & (f <= band[1])
    found = []
    for channel in range(x.shape[1]):
        line = int(np.argmax(power[:, channel]))
        rest = inside.copy()
        rest[line - _LOBE : line + _LOBE + 1] = False
        tone = power[line - _LOBE : line + _LOBE + 1, channel].sum()
        found.append(10 * np.log10(power[rest, channel].sum() / tone))
    return found


def magnitude(played: NDArray[np.float64], recorded: NDArray[np.float64]) -> NDArray[np.float64]:
    """Magnitude in dB (bins, channels) of what was recorded (frames, channels) over what was played (frames,)."""
    size = fft.next_fast_len(2 * recorded.shape[0], real=True)
    own = fft.rfft(played, size)[:, None]
    response = fft.rfft(recorded, size, axis=0) * np.conj(own) / (np.abs(own) ** 2 + 1e-12)
    return np.asarray(20 * np.log10(np.abs(response) + 1e-20))
