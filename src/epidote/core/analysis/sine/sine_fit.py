"""A tone, its harmonics and its slow drift, fitted together by least squares with the frequency refined.

The sine fit of IEEE 1057, extended to the harmonics and to an amplitude and phase that may follow slow polynomials. All
sums over the record are exact; they are formed from blocks, in which every exponential is the same short table, so that
a fit costs about as much as one Fourier transform of the record instead of one sine per sample and harmonic.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy.polynomial import legendre
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples

Complex = NDArray[np.complex128]
_ROWS, _FEWEST_BLOCKS = 128, 16
_LEAST_TURN = 2 * math.pi * 2  # radians within a block, whose Hann window is two bins wide to either side


@dataclass(frozen=True, eq=False)
class ToneFit:
    """x = dc + Re sum_k amplitudes[k-1] exp(j k w (t - t_mid)) + drift + residual; peaks, in the unit of x.

    frequency in Hz; sigma: standard deviation of the residual per sample (degrees of freedom taken off);
    amplitude_spread: standard deviation of each peak amplitude; level_drift and phase_drift: peak deviation from the
    mean over the record, ratio and radians.
    """

    frequency: float
    amplitudes: Complex
    dc: float
    sigma: float
    amplitude_spread: float
    frequency_spread: float
    level_drift: float
    phase_drift: float
    residual: Samples
    parameters: int


@cache
def _legendre(degree: int) -> Samples:
    """Coefficients of the Legendre polynomial in rising powers."""
    return np.asarray(legendre.leg2poly([0] * degree + [1]))


def _powers(turn: Complex, count: int) -> Complex:
    """turn^0 ... turn^(count-1), one row each: products, which cost a small part of as many exponentials."""
    rows = np.empty((count, turn.size), complex)
    rows[0] = 1
    for n in range(1, count):
        np.multiply(rows[n - 1], turn, out=rows[n])
    return rows


class _Blocks:
    """A record (frames,) cut into blocks, and exact sums of u^r exp(j n w t) over it.

    T is centred, u = 2 t / frames.
    """

    def __init__(self, x: Samples) -> None:
        self.frames = x.size
        # a block of about the square root of the record: then the table of exponentials and the sums over blocks cost
        # alike
        usual = max(16, min(512, 1 << int(math.log2(math.sqrt(x.size) + 1) + 0.5)))
        # a length that divides the record needs no copy of it
        self.size = next((size for size in range(usual, usual // 2, -1) if x.size % size == 0), usual)
        count = -(-x.size // self.size)
        self.missing = count * self.size - x.size
        self.x = (np.concatenate([x, np.zeros(self.missing)]) if self.missing else x).reshape(count, self.size)
        self.mid = (x.size - 1) / 2
        inner = (self.size - 1) / 2
        # place within a block, and place of the blocks' middles, both from their centre in frames
        self.b = np.arange(self.size) - inner
        self.t = np.arange(count) * self.size + inner - self.mid
        self.scale = 2 / x.size

    def power_sums(self, w: float, inner: Complex, outer: Complex, orders: int) -> Complex:
        """T[r, n] = sum_t u^r exp(j n w t), r < orders, from exp(j n w b) and exp(j n w t) of all n (multiples,
        places).
        """

        def sums(turns: Complex, place: NDArray[np.floating[Any]]) -> Complex:
            # u^r of a place, by which polynomial drift enters the sums
            powers = np.vander(self.scale * place, orders, increasing=True)
            return np.asarray((turns.real @ powers + 1j * (turns.imag @ powers)).T)

        multiples = len(inner)
        v, m = sums(inner, self.b), sums(outer, self.t)
        total = np.zeros((orders, multiples), complex)
        # (t_block + t_inside)^r by the binomial theorem, so that the sums over both factor
        for r in range(orders):
            for s in range(r + 1):
                total[r] += math.comb(r, s) * m[r - s] * v[s]
        # the zeros that fill up the last block took part in the sums: take them out again
        if self.missing:
            t = np.arange(self.frames, self.frames + self.missing) - self.mid
            extra = _powers(np.exp(1j * w * t), multiples)
            total -= np.stack([extra @ (self.scale * t) ** r for r in range(orders)])
        return total

    def table(self, turns: Complex, order: int) -> Samples:
        """Real table (size, 2 columns) from exp(-j n w b): cos then -sin of each column: dc, fundamental times
        u^0..u^order, harmonics.
        """
        ub = self.scale * self.b
        columns = [turns[0], *(turns[1] * ub**s for s in range(order + 1)), *turns[2:]]
        stacked = np.stack(columns, axis=1)
        return np.ascontiguousarray(np.concatenate([stacked.real, stacked.imag], axis=1))


@dataclass(frozen=True, eq=False)
class _Solution:
    """A linear fit at a fixed w: coefficients (columns,) with the fundamental in Legendre terms, covariance diagonal
    over sigma², multiple of w per column, the real table used, and exp(j n w t) of the blocks' middles (multiples,
    blocks).
    """

    coefficients: Complex
    variance: Samples
    multiple: NDArray[np.int64]
    table: Samples
    outer: Complex


def _solve(blocks: _Blocks, w: float, order: int, harmonics: int) -> _Solution:
    """One linear fit at a fixed w."""
    inner_turns, outer = (_powers(np.exp(1j * w * place), 2 * harmonics + 1) for place in (blocks.b, blocks.t))
    # Step 1: every block against the table of cosines and sines about its middle. The only pass over all samples.
    table = blocks.table(inner_turns[: harmonics + 1].conj(), order)
    sums = blocks.x @ table
    columns = table.shape[1] // 2
    # columns of the model: direct component, fundamental times u^0 to u^order, harmonics from the 2nd on
    multiple = np.array([0] + [1] * (order + 1) + list(range(2, harmonics + 1)))
    power = np.array([0, *range(order + 1)] + [0] * (harmonics - 1))
    # Step 2: turn each block's sums by the phase that its middle has in the record, and add the blocks up.
    demodulated = (sums[:, :columns] + 1j * sums[:, columns:]) * outer[multiple].conj().T
    inner = demodulated.sum(axis=0)
    um = blocks.scale * blocks.t
    first = 1
    raw = demodulated[:, first : first + order + 1]
    # powers of the place in the record from those of the blocks' middles and of the places within them
    for r in range(1, order + 1):
        inner[first + r] = sum(math.comb(r, s) * (um ** (r - s) @ raw[:, s]) for s in range(r + 1))
    # Step 3: the normal equations. Products of exponentials are exponentials of sums and differences of their
    # multiples.
    total = blocks.power_sums(w, inner_turns, outer, 2 * order + 1)

    def sums_of(n: NDArray[np.int64], r: NDArray[np.int64]) -> Complex:
        chosen = total[r, np.abs(n)]
        return np.where(n < 0, chosen.conj(), chosen)

    orders = power[:, None] + power[None, :]
    p = sums_of(multiple[None, :] - multiple[:, None], orders)
    q = sums_of(multiple[None, :] + multiple[:, None], orders)
    # cosine and sine parts of every column, from the sums over differences (p) and sums (q) of multiples
    gram = np.block([[(p + q).real, -(p + q).imag], [-(p + q).imag.T, (p - q).real]]) / 2
    right = np.concatenate([inner.real, inner.imag])
    # powers of u become Legendre polynomials, whose coefficients do not lean on each other
    change = np.eye(2 * columns)
    for r in range(order + 1):
        poly = _legendre(r)
        for half in (0, columns):
            change[half + first : half + first + order + 1, half + first + r] = 0
            change[half + first : half + first + len(poly), half + first + r] = poly
    gram, right = change.T @ gram @ change, change.T @ right
    keep = np.delete(np.arange(2 * columns), columns)  # the direct component has no quadrature
    gram, right = gram[np.ix_(keep, keep)], right[keep]
    # Step 4: solve. Columns are scaled to unit length first, so that the condition number says what it should.
    scale = 1 / np.sqrt(np.maximum(np.diag(gram), np.finfo(float).tiny))
    scaled = gram * np.outer(scale, scale)
    # columns that hardly lean on each other, as they do over whole cycles, need no care
    separated = float(np.abs(scaled).sum(axis=1).max()) < 1.5
    if separated:
        inverse = np.linalg.inv(scaled)
    else:
        inverse = np.linalg.pinv(scaled, rcond=1e-13, hermitian=True)
    solution = np.zeros(2 * columns)
    variance = np.zeros(2 * columns)
    solution[keep] = scale * (inverse @ (scale * right))
    # diagonal of the inverse: the variance of each coefficient for white noise of variance 1
    variance[keep] = scale**2 * np.diag(inverse)
    return _Solution(
        solution[:columns] + 1j * solution[columns:], variance[:columns] + variance[columns:], multiple, table, outer
    )


def _residual(blocks: _Blocks, order: int, solution: _Solution) -> Samples:
    """Return what the fitted signal leaves (frames,)."""
    coefficients, multiple, table = solution.coefficients, solution.multiple, solution.table
    # weight of each column in each block: the polynomials shifted to its middle, turned by its phase
    um = blocks.scale * blocks.t
    weights = np.repeat(coefficients[None, :], blocks.t.size, axis=0)
    mono = np.zeros(order + 1, complex)
    for r in range(order + 1):
        poly = _legendre(r)
        mono[: len(poly)] += coefficients[1 + r] * poly
    for s in range(order + 1):
        weights[:, 1 + s] = sum(math.comb(r, s) * mono[r] * um ** (r - s) for r in range(s, order + 1))
    weights *= solution.outer[multiple].T
    # Re(W conj(E)) with E = cos - j sin as in the table
    parts = np.concatenate([weights.real, weights.imag], axis=1)
    left, turned = np.empty_like(blocks.x), np.ascontiguousarray(table.T)
    for first in range(0, len(left), _ROWS):  # in pieces that stay in the processor's cache
        rows = slice(first, first + _ROWS)
        np.matmul(parts[rows], turned, out=left[rows])
        np.subtract(blocks.x[rows], left[rows], out=left[rows])
    return left.ravel()[: blocks.frames]


def _refine(blocks: _Blocks, w: float, order: int, harmonics: int, steps: int) -> tuple[float, float, _Solution]:
    """Gauss-Newton on the frequency until it stands still: the w of the solution, the last and smallest step beyond
    it, the solution.

    A step of less than a ten-millionth of a radian over the record changes nothing but the frequency itself, so it
    needs no new solution.
    """
    solved = _solve(blocks, w, order, harmonics)
    limit = 2 * np.pi / blocks.frames
    step = 0.0
    for _ in range(steps):
        # An error of the frequency shows as a phase that grows along the record: the imaginary part of the first-order
        # drift over the carrier (Gauss-Newton step).
        carrier, slope = solved.coefficients[1], solved.coefficients[2]
        if carrier == 0:
            return w, 0.0, solved
        step = max(-limit, min(float((slope / carrier).imag) * blocks.scale, limit))
        if abs(step) * blocks.frames < 1e-7:
            return w, step, solved
        w = float(min(max(w + step, 0.25 * limit), np.pi))
        solved = _solve(blocks, w, order, harmonics)
    return w, 0.0, solved


def _by_envelope(blocks: _Blocks, w: float) -> float:
    """Return the frequency of the tone near w, in radians per frame, from how the phase of what is left turns from
    block to block.

        Hann windows, within blocks and over them, keep everything else away; so it lacks only the last bit that least
    squares gives.
    """
    # Step 1: one complex value per block, the tone demodulated at w through a Hann window
    inner = 0.5 + 0.5 * np.cos(np.pi * blocks.b / (blocks.b[-1] + 1))
    table = np.column_stack([inner * np.cos(w * blocks.b), -inner * np.sin(w * blocks.b)])
    whole = blocks.frames // blocks.size  # a block that is filled up would shift the phase
    sums = (blocks.x[:whole] @ table).view(complex)[:, 0] * np.exp(-1j * w * blocks.t[:whole])
    if whole < _FEWEST_BLOCKS or w * blocks.size < _LEAST_TURN:
        return w  # of a tone this low a block cannot tell positive from negative frequencies
    # Step 2: the strongest line among the blocks' values is where the tone is, to a quarter of a bin of the record
    outer = np.hanning(whole + 2)[1:-1]
    size = 4 * whole
    near = int(np.argmax(np.abs(np.fft.fft(sums * outer, size))))
    turn = 2 * np.pi * (near if near < size // 2 else near - size) / size
    # Step 3: what is left turns slowly; a weighted straight line through its phase gives the rest
    left = sums * np.exp(-1j * turn * np.arange(whole))
    phase = np.unwrap(np.angle(left))
    weight = outer * outer * (left.real**2 + left.imag**2)
    total = float(weight.sum())
    if total <= 0:
        return w
    place = np.arange(whole) - float(weight @ np.arange(whole)) / total
    turn += float((weight * place) @ phase) / max(float(weight @ place**2), np.finfo(float).tiny)
    return float(min(max(w + turn / blocks.size, 0.5 * np.pi / blocks.frames), np.pi))


def fit_tone(x: Samples, rate: float, frequency: float, harmonics: int, drift_order: int = 3) -> ToneFit:
    """Fit a tone near ``frequency`` (within a bin or so) and its harmonics 2...``harmonics`` that lie below half the
    rate.

    x (frames,); ``drift_order``: order of the polynomials that the fundamental's amplitude and phase may follow, at
    least 1.
    """
    blocks = _Blocks(np.ascontiguousarray(x, dtype=np.float64))
    order = max(1, min(drift_order, 9))
    w = 2 * np.pi * frequency / rate
    w = _by_envelope(blocks, w)
    # harmonics above half the rate, or within a bin of it, have nothing to be fitted by
    guard = 2 * np.pi / blocks.frames
    count = max(1, min(harmonics, int((np.pi - guard) / w)))
    w, step, solution = _refine(blocks, w, order, count, 6)
    residual = _residual(blocks, order, solution)
    coefficients, variance = solution.coefficients, solution.variance
    parameters = 2 * coefficients.size
    sigma = math.sqrt(float(residual @ residual) / max(1, blocks.frames - parameters))
    amplitudes = np.concatenate([[coefficients[1]], coefficients[2 + order :]])
    carrier = coefficients[1]
    u = np.linspace(-1, 1, 65)
    if carrier:
        # the fundamental along the record relative to its mean: how far level and phase drift
        path = legendre.legval(u, coefficients[1 : 2 + order] / carrier)
    else:
        path = np.ones_like(u)
    if sigma > 0:
        # signal-to-noise ratio of the carrier, for the Cramér-Rao bound of its frequency (Rife, Boorstyn 1974)
        eta = abs(carrier) ** 2 / 2 / sigma**2
    else:
        eta = math.inf
    n = blocks.frames
    return ToneFit(
        frequency=float((w + step) * rate / (2 * np.pi)),
        amplitudes=amplitudes,
        dc=float(coefficients[0].real),
        sigma=sigma,
        amplitude_spread=sigma * math.sqrt(max(0.0, float(variance[-1 if count > 1 else 1])) / 2),
        frequency_spread=(
            rate * math.sqrt(12 / ((2 * np.pi) ** 2 * eta * n * (n * n - 1))) if 0 < eta < math.inf else 0.0
        ),
        level_drift=float(np.max(np.abs(np.abs(path) - 1))),
        phase_drift=float(np.max(np.abs(np.angle(path)))),
        residual=residual,
        parameters=parameters,
    )
