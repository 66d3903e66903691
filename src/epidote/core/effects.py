"""What a setting decides: why results with different values cannot be compared, or only with care.

A field of settings or of a chain names one of these (`setting(…, affects=…)`); the comparison of two runs asks the
field.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum


class Severity(IntEnum):
    """How much a difference says against a comparison."""

    MINOR = 1
    SIGNIFICANT = 2
    BLOCKS = 3  # rules the comparison out until it is acknowledged


@dataclass(frozen=True)
class Effect:
    """why: what a difference means, in a sentence; "" where it speaks for itself."""

    why: str = ""
    severity: Severity = Severity.SIGNIFICANT


NOISE_BAND = Effect("Noise, THD+N, SINAD and SNR depend on the bandwidth and cannot be compared.", Severity.BLOCKS)
NOISE_WEIGHTING = Effect("Weighted and unweighted noise, THD+N and SNR cannot be compared.", Severity.BLOCKS)
NOISE_REFERENCE = Effect("SNR refers to different levels.", Severity.BLOCKS)
MODULATION_DEFINITION = Effect("The definitions of modulation distortion differ.", Severity.BLOCKS)
DISTORTION_MEASURE = Effect("The limits apply to different distortion measures.", Severity.BLOCKS)
PRODUCT_FREQUENCIES = Effect("The products are at different frequencies.", Severity.BLOCKS)
HARMONICS_INCLUDED = Effect("THD includes different harmonics.")
DISTORTION_FREQUENCY = Effect("Distortion depends on frequency.")
TONE_RATIO = Effect("Products depend on the ratio of the tones.")
LEVEL = Effect("Distortion and relative noise depend on the level.")
SMOOTHING = Effect("Narrow peaks are smoothed differently.")
IMPULSE_WINDOW = Effect("Different parts of the impulse response are included.")
STIMULUS = Effect()
MAINS = Effect("Hum is evaluated at different frequencies.")

# of the chain
INTERFACE = Effect("The interfaces differ in noise and distortion.")
INPUT_NOISE = Effect("Input noise contributes differently.")
GENERATOR_VOLTAGE = Effect("The same dBFS is a different generator voltage.")
LOAD_KNOWN = Effect("One load was measured, the other entered.", Severity.MINOR)
INTERFACE_GAIN = Effect("The interface's gain settings differ.")
MICROPHONE = Effect("Different microphones.")
LITTLE = Effect("", Severity.MINOR)
