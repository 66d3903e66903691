"""One steady sine: level, distortion, noise, harmonics."""
