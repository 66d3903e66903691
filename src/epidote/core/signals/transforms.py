"""Every Fourier transform of the program goes through here: one library, loaded with the first transform.

What is stored needs none: the window shows curves of a study before SciPy is loaded, which takes half a second and
more.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray


@lru_cache(maxsize=1)
def _library() -> Any:
    import scipy.fft

    return scipy.fft


def rfft(x: NDArray[Any], n: int | None = None, axis: int = -1, *, overwrite_x: bool = False) -> NDArray[np.complex128]:
    """Return the spectrum (n//2+1,) of real samples, cut or filled up with zeros to n.

    ``overwrite_x``: what is given need not be kept.
    """
    return np.asarray(_library().rfft(x, n, axis, overwrite_x=overwrite_x))


def irfft(
    spectrum: NDArray[Any], n: int | None = None, axis: int = -1, *, overwrite_x: bool = False
) -> NDArray[np.float64]:
    """N real samples of a spectrum (n//2+1,)."""
    return np.asarray(_library().irfft(spectrum, n, axis, overwrite_x=overwrite_x))


def fft(x: NDArray[Any], n: int | None = None, axis: int = -1) -> NDArray[np.complex128]:
    """Return the spectrum (n,) of complex samples."""
    return np.asarray(_library().fft(x, n, axis))


def rfftfreq(n: int, spacing: float = 1.0) -> NDArray[np.float64]:
    """Frequencies of ``rfft``'s bins, for samples that lie ``spacing`` s apart."""
    return np.asarray(np.fft.rfftfreq(n, spacing), dtype=np.float64)


def next_fast_len(n: int, *, real: bool = False) -> int:
    """Return the least length from n on whose transform is quick."""
    return int(_library().next_fast_len(n, real))


def prev_fast_len(n: int, *, real: bool = False) -> int:
    """Return the greatest length up to n whose transform is quick."""
    return int(_library().prev_fast_len(n, real))
