"""The Watch page: live spectrum, waveform and levels, a generator at hand, and states held against each other."""
