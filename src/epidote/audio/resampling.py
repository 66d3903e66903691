"""Sample rates changed for listening and playing, by soxr: within 0.002 dB up to 18 kHz at 44.1 kHz, and some fifteen
times as quick as the exact method of ``core.analysis.clock.resampled``, which analyses use.
"""

from __future__ import annotations

from epidote.core.signals.signal import Samples, Signal


def for_playing(samples: Samples, rate: float, target_rate: float) -> Samples:
    """Return samples (frames,) or (frames, channels) at ``rate`` Hz, brought to ``target_rate`` Hz."""
    if rate == target_rate or samples.shape[0] == 0:
        return samples
    import soxr  # a compiled library that the first window does not need

    resampled: Samples = soxr.resample(samples, rate, target_rate, quality="VHQ")
    return resampled


def signal_for_playing(signal: Signal, target_rate: float) -> Signal:
    """Return the whole signal brought to ``target_rate`` Hz."""
    if signal.rate == target_rate:
        return signal
    return Signal(for_playing(signal.samples, signal.rate, target_rate), target_rate)
