"""Runs made up of numbers, for claims, limits and comparisons."""

from __future__ import annotations

import numpy as np

from epidote.core.chain.chain import Chain
from epidote.core.claims.evidence import Evidence
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve

CHAIN = Chain(name="Bench", rate=96000, output_full_scale=4.0, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0)


def run(procedure="tone", readings=(), curves=(), number=1, settings=None, chain=None, conditions=None, **more):
    values = {"band_low": 20.0, "band_high": 20000.0, "weighting": "none", **(settings or {})}
    return Evidence(
        number,
        procedure,
        f"run {number}",
        values,
        chain or CHAIN,
        conditions or {},
        tuple(readings),
        lambda: tuple(curves),
        **more,
    )


def thd_n(value, channel=1, level=2.828427, **more):
    at = {"frequency_hz": 1000.0, "band_low_hz": 20.0, "band_high_hz": 20000.0, "weighting": "none"}
    return [Reading("thd_n", channel, value, "dB", at, **more), Reading("level", channel, level, "V", at)]


def staircase(exponent=2.0, at_1pct=40.0, channel=1):
    """THD+N rising as a power of the output power, 1 % at a known one: points 1 mW to 60 W."""
    x = np.geomspace(1e-3, 60, 200)
    return Curve("thd_n", channel, x, -40 + 10 * exponent * np.log10(x / at_1pct), "W", "dB")


def response(f, db, channel=1):
    return Curve("level", channel, np.asarray(f, float), np.asarray(db, float), "Hz", "dB")
