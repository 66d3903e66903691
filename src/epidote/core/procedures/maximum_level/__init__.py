"""The highest level within limits of distortion, compression and drive, by third octave."""
