"""Curves as bytes: float64, little endian, compressed; evenly spaced x kept as first value and step."""

from __future__ import annotations

import json
import sqlite3
import zlib
from dataclasses import dataclass

import numpy as np

from epidote.core.results.channels import AVERAGE
from epidote.core.results.result import Curve, curve_fault, sound_curve
from epidote.core.signals.signal import Samples

MOST_POINTS = 50_000_000  # an hour at 192 kHz holds more samples, but no curve has so many points


def _packed(values: Samples) -> bytes:
    return zlib.compress(np.ascontiguousarray(values, dtype="<f8").tobytes(), 1)


def _unpacked(blob: bytes, points: int) -> Samples:
    """Exactly so many numbers; no more is unpacked than they need. Raises ValueError."""
    content = zlib.decompressobj().decompress(blob, 8 * points + 1)
    if len(content) != 8 * points:
        raise ValueError("a curve of another length")
    return np.frombuffer(content, dtype="<f8")


def insert_curve(connection: sqlite3.Connection, run_id: int, curve: Curve) -> None:
    """Keep a curve.

    Points that could not be drawn (no number, x not rising) are left out, and a curve without any others is.
    """
    sound = sound_curve(curve)
    if sound is None:
        return
    curve, x = sound, sound.x
    if x.size > 1:
        step = (x[-1] - x[0]) / (x.size - 1)
    else:
        step = 0.0
    even = x.size > 2 and bool(np.all(np.abs(x - (x[0] + step * np.arange(x.size))) <= 1e-12 * np.abs(x[-1])))
    connection.execute(
        "INSERT INTO curve VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        (
            run_id,
            curve.key,
            curve.channel,
            curve.x_unit,
            curve.y_unit,
            x.size,
            float(x[0]) if even else None,
            float(step) if even else None,
            None if even else _packed(x),
            _packed(curve.y),
            None if curve.floor is None else _packed(curve.floor),
            json.dumps(dict(curve.meta)),
        ),
    )


def curve_from_row(row: sqlite3.Row) -> Curve | None:
    """Return a stored curve.

    None where what is stored is none: cut short, of other lengths, not rising, with values that are no numbers.
    """
    try:
        points = int(row["points"])
        if not 0 < points <= MOST_POINTS or int(row["channel"]) < AVERAGE:
            return None
        if row["x"] is not None:
            x = _unpacked(row["x"], points)
        else:
            x = row["x_first"] + row["x_step"] * np.arange(points)
        if row["floor"] is None:
            floor = None
        else:
            floor = _unpacked(row["floor"], points)
        meta = {str(k): v for k, v in json.loads(row["meta"]).items() if isinstance(v, (str, int, float))}
        curve = Curve(
            str(row["key"]),
            int(row["channel"]),
            x,
            _unpacked(row["y"], points),
            str(row["x_unit"]),
            str(row["y_unit"]),
            floor,
            meta,
        )
    except (ValueError, TypeError, AttributeError, OverflowError, MemoryError, zlib.error):
        return None
    if curve_fault(curve):
        return None
    return curve


def thumbnail_points(curve: Curve | None, points: int = 48) -> list[tuple[float, float]]:
    """Return a small drawing of a curve: (x, y) from 0 to 1, x logarithmic for frequencies, peaks kept."""
    if curve is None or curve.x.size < 2:
        return []
    keep = np.isfinite(curve.y) & ((curve.x > 0) | (curve.x_unit != "Hz"))
    if curve.x_unit == "Hz":
        keep &= (curve.x >= 20) & (curve.x <= 40000)
    x, y = curve.x[keep], curve.y[keep]
    if x.size < 2:
        return []
    if curve.x_unit == "Hz":
        place = np.log(x)
    else:
        place = x
    place = (place - place[0]) / (place[-1] - place[0])
    bins = np.minimum((place * points).astype(int), points - 1)
    tops = [(float(place[bins == b].mean()), float(y[bins == b].max())) for b in np.unique(bins)]
    values = np.array([t[1] for t in tops])
    low, high = float(values.min()), float(values.max())
    if curve.y_unit.startswith("dB"):
        low = min(low, high - 6.0)
    return [(round(t[0], 4), round((t[1] - low) / (high - low), 4) if high > low else 0.5) for t in tops]


@dataclass(frozen=True, eq=False)
class StoredCurve:
    """A curve without its floor: x and y (points,). Curves on one x share it as one array."""

    run_id: int
    x: Samples
    y: Samples
    x_unit: str
    y_unit: str


class CurveReader:
    """Reads thousands of stored curves that lie on one x, which is unpacked once."""

    def __init__(self) -> None:
        self._key: object = None
        self._x: Samples | None = None

    def read(self, row: sqlite3.Row) -> StoredCurve | None:
        """Return a stored curve; None where what is stored is none."""
        try:
            points = int(row["points"])
            if not 0 < points <= MOST_POINTS:
                return None
            y = _unpacked(row["y"], points)
            x = self._x_of(row, points)
        except (ValueError, TypeError, zlib.error):
            return None
        if x is None or not bool(np.isfinite(y).all()):
            return None
        return StoredCurve(int(row["run_id"]), x, y, str(row["x_unit"]), str(row["y_unit"]))

    def _x_of(self, row: sqlite3.Row, points: int) -> Samples | None:
        key = (row["x"], row["x_first"], row["x_step"], points)
        if key != self._key:
            self._key = key
            if row["x"] is not None:
                x = _unpacked(row["x"], points)
            else:
                x = row["x_first"] + row["x_step"] * np.arange(points)
            rises = bool(np.isfinite(x).all()) and bool((np.diff(x) > 0).all())
            self._x = x if rises else None
        return self._x
