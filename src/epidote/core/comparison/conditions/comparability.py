"""In what two runs differ besides the thing under study, worst first, in words; some of it forbids a verdict until
it is acknowledged.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import IntEnum

from epidote.core.chain.chain import Chain, interface_of
from epidote.core.claims.evidence import Evidence
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.formatting import format_quantity
from epidote.core.settings import effect_of, label_of, unit_of, value_in_words


class Severity(IntEnum):
    """How much a difference says against a comparison."""

    MINOR = 1
    WEIGHS = 2
    BLOCKS = 3


@dataclass(frozen=True)
class Mismatch:
    """what: the setting, condition or chain value; ours, theirs: in words; why it matters; label: what the window
    calls it.
    """

    what: str
    ours: str
    theirs: str
    weight: Severity
    why: str = ""
    label: str = ""

    @property
    def words(self) -> str:
        name = self.label or self.what[0].upper() + self.what[1:]
        return f"{name}: {self.ours} vs. {self.theirs}.{f' {self.why}' if self.why else ''}"


_CHAIN_RULES: dict[str, tuple[Severity, str]] = {
    "device": (Severity.WEIGHS, "The interfaces differ in noise and distortion."),
    "probe_ratio": (Severity.MINOR, ""),
    "preamp_gain_db": (Severity.WEIGHS, "Input noise contributes differently."),
    "output_full_scale": (Severity.WEIGHS, "The same dBFS is a different generator voltage."),
    "input_full_scale": (Severity.WEIGHS, "Input noise contributes differently."),
    "load_confirmed": (Severity.MINOR, "One load was measured, the other entered."),
    "gain_setting": (Severity.WEIGHS, "The interface's gain settings differ."),
    "buffer": (Severity.MINOR, ""),
    "microphone_sensitivities": (Severity.WEIGHS, "Different microphones."),
    "calibrated_on": (Severity.MINOR, ""),
}
_NOT_SPECIFIED = "not specified"


def find_mismatches(ours: Evidence, theirs: Evidence, under_study: Iterable[str] = ()) -> list[Mismatch]:
    """Everything in which two runs differ but what is under study (conditions, or “unit”), worst first."""
    studied = set(under_study)
    found: list[Mismatch] = []
    if ours.procedure != theirs.procedure:
        found.append(Mismatch("procedure", ours.procedure, theirs.procedure, Severity.BLOCKS, "The procedures differ."))
    for name in dict.fromkeys([*ours.settings, *theirs.settings]):
        a, b = ours.settings.get(name), theirs.settings.get(name)
        if a != b and name not in studied:
            weight, why = _setting_weight(ours, name)
            ours_said, theirs_said = _setting_words(ours, name, a), _setting_words(theirs, name, b)
            found.append(
                Mismatch(name.replace("_", " "), ours_said, theirs_said, weight, why, _setting_label(ours, name))
            )
    found += [u for u in _chains(ours, theirs) if u.what not in studied]
    for name in dict.fromkeys([*ours.conditions, *theirs.conditions]):
        first, second = ours.conditions.get(name, _NOT_SPECIFIED), theirs.conditions.get(name, _NOT_SPECIFIED)
        if (
            first != second and name not in studied and name not in ("load", "rate", "probe", "buffer")
        ):  # those are the chain's
            found.append(Mismatch(name, first, second, Severity.WEIGHS, "More than one condition differs."))
    return sorted(found, key=lambda u: -u.weight)


def _chains(ours: Evidence, theirs: Evidence) -> list[Mismatch]:
    a, b = ours.chain, theirs.chain
    found = []
    if a.load_ohms != b.load_ohms:
        power = procedure(ours.procedure).measures_power
        found.append(
            Mismatch(
                "load",
                _ohms(a.load_ohms),
                _ohms(b.load_ohms),
                Severity.BLOCKS if power else Severity.WEIGHS,
                (
                    "Power into different loads cannot be compared."
                    if power
                    else "The lower load resistance is the heavier load."
                ),
            )
        )
    if a.rate != b.rate:
        top = max(_top(ours), _top(theirs))
        beyond = top > 0.47 * min(a.rate, b.rate)
        found.append(
            Mismatch(
                "rate",
                format_quantity(a.rate, "Hz", digits=4),
                format_quantity(b.rate, "Hz", digits=4),
                Severity.BLOCKS if beyond else Severity.MINOR,
                "The lower sample rate does not cover the compared band." if beyond else "",
            )
        )
    for name, (weight, why) in _CHAIN_RULES.items():
        first, second = getattr(a, name), getattr(b, name)
        if name == "device":
            first, second = interface_of(first), interface_of(second)
        if first != second:
            first_said, second_said = (value_in_words(Chain, name, v) or _NOT_SPECIFIED for v in (first, second))
            found.append(Mismatch(name.replace("_", " "), first_said, second_said, weight, why, label_of(Chain, name)))
    return found


def _setting_weight(of: Evidence, name: str) -> tuple[Severity, str]:
    effect = effect_of(procedure(of.procedure).Settings, name)
    if effect is None:
        return Severity.MINOR, ""
    return (Severity.BLOCKS if effect.blocks else Severity.WEIGHS), effect.why


def _setting_label(of: Evidence, name: str) -> str:
    return label_of(procedure(of.procedure).Settings, name)


def _setting_words(of: Evidence, name: str, value: object) -> str:
    return value_in_words(procedure(of.procedure).Settings, name, value) or _NOT_SPECIFIED


def _top(e: Evidence) -> float:
    """The highest frequency that a run's settings speak of."""
    model = procedure(e.procedure).Settings
    in_hertz = (
        e.settings[name] for name, field in model.model_fields.items() if unit_of(field) == "Hz" and name in e.settings
    )
    return max((float(value) for value in in_hertz if isinstance(value, int | float)), default=0.0)


def _ohms(value: float | None) -> str:
    if value is None:
        return "none"
    return format_quantity(value, "Ω", digits=3)
