"""The guide of the first measurement at the left of the window: where one is, why, and what to do."""

from __future__ import annotations

from dataclasses import replace

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from epidote.desktop.shell.guided.steps import SETTING, STEPS, GuidedState, GuidedStep, first_open, read_state
from epidote.desktop.state.session import Session
from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label

_CHARACTERS = 34  # about as many are beside each other


class GuidedPanel(QWidget):
    """action_wanted: what the button of the step in view does. closed: the user leaves the guide."""

    action_wanted = Signal(str)
    closed = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("guided")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setProperty("help", "start")
        self._session = session
        self.state = GuidedState()
        self._study: object = None  # that the state is of
        self.step: GuidedStep = STEPS[0]
        self._follow = True  # go on by itself once a step is done
        self._opening = False  # the study does not know yet that the guide is open
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        outer.addWidget(area)
        inside = QWidget()
        area.setWidget(inside)
        layout = QVBoxLayout(inside)
        layout.setContentsMargins(16, 12, 16, 12)
        layout.setSpacing(6)
        heading = Label("First measurement")
        heading.setFont(font(1.1, bold=True))
        layout.addWidget(heading)
        self.marks: dict[str, QPushButton] = {}
        for step in STEPS:
            mark = QPushButton()
            mark.setProperty("link", True)
            mark.clicked.connect(lambda _=False, s=step: self.show_step(s))
            self.marks[step.key] = mark
            layout.addWidget(mark)
        layout.addSpacing(6)
        self.title, self.why, self.what = Label(), Label(), Label()
        self.title.setFont(font(1.05, bold=True))
        self.why.setProperty("quiet", True)
        for label in (self.title, self.why, self.what):
            label.setWordWrap(True)
            layout.addWidget(label)
        self.act = QPushButton()
        self.act.setProperty("main", True)
        self.act.clicked.connect(self._act)
        self.go_on = QPushButton()
        self.go_on.clicked.connect(self._pass)
        layout.addWidget(self.act)
        layout.addWidget(self.go_on)
        layout.addStretch(1)
        layout.addLayout(self._build_foot())
        self.setFixedWidth(self.fontMetrics().averageCharWidth() * _CHARACTERS + 60)
        session.overview_changed.connect(self.refresh)

    def _build_foot(self) -> QHBoxLayout:
        foot = QHBoxLayout()
        self.leave = QPushButton("Leave guide")
        self.leave.setToolTip(
            "All settings and runs are saved; Measure > First measurement, guided returns to this step"
        )
        self.leave.clicked.connect(lambda _: self.closed.emit())
        foot.addWidget(self.leave)
        foot.addStretch(1)
        return foot

    def refresh(self) -> None:
        """Read from the study how far it is."""
        self._session.ask(read_state, self._show_state)

    def begin(self) -> None:
        """Go to the first step that is not over."""
        self._follow = self._opening = True
        self.refresh()

    def _show_state(self, state: GuidedState) -> None:
        was_over = self.step.is_over(self.state)
        if self._study is self._session.study:  # what was passed meanwhile may not have been written when it was read
            state = replace(state, passed=state.passed | self.state.passed)
        self._study = self._session.study
        self.state = state
        if self._opening:
            self._opening = False
            self.keep(is_open=True)
        wanted = first_open(state)
        newly_over = self.step.is_over(state) and not was_over
        if wanted is not None and (self._follow or newly_over):
            self.step = wanted
        self._follow = False
        self._show()

    def show_step(self, step: GuidedStep) -> None:
        """Look at any step, done or not."""
        self.step = step
        self._show()

    def _show(self) -> None:
        for number, step in enumerate(STEPS, start=1):
            mark, over = self.marks[step.key], step.is_over(self.state)
            sign = "✓" if over else f"{number}"
            mark.setText(f"{sign}  {step.title}")
            mark.setFont(font(1.0, bold=step is self.step))
            mark.setAccessibleName(f"Step {number}, {step.title}, {'done' if over else 'to do'}")
        step, over = self.step, self.step.is_over(self.state)
        self.title.setText(f"{STEPS.index(step) + 1}. {step.title}")
        self.why.setText(step.why)
        self.what.setText(step.what)
        if step.action is not None:
            self.act.setText(step.action[0])
        self.act.setVisible(step.action is not None)
        if over:
            words = "Next step"
        else:
            words = step.confirm or ("Skip this step" if step.can_skip else "")
        last = step is STEPS[-1]
        self.go_on.setText(words)
        self.go_on.setVisible(bool(words) and not (over and last))

    def _act(self) -> None:
        if self.step.action is not None:
            self.action_wanted.emit(self.step.action[1])

    def _pass(self) -> None:
        step = self.step
        if not step.is_over(self.state):
            self.state = self.state.with_passed(step.key)
            self.keep(is_open=step is not STEPS[-1])
        following = STEPS.index(step) + 1
        if following < len(STEPS):
            self.show_step(first_open(self.state) or STEPS[following])
        else:
            self.closed.emit()

    def keep(self, *, is_open: bool) -> None:
        """Keep in the study what was passed over, and whether the guide is to open with it."""
        self.state = replace(self.state, open=is_open)
        text = self.state.as_setting()
        if self._session.writable:
            self._session.ask(lambda study: study.set_setting(SETTING, text), lambda _: None)
