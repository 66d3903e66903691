"""The reading that stands for a run in the matrix."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from epidote.core.quantities.outside import load_json
from epidote.core.results.kinds import Shown
from epidote.core.results.reading import Reading
from epidote.study.stored_json import is_reading


@dataclass(frozen=True)
class Headline:
    """The reading that stands for a run, with its title and how it is shown, so that the matrix needs no procedure."""

    reading: Reading
    title: str
    shown: Shown = Shown.QUANTITY

    def to_json(self) -> dict[str, Any]:
        return {**self.reading.to_json(), "title": self.title, "shown": str(self.shown)}


def headline_from_json(text: str) -> Headline | None:
    """Return the reading that stands for a run. Raises what damaged JSON raises."""
    data = load_json(text, "run")
    if data is None:
        return None
    if not is_reading(data) or not isinstance(data.get("title", ""), str):
        raise TypeError("no reading")
    return Headline(Reading.from_json(data), data.get("title", ""), Shown(data.get("shown", Shown.QUANTITY)))
