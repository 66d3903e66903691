"""What a study's runs say about its claims and limits, and how far cells scatter over their repeats."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from epidote.core.claims.claim import Claim
from epidote.core.claims.evidence import Evidence
from epidote.core.comparison.claims.verdict import Verdict, judge
from epidote.core.comparison.conditions.comparability import Mismatch, find_mismatches
from epidote.core.comparison.conditions.latency_table import MeasuredLatency, latencies_of
from epidote.core.comparison.differences.difference import difference_curve
from epidote.core.comparison.limits import Limit, LimitCheck, check_curve, check_reading
from epidote.core.comparison.repeatability import (
    CONFIDENCE,
    Comparison,
    Spread,
    SwapConclusion,
    compare,
    spread_curve,
    spreads,
    swap_conclusion,
)
from epidote.core.effects import Severity
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.units import DB_PER_NEPER, to_db
from epidote.core.results.caution import Caution
from epidote.core.results.kinds import reading_kind
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.signals.signal import Samples
from epidote.study.annotations import valid
from epidote.study.models import Entry, Overview, RunSummary, Subject
from epidote.study.store import Study


def repeats_of(study: Study, run: RunSummary) -> list[RunSummary]:
    """Return a run and those of its cell with the same settings and chain values, one for each set of recordings,
    latest first.
    """
    repeats: dict[int, RunSummary] = {}
    for other in study.runs_of(run.subject_id, run.column_id):
        if dict(other.settings) == dict(run.settings) and other.chain.load_ohms == run.chain.load_ohms:
            repeats.setdefault(other.source, other)
    return list(repeats.values())


def spreads_of(study: Study, run: RunSummary, repeats: int) -> dict[tuple[str, int], Spread]:
    """Each reading's spread over a cell's repeats.

    None where there was one run (``repeats`` as the overview counts them).
    """
    if repeats > 1:
        return spreads(r.readings for r in repeats_of(study, run))
    return {}


def evidence_of(study: Study, seen: Overview, subject: Subject, run: RunSummary, place: int = 0) -> Evidence:
    """Return a run as the core compares it; ``place``: of its row among the unit's."""
    spreads = spreads_of(study, run, seen.repeats.get((run.subject_id, run.column_id), 1))
    return Evidence(
        run.id,
        run.procedure,
        subject.full_name,
        run.settings,
        run.chain,
        subject.conditions,
        run.readings,
        cache(lambda: study.curves(run.id)),
        run.cautions,
        {k: s.deviation for k, s in spreads.items()},
        place,
    )


def evidence_of_unit(
    study: Study, seen: Overview, unit_id: int, columns: Sequence[int] | None = None
) -> list[Evidence]:
    """Return the latest run of every cell of a unit, under whatever conditions it was."""
    rows = {s.id: s for s in seen.subjects if s.unit is not None and s.unit.id == unit_id}
    places = {subject: place for place, subject in enumerate(rows)}
    cells = [cell for cell in seen.runs if cell[0] in rows and (columns is None or cell[1] in columns)]
    every = [evidence_of(study, seen, rows[cell[0]], seen.runs[cell], places[cell[0]]) for cell in cells]
    highest = cache(lambda: max((v for e in every if (v := e.own_highest_output()) is not None), default=None))
    return [replace(one, highest_output=highest) for one in every]


def judged_claims(study: Study, seen: Overview, entries: Iterable[Entry] | None = None) -> dict[int, Verdict]:
    """Return the verdict on every claim, by its entry."""
    verdicts: dict[int, Verdict] = {}
    known: dict[int, list[Evidence]] = {}
    for entry, claim in valid(seen.of_kind("claim") if entries is None else entries, Claim):
        unit = entry.owner.unit
        if unit is None:
            continue
        if unit not in known:
            known[unit] = evidence_of_unit(study, seen, unit)
        verdicts[entry.id] = judge(claim, known[unit])
    return verdicts


def held_limits(study: Study, seen: Overview, run: RunSummary) -> list[LimitCheck]:
    """Return what a run does at every limit of its procedure."""
    checks: list[LimitCheck] = []
    for entry, limit in valid(seen.of_kind("limit"), Limit):
        if limit.procedure != run.procedure or entry.owner.column not in (None, run.column_id):
            continue
        if limit.of_a_reading:
            checks += [h for r in run.readings if (h := check_reading(limit, r)) is not None]
        else:
            checks += [h for c in study.curves(run.id, [limit.key]) if (h := check_curve(limit, c)) is not None]
    return checks


def known_spreads(study: Study, seen: Overview, column_id: int) -> dict[tuple[str, int], Spread]:
    """Of a column: each reading's spread over the repeats of all its cells together, for cells that were measured
    once.
    """
    pooled: dict[tuple[str, int], list[Spread]] = {}
    # only cells that were measured more than once have a spread
    for cell in [cell for cell in seen.runs if cell[1] == column_id and seen.repeats.get(cell, 1) > 1]:
        for key, spread in spreads_of(study, seen.runs[cell], seen.repeats[cell]).items():
            pooled.setdefault(key, []).append(spread)
    out = {}
    for key, parts in pooled.items():
        degrees = sum(p.count - 1 for p in parts)
        variance = sum(p.deviation**2 * (p.count - 1) for p in parts) / degrees
        out[key] = Spread(0.0, variance**0.5, degrees + 1)
    return out


_MOST_CURVES = 20


@dataclass(frozen=True)
class RepeatedCurves:
    """The mean curves of two rows that were both repeated: their difference, half the 95 % interval of each of its
    points, and the repeats of either row.
    """

    name: str
    reference: str
    difference: Curve
    interval: Samples
    repeats: tuple[int, int]


@dataclass(frozen=True)
class SwapFinding:
    """By a reading (its title): what a difference between channels goes with."""

    title: str
    conclusion: SwapConclusion


@dataclass(frozen=True)
class DifferenceReport:
    """One row against the reference: a comparison for each reading (by key), and in what else they differ.

    repeated: what the repeats say of the curves in view. swapped: of a row whose wires were swapped, what the
    difference between its channels goes with.
    """

    name: str
    comparisons: tuple[tuple[str, Comparison], ...]
    mismatches: tuple[Mismatch, ...]
    repeated: RepeatedCurves | None = None
    swapped: SwapFinding | None = None

    @property
    def blocked(self) -> bool:
        """Whether a mismatch forbids a verdict."""
        return any(one.severity is Severity.BLOCKS for one in self.mismatches)


def difference_report(
    study: Study,
    seen: Overview,
    ours: tuple[Subject, RunSummary],
    theirs: tuple[Subject, RunSummary],
    channel: int,
    *,
    curve: tuple[str, str] | None = None,
    known: Mapping[tuple[str, int], Spread] | None = None,
) -> DifferenceReport:
    """Whether a row's readings differ from the reference's, over the repeats there are; of the curves ``curve`` (key,
    unit of x), too.

    ``known``: the column's ``known_spreads``, where several rows are asked about.
    """
    (subject, run), (base, reference) = ours, theirs
    one, other = evidence_of(study, seen, subject, run), evidence_of(study, seen, base, reference)
    under = {n for n in (*subject.conditions, *base.conditions) if subject.conditions.get(n) != base.conditions.get(n)}
    mismatches = find_mismatches(one, other, under if len(under) == 1 else ())
    if known is None:
        known = known_spreads(study, seen, run.column_id)
    sides = [[r.readings for r in repeats_of(study, of)] for of in (run, reference)]
    comparisons = []
    for key in dict.fromkeys(r.key for r in one.readings if r.channel == channel and reading_kind(r.key).compared):
        a, b = ([r for readings in side for r in readings if r.key == key and r.channel == channel] for side in sides)
        result = compare(a, b, known.get((key, channel)))
        if result is not None:
            comparisons.append((key, result))
    swapped = next((p for p in ((ours, theirs), (theirs, ours)) if _is_twin(*p)), None)
    repeated = None
    if curve is not None:
        repeated = _curves_by_repeats(study, ours, theirs, channel, curve)
    finding = None
    if swapped is not None:
        finding = _channels(*swapped)
    return DifferenceReport(subject.full_name, tuple(comparisons), tuple(mismatches), repeated, finding)


def _curves_by_repeats(
    study: Study,
    ours: tuple[Subject, RunSummary],
    theirs: tuple[Subject, RunSummary],
    channel: int,
    curve: tuple[str, str],
) -> RepeatedCurves | None:
    """Return the difference of the mean curves of two rows and how far it scatters; None unless both were repeated."""
    sides = []
    for _, run in (ours, theirs):
        curves = [
            c
            for r in repeats_of(study, run)[:_MOST_CURVES]
            for c in study.curves(r.id, [curve[0]])
            if c.channel == channel and c.x_unit == curve[1]
        ]
        spread = spread_curve(curves)
        if spread is None or spread.x.size < 2:
            return None
        mean = np.mean([np.interp(spread.x, c.x, c.y) for c in curves], axis=0)
        sides.append((Curve(curve[0], channel, spread.x, mean, curve[1], curves[0].y_unit), spread, len(curves)))
    (a, sa, na), (b, sb, nb) = sides
    less = difference_curve(a, b)
    if less is None or less.y_unit != "dB":
        return None
    one, other = np.interp(less.x, sa.x, sa.y) ** 2 / na, np.interp(less.x, sb.x, sb.y) ** 2 / nb
    from scipy.special import stdtrit

    interval: Samples = float(stdtrit(na + nb - 2, 0.5 + CONFIDENCE / 2)) * np.sqrt(
        np.asarray(one + other, dtype=np.float64)
    )
    return RepeatedCurves(ours[0].full_name, theirs[0].full_name, less, interval, (na, nb))


def _is_twin(swapped: tuple[Subject, RunSummary], plain: tuple[Subject, RunSummary]) -> bool:
    """Whether one row is the other with its channels' wires swapped."""
    a, b = dict(swapped[0].conditions), dict(plain[0].conditions)
    return a.pop("wiring", "") == "swapped" and a == b and swapped[0].unit == plain[0].unit


def _channels(swapped: tuple[Subject, RunSummary], plain: tuple[Subject, RunSummary]) -> SwapFinding | None:
    """Return what the difference between the channels goes with, by the reading that stands for the runs."""
    head = plain[1].headline
    if head is None:
        return None
    sides = []
    least = 0.02
    for _, run in (plain, swapped):
        chosen = [r for r in run.readings if r.key == head.reading.key and r.value is not None]
        level = all(r.unit in ("V", "W", "Pa", "FS") and (r.value or 0) > 0 for r in chosen)
        sides.append({r.channel: to_db(r.value or 1.0) if level else r.value or 0.0 for r in chosen})
        least = max([least, *(3 * _spread_in_db(r, level=level) for r in chosen)])
    return SwapFinding(head.title or head.reading.key, swap_conclusion(sides[0], sides[1], least))


def _spread_in_db(reading: Reading, *, level: bool) -> float:
    """Return the spread of a reading, of an amplitude (``level``) in dB."""
    spread = reading.spread or 0.0
    if level:
        return spread / ((reading.value or 1.0) / DB_PER_NEPER)
    return spread


def latencies(study: Study) -> list[MeasuredLatency]:
    """Every latency in the matrix, each of the first channel that has one, less the baseline where that was taken
    out.
    """
    seen = study.overview()
    keys = {
        column.id: kind.key
        for column in seen.columns
        for kind in procedure(column.procedure).readings
        if kind.total_latency
    }
    rows = []
    for subject in seen.subjects:
        for column in seen.columns:
            run = seen.runs.get((subject.id, column.id))
            if run is None or column.id not in keys:
                continue
            latency = run.reading(keys[column.id])
            if latency is not None and latency.value is not None:
                rows.append((dict(subject.conditions), _measured_latency(subject, run, latency)))
    return latencies_of(rows)


def _measured_latency(subject: Subject, run: RunSummary, latency: Reading) -> MeasuredLatency:
    """Return a run's latency with that of its slowest burst, which older runs give by their range only."""
    assert latency.value is not None
    rate, worst = run.chain.rate, None
    slowest, span = run.reading("latency_max", latency.channel), run.reading("latency_range", latency.channel)
    if slowest is not None:
        worst = slowest.value
    elif span is not None and span.value is not None:
        worst = latency.value + span.value / rate  # at most
    jumps = Caution.DELAY_JUMPS in latency.cautions
    return MeasuredLatency(subject.name, rate, None, latency.value, latency.spread, worst, jumps)
