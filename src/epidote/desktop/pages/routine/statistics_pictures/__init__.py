"""The pictures of a reading over units, in the order of their buttons. A new one is added here."""

from __future__ import annotations

from epidote.desktop.pages.routine.statistics_pictures.control_chart import ControlChartPicture
from epidote.desktop.pages.routine.statistics_pictures.curve import CurvePicture
from epidote.desktop.pages.routine.statistics_pictures.histogram import HistogramPicture
from epidote.desktop.pages.routine.statistics_pictures.normal_plot import NormalPicture
from epidote.desktop.pages.routine.statistics_pictures.over_time import OverTimePicture
from epidote.desktop.pages.routine.statistics_pictures.picture import Picture
from epidote.desktop.pages.routine.statistics_pictures.two_readings import TwoReadingsPicture

PICTURES: dict[str, Picture] = {
    picture.key: picture
    for picture in (
        HistogramPicture(),
        ControlChartPicture(),
        NormalPicture(),
        OverTimePicture(),
        TwoReadingsPicture(),
        CurvePicture(),
    )
}
