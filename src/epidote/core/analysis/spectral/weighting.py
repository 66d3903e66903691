"""Frequency weightings from their analytic responses, applied in the frequency domain.

468: ITU-R BS.468-4, as the roots of the widely published polynomial of degree 6 (from memory; within 0.05 dB of the
table), 0 dB at 1 kHz; AES17 counts from 2 kHz instead, which is 5.63 dB less. A- and C-weighting: IEC 61672-1:2013,
pole formula (the pole frequencies follow from f_L = 10^1.5, f_H = 10^3.9, f_A = 10^2.45).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from epidote.core.settings import LabelledEnum
from epidote.core.signals.signal import Samples

_FL2, _FH2, _FR2, _FA = 10.0**3, 10.0**7.8, 10.0**6, 10.0**2.45
_D2 = math.sqrt(0.5)
_B = (_FR2 + _FL2 * _FH2 / _FR2 - _D2 * (_FL2 + _FH2)) / (1 - _D2)
_C = _FL2 * _FH2
_F1_2 = (-_B - math.sqrt(_B * _B - 4 * _C)) / 2
_F4_2 = (-_B + math.sqrt(_B * _B - 4 * _C)) / 2
_F2_2 = ((3 - math.sqrt(5)) / 2 * _FA) ** 2
_F3_2 = ((3 + math.sqrt(5)) / 2 * _FA) ** 2


class Weighting(LabelledEnum):
    """How noise is weighted over frequency."""

    NONE = "none"
    A = "A"
    C = "C"
    ITU_468 = "468", "ITU-R 468"


def _a_power(f2: Samples) -> Samples:
    return np.asarray(f2**4 / ((f2 + _F1_2) ** 2 * (f2 + _F2_2) * (f2 + _F3_2) * (f2 + _F4_2) ** 2))


def _c_power(f2: Samples) -> Samples:
    return np.asarray(f2**2 / ((f2 + _F1_2) ** 2 * (f2 + _F4_2) ** 2))


_A_1KHZ = float(_a_power(np.array([_FR2]))[0])
_C_1KHZ = float(_c_power(np.array([_FR2]))[0])


_468_POLES = (
    -4122.702066,
    -9975.063124,
    -3758.529163 - 5790.042337j,
    -3758.529163 + 5790.042337j,
    -2983.159938 - 9940.842646j,
    -2983.159938 + 9940.842646j,
)
AES17_DB = -5.63  # of the 468 weighting, so that it is 0 dB at 2 kHz


def response_468(frequency: Samples) -> NDArray[np.complex128]:
    """Complex response (points,) of the 468 weighting, 1 in size at 1 kHz; one zero at 0 Hz."""

    def raw(f: NDArray[np.complex128]) -> NDArray[np.complex128]:
        return np.asarray(f / np.prod([f - p for p in _468_POLES], axis=0))

    return np.asarray(
        raw(np.asarray(1j * frequency, dtype=np.complex128)) / abs(raw(np.array([1000j], dtype=np.complex128))[0])
    )


def power_weight(frequency: Samples, weighting: Weighting) -> Samples:
    """Power factor (points,) of the weighting at each frequency in Hz; 1 at 1 kHz."""
    if weighting is Weighting.NONE:
        return np.ones_like(frequency)
    if weighting is Weighting.ITU_468:
        return np.asarray(np.square(np.abs(response_468(frequency))))
    if weighting is Weighting.C:
        return _c_power(np.square(frequency)) / _C_1KHZ
    return _a_power(np.square(frequency)) / _A_1KHZ
