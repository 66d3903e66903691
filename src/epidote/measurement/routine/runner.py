"""A routine on a bench: one unit after the other, each a row of the study, each pass kept as it ends."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime

from epidote.audio.device import Cancelled
from epidote.core.chain.chain import Chain
from epidote.core.errors import CancelledError, MeasurementError, SettingError
from epidote.core.procedures.protocol import precheck_level
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.result import Result
from epidote.core.routine.checking import RoutineCheck, require_usable
from epidote.core.routine.model import MeasureStep, Routine, Step
from epidote.core.routine.text import digest_of
from epidote.core.routine.verdict import RoutineVerdict, together
from epidote.core.settings import Settings, make_settings
from epidote.core.text import visible
from epidote.measurement.chain_for_row import chain_for_subject, chain_of_study
from epidote.measurement.device_setup import needs_safe_start, not_cancelled, remember_safe_start
from epidote.measurement.processing import result_of_run
from epidote.measurement.request import add_column
from epidote.measurement.routine.bench import RoutineBench
from epidote.measurement.routine.dialogue import PassDialogue, UnattendedDialogue
from epidote.measurement.routine.one_pass import STOPPED, OnePass, PassContext, PlannedStep
from epidote.measurement.routine.outcome import StepOutcome
from epidote.measurement.routine.switching import commands_in_words
from epidote.measurement.service import SafeStart
from epidote.study.chain_settings import STUDY_CHAIN
from epidote.study.models import ReadOnlyError, Subject, Unit
from epidote.study.passes import RoutinePass
from epidote.study.store import Study

_LONGEST_SERIAL = 80


@dataclass(frozen=True)
class UnitRequest:
    """Which unit lies on the bench, and who measures it."""

    serial: str
    operator: str = ""
    shift: str = ""
    firmware: str = ""


@dataclass(frozen=True)
class PassReport:
    """A pass as it was kept, and the outcomes of its steps; gaps: s between the sound of two steps."""

    kept: RoutinePass
    outcomes: tuple[StepOutcome, ...]
    gaps: tuple[float, ...] = ()

    @property
    def verdict(self) -> RoutineVerdict:
        return RoutineVerdict(self.kept.verdict)


def require_serial(routine: Routine, text: str) -> str:
    """Return a serial number as it is kept. Raises SettingError for one that cannot be."""
    serial = " ".join(text.split())
    if not serial:
        raise SettingError("The serial number is empty. Nothing was measured; scan or enter one.")
    if len(serial) > _LONGEST_SERIAL:
        raise SettingError(
            f"The serial number has {len(serial)} characters; at most {_LONGEST_SERIAL} are kept. Nothing was measured;"
            " enter a shorter one, or scan it again."
        )
    if visible(serial) != serial:
        raise SettingError(
            f"The serial number “{visible(serial)}” holds control characters. Nothing was measured; scan it again, or"
            " enter it by hand."
        )
    if not routine.fits_serial(serial):
        raise SettingError(
            f"“{serial}” does not have the form of a serial number of this routine ({routine.serial_pattern}). Nothing"
            " was measured; scan it again, or correct the pattern."
        )
    return serial


@dataclass
class RoutineRunner:
    """device: its name, where it is not that of the chain. commands_allowed: whether the routine may run its
    commands. chain: instead of the study's.
    """

    study: Study
    routine: Routine
    device: str = ""
    chain: Chain | None = None
    seed: int = 0
    real_time: bool = False
    commands_allowed: bool = False
    bench: RoutineBench = field(init=False)
    _golden: dict[tuple[str, int], Result | None] = field(init=False, default_factory=dict)
    _columns: dict[int, int] = field(init=False, default_factory=dict)

    def __post_init__(self) -> None:
        if self.study.read_only:
            raise ReadOnlyError(
                f"{self.study.path.name} is read-only ({self.study.why_read_only}). Nothing was measured."
            )
        name = self.device or self._study_chain().device or self._device_of_last_pass()
        if not name:
            raise SettingError("No device is set. Nothing was measured; select one on the Chain page, or add --device.")
        self.bench = RoutineBench(name, seed=self.seed, real_time=self.real_time)

    def _device_of_last_pass(self) -> str:
        """Return the device of the row of this routine's last pass; "" before the first."""
        last = self.study.passes.last(self.routine.name, 1)
        subject = self.study.overview().subject(last[0].subject_id) if last else None
        return subject.device if subject is not None else ""

    def _study_chain(self) -> Chain:
        if self.chain is not None:
            return self.chain
        return chain_of_study({STUDY_CHAIN: self.study.chain_toml})

    def check(self) -> RoutineCheck:
        """Return the check of the whole routine. Raises SettingError with all that is wrong."""
        check = require_usable(self.routine, self._study_chain())
        if self.routine.commands and not self.commands_allowed:
            shown = "; ".join(commands_in_words(self.routine))
            raise SettingError(
                f"“{self.routine.name}” runs commands on this computer: {shown}. Nothing was measured; allow them if"
                " you trust them (--allow-commands), or remove these steps."
            )
        return check

    def run_unit(
        self,
        request: UnitRequest,
        dialogue: PassDialogue | None = None,
        cancelled: Cancelled = not_cancelled,
    ) -> PassReport:
        """Carry out one pass and keep it. Raises EpidoteError where it could not begin, or could not be kept."""
        talk = dialogue or UnattendedDialogue()
        serial = require_serial(self.routine, request.serial)
        self._golden.clear()  # the golden unit may have been measured again since the last pass
        begun = datetime.now(UTC)
        unit = self._unit(serial, request.firmware)
        planned = [self._planned(step, unit) for step in self.routine.step]
        first = planned[0]
        outcomes: list[StepOutcome] = []
        gaps: tuple[float, ...] = ()
        words, broken = "", False
        try:
            cautions, words = self._look(planned, serial, talk, cancelled)
            if words:
                broken = True
            else:
                context = PassContext(self.study, self.routine, self.bench, serial, talk, cancelled, cautions)
                one = OnePass(context, planned)
                try:
                    one.run()
                finally:
                    outcomes, words, gaps = one.outcomes, one.words, tuple(one.gaps)
        except CancelledError as error:
            broken, words = True, str(error) or STOPPED
        except MeasurementError as error:
            broken, words = True, str(error)
            self.bench.close()
        verdict = together(o.verdict for o in outcomes)
        if broken:
            verdict = RoutineVerdict.NOT_MEASURED
        kept = self.study.passes.add(
            RoutinePass(
                self.routine.name,
                digest_of(self.routine),
                first.subject.id,
                serial,
                begun,
                datetime.now(UTC),
                str(verdict),
                request.operator or self.study.person,
                request.shift,
                unit.firmware,
                words,
                tuple(outcome.to_json() for outcome in outcomes),
            )
        )
        return PassReport(kept, tuple(outcomes), gaps)

    def close(self) -> None:
        """Give the device back."""
        self.bench.close()

    # -- units, rows and columns ---------------------------------------------------------------------

    def _unit(self, serial: str, firmware: str) -> Unit:
        """Return the unit with a serial number; a new one where there is none."""
        maker, model = self.routine.maker, self.routine.model or self.routine.name
        unit = self.study.queries.unit_with(maker, model, serial)
        if unit is None:
            return self.study.add_unit(maker, model, serial, firmware)
        if firmware and firmware != unit.firmware:
            unit = replace(unit, firmware=firmware)
            self.study.update_unit(unit)
        return unit

    def _row(self, unit: Unit, conditions: Mapping[str, str]) -> Subject:
        row = self.study.row_of(unit, conditions)
        if row is None:
            row = self.study.add_subject(unit, conditions, self.bench.name)
        return row

    def _planned(self, step: Step, unit: Unit) -> PlannedStep:
        conditions = dict(self.routine.conditions)
        if not isinstance(step, MeasureStep):
            subject = self._row(unit, conditions)
            return PlannedStep(step, subject, self._chain_of(subject))
        subject = self._row(unit, {**conditions, **step.conditions})
        proc = procedure(step.procedure)
        settings: Settings = make_settings(proc.Settings, step.settings)
        column = self._column(step, settings)
        golden = {limit.golden: self._golden_result(limit.golden, column) for limit in step.limit if limit.golden}
        return PlannedStep(step, subject, self._chain_of(subject), settings, column, golden)

    def _chain_of(self, subject: Subject) -> Chain:
        if self.chain is not None:
            return self.chain.with_conditions(subject.conditions)
        return chain_for_subject(self.study, subject)

    def _column(self, step: MeasureStep, settings: Settings) -> int:
        """Return the column of a step, made where there is none."""
        number = id(step)
        if number not in self._columns:
            self._columns[number] = add_column(self.study, step.procedure, settings).id
        return self._columns[number]

    def _golden_result(self, name: str, column: int) -> Result | None:
        """Return the latest run of the row that a limit names, as a result; None where there is none."""
        if (name, column) not in self._golden:
            row = next((s for s in self.study.overview().subjects if name in _names_of(s)), None)
            run = self.study.queries.latest_run(row.id, column) if row is not None else None
            self._golden[name, column] = result_of_run(self.study, run) if run is not None else None
        return self._golden[name, column]

    # -- before the first step -----------------------------------------------------------------------

    def _look(
        self, planned: list[PlannedStep], serial: str, talk: PassDialogue, cancelled: Cancelled
    ) -> tuple[tuple[Caution, ...], str]:
        """Look at the connections, carefully where this chain drives a unit as none before.

        Returns what holds for every run, and why there can be none; "" where there can.
        """
        first = next(one for one in planned if isinstance(one.step, MeasureStep))
        level = min(precheck_level(p.settings, p.chain) for p in planned if p.settings is not None)
        careful = needs_safe_start(self.study, first.chain.changed(device=self.bench.name))
        if not careful and not self.routine.check_signal:
            return (), ""
        conditions = first.subject.conditions
        found = self.bench.look(first.chain, conditions, serial, level, careful=careful, stop=cancelled)
        wrong = [f for f in found.findings if f.stops or f.caution is Caution.WRONG_CHANNEL]
        if wrong:
            return (), " ".join(dict.fromkeys(f"Channel {f.channel}: {f.words}" for f in wrong))
        if careful:
            if not talk.confirm_start(SafeStart(first.chain.name, level, found)):
                return (), "Not measured at full level. Check the chain, and measure again."
            remember_safe_start(self.study, first.chain.changed(device=self.bench.name))
        return found.cautions, ""


def _names_of(subject: Subject) -> tuple[str, ...]:
    """Return what a limit may call a row: its name, or its unit's serial number."""
    if subject.unit is None:
        return ()
    return (subject.full_name, subject.unit.serial) if subject.unit.serial else (subject.full_name,)
