"""The one service that carries a run through: procedure, chain, device and study together, for desktop, demo and command line alike."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from epidote.audio.device import Cancelled, Device, Progress
from epidote.core.caution import Caution, unique
from epidote.core.chain import Chain, chain_from_toml
from epidote.core.errors import CancelledError, MeasurementError, SettingError
from epidote.core.procedures.base import Settings, analysis_settings, make_settings, procedure
from epidote.core.quantity import QuantityError, parse
from epidote.core.result import Result
from epidote.core.signal import Recording
from epidote.study.curves import thumbnail_points
from epidote.study.models import Column, ReadOnlyError, RunSummary, StudyError, Subject
from epidote.study.store import Study

_BYTES_PER_SAMPLE = 4
_SPARE_BYTES = 20 * 1024 * 1024


@dataclass(frozen=True)
class Order:
    """One run to carry out: which cell, with which settings, chain and device."""

    subject_id: int
    column_id: int
    procedure: str
    settings: Settings
    chain: Chain


def add_column(study: Study, key: str, settings: Settings) -> Column:
    """A column for a procedure with these settings; the one that is there already if there is one."""
    values = settings.model_dump(mode="json")
    for column in study.overview().columns:
        if column.procedure == key and dict(column.settings) == values:
            return column
    carried = procedure(key)
    return study.add_column(key, values, carried.title, carried.summary(settings))


def study_chain(study: Study, subject: Subject) -> Chain:
    """The chain that a row's new runs use: the study's own; for the baseline without probe and load, otherwise with the row's load."""
    chain = chain_from_toml(study.chain_toml) if study.chain_toml else Chain()
    if subject.is_baseline:
        return chain.wired()
    try:
        load = parse(subject.conditions["load"], "Ω")
    except (KeyError, QuantityError):
        return chain
    if load.unit != "Ω" or load.value <= 0 or load.value == chain.load_ohms:
        return chain
    return chain.model_copy(update={"load_ohms": load.value, "load_confirmed": False})


def never() -> bool:
    """A run that nobody cancels."""
    return False


def silent(share: float) -> None:
    """Progress that nobody watches."""


def play_and_record(
    key: str, settings: Settings, chain: Chain, device: Device, progress: Progress = silent, cancelled: Cancelled = never
) -> list[Recording]:
    """Conduct a procedure on a device. Raises what the device and the procedure raise; nothing is kept then."""
    carried = procedure(key)
    conduct = carried.conduct(settings, chain)
    expected = max(carried.duration(settings, chain), 1e-3)
    recordings: list[Recording] = []
    done = 0.0
    try:
        stimulus = next(conduct)
        while True:
            begun, share = done, stimulus.frames / stimulus.rate / expected
            recording = device.exchange(
                stimulus, ceiling_dbfs=chain.output_ceiling, cancelled=cancelled,
                progress=lambda part, b=begun, s=share: progress(min(1.0, b + part * s)),  # type: ignore[misc]
            )  # fmt: skip
            done += share
            recordings.append(recording)
            stimulus = conduct.send(recording)
    except StopIteration:
        pass
    if not recordings:
        raise MeasurementError(f"The procedure “{key}” played nothing. Nothing was kept.")
    return recordings


def analysed(key: str, recordings: Sequence[Recording], settings: Settings, chain: Chain) -> Result:
    """Analyse, and mark what the chain itself makes doubtful."""
    result: Result = procedure(key).analyse(recordings, settings, chain)
    if chain.load_ohms is not None and not chain.load_confirmed and chain.calibrated:
        return Result(result.curves, result.readings, unique((*result.cautions, Caution.LOAD_UNCONFIRMED)))
    return result


def measure(study: Study, order: Order, device: Device, progress: Progress = silent, cancelled: Cancelled = never) -> RunSummary:
    """Play, record, keep the recordings, analyse, keep the result. Raises EpidoteError; then nothing of the run is in the study."""
    if study.read_only:
        raise ReadOnlyError(f"{study.path.name} is open for reading only ({study.why_read_only}). Nothing was measured.")
    _require_room(study, order)
    recordings = play_and_record(order.procedure, order.settings, order.chain, device, progress, cancelled)
    result = analysed(order.procedure, recordings, order.settings, order.chain)
    if cancelled():
        raise CancelledError("Stopped; nothing of this run was kept.")
    return _kept(study, order, device.info.title, result, recordings, None)


def recompute(study: Study, run_id: int, changes: Mapping[str, Any]) -> RunSummary:
    """A new run from the kept recordings of another, with some settings changed; nothing is played."""
    old = study.run(run_id)
    model = procedure(old.procedure).Settings
    settings = make_settings(model, {**old.settings, **changes})
    before, free = make_settings(model, old.settings), analysis_settings(model)
    fixed = [n for n in model.model_fields if n not in free and getattr(settings, n) != getattr(before, n)]
    if fixed:
        raise SettingError(
            f"“{fixed[0]}” decided what was played, so it cannot be changed afterwards; measure again. Free to change: {', '.join(free)}."
        )
    chain = Chain.model_validate(old.chain)
    result = analysed(old.procedure, study.recordings(run_id), settings, chain)
    order = Order(old.subject_id, old.column_id, old.procedure, settings, chain)
    return _kept(study, order, old.device, result, (), old.recomputed_from or run_id)


def _kept(study: Study, order: Order, device: str, result: Result, recordings: Sequence[Recording], source: int | None) -> RunSummary:
    carried = procedure(order.procedure)
    headline = carried.headline(result)
    return study.add_run(
        order.subject_id, order.column_id, order.procedure, order.settings.model_dump(mode="json"), order.chain, device, result,
        {**headline.to_json(), "title": carried.reading_titles[headline.key]} if headline else None, thumbnail_points(carried.thumbnail(result)), recordings, source,
    )  # fmt: skip


def _require_room(study: Study, order: Order) -> None:
    seconds = procedure(order.procedure).duration(order.settings, order.chain)
    needed = math.ceil(seconds * order.chain.rate * 2 * _BYTES_PER_SAMPLE) + _SPARE_BYTES
    free = study.room_left()
    if free < needed:
        raise StudyError(
            f"The disk has {free / 1e6:.0f} MB left, this run needs about {needed / 1e6:.0f} MB. Nothing was played or changed; make room and measure again."
        )
