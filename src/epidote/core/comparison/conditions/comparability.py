"""In what two runs differ besides the thing under study, worst first; some of it forbids a verdict until it is
acknowledged. ``core.wording.differences`` makes the sentences.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from epidote.core import effects
from epidote.core.chain.chain import Chain, interface_of
from epidote.core.claims.evidence import Evidence
from epidote.core.effects import Effect, Severity
from epidote.core.procedures.registry import procedure
from epidote.core.settings import effect_of, unit_of

_COVERED = 0.47  # of the sample rate: above this share an interface's filters act
_OF_THE_CHAIN = ("load", "rate", "probe", "buffer")  # conditions that are in the chain as well

DIFFERENT_PROCEDURES = Effect("The procedures differ.", Severity.BLOCKS)
SEVERAL_CONDITIONS = Effect("More than one condition differs.")
POWER_INTO_LOADS = Effect("Power into different loads cannot be compared.", Severity.BLOCKS)
HEAVIER_LOAD = Effect("The lower load resistance is the heavier load.")
BAND_NOT_COVERED = Effect("The lower sample rate does not cover the compared band.", Severity.BLOCKS)


class MismatchKind(StrEnum):
    """Where two runs differ."""

    PROCEDURE = "procedure"
    SETTING = "setting"
    CHAIN = "chain"
    CONDITION = "condition"


@dataclass(frozen=True)
class Mismatch:
    """One thing in which two runs differ: name of the setting, chain value or condition; both values, None where one is
    not specified; procedure: whose setting it is.
    """

    kind: MismatchKind
    name: str
    ours: object
    theirs: object
    effect: Effect
    procedure: str = ""

    @property
    def severity(self) -> Severity:
        return self.effect.severity


def find_mismatches(ours: Evidence, theirs: Evidence, under_study: Iterable[str] = ()) -> list[Mismatch]:
    """Everything in which two runs differ but what is under study (names of conditions), worst first."""
    studied = set(under_study)
    mismatches: list[Mismatch] = []
    if ours.procedure != theirs.procedure:
        mismatches.append(
            Mismatch(MismatchKind.PROCEDURE, "procedure", ours.procedure, theirs.procedure, DIFFERENT_PROCEDURES)
        )
    mismatches += _settings(ours, theirs)
    mismatches += _chains(ours, theirs)
    mismatches += _conditions(ours, theirs)
    return sorted((one for one in mismatches if one.name not in studied), key=lambda one: -one.severity)


def _settings(ours: Evidence, theirs: Evidence) -> list[Mismatch]:
    model = procedure(ours.procedure).Settings
    mismatches = []
    for name in dict.fromkeys([*ours.settings, *theirs.settings]):
        first, second = ours.settings.get(name), theirs.settings.get(name)
        if first != second:
            effect = effect_of(model, name) or effects.LITTLE
            mismatches.append(Mismatch(MismatchKind.SETTING, name, first, second, effect, ours.procedure))
    return mismatches


def _chains(ours: Evidence, theirs: Evidence) -> list[Mismatch]:
    first, second = ours.chain, theirs.chain
    mismatches = []
    if first.load_ohms != second.load_ohms:
        effect = HEAVIER_LOAD
        if procedure(ours.procedure).measures_power:
            effect = POWER_INTO_LOADS
        mismatches.append(Mismatch(MismatchKind.CHAIN, "load", first.load_ohms, second.load_ohms, effect))
    if first.rate != second.rate:
        highest = max(_highest_frequency(ours), _highest_frequency(theirs))
        effect = effects.LITTLE
        if highest > _COVERED * min(first.rate, second.rate):
            effect = BAND_NOT_COVERED
        mismatches.append(Mismatch(MismatchKind.CHAIN, "rate", first.rate, second.rate, effect))
    for name in Chain.model_fields:
        declared = effect_of(Chain, name)
        if declared is None:
            continue
        a, b = getattr(first, name), getattr(second, name)
        if name == "device":
            a, b = interface_of(a), interface_of(b)
        if a != b:
            mismatches.append(Mismatch(MismatchKind.CHAIN, name, a, b, declared))
    return mismatches


def _conditions(ours: Evidence, theirs: Evidence) -> list[Mismatch]:
    mismatches = []
    for name in dict.fromkeys([*ours.conditions, *theirs.conditions]):
        first, second = ours.conditions.get(name), theirs.conditions.get(name)
        if first != second and name not in _OF_THE_CHAIN:
            mismatches.append(Mismatch(MismatchKind.CONDITION, name, first, second, SEVERAL_CONDITIONS))
    return mismatches


def _highest_frequency(run: Evidence) -> float:
    """Return the highest frequency that a run's settings speak of, in Hz."""
    fields = procedure(run.procedure).Settings.model_fields
    in_hertz = (run.settings.get(name) for name, field in fields.items() if unit_of(field) == "Hz")
    return max((float(value) for value in in_hertz if isinstance(value, int | float)), default=0.0)
