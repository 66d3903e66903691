"""JSON that a study holds, as values; what is damaged comes back as nothing."""

from __future__ import annotations

from epidote.core.errors import UnusableInputError
from epidote.core.quantities.outside import load_json
from epidote.core.results.caution import Caution
from epidote.core.results.channels import is_channel_key
from epidote.core.results.reading import Reading

FAULTS = (ValueError, TypeError, KeyError, AttributeError, OverflowError, RecursionError, UnusableInputError)
CAUTIONS = frozenset(str(c) for c in Caution)


def readings_from_json(text: str) -> tuple[Reading, ...]:
    """Return the readings that are whole: key, channel, value or None, unit and what else every reader relies on."""
    try:
        data = load_json(text, "row")
    except FAULTS:
        return ()
    if isinstance(data, list):
        return tuple(Reading.from_json(one) for one in data if is_reading(one))
    return ()


def is_reading(data: object) -> bool:
    """Whether JSON is a whole reading."""
    if not isinstance(data, dict):
        return False
    texts = isinstance(data.get("key"), str) and isinstance(data.get("unit"), str)
    numbers = [data.get("value", ""), data.get("floor", ""), data.get("spread", "")]
    numeric = all(v is None or (isinstance(v, (int, float)) and not isinstance(v, bool)) for v in numbers)
    channel = data.get("channel")
    cautions = data.get("cautions")
    named = is_channel_key(channel)
    rest = named and isinstance(cautions, list) and isinstance(data.get("at"), dict)
    return texts and numeric and rest and all(c in CAUTIONS for c in cautions or ())


def points_from_json(text: str) -> tuple[tuple[float, float], ...]:
    """Return a small drawing's points, both from 0 to 1; none for what is no drawing."""
    try:
        points = [(float(x), float(y)) for x, y in load_json(text, "drawing")]
    except FAULTS:
        return ()
    inside = all(-1 <= v <= 2 for point in points for v in point)
    if inside:
        return tuple(points)
    return ()
