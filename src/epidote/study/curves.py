"""Curves as bytes: float64, little endian, compressed; evenly spaced x kept as first value and step."""

from __future__ import annotations

import json
import sqlite3
import zlib

import numpy as np

from epidote.core.result import Curve
from epidote.core.signal import Samples


def _packed(values: Samples) -> bytes:
    return zlib.compress(np.ascontiguousarray(values, dtype="<f8").tobytes(), 1)


def _unpacked(blob: bytes) -> Samples:
    return np.frombuffer(zlib.decompress(blob), dtype="<f8")


def insert_curve(connection: sqlite3.Connection, run_id: int, curve: Curve) -> None:
    x = curve.x
    step = (x[-1] - x[0]) / (x.size - 1) if x.size > 1 else 0.0
    even = x.size > 2 and bool(np.all(np.abs(x - (x[0] + step * np.arange(x.size))) <= 1e-12 * np.abs(x[-1])))
    connection.execute(
        "INSERT INTO curve VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (run_id, curve.key, curve.channel, curve.x_unit, curve.y_unit, x.size, float(x[0]) if even else None, float(step) if even else None,
         None if even else _packed(x), _packed(curve.y), None if curve.floor is None else _packed(curve.floor), json.dumps(dict(curve.meta))),
    )  # fmt: skip


def curve_from_row(row: sqlite3.Row) -> Curve:
    x = _unpacked(row["x"]) if row["x"] is not None else row["x_first"] + row["x_step"] * np.arange(row["points"])
    floor = None if row["floor"] is None else _unpacked(row["floor"])
    return Curve(row["key"], row["channel"], x, _unpacked(row["y"]), row["x_unit"], row["y_unit"], floor, json.loads(row["meta"]))


def thumbnail_points(curve: Curve | None, points: int = 48) -> list[tuple[float, float]]:
    """A small drawing of a curve: (x, y) from 0 to 1, x logarithmic for frequencies, peaks kept."""
    if curve is None or curve.x.size < 2:
        return []
    keep = np.isfinite(curve.y) & ((curve.x > 0) | (curve.x_unit != "Hz"))
    if curve.x_unit == "Hz":
        keep &= (curve.x >= 20) & (curve.x <= 40000)
    x, y = curve.x[keep], curve.y[keep]
    if x.size < 2:
        return []
    place = np.log(x) if curve.x_unit == "Hz" else x
    place = (place - place[0]) / (place[-1] - place[0])
    bins = np.minimum((place * points).astype(int), points - 1)
    tops = [(float(place[bins == b].mean()), float(y[bins == b].max())) for b in np.unique(bins)]
    values = np.array([t[1] for t in tops])
    low, high = float(values.min()), float(values.max())
    low = min(low, high - 6.0) if curve.y_unit.startswith("dB") else low
    return [(round(t[0], 4), round((t[1] - low) / (high - low), 4) if high > low else 0.5) for t in tops]
