"""What abbreviations and units on toggle options mean, for their tooltips."""

from __future__ import annotations

from collections.abc import Iterable

from epidote.core.results.channels import AVERAGE, short_channel_name

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
    tips = {str(c): f"Channel {c} of the recording" for c in channels}
    return {**tips, str(AVERAGE): "Power average over the microphones"}


def channel_options(channels: list[int], names: tuple[str, ...] = ()) -> list[tuple[str, str]]:
    """Return (key, words) of channels to choose from; names: of the inputs, in order, as far as they have any."""

    def words(channel: int) -> str:
        if channel != AVERAGE and channel <= len(names) and names[channel - 1].strip():
            return names[channel - 1].strip()
        return short_channel_name(channel)

    return [(str(c), words(c)) for c in channels]


def common_names(names: Iterable[tuple[str, ...]]) -> tuple[str, ...]:
    """Return the names of the inputs where all runs in view have the same; none where they differ."""
    different = set(names)
    if len(different) == 1:
        return different.pop()
    return ()
