"""What abbreviations and units on toggle options mean, for their tooltips."""

from __future__ import annotations

UNIT_TIPS = {
    "%": "Show ratios in percent",
    "dB": "Show ratios in decibels",
    "dBFS": "Level re a full-scale sine (AES17)",
    "dBV": "Level re 1 V",
    "dBu": "Level re 0.7746 V",
    "dB SPL": "Sound pressure level re 20 µPa",
    "dBr": "Level re a level set to 0 dB",
}


def channel_tips(channels: list[int]) -> dict[str, str]:
    """Return the tips of the options “Ch 1”, “Ch 2” and so on."""
    return {str(c): f"Channel {c} of the recording" for c in channels}
