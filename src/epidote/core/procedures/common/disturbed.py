"""What else sounded during a run: told with its time, and repeats that hold it left out (docs/methods.md,
Disturbances).
"""

from __future__ import annotations

from collections.abc import Sequence

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.analysis.acoustics.disturbances import Disturbance, find_disagreeing, find_off_track
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.signals.recording import Recording

_MOST_TOLD = 4  # stretches that are named


def disturbance_reading(disturbed: Sequence[Disturbance], number: int, where: str = "") -> list[Reading]:
    """Return for how long something else sounded, and when, in a channel (from 1); where: words after the times."""
    if not disturbed:
        return []
    seconds = sum(d.end - d.begin for d in disturbed)
    times = ", ".join(f"{d.begin:.1f} to {d.end:.1f} s" for d in disturbed[:_MOST_TOLD]) + where
    at: dict[str, float | str] = {"times": times, "above_db": max(d.above_db for d in disturbed)}
    at["finding"] = f"disturbance at {times}"
    return [Reading("disturbed", number, seconds, "s", at, cautions=(Caution.DISTURBED,))]


def disturbed_repeats(
    recordings: Sequence[Recording], parts: Sequence[dc.Deconvolved], number: int
) -> list[tuple[Disturbance, ...]]:
    """Return what else sounded in a channel (from 1) of each recorded sweep of a run.

    One sweep alone shows what lies off its track; several show all in which they disagree, of two once the track says
    which of them holds it.
    """
    channels = [r.signal.channel(number) for r in recordings]
    if len(parts) == 1:
        return [find_off_track(channels[0], parts[0])]
    # each from the frame at which the sweep arrives, so that they lie on each other
    earliest = min(p.peak for p in parts)
    aligned = [x[p.peak - earliest :] for x, p in zip(channels, parts, strict=True)]
    disagreeing = find_disagreeing(aligned, parts[0].kernel.rate)
    if len(parts) > 2 or not any(disagreeing):
        return disagreeing
    off_track = [find_off_track(x, p) for x, p in zip(channels, parts, strict=True)]
    if sum(bool(found) for found in off_track) == 1:
        return off_track
    return disagreeing


def told(disturbed: Sequence[tuple[Disturbance, ...]], number: int) -> list[Reading]:
    """Return the reading of what else sounded in a run's sweeps, with the sweep in which it did."""
    hit = next((i for i, found in enumerate(disturbed) if found), None)
    if hit is None:
        return []
    if len(disturbed) > 1:
        where = f" of sweep {hit + 1}"
    else:
        where = ""
    return disturbance_reading(disturbed[hit], number, where)
