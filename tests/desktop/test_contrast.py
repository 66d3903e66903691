"""Contrast of the palette by WCAG 2.2 level AA (W3C Recommendation, 5 October 2023, as remembered): 4.5:1 for text
(1.4.3), 3:1 for borders of controls, the focus and curves (1.4.11). Disabled controls are exempt there.
"""

import pytest

from epidote.desktop.theme.palette import DARK, LIGHT, PAPER
from tests.desktop.test_theme import contrast

THEMES = pytest.mark.parametrize("theme", [LIGHT, DARK, PAPER], ids=lambda t: t.name)
GROUNDS = ("back", "bar", "raised")
TEXT = [
    *(("text", ground) for ground in (*GROUNDS, "chosen_back", "accent_back", "caution_back")),
    *(("quiet", ground) for ground in (*GROUNDS, "chosen_back")),
    *(("accent", ground) for ground in (*GROUNDS, "accent_back", "chosen_back")),
    *(("caution", ground) for ground in (*GROUNDS, "caution_back", "chosen_back")),
    ("on_accent", "accent"),
]
EDGES = [*(("edge", ground) for ground in GROUNDS), *(("accent", ground) for ground in GROUNDS)]


@THEMES
@pytest.mark.parametrize(("ink", "ground"), TEXT, ids=lambda name: name)
def test_text_can_be_read(theme, ink, ground):
    assert contrast(theme.colour(ink), theme.colour(ground)) >= 4.5


@THEMES
@pytest.mark.parametrize(("ink", "ground"), EDGES, ids=lambda name: name)
def test_controls_and_focus_can_be_seen(theme, ink, ground):
    assert contrast(theme.colour(ink), theme.colour(ground)) >= 3.0


@THEMES
def test_names_in_the_colours_of_rows_can_be_read(theme):
    """The first eight are used for text: heads of readings, names in the graph."""
    for index in range(8):
        assert contrast(theme.row(index), theme.colour("back")) >= 4.5, index


def test_the_measure_gives_the_values_of_the_recommendation():
    """Black on white is 21:1; #767676 on white is the lightest grey that passes 4.5:1 (common practice, no source)."""
    from PySide6.QtGui import QColor

    assert contrast(QColor("#000000"), QColor("#ffffff")) == pytest.approx(21.0)
    assert contrast(QColor("#767676"), QColor("#ffffff")) == pytest.approx(4.54, abs=0.01)
