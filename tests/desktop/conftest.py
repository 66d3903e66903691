"""A window on a small measured study, driven as a user would."""

from __future__ import annotations

import os
import shutil

import pytest

from tests.conftest import measured
from tests.desktop.driver import wait_for


@pytest.fixture(scope="session")
def measured_study(tmp_path_factory):
    """A study with three rows, two of them measured in both columns; copied for each test."""
    from epidote.core.chain.chain import Chain
    from epidote.core.chain.chain_toml import chain_to_toml
    from epidote.core.procedures.registry import procedure
    from epidote.core.settings import make_settings
    from epidote.measurement.request import add_column
    from epidote.study.store import create_study

    path = tmp_path_factory.mktemp("study") / "Measured.epidote"
    study = create_study(path, "Measured")
    study.set_setting(
        "chain",
        chain_to_toml(
            Chain(name="Bench", rate=48000, output_full_scale=4.0, input_full_scale=8.0, probe_ratio=4.0, load_ohms=8.0)
        ),
    )
    p40, a25 = study.add_unit("Ostrel", "P40"), study.add_unit("Havelmar", "A25")
    study.add_subject(p40, {"gain": "high"}, "standin:ostrel-p40")
    study.add_subject(p40, {"gain": "low"}, "standin:ostrel-p40")
    study.add_subject(a25, {"load": "8 Ω"}, "standin:havelmar-a25")
    for key, settings in (("response", {"duration": 0.6, "level": -20}), ("tone", {"duration": 0.2, "level": -20})):
        add_column(study, key, make_settings(procedure(key).Settings, settings))
    study.set_setting("reference", str(study.overview().subjects[1].id))
    for row in (1, 3):
        for column in (0, 1):
            measured(study, row, column)
    study.close()
    return path


@pytest.fixture
def path(measured_study, tmp_path):
    return shutil.copytree(measured_study, tmp_path / "Copy.epidote")


@pytest.fixture
def window(qtbot, path):
    """The main window with the study open and its graph drawn."""
    from epidote.desktop.app import application
    from epidote.desktop.shell.main_window import MainWindow

    assert os.environ["QT_QPA_PLATFORM"] == "offscreen"
    application()
    made = MainWindow()
    qtbot.addWidget(made)
    made.show()
    made.activateWindow()  # else it has no focus once a window of an earlier test had it
    wait_for(qtbot, made.isActiveWindow)
    made.session.open_path(path)
    wait_for(qtbot, lambda: made.matrix.built and made.matrix.graph_panel.graph.figure() is not None)
    yield made
    made.close()


@pytest.fixture
def rows(window):
    """The rows' numbers by name: baseline, high, low, a25."""
    return dict(zip(("baseline", "high", "low", "a25"), (s.id for s in window.session.overview.subjects), strict=True))


@pytest.fixture
def columns(window):
    return dict(zip(("response", "tone"), (c.id for c in window.session.overview.columns), strict=True))
