"""Impedance over frequency, and the parameters of a loudspeaker driver."""
