"""The listening tests of the study: which there are, how far they are, and what they say once revealed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QPushButton,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.state.session import Session
from epidote.desktop.theme import font
from epidote.desktop.widgets.plain import Label, quiet
from epidote.desktop.widgets.read_only_table import ReadOnlyTable, TableCell
from epidote.desktop.widgets.scrolled import WrappingWidget, scrolled
from epidote.desktop.widgets.wording import LOADING

if TYPE_CHECKING:
    from epidote.measurement.listening.answers import Revealed, Sheet
    from epidote.measurement.listening.sealed_test import SealedTest
    from epidote.study.store import Study

_REVEAL_HINT = "Reveal shows the result and the answer key. Answers given after that do not count."
_HEADS = ("Made", "Kind", "Trials", "Listeners", "State")


@dataclass(frozen=True, eq=False)
class ListedTest:
    """A test with its sheets and their entries. revealed: when its key was shown (ISO 8601, UTC); "" while sealed."""

    test: SealedTest
    sheets: tuple[tuple[int, Sheet], ...]
    revealed: str = ""

    @property
    def unfinished(self) -> tuple[int, Sheet] | None:
        """The sitting that can be gone on with: none once the key was shown."""
        if self.revealed:
            return None
        return next(((entry, s) for entry, s in self.sheets if not s.finished), None)

    @property
    def can_be_revealed(self) -> bool:
        """Whether answers wait for the key, which nobody has seen."""
        finished = any(s.finished for _, s in self.sheets)
        return finished and not self.revealed and self.test.test_kind.answered

    @property
    def state(self) -> str:
        if self.revealed:
            return "Revealed"
        if self.unfinished is not None:
            _, sheet = self.unfinished
            return f"{len(sheet.answers)} of {self.test.trials} answered"
        if not self.test.test_kind.answered:
            return "Notes"
        if self.sheets:
            return "Answered"
        return "Exported, no answers imported" if self.test.files else "No answers"


def list_tests(study: Study) -> list[ListedTest]:
    """Return the tests of a study that this version knows, newest first."""
    from epidote.measurement.listening.answers import sheets_of
    from epidote.measurement.listening.kinds import KINDS
    from epidote.measurement.listening.sealed_test import revealed_tests, sealed_tests

    known = [test for test in sealed_tests(study) if test.kind in KINDS]
    revealed = revealed_tests(study)
    return [
        ListedTest(t, tuple((e.id, s) for e, s in sheets_of(study, t)), revealed.get(t.number, ""))
        for t in reversed(known)
    ]


class ListeningTestsView(QWidget):
    """continue_wanted: a test that was not finished. another_wanted: a test, and who takes it as well."""

    continue_wanted = Signal(object)
    another_wanted = Signal(object, str)
    failed = Signal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.tests: list[ListedTest] = []
        self._filling = False
        self._said_of = "-"  # number of the test that the result is about
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 8, 20, 12)
        line = QHBoxLayout()
        self.take = QPushButton("Import answers…")
        self.take.setToolTip("Import completed answer sheets; results stay hidden until the test is revealed")
        self.reveal = QPushButton("Reveal")
        self.reveal.setProperty("main", True)
        self.reveal.setToolTip("Show the answer key, verify its SHA-256 and evaluate the answers")
        self.compare = QPushButton("Verify files…")
        self.compare.setToolTip("Check that the exported folder or ZIP file is unchanged")
        self.go_on = QPushButton("Continue test")
        self.another = QPushButton("Another listener…")
        self.another.setToolTip("Start the same test with another listener; only before it is revealed")
        for button in (self.take, self.reveal, self.compare, self.go_on, self.another):
            line.addWidget(button)
        line.addStretch(1)
        layout.addLayout(line)
        self.table = ReadOnlyTable("Listening tests")
        self.table.choose_rows()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        self.table.horizontalHeader().setStretchLastSection(True)
        self.none = quiet(LOADING)
        self.result = ResultView()
        split = QSplitter()
        left = WrappingWidget()
        inside = QVBoxLayout(left)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.addWidget(self.none)
        inside.addWidget(self.table, 1)
        split.addWidget(left)
        split.addWidget(scrolled(self.result))
        split.setSizes([640, 560])
        layout.addWidget(split, 1)
        self.take.clicked.connect(lambda _: self._ask_for_sheets())
        self.reveal.clicked.connect(lambda _: self.show_result())
        self.compare.clicked.connect(lambda _: self._ask_for_folder())
        self.go_on.clicked.connect(lambda _: self._continue())
        self.another.clicked.connect(lambda _: self._ask_for_listener())
        self.table.selectionModel().currentRowChanged.connect(lambda *_: self._selected())
        self._selected()

    def forget(self) -> None:
        """Show no tests until those of the study that is open now are read."""
        self._show([])
        self.none.setText(LOADING)

    def refresh(self, number: str = "") -> None:
        """Read the tests again, and select one by its number, such as one that was just finished."""

        def done(tests: list[ListedTest]) -> None:
            self._show(tests)
            if number:
                place = next((n for n, t in enumerate(self.tests) if t.test.number == number), None)
                if place is not None:
                    self.table.selectRow(place)
                    if not self.tests[place].test.test_kind.answered:
                        self.show_result()  # notes hide nothing
                    self.reveal.setFocus()

        self.session.ask(list_tests, done)

    def _show(self, tests: Sequence[ListedTest]) -> None:
        current = self.current()
        self.tests = list(tests)
        heads = [TableCell(words, font(bold=True), right=False) for words in _HEADS]
        rows = []
        for listed in self.tests:
            names = ", ".join(dict.fromkeys(s.listener for _, s in listed.sheets if s.listener))
            made = listed.test.made[:16].replace("T", " ")
            cells = (made, listed.test.test_kind.title, str(listed.test.trials), names, listed.state)
            rows.append([TableCell(words, font(), right=False) for words in cells])
        self._filling = True  # what is said of a test stays while the table is filled anew
        self.table.show_cells(heads, rows)
        self.none.setText("No listening tests. Select a type of test on the Listening tab.")
        self.table.setVisible(bool(rows))
        self.none.setVisible(not rows)
        if current is not None:
            place = next((n for n, t in enumerate(self.tests) if t.test.number == current.test.number), None)
            if place is not None:
                self.table.selectRow(place)
        self._filling = False
        self._selected()

    def text_of(self, row: int) -> str:
        """Return the state that a row of the table shows."""
        return self.table.text(row, len(_HEADS) - 1)

    def current(self) -> ListedTest | None:
        row, _ = self.table.current_cell()
        return self.tests[row] if 0 <= row < len(self.tests) else None

    def _selected(self) -> None:
        current = self.current()
        answered = current is not None and any(s.finished for _, s in current.sheets)
        self.reveal.setEnabled(answered)
        self.compare.setEnabled(answered and current is not None and bool(current.test.files))
        self.go_on.setEnabled(current is not None and current.unfinished is not None)
        asked = current is not None and current.test.test_kind.answered and not current.revealed
        self.another.setEnabled(asked and self.session.writable)
        self.take.setEnabled(self.session.writable)
        number = current.test.number if current is not None else ""
        is_another = number != self._said_of
        answered_now = answered and current is not None and current.can_be_revealed
        if not self._filling and (is_another or answered_now):
            self._said_of = number
            self.result.show_test(current)

    def show_result(self, folder: Path | None = None) -> None:
        """Reveal the selected test. folder: what was handed out, to be compared."""
        current = self.current()
        if current is None:
            return
        number = current.test.number
        if not current.test.test_kind.answered:
            self.result.show_notes(current)
            return

        def ask(study: Study) -> Revealed:
            from epidote.measurement.listening.answers import reveal_test

            return reveal_test(study, number, folder)

        def done(found: Revealed) -> None:
            self.refresh()  # its state is another one now
            self.result.show_revealed(found, compared=folder is not None)

        self.session.ask(ask, done)

    def _ask_for_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Exported test folder")
        if path:
            self.show_result(Path(path))

    def _ask_for_sheets(self) -> None:
        paths, _ = QFileDialog.getOpenFileNames(self, "Answer sheets", "", "Answer sheets (*.csv);;All files (*)")
        if paths:
            self.take_in([Path(path) for path in paths])

    def take_in(self, paths: Sequence[Path]) -> None:
        """Keep the answers of sheets: all of them or none."""

        def work(study: Study) -> str:
            from epidote.measurement.listening.answers import keep_answers

            sheets = keep_answers(study, paths)
            return (
                "Answers of " + ", ".join(sheet.listener for sheet in sheets) + " saved. Reveal the test to see them."
            )

        def done(words: str) -> None:
            self.session.said.emit(words)
            self.refresh()

        self.session.ask(work, done)

    def _ask_for_listener(self) -> None:
        name, given = QInputDialog.getText(self, "Another listener", "Name")
        if given:
            self.sit_another(name.strip())

    def sit_another(self, listener: str) -> None:
        """Have somebody else take the selected test."""
        current = self.current()
        if current is None:
            return
        if not listener or any(sheet.listener == listener for _, sheet in current.sheets):
            self.session.failed.emit("Answers of this listener are already saved. Enter another name.")
            return
        self.another_wanted.emit(current, listener)

    def _continue(self) -> None:
        current = self.current()
        if current is not None and current.unfinished is not None:
            self.continue_wanted.emit(current)


class ResultView(WrappingWidget):
    """What a test says, or how far it is."""

    def __init__(self) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 4, 4, 4)
        layout.setSpacing(8)
        self.title = Label()
        self.title.setFont(font(1.25, bold=True))
        self.finding = Label()
        self.finding.setFont(font(1.15))
        self.details = Label()
        self.details.setProperty("quiet", True)
        self.caution = Label()
        self.caution.setProperty("caution", True)
        for label in (self.title, self.finding, self.details, self.caution):
            label.setWordWrap(True)
            layout.addWidget(label)
        layout.addStretch(1)
        self.show_test(None)

    def show_test(self, listed: ListedTest | None) -> None:
        """Show a test that is not revealed."""
        self.caution.hide()
        self.finding.setText("")
        if listed is None:
            self.title.setText("")
            self.details.setText("Select a test on the left.")
            return
        test = listed.test
        self.title.setText(f"{test.test_kind.title}: {listed.state}")
        if listed.can_be_revealed:
            self.finding.setText(_REVEAL_HINT)
        self.details.setText(
            f"Key sealed {test.made[:16].replace('T', ' ')} UTC, SHA-256 {test.commitment}\n{test.matching}"
        )

    def show_revealed(self, found: Revealed, *, compared: bool) -> None:
        """Show the key, the finding of all listeners, and of each."""
        from epidote.measurement.listening.answers import identical_words

        test = found.test
        self.title.setText(test.test_kind.title)
        self.finding.setText("\n".join(_sentence(words) for words in found.together.words))
        lines = [f"{letter} was {name}" for letter, name in test.letters.items()]
        if len(found.apart) > 1:
            lines += [f"{name}: {'; '.join(one.words)}" for name, one in found.apart.items()]
        else:
            lines.append(f"Listener: {', '.join(found.apart)}")
        lines += [test.matching]
        if test.overruled:
            lines.append(f"Unequal levels accepted: {test.overruled}")
        for sheet in found.sheets:
            lines += [f"Note of {sheet.listener}, trial {where}: {words}" for where, words in sheet.notes.items()]
        if test.commitment_kept:
            lines.append(f"Answer key verified: unchanged since it was sealed {test.made[:16].replace('T', ' ')} UTC.")
        if compared and not found.changed:
            lines.append("Files verified: unchanged since export.")
        self.details.setText("\n".join(lines))
        wrong = (
            [] if test.commitment_kept else ["The answer key was changed after it was sealed. The result is invalid."]
        )
        wrong += [f"Changed or missing: {name}" for name in found.changed]
        wrong += identical_words(found.identical)
        self.caution.setText("\n".join(wrong))
        self.caution.setVisible(bool(wrong))

    def show_notes(self, listed: ListedTest) -> None:
        """Show the letters and notes of free listening."""
        test = listed.test
        self.title.setText(test.test_kind.title)
        names = {t.label: test.letters[t.code] for t in test.targets(1)}
        notes = {k.partition(" ")[2]: v for _, sheet in listed.sheets for k, v in sheet.notes.items()}
        self.finding.setText("\n".join(f"{label} was {name}" for label, name in names.items()))
        lines = [f"{label}: {notes[label]}" for label in names if label in notes]
        self.details.setText("\n".join([*lines, test.matching]))
        self.caution.hide()


def _sentence(words: str) -> str:
    """Return words as a sentence."""
    return words[:1].upper() + words[1:] + ("" if words.endswith(".") else ".")
