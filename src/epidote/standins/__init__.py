"""Simulated units and converters that ship with the application and behave like devices: noise, drift, clipping,
latency.
"""
