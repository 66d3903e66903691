"""The start page: begin a study, open one that was open before, or look around in the demo."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from epidote.desktop.pages.page import Page
from epidote.desktop.plotting.icons import crystal_mark
from epidote.desktop.state.recent_studies import recent_studies
from epidote.desktop.theme import Theme, font
from epidote.desktop.widgets.choice_button import ChoiceButton
from epidote.desktop.widgets.painting import guarded
from epidote.desktop.widgets.plain import Label
from epidote.desktop.widgets.scrolled import WrappingWidget, scrolled
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.desktop.state.session import Session
    from epidote.study.glance import StudyGlance

# the command that each carries out, its title, and what follows
BEGINNINGS = (
    ("new", "New study", "An empty matrix: rows are units under test, columns are measurements."),
    (
        "guided",
        "Measure an audio interface",
        "Guided from connection to first result, about 10 min.",
    ),
    (
        "analyse",
        "Analyse a recording",
        "Spectrum, level and hum of an audio file. Or drop files anywhere on the window.",
    ),
    ("demo", "Open demo study", "Comparison of simulated units, measured live. No audio is played."),
    ("open", "Open study", "A study folder on this computer."),
)
_WIDEST = 1060
_LONGEST_PART = 28  # characters of the name of a folder
_MAY_BREAK = "\u200b"  # a space without width


class StartPage(Page):
    """study_wanted: the folder of a study to open."""

    study_wanted = Signal(object)

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.setProperty("help", "start")
        self._session: Session | None = None
        self.theme = theme
        self.buttons: dict[str, ChoiceButton] = {}
        self.recent: list[ChoiceButton] = []
        outer = QHBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        inside = QWidget()
        outer.addWidget(scrolled(inside))
        middle = QHBoxLayout(inside)
        middle.setContentsMargins(24, 0, 24, 12)
        whole = WrappingWidget()
        whole.setMaximumWidth(_WIDEST)
        whole.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        middle.addWidget(whole)
        layout = QVBoxLayout(whole)
        layout.setSpacing(8)
        self.mark = _Mark(theme)
        layout.addSpacing(24)
        layout.addWidget(self.mark)
        layout.addSpacing(12)
        columns = QHBoxLayout()
        columns.setSpacing(36)
        columns.addLayout(self._build_beginnings(), 5)
        columns.addLayout(self._build_recent(), 6)
        layout.addLayout(columns)
        layout.addStretch(1)

    def _build_beginnings(self) -> QVBoxLayout:
        layout = QVBoxLayout()
        layout.setSpacing(8)
        layout.addWidget(_heading("Get started"))
        for name, title, words in BEGINNINGS:
            button = ChoiceButton(title, words)
            button.clicked.connect(lambda _=False, n=name: self.action_wanted.emit(n))
            self.buttons[name] = button
            layout.addWidget(button)
        layout.addStretch(1)
        return layout

    def _build_recent(self) -> QVBoxLayout:
        layout = QVBoxLayout()
        layout.setSpacing(8)
        layout.addWidget(_heading("Recent studies"))
        self._none = Label(LOADING)
        self._none.setProperty("quiet", True)
        self._none.setWordWrap(True)
        layout.addWidget(self._none)
        self._recent_layout = QVBoxLayout()
        self._recent_layout.setSpacing(8)
        layout.addLayout(self._recent_layout)
        layout.addStretch(1)
        return layout

    def attach(self, session: Session) -> None:
        """Use a session's thread to look at studies from now on."""
        self._session = session

    def refresh(self) -> None:
        """Read what is in the recent studies, off the interface's thread, and list them."""
        if self._session is None:
            return
        paths = recent_studies()

        def look() -> list[tuple[Path, StudyGlance | None]]:
            from epidote.study.glance import glance

            return [(path, glance(path)) for path in paths]

        self._session.aside(look, self._show_recent, self.failed.emit)

    def _show_recent(self, studies: list[tuple[Path, StudyGlance | None]]) -> None:
        for old in self.recent:
            self._recent_layout.removeWidget(old)
            old.hide()
            old.deleteLater()
        self.recent = []
        for path, seen in studies:
            if seen is None:
                continue
            button = ChoiceButton(seen.title, f"{contents(seen)}\n{folder_words(path)}")
            button.clicked.connect(partial(self._open, path))
            self._recent_layout.addWidget(button)
            self.recent.append(button)
        self._none.setText("No recent studies. Studies that you open are listed here with their contents.")
        self._none.setVisible(not self.recent)

    def _open(self, path: Path, _checked: bool = False) -> None:
        self.study_wanted.emit(path)

    def set_theme(self, theme: Theme) -> None:
        self.theme = self.mark.theme = theme
        self.mark.update()


class _Mark(QWidget):
    """The application's mark and name."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        layout = QHBoxLayout(self)
        layout.setContentsMargins(52, 0, 0, 0)
        name = Label("Epidote")
        name.setFont(font(1.9, bold=True))
        purpose = Label("Measure audio devices, and compare them.")
        purpose.setProperty("quiet", True)
        purpose.setFont(font(1.1))
        words = QVBoxLayout()
        words.setSpacing(0)
        words.addWidget(name)
        words.addWidget(purpose)
        layout.addLayout(words)
        layout.addStretch(1)

    @guarded
    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        crystal_mark(p, QRectF(0, (self.height() - 46) / 2, 38, 46), self.theme.colour("accent"))
        p.end()


def _heading(words: str) -> Label:
    made = Label(words)
    made.setProperty("heading", True)
    return made


def contents(seen: StudyGlance) -> str:
    """Return what is in a study: "3 rows, 2 columns, 4 runs, last on 21 Nov 2026: Ostrel P40, Havelmar A25"."""
    counts = ", ".join(_counted(*pair) for pair in ((seen.rows, "row"), (seen.columns, "column"), (seen.runs, "run")))
    when = ""
    if seen.measured is not None:
        when = f", last on {seen.measured.astimezone():%d %b %Y}"
    names = ", ".join(seen.units)
    more = seen.unit_count - len(seen.units)
    if more > 0:
        names += f" and {more} more"
    return f"{counts}{when}" + (f"\n{names}" if names else "")


def _counted(count: int, word: str) -> str:
    return f"{count} {word}{'' if count == 1 else 's'}"


def folder_words(path: Path) -> str:
    """Return the folder that a study is in, the home folder as ~, so that it can be wrapped at its slashes."""
    try:
        words = f"~/{path.parent.relative_to(Path.home())}".rstrip("/.")
    except ValueError:
        words = str(path.parent)
    parts = [part if len(part) <= _LONGEST_PART else f"{part[: _LONGEST_PART - 1]}…" for part in words.split("/")]
    return f"/{_MAY_BREAK}".join(parts)
