"""Self-noise of a microphone: the silence it gives, as the sound level that would give the same output."""

from __future__ import annotations

import math

from scipy import signal as sp

from epidote.core.analysis.spectral.spectrum import mean_square_in_band
from epidote.core.analysis.spectral.weighting import Weighting, power_weight
from epidote.core.quantities.units import PASCAL_DB
from epidote.core.results.caution import Caution, caution_when
from epidote.core.results.reading import Reading
from epidote.core.signals import transforms
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples

_BAND = (20.0, 20000.0)  # Hz
_SEGMENT = 4096  # frames of the spectra that tell how alike two microphones' noises are
_SHARED = 0.5  # of the power in common with the reference, from which on the noise is the room's


def self_noise_readings(quiet: Recording, number: int, sensitivity_db: float, reference: int) -> list[Reading]:
    """Return the equivalent sound level of a channel's silence in dB SPL, A-weighted (IEC 60268-4, IEC 61672-1).

    sensitivity_db: output in dBFS at 1 Pa. reference: channel of another microphone that hears the same room, or 0;
    where most of the noise is in common, it is the room's.
    """
    signal = quiet.signal
    x = signal.channel(number)
    high = min(_BAND[1], signal.rate / 2)
    spectrum = transforms.rfft(x - x.mean())
    power = mean_square_in_band(spectrum, x.size, signal.rate, _BAND[0], high, weighting=Weighting.A)
    if power <= 0:
        return [Reading("self_noise", number, None, "dB SPL", cautions=(Caution.SILENT,))]
    level = 10 * math.log10(2 * power) - sensitivity_db + PASCAL_DB
    cautions: tuple[Caution, ...] = ()
    at: dict[str, float | str] = {"weighting": "A", "seconds": x.size / signal.rate}
    if reference and reference != number:
        shared = _shared_power(x, signal.channel(reference), signal.rate)
        at["shared_with_reference"] = shared
        cautions = caution_when(shared > _SHARED, Caution.ROOM_NOISE)
    return [Reading("self_noise", number, level, "dB SPL", at, cautions=cautions)]


def _shared_power(x: Samples, other: Samples, rate: float) -> float:
    """Return the share of x's A-weighted power (frames,) that is coherent with another microphone's signal."""
    f, own = sp.welch(x, rate, nperseg=_SEGMENT)
    _, coherence = sp.coherence(x, other, rate, nperseg=_SEGMENT)
    weighted = own * power_weight(f, Weighting.A)
    inside = (f >= _BAND[0]) & (f <= _BAND[1])
    whole = float(weighted[inside].sum())
    if whole <= 0:
        return 0.0
    return float((weighted * coherence)[inside].sum()) / whole
