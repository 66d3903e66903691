"""Every kind of stimulus, and reading one from JSON.

Importing this registers all makers, so that a stored stimulus loads whatever was imported before.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from epidote.core.errors import UnusableInputError
from epidote.core.signals.stimulus import Stimulus, is_registered, require_bounds
from epidote.core.stimuli import bursts as shots
from epidote.core.stimuli import level_check as steps
from epidote.core.stimuli import multitone, music, noise, silence, speech, sweep, tone, two_tones
from epidote.core.stimuli import stepped_tones as staircase

__all__ = [
    "multitone",
    "music",
    "noise",
    "shots",
    "silence",
    "speech",
    "staircase",
    "steps",
    "stimulus_from_json",
    "sweep",
    "tone",
    "two_tones",
]


def stimulus_from_json(data: Mapping[str, Any]) -> Stimulus:
    """Make a stimulus of its JSON.

    Raises UnusableInputError when the data is none of a known kind, or is out of bounds.
    """
    try:
        parameters = {str(name): float(value) for name, value in data["parameters"].items()}
        channels = tuple(int(channel) for channel in data["channels"])
        stimulus = Stimulus(str(data["kind"]), float(data["rate"]), parameters, channels)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
        raise UnusableInputError(
            "This is not a stimulus description. Nothing was computed; export the stimulus again."
        ) from error
    if not is_registered(stimulus.kind):
        raise UnusableInputError(
            f"This version of Epidote does not support stimuli of type “{stimulus.kind}”. Update Epidote to use it."
        )
    require_bounds(stimulus)
    return stimulus
