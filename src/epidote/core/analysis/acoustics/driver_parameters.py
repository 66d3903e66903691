"""Small-signal parameters of a loudspeaker driver from its free-air impedance.

The motional branch of Small (1972, from memory) in series with the voice coil's resistance and inductance, fitted to
the complex impedance by weighted least squares: with normal noise that is the maximum-likelihood estimate.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples

Complex = NDArray[np.complex128]
AIR_DENSITY, SPEED_OF_SOUND = 1.204, 343.2  # kg/m³ and m/s at 20 °C and 101.325 kPa
_LEAST_POINTS, _COARSE = 24, 1500
_MODEL_SHARE = 0.02  # of the impedance: a fit that misses by more is not of a driver
_TOO_FAR = 4.0  # times the noise, above which the model itself is wrong somewhere
_UPPER = 30.0  # times the resonance, up to which it is fitted where it is


@dataclass(frozen=True)
class DriverFit:
    """resonance in Hz; re in ohms; qms, qes, qts; spreads: standard deviations by these names.

    inductance: name of the model of the coil, with its values by name; misfit: root mean square of the relative error.
    """

    resonance: float
    re: float
    qms: float
    qes: float
    qts: float
    spreads: Mapping[str, float]
    inductance: str
    coil: Mapping[str, float]
    misfit: float


@dataclass(frozen=True)
class _Coil:
    """A model of the coil's inductance: names of its values, what it starts from at 1 kHz, and its impedance."""

    name: str
    names: tuple[str, ...]
    start: Callable[[float], tuple[float, ...]]
    impedance: Callable[[Samples, Samples], Complex]


def _positive(logarithms: Samples) -> Samples:
    """Return values by their logarithms, which a fit may send anywhere."""
    return np.asarray(np.exp(np.clip(logarithms, -40, 40)))


def _plain(w: Samples, p: Samples) -> Complex:
    return np.asarray(1j * w * _positive(p[:1]))


def _lossy(w: Samples, p: Samples) -> Complex:
    """Return an inductance whose losses grow with its exponent (Leach 2002, from memory)."""
    exponent = 1 / (1 + _positive(-p[1:2]))
    return np.asarray(_positive(p[:1]) * (1j * w / 6283.0) ** exponent)


def _shunted(w: Samples, p: Samples) -> Complex:
    """Return an inductance in series with one that a resistance bridges, for eddy currents."""
    le, l2, r2 = _positive(p)
    return np.asarray(1j * w * le + 1j * w * l2 * r2 / (r2 + 1j * w * l2))


_COILS = (
    _Coil("inductance", ("le_henries",), lambda x: (math.log(x / 6283.0),), _plain),
    _Coil("lossy inductance", ("ohms_1k", "exponent"), lambda x: (math.log(x), 1.0), _lossy),
    _Coil(
        "inductance with eddy currents",
        ("le_henries", "l2_henries", "r2_ohms"),
        lambda x: (math.log(x / 12566.0), math.log(x / 12566.0), math.log(4 * x)),
        _shunted,
    ),
)


def motional(f: Samples, resonance: float, res: float, qms: float) -> Complex:
    """Return the impedance in ohms (points,) of the motional branch: res at the resonance."""
    return np.asarray(res / (1 + 1j * qms * (f / resonance - resonance / f)))


def fit_driver(f: Samples, z: Complex, spreads: Samples) -> DriverFit | None:
    """Fit a driver's impedance z in ohms at f in Hz, with the standard deviation of each part (real, imaginary) of
    each point in ohms (points,); None where it is not that of a driver in free air.
    """
    inside = f > 0
    f, z, spreads = f[inside], z[inside], np.maximum(spreads[inside], 1e-9 * np.abs(z[inside]))
    start = _start(f, z)
    if f.size < _LEAST_POINTS or start is None:
        return None
    found = _best(f, z, spreads, start)
    if found is not None and found[1] > _TOO_FAR**2:
        # the model does not hold to the noise: near the resonance it may, and there it matters
        near = f <= _UPPER * start[0]
        share = math.sqrt(found[1])
        found = _best(f[near], z[near], np.hypot(spreads[near], share * np.median(spreads[near])), start)
        f, z = f[near], z[near]
    if found is None:
        return None
    coil, _, values, covariance = found
    model = _model(f, values, coil)
    misfit = float(np.sqrt(np.mean(np.square(np.abs(model - z)) / np.square(np.abs(z)))))
    if misfit > _MODEL_SHARE:
        return None
    return _described(coil, values, covariance, misfit)


def _start(f: Samples, z: Complex) -> tuple[float, float, float, float] | None:
    """Return resonance, Re, Res and Qms to start from; None without a peak."""
    size = np.abs(z)
    low = f < max(2000.0, 4 * f[0])
    peaks = 1 + np.flatnonzero((size[1:-1] > size[:-2]) & (size[1:-1] >= size[2:]) & low[1:-1])
    if not peaks.size:
        return None
    top = int(peaks[np.argmax(size[peaks])])
    re = float(size[low].min())
    if not size[top] > 1.1 * re or not re > 0:
        return None
    level = math.sqrt(re * float(size[top]))
    below, above = np.flatnonzero(size[:top] < level), np.flatnonzero(size[top:] < level)
    first = f[below[-1]] if below.size else f[0]
    last = f[top + above[0]] if above.size else f[-1]
    qms = float(f[top] / max(last - first, f[1] - f[0]) * math.sqrt(size[top] / re))
    return float(f[top]), re, float(size[top]) - re, min(max(qms, 0.2), 50.0)


def _model(f: Samples, p: Samples, coil: _Coil) -> Complex:
    resonance, re, res, qms = _positive(p[:4])
    return np.asarray(re + motional(f, resonance, res, qms) + coil.impedance(2 * np.pi * f, p[4:]))


def _best(
    f: Samples, z: Complex, spreads: Samples, start: tuple[float, float, float, float]
) -> tuple[_Coil, float, Samples, Samples] | None:
    """Return the model of the coil that explains the impedance best for its number of values, with the mean square of
    the weighted residual, the values and their covariance.
    """
    reactance = max(1e-3, float(np.median(z.imag[-max(3, f.size // 20) :])) / float(f[-1]) * 1000)
    coarse = slice(None, None, max(1, f.size // _COARSE))
    best = None
    for coil in _COILS:
        first = np.array([*np.log(start), *coil.start(reactance)])
        # a few of the points bring it near, all of them then need two or three steps
        near = _fitted(f[coarse], z[coarse], spreads[coarse], coil, first)
        found = None if near is None else _fitted(f, z, spreads, coil, near[0])
        if found is None:
            continue
        values, cost, jacobian = found
        # Bayesian information criterion: another value must lower the cost by more than chance does
        criterion = 2 * cost + first.size * math.log(2 * f.size)
        if best is None or criterion < best[0]:
            best = criterion, coil, cost / f.size, values, np.asarray(np.linalg.pinv(jacobian.T @ jacobian), np.float64)
        if cost / f.size < 1 + 3 / math.sqrt(f.size):
            break  # it explains all but the noise: another value could explain no more
    return None if best is None else best[1:]


def _fitted(
    f: Samples, z: Complex, spreads: Samples, coil: _Coil, first: Samples
) -> tuple[Samples, float, Samples] | None:
    """Return values, cost (half the sum of squares) and Jacobian of the fit that starts from ``first``."""
    from scipy.optimize import least_squares

    def residual(p: Samples) -> Samples:
        error = (_model(f, p, coil) - z) / spreads
        return np.concatenate([error.real, error.imag])

    try:
        found = least_squares(residual, first, x_scale="jac", max_nfev=200, ftol=1e-7, xtol=1e-7, gtol=1e-7)
    except (ValueError, np.linalg.LinAlgError):
        return None
    if not np.isfinite(found.cost):
        return None
    return found.x, float(found.cost), np.asarray(found.jac)


def _described(coil: _Coil, values: Samples, covariance: Samples, misfit: float) -> DriverFit:
    """Return a fit's values under their names, with spreads by the propagation of their covariance."""
    resonance, re, res, qms = (float(v) for v in np.exp(values[:4]))
    qes, qts = qms * re / res, qms * re / (re + res)
    share = re / (re + res)
    slopes = {  # relative change of each by that of resonance, Re, Res and Qms
        "resonance": (1.0, 0.0, 0.0, 0.0),
        "re": (0.0, 1.0, 0.0, 0.0),
        "qms": (0.0, 0.0, 0.0, 1.0),
        "qes": (0.0, 1.0, -1.0, 1.0),
        "qts": (0.0, 1 - share, share - 1, 1.0),
    }
    known = {"resonance": resonance, "re": re, "qms": qms, "qes": qes, "qts": qts}
    four = covariance[:4, :4]
    spreads = {k: known[k] * math.sqrt(max(0.0, float(np.array(s) @ four @ np.array(s)))) for k, s in slopes.items()}
    named = dict(zip(coil.names, (float(v) for v in np.exp(values[4:])), strict=True))
    if "exponent" in named:
        named["exponent"] = float(1 / (1 + math.exp(-float(values[5]))))
    return DriverFit(resonance, re, qms, qes, qts, spreads, coil.name, named, misfit)


def moving_mass(free: float, loaded: float, added_kg: float) -> float | None:
    """Return the moving mass in kg from the resonances in Hz without and with an added mass; None where the added mass
    did not lower it.
    """
    ratio = (free / loaded) ** 2 - 1
    if ratio <= 0:
        return None
    return added_kg / ratio


def equivalent_volume(resonance: float, mass: float, area: float) -> float:
    """Return the volume of air in m³ as compliant as the suspension, from resonance in Hz, mass in kg, area in m²."""
    compliance = 1 / ((2 * math.pi * resonance) ** 2 * mass)
    return AIR_DENSITY * SPEED_OF_SOUND**2 * area**2 * compliance


def equivalent_volume_by_box(free: tuple[float, float], boxed: tuple[float, float], box: float) -> float | None:
    """Return the same from (resonance in Hz, Qes) in free air and in a closed box of so many m³ (Small 1972); None
    where the box did not raise the resonance.
    """
    volume = box * (boxed[0] * boxed[1] / (free[0] * free[1]) - 1)
    return volume if volume > 0 else None
