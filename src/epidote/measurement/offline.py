"""Runs that are played and recorded elsewhere: a procedure as a sound file for the unit's own player, and its
recording made a run.

The recording may begin anywhere, run on another clock and at another rate; the marks in the file put that right (see
core.analysis.clock).
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from epidote import __version__
from epidote.audio.files.sound_file import encode, read_material, read_sound, write_whole
from epidote.core.analysis.delay.clock_offset import MarkedRecording, marker_level_dbfs, to_player_clock, with_clock
from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.level_readings import level_readings
from epidote.core.results.result import Result
from epidote.core.settings import Settings, labelled, make_settings
from epidote.core.signals.recording import Recording, Section, beside_original
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.marked_sequence import MarkedSequence, build_marked_sequence
from epidote.core.stimuli.silence import silence
from epidote.core.stimuli.stepped_tones import KIND as STAIRCASE
from epidote.core.stimuli.stepped_tones import steps_of
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.processing import process
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.runner import store_run
from epidote.study.interchange.curve_text import AS_FOUND, TextOptions, read_text_curve
from epidote.study.models import RunSummary, Subject
from epidote.study.store import Study

_KINDS = {".wav": "WAV", ".flac": "FLAC"}  # of sound files that are written, by their ending


def offline_stimuli(key: str, settings: Settings, chain: Chain) -> list[Stimulus]:
    """Return what a procedure plays where nobody listens meanwhile. Raises SettingError when it plays nothing."""
    with labelled(type(settings)):
        stimuli: list[Stimulus] = procedure(key).plan(settings, chain)
    if not stimuli or not any(np.any(s.samples()) for s in stimuli):
        raise SettingError(f"“{procedure(key).title}” plays nothing, so there is no stimulus file to export.")
    return stimuli


def marked_file(key: str, settings: Settings, chain: Chain) -> MarkedSequence:
    """Return a procedure's stimuli between marks, as loud as the loudest of them."""
    return between_marks(offline_stimuli(key, settings, chain))


def between_marks(stimuli: Sequence[Stimulus]) -> MarkedSequence:
    """Stimuli between marks, as loud as the loudest of them, after bursts that show a player's own processing."""
    level = marker_level_dbfs(max(float(np.abs(s.samples()).max()) for s in stimuli))
    return build_marked_sequence(stimuli, level, probed=True)


def dithered(samples: Samples, bits: str) -> Samples:
    """Without dither 16 bits would put distortion of their own into a low tone: two steps of triangular noise."""
    if bits != "16":
        return samples
    rng = np.random.default_rng(1)
    return np.asarray(samples + (rng.random(samples.shape) - rng.random(samples.shape)) / 2**15)


def write_sound(path: Path, samples: Samples, rate: float, bits: str) -> None:
    """Write samples (frames,) or (frames, channels) as WAV, or FLAC by its ending.

    Raises SettingError for another ending and for bits it cannot hold, DiskError.
    """
    if not path.name:
        raise SettingError(f"“{path}” is not a file name. Nothing was written; enter a name.")
    kind = _KINDS.get(path.suffix.lower())
    if kind is None:
        raise SettingError(
            f"{path.name} does not end in {' or '.join(_KINDS)}. Nothing was written; use a name with one of these"
            " endings."
        )
    if kind == "FLAC" and bits == "32f":
        raise SettingError("FLAC cannot store 32-bit float. Use 24 bit, or a .wav file.")
    write_whole(path, encode(dithered(samples, bits).reshape(samples.shape[0], -1), rate, kind, bits))


def write_with_description(
    path: Path, samples: Samples, rate: float, bits: str, description: Mapping[str, Any]
) -> Path:
    """Return a sound file and, beside it, its description as JSON, whose path is returned. Raises the same."""
    write_sound(path, samples, rate, bits)
    description_file = path.with_suffix(".json")
    write_whole(description_file, (json.dumps(description, indent=1) + "\n").encode())
    return description_file


def describe(key: str, settings: Settings, file: MarkedSequence) -> dict[str, Any]:
    """Return what goes beside a marked file as JSON."""
    rate = file.rate
    schedule = [{"what": "mark", "start_s": file.first_mark / rate}]
    schedule += [{"what": s.kind, "start_s": at / rate} for s, at in zip(file.stimuli, file.starts, strict=True)]
    schedule.append({"what": "mark", "start_s": file.last_mark / rate})
    return {**_description(key, settings, file.stimuli[0]), "marked": file.to_json(), "schedule": schedule}


def describe_stimulus(key: str, settings: Settings, stimulus: Stimulus) -> dict[str, Any]:
    """Return what goes beside a single stimulus as JSON."""
    start, end = stimulus.parameters.get("lead", 0.0) / stimulus.rate, stimulus.frames / stimulus.rate
    schedule: list[dict[str, Any]] = [{"what": stimulus.kind, "start_s": start, "end_s": end}]
    if stimulus.kind == STAIRCASE:
        schedule += [
            {
                "what": "step",
                "start_s": s.first / stimulus.rate,
                "end_s": (s.first + s.frames) / stimulus.rate,
                "frequency_hz": s.frequency,
                "level_dbfs": s.level,
            }
            for s in steps_of(stimulus)
        ]
    return {**_description(key, settings, stimulus), "schedule": schedule}


def _description(key: str, settings: Settings, stimulus: Stimulus) -> dict[str, Any]:
    return {
        "epidote": __version__,
        "procedure": key,
        "settings": settings.model_dump(mode="json"),
        "rate": stimulus.rate,
        "stimulus": stimulus.to_json(),
    }


def import_marked_recording(study: Study, order: RunPlan, path: Path) -> RunSummary:
    """Make a recording of the order's marked file a run of its cell.

    Raises UnusableInputError; then nothing was kept.
    """
    return import_recording(study, order, path, marked_file(order.procedure, order.settings, order.chain))


def import_curve(study: Study, subject: Subject, path: Path, options: TextOptions = AS_FOUND) -> RunSummary:
    """Return a response curve measured elsewhere, from a text file, as a run of a row: readings are taken off it, but
    it has no recording.

        Raises UnusableInputError; then nothing was kept.
    """
    level, phase = read_text_curve(path, options)
    proc = procedure("response")
    overview = study.overview()
    column = next((c for c in overview.columns if c.procedure == "response"), None)
    settings = make_settings(proc.Settings, column.settings if column is not None else {})
    if column is None:
        column = add_column(study, "response", settings)
    result = Result((level,) if phase is None else (level, phase), level_readings(level, None), ())
    order = RunPlan(subject.id, column.id, "response", settings, chain_for_subject(study, subject))
    return store_run(study, order, f"imported curve: {path.name}", result, (), source=None)


def import_segment(study: Study, order: RunPlan, sections: Sequence[Section], words: str) -> RunSummary:
    """Make sections of recordings made elsewhere, of nothing that was played from here, a run of the order's cell; the
    recordings are kept as they came. ``words``: where they are from.

    Raises UnusableInputError; then nothing was kept.
    """
    here = replace(order, chain=order.chain.changed(rate=sections[0].signal.rate))
    result = process(study, here, [section.cut() for section in sections])
    return store_run(study, here, f"imported recording: {words}", result, sections, source=None)


def background_recording(key: str, signal: Signal) -> Recording:
    """Return a recording of the background alone, as a run keeps it: that of silence.

    Raises SettingError for a procedure that compares nothing with it.
    """
    proc = procedure(key)
    if not proc.takes_background:
        raise SettingError(f"“{proc.title}” does not use a recording of the background. Leave out the background.")
    return Recording(signal, silence(signal.rate, signal.frames / signal.rate))


def recording_of_original(key: str, signal: Signal, original: Path) -> Recording:
    """Return a recording beside the file that was played, brought to its rate.

    Raises SettingError for a procedure that compares nothing with it, UnusableInputError.
    """
    proc = procedure(key)
    if not proc.takes_original:
        raise SettingError(f"“{proc.title}” does not compare a recording with its original. Leave out the original.")
    return beside_original(signal, read_material(str(original), signal.rate))


def import_recording(
    study: Study,
    order: RunPlan,
    path: Path,
    played: Stimulus | MarkedSequence | None,
    background: Path | None = None,
) -> RunSummary:
    """Make a recording that was made elsewhere a run of the order's cell.

    played: what is in it, as its description says; None where nobody knows. background: a recording of the background
    alone. Raises UnusableInputError, SettingError; then nothing was kept.
    """
    signal = read_sound(path)
    kept: list[Recording | MarkedRecording]
    if isinstance(played, MarkedSequence):
        recordings, clock = to_player_clock(signal, played)
        clocks, kept = [clock], [MarkedRecording(signal, played)]
    else:
        recordings, clocks = [Recording(signal, played)], []
        kept = [*recordings]
    if background is not None:
        alone = background_recording(order.procedure, read_sound(background))
        recordings, kept = [alone, *recordings], [alone, *kept]
    here = replace(order, chain=order.chain.changed(rate=recordings[-1].signal.rate))
    result = process(study, here, recordings)
    if clocks:
        result = with_clock(result, clocks, signal.rate)
    return store_run(study, here, f"imported recording: {path.name}", result, kept, source=None)
