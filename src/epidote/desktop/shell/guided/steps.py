"""The steps of a first measurement: what each asks for, why, and whether it is done, as the study itself says."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from epidote.study.store import Study

SETTING = "guided"  # of the study: what was passed over or confirmed, and whether the guide is open


@dataclass(frozen=True)
class GuidedState:
    """What the study says of each step; passed: the steps that were confirmed or skipped by hand."""

    device: str = ""
    calibrated: bool = False
    baseline_runs: int = 0
    unit_rows: int = 0
    unit_runs: int = 0
    passed: frozenset[str] = field(default_factory=frozenset)
    open: bool = False

    def as_setting(self) -> str:
        return json.dumps({"open": self.open, "passed": sorted(self.passed)})

    def with_passed(self, key: str) -> GuidedState:
        return replace(self, passed=self.passed | {key})


def read_state(study: Study) -> GuidedState:
    """Return what a study says; called on the store's thread."""
    from epidote.core.chain.chain_toml import chain_from_toml

    chain, overview = chain_from_toml(study.chain_toml), study.overview()
    baselines = {s.id for s in overview.subjects if s.is_baseline}
    unit_rows = [s for s in overview.subjects if not s.is_baseline]
    is_open, passed = _kept(overview.settings.get(SETTING, ""))
    return GuidedState(
        device=chain.device,
        calibrated=chain.calibrated,
        baseline_runs=sum(1 for subject, _ in overview.runs if subject in baselines),
        unit_rows=len(unit_rows),
        unit_runs=sum(1 for subject, _ in overview.runs if subject not in baselines),
        passed=passed,
        open=is_open,
    )


def _kept(text: str) -> tuple[bool, frozenset[str]]:
    try:
        stored = json.loads(text or "{}")
        return bool(stored.get("open")), frozenset(str(key) for key in stored.get("passed", ()))
    except (ValueError, AttributeError, TypeError):
        return False, frozenset()


@dataclass(frozen=True)
class GuidedStep:
    """why: in one or two sentences. what: to do. action: words of its button and the name of what it does.

    done: whether the study shows it done. confirm: words of the button that confirms what a study cannot show; "" where
    it can.
    """

    key: str
    title: str
    why: str
    what: str
    action: tuple[str, str] | None
    done: Callable[[GuidedState], bool]
    confirm: str = ""
    can_skip: bool = False

    def is_over(self, state: GuidedState) -> bool:
        """Whether it is done, or was confirmed or skipped."""
        return self.done(state) or self.key in state.passed


STEPS = (
    GuidedStep(
        "device",
        "Device and channels",
        "Everything is played and recorded through one sound device. Which of its channels are used must be known"
        " before levels mean anything.",
        "In the block Source select the device; in Output and Input the channels. Press Start under Live level, and"
        " play or speak something: the curve and the levels show which inputs receive it.",
        ("Show source block", "chain source"),
        lambda state: bool(state.device),
    ),
    GuidedStep(
        "level",
        "Safe level",
        "No procedure and no generator goes above this level. It protects the unit, the load and your ears when"
        " something is connected wrongly.",
        "In the block Output, set the maximum output level. For an interface alone 0 dBFS is safe; with an amplifier"
        " begin at -20 dBFS. Turn monitors and headphones down.",
        ("Show output block", "chain output"),
        lambda state: False,
        confirm="Level is safe",
    ),
    GuidedStep(
        "loop",
        "Loop",
        "Output connected to input without a unit shows what the interface itself adds. Everything measured later is"
        " compared with it.",
        "Connect output 1 to input 1, and output 2 to input 2, with short cables. Then check the signal path: a quiet"
        " tone tells whether the channels are right and the level is steady.",
        ("Check signal path", "check path"),
        lambda state: False,
        confirm="Loop is connected",
    ),
    GuidedStep(
        "calibration",
        "Calibration",
        "With a voltmeter, levels are in volts and powers in watts. Without, all levels are in dBFS; ratios such as THD"
        " and frequency response are the same.",
        "In the block Output select Calibrate output with a voltmeter, then in the block Input calibrate the input from"
        " it. Skip this if you have no voltmeter now; it can be done later.",
        ("Show input block", "chain input"),
        lambda state: state.calibrated,
        can_skip=True,
    ),
    GuidedStep(
        "baseline",
        "Baseline",
        "The baseline is the loop, measured with the procedures of the matrix. Readings of a unit that are within 6 dB"
        " of it are marked: there the chain is the limit, not the unit.",
        "Leave the loop connected. Each column is measured once; add the baseline of other columns at any time.",
        ("Measure the loop", "measure loop"),
        lambda state: state.baseline_runs > 0,
        can_skip=True,
    ),
    GuidedStep(
        "unit",
        "First unit",
        "A row is one unit under the conditions that you name: gain, load, filter. To measure the interface itself, it"
        " is the unit, and the loop stays.",
        "Add a row with manufacturer and model. Then connect the unit between output and input, if it is another one.",
        ("Add row…", "add row"),
        lambda state: state.unit_rows > 0,
    ),
    GuidedStep(
        "result",
        "First result",
        "Two columns are there already: Response asks whether the unit is flat, Single tone how clean it is. The first"
        " run of a chain begins 40 dB down and asks before it goes on.",
        "Measure both cells of the row. Each shows its progress.",
        ("Measure first row", "measure first row"),
        lambda state: state.unit_runs > 0,
    ),
    GuidedStep(
        "reading",
        "Read and export",
        "The number in a cell is its main reading. Below are the curve and all readings; a mark ! leads to a sentence"
        " that says what weakens a number.",
        "Select both cells in turn, set a pin with a double click, and export a picture. Then add a second row, set the"
        " first as reference, and compare.",
        ("Export graph or data…", "export"),
        lambda state: False,
        confirm="Finish",
    ),
)


def first_open(state: GuidedState) -> GuidedStep | None:
    """Return the first step that is not over; None when all are."""
    return next((step for step in STEPS if not step.is_over(state)), None)
