"""What each reading and curve is, declared by the procedure that makes it and looked up by its key everywhere else.

Baseline, microphone correction, percent, differences, tables and the matrix ask here; none of them knows a key.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum


class ChainShare(StrEnum):
    """How the chain's own share acts on what is measured through it."""

    NONE = "none"
    ADDS = "adds"  # noise or distortion: what the chain shows alone is a floor
    LIMITS = "limits"  # a ratio of quality: what the chain reaches alone is a ceiling
    SUBTRACTS = "subtracts"  # gain, phase or time in series: what the chain shows alone is taken out


class Shown(StrEnum):
    """How a value is written."""

    QUANTITY = "quantity"
    PLUS_MINUS = "plus_minus"  # half of a range
    COUNT = "count"
    POLARITY = "polarity"


class CurveRole(StrEnum):
    """What a curve is to those who draw it and read values off it."""

    PLAIN = "plain"
    RESPONSE = "response"  # gain over frequency: a drop counts from 1 kHz, gains can be aligned
    GAIN = "gain"  # gain over something else
    SPECTRUM = "spectrum"  # levels of a sound; in Pa the threshold of hearing applies
    MAP = "map"  # rows one after the other, drawn as a map beside the readings and not as a line
    SOURCE = "source"  # level of a source at a point in dB SPL at 0 dBFS, which a chain can keep


class Microphone(StrEnum):
    """Which of a microphone's own responses is taken out of a curve over frequency."""

    NONE = "none"
    LEVEL = "level"
    PHASE = "phase"


@dataclass(frozen=True)
class ReadingKind:
    """One reading of a procedure.

    title: at most 22 characters. meaning: what it is, in a sentence, for tooltips and the guide. ratio: a ratio of
    amplitudes, which can be shown in percent. compared: whether a difference of two says something about units.
    former: keys under which earlier versions kept it.
    loss: of a gain, the reading that says instead what a unit takes away, and rise: of a noise, the one that says how
    far a unit raises it, both where the baseline was a plain wire in the unit's place. corner_of: the curve on which
    it is a corner. range_of: the reading whose range over rows of one unit says something, as of a volume control.
    total_latency: whether it belongs in the table of latencies.
    """

    key: str
    title: str
    chain: ChainShare = ChainShare.NONE
    ratio: bool = False
    shown: Shown = Shown.QUANTITY
    compared: bool = True
    former: tuple[str, ...] = ()
    loss: str = ""
    rise: str = ""
    corner_of: str = ""
    range_of: str = ""
    total_latency: bool = False
    meaning: str = ""


@dataclass(frozen=True)
class CurveKind:
    """One curve of a procedure, wherever it comes from.

    less_reading: the baseline's reading that is taken out of it, if any.
    """

    key: str
    chain: ChainShare = ChainShare.NONE
    ratio: bool = False
    microphone: Microphone = Microphone.NONE
    less_reading: str = ""
    role: CurveRole = CurveRole.PLAIN


_READINGS: dict[str, ReadingKind] = {}
_CURVES: dict[str, CurveKind] = {}


def declare_readings(kinds: Iterable[ReadingKind]) -> None:
    """Make kinds known. A key has one meaning: raises ValueError where it was declared as something else."""
    for kind in kinds:
        known = _READINGS.setdefault(kind.key, kind)
        # two procedures may give one reading different titles and words, and may have called it something else before
        if replace(known, title=kind.title, former=kind.former, meaning=kind.meaning) != kind:
            raise ValueError(f"reading {kind.key} is declared twice, as {known} and as {kind}")


def declare_curves(kinds: Iterable[CurveKind]) -> None:
    """Make kinds of curves known, under the same rule."""
    for kind in kinds:
        known = _CURVES.setdefault(kind.key, kind)
        if known != kind:
            raise ValueError(f"curve {kind.key} is declared twice, as {known} and as {kind}")


def reading_kind(key: str) -> ReadingKind:
    """Return the kind of a reading; a plain quantity where no procedure that is loaded declares it."""
    return _READINGS.get(key) or ReadingKind(key, key)


def curve_kind(key: str) -> CurveKind:
    """Return the kind of a curve; one that nothing acts on where no procedure that is loaded declares it."""
    return _CURVES.get(key) or CurveKind(key)
