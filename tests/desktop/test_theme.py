"""Colours of rows: told apart and seen, also beyond the eighth row."""

import itertools

import numpy as np
import pytest

from epidote.desktop.theme import DARK, LIGHT


def linear(colour) -> np.ndarray:
    """Linear light of an sRGB colour (IEC 61966-2-1, from memory)."""
    c = np.array(colour.getRgb()[:3]) / 255
    return np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)


def lab(colour) -> np.ndarray:
    """L*, a*, b* under D65 (CIE 15, from memory)."""
    to_xyz = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])
    x, y, z = to_xyz @ linear(colour) / (to_xyz @ np.ones(3))
    fx, fy, fz = (np.cbrt(v) if v > 216 / 24389 else v * 841 / 108 + 4 / 29 for v in (x, y, z))
    return np.array([116 * fy - 16, 500 * (fx - fy), 200 * (fy - fz)])


def contrast(one, other) -> float:
    """Ratio of relative luminances (WCAG 2, from memory)."""
    low, high = sorted(float(linear(c) @ [0.2126, 0.7152, 0.0722]) for c in (one, other))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
def test_twenty_four_rows_have_colours_that_can_be_told_apart(theme):
    colours = [theme.row(i) for i in range(24)]
    assert [c.name() for c in colours[:8]] == list(theme.rows)
    assert min(np.linalg.norm(lab(a) - lab(b)) for a, b in itertools.combinations(colours, 2)) > 10, (
        "a difference of 2.3 is just seen"
    )
    assert min(contrast(c, theme.colour("back")) for c in colours[:16]) > 4
    assert min(contrast(c, theme.colour("back")) for c in colours) > 2.5
    assert theme.row(24) == theme.row(0)
