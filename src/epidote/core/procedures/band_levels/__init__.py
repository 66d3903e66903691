"""Levels of noise in fractional-octave bands, per microphone and averaged."""
