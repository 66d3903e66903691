"""The latest run of every cell of a matrix; of a large study each is read when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace

from epidote.core.results.caution import Caution
from epidote.study.models import Overview, RunSummary

Cell = tuple[int, int]
READ_AT_ONCE = 4000  # runs up to which a study's runs are all read when it opens
_MOST_KEPT = 4000
_MOST_LOOKED_AT = 200


class RunTable(Mapping[Cell, RunSummary]):
    """By cell. Reading one reads its whole row of the matrix, of which a screen shows a dozen."""

    def __init__(self, ids: Mapping[Cell, int], read: Callable[[Sequence[int]], Sequence[RunSummary]]) -> None:
        """ids: of the runs. read: returns runs by their numbers."""
        self._ids, self._read = ids, read
        self._rows: dict[int, list[int]] = {}
        for (subject, _), run in ids.items():
            self._rows.setdefault(subject, []).append(run)
        # found here, on the thread that reads the study, and not while somebody waits for the window
        self.latest_first = sorted(ids, key=ids.__getitem__, reverse=True)[:_MOST_LOOKED_AT]
        self._kept: dict[Cell, RunSummary] = {}
        self._marked: dict[int, RunSummary] = {}

    def mark(self, runs: Mapping[int, RunSummary]) -> None:
        """Show these runs, by number, as they are here from now on."""
        self._marked.update(runs)
        self._kept.clear()

    def __len__(self) -> int:
        return len(self._ids)

    def __iter__(self) -> Iterator[Cell]:
        return iter(self._ids)

    def __contains__(self, cell: object) -> bool:
        return cell in self._ids

    def __getitem__(self, cell: Cell) -> RunSummary:
        known = self._kept.get(cell)
        if known is not None:
            return known
        wanted = self._ids[cell]
        runs = [self._marked.get(run.id, run) for run in self._read(self._rows[cell[0]])]
        if len(self._kept) + len(runs) > _MOST_KEPT:
            self._kept.clear()
        self._kept.update({(run.subject_id, run.column_id): run for run in runs})
        return next(run for run in runs if run.id == wanted)

    def id_of(self, cell: Cell) -> int:
        """Return the number of a cell's run, without reading it."""
        return self._ids[cell]


def run_id_of(runs: Mapping[Cell, RunSummary], cell: Cell) -> int:
    """Return the number of a cell's run; of a large study without reading the run."""
    if isinstance(runs, RunTable):
        return runs.id_of(cell)
    return runs[cell].id


def latest_of(runs: Mapping[Cell, RunSummary]) -> RunSummary | None:
    """Return the run that was made last; None where there is none."""
    cells = _latest_first(runs)
    return runs[cells[0]] if cells else None


def _latest_first(runs: Mapping[Cell, RunSummary]) -> Sequence[Cell]:
    """Return the cells of the last runs, latest first; of a large study only those of the last few."""
    if isinstance(runs, RunTable):
        return runs.latest_first
    return sorted(runs, key=lambda cell: runs[cell].id, reverse=True)


def marked(overview: Overview, run_ids: Collection[int]) -> Overview:
    """Return the same with the caution of damaged data on these runs, as found when their curves were read."""
    cells = [cell for cell in overview.runs if run_id_of(overview.runs, cell) in run_ids]
    changed = {cell: _with_damage(overview.runs[cell]) for cell in cells}
    if not changed:
        return overview
    if isinstance(overview.runs, RunTable):
        overview.runs.mark({run.id: run for run in changed.values()})
        return overview
    return replace(overview, runs={**overview.runs, **changed})


def _with_damage(run: RunSummary) -> RunSummary:
    if Caution.DAMAGED in run.cautions:
        return run
    return replace(run, cautions=(*run.cautions, str(Caution.DAMAGED)))


_SILENCE_DB = 60.0  # what is quieter was no signal


def headroom_of(overview: Overview | None) -> float | None:
    """Of the last capture in which something played, in dB; None when there is none."""
    if overview is None:
        return None
    for cell in _latest_first(overview.runs):
        peaks = [r.value for r in overview.runs[cell].readings if r.key == "headroom" and r.value is not None]
        if peaks and min(peaks) < _SILENCE_DB:
            return float(min(peaks))
    return None
