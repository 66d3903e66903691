"""The description that stands beside an exported stimulus file: settings, stimulus and marks."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from epidote.audio.files.sound_file import read_bounded
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.outside import load_json
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.every import stimulus_from_json
from epidote.core.stimuli.marked_sequence import MarkedSequence

_MOST_BYTES = 64 * 1024 * 1024


@dataclass(frozen=True)
class StimulusDescription:
    """marks: None for a file without any."""

    settings: dict[str, Any]
    stimulus: Stimulus | None
    marks: MarkedSequence | None


def read_description(path: Path | None) -> StimulusDescription:
    """Return a description written by “epidote stimulus”, an empty one for None. Raises UnusableInputError for anything
    else.
    """
    if path is None:
        return StimulusDescription({}, None, None)
    try:
        data = load_json(read_bounded(path, _MOST_BYTES, "a stimulus description").decode("utf-8"), path.name)
        marks = MarkedSequence.from_json(data["marked"]) if "marked" in data else None
        return StimulusDescription(dict(data["settings"]), stimulus_from_json(data["stimulus"]), marks)
    except (ValueError, KeyError, TypeError) as error:
        raise UnusableInputError(
            f"{path} is not a stimulus description written by “epidote stimulus”. Nothing was computed; export the"
            " stimulus again."
        ) from error
