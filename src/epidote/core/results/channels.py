"""How channels are called: by their number, and the average over several by its name.

The average over the microphones of a run is a channel of its own. It has the number 0, so that it stands first.
"""

from __future__ import annotations

from collections.abc import Iterable

from epidote.core.errors import SettingError

AVERAGE = 0
_AVERAGE_KEY = "average"


def channel_key(channel: int) -> int | str:
    """Return what stands for a channel in JSON and CSV: its number, or "average"."""
    if channel == AVERAGE:
        return _AVERAGE_KEY
    return channel


def channel_from_key(key: object) -> int:
    """Return the channel of a key. Raises ValueError for what is none."""
    if key == _AVERAGE_KEY:
        return AVERAGE
    return int(str(key))


def is_channel_key(key: object) -> bool:
    """Whether something read from JSON stands for a channel."""
    is_number = isinstance(key, int) and not isinstance(key, bool) and key > AVERAGE
    return is_number or key == _AVERAGE_KEY


def channel_name(channel: int) -> str:
    """Return the name of a channel in a sentence or a list: "channel 3", "average"."""
    if channel == AVERAGE:
        return "average"
    return f"channel {channel}"


def short_channel_name(channel: int) -> str:
    """Return the name of a channel where room is scarce: "Ch 3", "Average"."""
    if channel == AVERAGE:
        return "Average"
    return f"Ch {channel}"


def default_channel(channels: Iterable[int]) -> int:
    """Return the channel that is shown where none is chosen: the average of more than two, else the first."""
    known = set(channels)
    numbered = sorted(known - {AVERAGE})
    if AVERAGE in known and (len(numbered) > 2 or not numbered):
        return AVERAGE
    return numbered[0] if numbered else 1


def parse_channel(text: str | int) -> int:
    """Return the channel of a typed number or "average". Raises SettingError."""
    typed = str(text).strip().lower()
    try:
        channel = channel_from_key(typed)
    except ValueError:
        channel = -1
    if channel < AVERAGE or (channel == AVERAGE and typed != _AVERAGE_KEY):
        raise SettingError(f"“{text}” is not a channel. Use a number from 1, or “average”.")
    return channel
