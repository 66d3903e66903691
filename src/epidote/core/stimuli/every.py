"""Every maker of stimuli: importing this registers all of them, so that a stored stimulus loads whatever was
imported before.
"""

from epidote.core.stimuli import bursts as shots
from epidote.core.stimuli import level_check as steps
from epidote.core.stimuli import multitone, noise, silence, sweep, tone, two_tones
from epidote.core.stimuli import stepped_tones as staircase

__all__ = ["multitone", "noise", "shots", "silence", "staircase", "steps", "sweep", "tone", "two_tones"]
