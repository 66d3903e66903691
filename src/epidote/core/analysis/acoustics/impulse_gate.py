"""A gate on the impulse response: what arrives before the first reflection is the source's own.

The gate ends before the reflection; below one over its length nothing is known of the source (docs/methods.md, Response
through air).
"""

from __future__ import annotations

import math

import numpy as np

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.signal import Samples

BEFORE = 0.005  # s kept before the arrival, half of them fading in
_FLAT = 0.25  # of the gate; the rest falls as a quarter of a cosine
SHORTEST, LONGEST = 0.0005, 1.0  # s
_SEARCH_FROM, _SEARCH_TO = 0.001, 0.1  # s after the arrival, where a reflection is looked for
_ENVELOPE_FROM = 1500.0  # Hz: above, the envelope of a pulse is short
_RISE, _OVER_NOISE = 10 ** (10 / 20), 10 ** (12 / 20)
_LEAST_REFLECTION = 10 ** (-30 / 20)  # of the direct sound
_SMOOTHED = 0.0002  # s


def gate_window(frames: int) -> Samples:
    """Return the weights (frames,) after the arrival: flat, then a quarter of a cosine down to 0.

    Of the shapes tried, this one bends the response of a source with a high-pass of second order least: under 0.07 dB
    above twice the lowest frequency.
    """
    falling = np.clip((np.arange(frames) / frames - _FLAT) / (1 - _FLAT), 0, 1)
    return np.asarray(np.cos(np.pi / 2 * falling))


def gated_response(d: dc.Deconvolved, seconds: float) -> dc.Linear:
    """Return the response of what arrives within ``seconds`` after the impulse response's greatest value."""
    rate, size = d.kernel.rate, dc.response_grid(d.kernel)
    before, after = round(BEFORE * rate), max(8, round(seconds * rate))
    rise = before // 2
    early = np.ones(before)
    early[:rise] = 0.5 - 0.5 * np.cos(np.pi * (np.arange(rise) + 0.5) / rise)

    def gated(frames: int) -> dc.Complex:
        section = np.take(d.impulse, np.arange(d.peak - before, d.peak + frames), mode="wrap")
        folded = np.zeros(size)
        late = section[before:] * gate_window(frames)
        for first in range(0, late.size, size):  # a gate longer than the grid is laid over itself
            part = late[first : first + size]
            folded[: part.size] += part
        folded[-before:] += section[:before] * early
        return np.asarray(transforms.rfft(folded, overwrite_x=True))

    response = gated(after)
    return dc.Linear(response, np.full(response.size, seconds), response, gated(max(4, after // 2)), seconds)


def open_response(d: dc.Deconvolved) -> dc.Linear:
    """Return the response of all that is recorded, as far as the harmonics of the next sweep leave room."""
    rate = d.kernel.rate
    seconds = max(dc.AFTER, dc.room_after(d.kernel))
    before = round(dc.BEFORE * rate)
    windows = [(d.peak, before, round(s * rate)) for s in (seconds, seconds / 2)]
    rows = dc.windowed_responses(d.impulse, windows, dc.response_grid(d.kernel))
    return dc.Linear(rows[0], np.full(rows.shape[1], seconds), rows[0], rows[1], seconds)


def energy_time(impulse: Samples, peak: int, rate: float, seconds: float) -> tuple[Samples, Samples]:
    """Return the energy-time curve: time after the arrival in s and level of the envelope in dB re its greatest value
    (points,), from 5 ms before the arrival on.

    The envelope is the magnitude of the analytic signal.
    """
    before = round(BEFORE * rate)
    frames = min(impulse.size - before, round(seconds * rate))
    margin = round(0.01 * rate)  # the analytic signal of a section is wrong at its ends
    section = np.take(impulse, np.arange(peak - before - margin, peak + frames + margin), mode="wrap")
    envelope = _envelope(section, 0.0, rate)[margin : margin + before + frames]
    time = (np.arange(envelope.size) - before) / rate
    return time, 20 * np.log10(np.maximum(envelope / max(float(envelope.max()), 1e-300), 1e-10))


def _envelope(x: Samples, above: float, rate: float) -> Samples:
    """Magnitude of the analytic signal (frames,) of x's part above a frequency in Hz."""
    size = even_fast_len(x.size)
    spectrum = transforms.rfft(x, size)
    bins = np.arange(spectrum.size) * (rate / size)
    if above > 0:
        spectrum *= np.clip(np.log2(np.maximum(bins, 1e-3) / above) + 0.5, 0, 1)
    quarter = transforms.irfft(np.concatenate([[0], -1j * spectrum[1:-1], [0]]), size)
    return np.asarray(np.hypot(transforms.irfft(spectrum, size), quarter)[: x.size])


def propose_gate(d: dc.Deconvolved) -> float | None:
    """Return how long after the arrival the first reflection begins, in s; None where none is found within 100 ms.

    A reflection is a rise of the envelope above 1.5 kHz by 10 dB over what it fell to before, that is no more than
    30 dB below the direct sound and stands clear of the noise.
    """
    rate = d.kernel.rate
    above = min(_ENVELOPE_FROM, d.kernel.stimulus["stop"] / 4)
    last = min(round(_SEARCH_TO * rate), d.kernel.frames // 4)
    lead = round(BEFORE * rate)
    section = np.take(d.impulse, np.arange(d.peak - lead, d.peak + last), mode="wrap")
    envelope = _smoothed(_envelope(section, above, rate), max(1, round(_SMOOTHED * rate)))[lead:]
    direct = float(envelope[: max(1, round(_SEARCH_FROM * rate))].max())
    noise = float(np.median(envelope[-max(8, envelope.size // 5) :]))
    # what the envelope has fallen to so far; a reflection rises from there
    fallen = np.minimum.accumulate(envelope)
    start = round(_SEARCH_FROM * rate)
    threshold = np.maximum(np.maximum(_RISE * fallen, _LEAST_REFLECTION * direct), _OVER_NOISE * noise)
    risen = np.flatnonzero(envelope[start:] > threshold[start:])
    if not risen.size:
        return None
    found = start + int(risen[0])
    # back to where the rise began: at a tenth of its top, or where it had fallen to
    top = float(envelope[found : found + start].max())
    floor = max(0.1 * top, float(fallen[found]) * math.sqrt(_RISE))
    begins = np.flatnonzero(envelope[:found] <= floor)
    if begins.size:
        begin = int(begins[-1])
    else:
        begin = found
    return max(SHORTEST, begin / rate)


def _smoothed(x: Samples, width: int) -> Samples:
    """Return the running mean (frames,) over ``width`` samples."""
    return np.asarray(np.convolve(x, np.ones(width) / width, mode="same"))
