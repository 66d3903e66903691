"""Which part of a figure is shown."""

from __future__ import annotations

from dataclasses import dataclass

from epidote.desktop.plotting.axis_scale import Scale


@dataclass(frozen=True)
class Viewport:
    """The stretch of x, of y in the upper strip, and of y in the strip of differences."""

    x: Scale
    y: Scale
    dy: Scale
