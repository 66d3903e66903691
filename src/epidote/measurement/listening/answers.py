"""Answers to listening tests: sheets that come back, sittings in the window, and what they say once revealed."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from epidote.audio.files.sound_file import read_bounded
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.column_text import decoded
from epidote.measurement.listening.kinds import Judged
from epidote.measurement.listening.package import changed_files
from epidote.measurement.listening.sealed_test import SealedTest, find_test, record_reveal, require_sealed
from epidote.study.annotations import valid
from epidote.study.models import Entry, StudyError
from epidote.study.store import Study

ANSWERS = "listening answers"
_MOST_SHEET = 1_000_000


class Sheet(BaseModel):
    """The answers of one listener, in the order of the trials. notes: by trial and label, such as "3 B".

    finished: all trials were answered, or the listener stopped early; before that nothing is judged.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    test: str
    listener: str
    answers: list[str] = []
    file: str = ""
    notes: dict[str, str] = {}
    finished: bool = True
    stopped_early: bool = False


@dataclass(frozen=True)
class Revealed:
    """What a test says once its key is shown: all listeners together, and each apart.

    changed: files of the folder that are not as they were exported. identical: listeners whose answers are the same
    from first to last, in groups.
    """

    test: SealedTest
    together: Judged
    apart: dict[str, Judged]
    sheets: tuple[Sheet, ...]
    changed: tuple[str, ...]
    identical: tuple[tuple[str, ...], ...] = ()


def sheets_of(study: Study, test: SealedTest) -> list[tuple[Entry, Sheet]]:
    """Return the answers to a test with their entries, unfinished ones too."""
    return [(entry, sheet) for entry, sheet in valid(study.entries.all(ANSWERS), Sheet) if sheet.test == test.number]


def read_sheet(study: Study, path: Path) -> Sheet:
    """Return a filled-in answer sheet. Raises UnusableInputError, naming the lines, for one that does not fit."""
    text = decoded(read_bounded(path, _MOST_SHEET, "an answer sheet"))
    heads = [line[1:].strip() for line in text.splitlines() if line.startswith("#")]
    rows = [r for r in csv.reader(io.StringIO(text)) if r and not r[0].startswith("#")]
    number = next((h.removeprefix("listening test").strip() for h in heads if h.startswith("listening test")), "")
    test = find_test(study, number) if number else None
    if test is None:
        raise UnusableInputError(
            f"{path.name} is not an answer sheet of a test of this study. Nothing was imported; use the sheet exported"
            " with the clips."
        )
    listener = next((h.removeprefix("listener:").strip() for h in heads if h.startswith("listener:")), "")
    answers: dict[int, str] = {}
    for row in rows:
        if row[0].strip().casefold() == "trial":
            continue
        trial = row[0].strip()
        if not trial.isdecimal() or not 1 <= int(trial) <= test.trials:
            raise _wrong(path, f"trial “{trial}” is not one of the {test.trials} trials")
        if int(trial) in answers:
            raise _wrong(path, f"trial {trial} is answered twice")
        try:
            answers[int(trial)] = test.test_kind.read_answer(row[1:], len(test.letters), test.scale)
        except ValueError as error:
            raise _wrong(path, f"trial {trial} has {error}") from error
    missing = [str(n) for n in range(1, test.trials + 1) if n not in answers]
    if missing:
        raise _wrong(path, f"trial {', '.join(missing[:5])} is not answered")
    named = listener or path.stem
    return Sheet(test=number, listener=named, answers=[answers[n] for n in sorted(answers)], file=path.name)


def _wrong(path: Path, what: str) -> UnusableInputError:
    return UnusableInputError(f"{path.name}: {what}. Nothing was saved; correct the sheet and import it again.")


def keep_answers(study: Study, paths: Sequence[Path]) -> list[Sheet]:
    """Keep the answers of several sheets: all of them or none. Raises StudyError, UnusableInputError."""
    sheets = [read_sheet(study, path) for path in paths]
    for sheet in sheets:
        require_sealed(study, sheet.test)
        test = find_test(study, sheet.test)
        known = {s.listener for _, s in sheets_of(study, test)} if test is not None else set()
        if sheet.listener in known:
            raise UnusableInputError(
                f"{sheet.file}: the answers of “{sheet.listener}” are already saved. Nothing was imported;"
                " enter another"
                " name in the sheet."
            )
    for sheet in sheets:
        keep_sheet(study, sheet)
    return sheets


def keep_sheet(study: Study, sheet: Sheet, entry_id: int | None = None) -> int:
    """Keep answers as a new entry, or in place of one; return its number. Raises StudyError for a revealed test."""
    require_sealed(study, sheet.test)
    data = sheet.model_dump(mode="json")
    if entry_id is None:
        return study.entries.add(ANSWERS, data, person=study.person).id
    study.entries.update(entry_id, data)
    return entry_id


def reveal_test(study: Study, number: str = "", folder: Path | None = None) -> Revealed:
    """Return what a test says, the last one where none is named, and record that its key was shown.

    folder: whose files are compared with those that were exported. Raises StudyError.
    """
    test = find_test(study, number)
    if test is None:
        raise StudyError("There is no such listening test in this study. Make one first.")
    sheets = [sheet for _, sheet in sheets_of(study, test) if sheet.finished and sheet.answers]
    if not sheets:
        raise StudyError("No answers have come back yet, so nothing is revealed. Use “epidote listen answers” first.")

    def judged(those: Sequence[Sheet]) -> Judged:
        # an early stop leaves the last trials without an answer
        pairs = [(k, a) for s in those for k, a in zip(test.key, s.answers, strict=False)]
        early = any(s.stopped_early for s in those)
        return test.test_kind.judge(pairs, test.letters, test.scale, stopped_early=early)

    changed = changed_files(test, folder) if folder is not None else ()
    apart = {s.listener: judged([s]) for s in sheets}
    record_reveal(study, test)
    return Revealed(test, judged(sheets), apart, tuple(sheets), changed, identical_sheets(sheets))


def identical_sheets(sheets: Sequence[Sheet]) -> tuple[tuple[str, ...], ...]:
    """Return the listeners of sheets with the same answers, in groups: chance, or one sheet that was copied."""
    listeners: dict[tuple[str, ...], list[str]] = {}
    for sheet in sheets:
        listeners.setdefault(tuple(sheet.answers), []).append(sheet.listener)
    return tuple(tuple(names) for names in listeners.values() if len(names) > 1)


def identical_words(identical: Sequence[Sequence[str]]) -> list[str]:
    """Return a sentence for each group of listeners with the same answers."""
    return [f"Identical answers: {', '.join(names)}. Check that no sheet was copied." for names in identical]
