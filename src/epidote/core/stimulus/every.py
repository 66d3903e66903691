"""Every maker of stimuli: importing this registers all of them, so that a stored stimulus loads whatever was imported before."""

from epidote.core.stimulus import multitone, noise, shots, silence, staircase, steps, sweep, tone, two_tones

__all__ = ["multitone", "noise", "shots", "silence", "staircase", "steps", "sweep", "tone", "two_tones"]
