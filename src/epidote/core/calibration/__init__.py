"""Calibration: methods, guided steps, signal-path check, microphone correction."""
