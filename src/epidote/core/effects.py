"""What a setting decides: why results with different values cannot be compared, or only with care.

A settings field names one of these (`setting(…, affects=…)`); the comparison of two runs asks the field.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Effect:
    """why: what a difference means, in a sentence. blocks: whether it rules a comparison out until it is
    acknowledged.
    """

    why: str
    blocks: bool = False


NOISE_BAND = Effect("Noise, THD+N, SINAD and SNR depend on the bandwidth and cannot be compared.", blocks=True)
NOISE_WEIGHTING = Effect("Weighted and unweighted noise, THD+N and SNR cannot be compared.", blocks=True)
NOISE_REFERENCE = Effect("SNR refers to different levels.", blocks=True)
MODULATION_DEFINITION = Effect("The definitions of modulation distortion differ.", blocks=True)
DISTORTION_MEASURE = Effect("The limits apply to different distortion measures.", blocks=True)
PRODUCT_FREQUENCIES = Effect("The products are at different frequencies.", blocks=True)
HARMONICS_INCLUDED = Effect("THD includes different harmonics.")
DISTORTION_FREQUENCY = Effect("Distortion depends on frequency.")
TONE_RATIO = Effect("Products depend on the ratio of the tones.")
LEVEL = Effect("Distortion and relative noise depend on the level.")
SMOOTHING = Effect("Narrow peaks are smoothed differently.")
IMPULSE_WINDOW = Effect("Different parts of the impulse response are included.")
STIMULUS = Effect("")
MAINS = Effect("Hum is evaluated at different frequencies.")
