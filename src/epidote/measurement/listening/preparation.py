"""From chosen rows to clips that can be heard: read, laid over their original, matched."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass

from epidote.core.concurrency import cancellable, stop_if_cancelled
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.signals.signal import Samples
from epidote.measurement.listening.clips import (
    ANCHOR,
    ORIGINAL,
    SAME,
    AlignedRun,
    Matched,
    align_run,
    clips_of_runs,
)
from epidote.measurement.listening.sealed_test import NewTest, SealedTest
from epidote.study.models import Overview, RunSummary
from epidote.study.store import Study


@dataclass(frozen=True)
class ClipChoice:
    """rows: name and run of each. original, anchor: whether these are clips as well. control: the first row twice."""

    rows: tuple[tuple[str, int], ...]
    original: bool = False
    anchor: bool = False
    control: bool = False

    @property
    def parts(self) -> tuple[tuple[str, int], ...]:
        """Name and run of each clip that was recorded."""
        if self.control:
            return (*self.rows[:1], *self.rows[:1])
        return self.rows


@dataclass(frozen=True, eq=False)
class PreparedClips:
    """Matched clips, and what they are recordings of (frames, originals)."""

    choice: ClipChoice
    matched: Matched
    original: Samples
    rate: float

    def sounds_of(self, test: SealedTest) -> NewTest:
        """Return a test of these clips with the samples of each code. Raises SettingError where a clip is missing."""
        by_name = {clip.name: clip.samples for clip in self.matched.clips}
        missing = [name for name in test.letters.values() if name not in by_name]
        if missing:
            raise SettingError(f"The clip “{missing[0]}” of this test no longer exists. Restore its run first.")
        return NewTest(test, {code: by_name[name] for code, name in test.letters.items()}, self.rate)


@dataclass(frozen=True)
class HearableRun:
    """A run that can be heard beside its original, under the name of its row."""

    name: str
    run: RunSummary


def runs_to_hear(overview: Overview) -> list[HearableRun]:
    """Return the runs that can be heard beside their original, each under as short a name as tells it from the others:
    the unit's, with the row's conditions where a unit has several rows, and the column's settings where a row has
    several runs.
    """
    columns = [c for c in overview.columns if procedure(c.procedure).takes_original]
    measured = [
        (s, c, overview.runs[s.id, c.id]) for s in overview.subjects for c in columns if (s.id, c.id) in overview.runs
    ]
    rows = {subject.id: subject.name for subject, _, _ in measured}
    units = Counter(rows.values())
    runs_of_row = Counter(subject.id for subject, _, _ in measured)
    found = []
    for subject, column, run in measured:
        name = subject.name if units[subject.name] == 1 else subject.full_name
        if runs_of_row[subject.id] > 1:
            name = f"{name}, {column.summary}"
        found.append(HearableRun(name, run))
    return found


def choice_of_test(test: SealedTest) -> ClipChoice:
    """Return the clips that a test was made of."""
    names = set(test.letters.values())
    rows = tuple((name, run) for name, run in test.runs.items() if run and not name.endswith(SAME))
    return ClipChoice(rows, ORIGINAL in names, ANCHOR in names, any(name.endswith(SAME) for name in names))


def prepare_clips(
    study: Study,
    choice: ClipChoice,
    known: dict[int, AlignedRun],
    progress: Callable[[str], None],
    cancelled: Callable[[], bool],
) -> PreparedClips:
    """Return the clips of a choice. known: runs that were aligned before, to which new ones are added. Raises
    EpidoteError; CancelledError where ``cancelled`` says so meanwhile.
    """
    if not choice.rows:
        raise SettingError("No row is selected. Select rows with a run of “Programme material”.")
    count = len(choice.rows)
    with cancellable(cancelled):
        for number, (name, run) in enumerate(choice.rows, start=1):
            stop_if_cancelled()
            if run not in known:
                progress(f"Aligning {name} with the original ({number} of {count})…")
                known[run] = align_run(study, study.run(run))
        stop_if_cancelled()
    progress("Matching levels…")
    parts = [(name, run, known[run]) for name, run in choice.parts]
    matched = clips_of_runs(parts, original=choice.original, anchor=choice.anchor)
    first = parts[0][2]
    return PreparedClips(choice, matched, first.originals, first.rate)
