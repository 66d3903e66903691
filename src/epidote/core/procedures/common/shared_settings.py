"""Settings fields that several procedures have: one label, meaning, limits and effect for each."""

from __future__ import annotations

from typing import Any

from epidote.core import effects
from epidote.core.settings import setting

MOST_HARMONICS = 50


def tone_frequency() -> Any:
    """Frequency of a single tone in Hz."""
    return setting(
        1000.0,
        "Frequency",
        "Tone frequency; the exact frequency played is reported",
        "Hz",
        played=True,
        ge=5,
        le=100000,
        affects=effects.DISTORTION_FREQUENCY,
    )


def lower_band_limit() -> Any:
    """Lower limit in Hz of the band in which noise and distortion are measured."""
    return setting(
        20.0,
        "Lower band limit",
        "Lower limit of the measurement bandwidth",
        "Hz",
        ge=0,
        le=100000,
        affects=effects.NOISE_BAND,
    )


def upper_band_limit(default: float = 20000.0) -> Any:
    """Upper limit of that band in Hz."""
    return setting(
        default,
        "Upper band limit",
        "Upper limit of the measurement bandwidth",
        "Hz",
        gt=0,
        le=192000,
        affects=effects.NOISE_BAND,
    )


def highest_harmonic() -> Any:
    """Return the number of the highest harmonic that THD includes."""
    return setting(
        10,
        "Highest harmonic",
        "Highest harmonic included in THD",
        ge=2,
        le=MOST_HARMONICS,
        affects=effects.HARMONICS_INCLUDED,
        secondary=True,
    )
