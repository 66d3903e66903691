"""``stimulus`` writes what is to be played; ``analyse`` makes readings and curves of any recording."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from epidote.cli.common import parsed_settings, print_json, print_result, read_chain, say, warn
from epidote.core.errors import SettingError, UnusableInputError

if TYPE_CHECKING:
    from epidote.core.results.result import Result
    from epidote.core.signals.recording import Recording

_LONGEST = 1e7  # s

Set = Annotated[
    list[str], typer.Option("--set", help="set name=value; may be repeated; “epidote procedures” lists the settings")
]
Json = Annotated[bool, typer.Option("--json", help="print one JSON object")]


class Bits(StrEnum):
    """Sample formats of an exported stimulus file."""

    SIXTEEN = "16"
    TWENTYFOUR = "24"
    FLOAT = "32f"


def stimulus(
    procedure: Annotated[str, typer.Argument(help="procedure, e.g. response or tone; “epidote procedures” lists all")],
    out: Annotated[
        Path, typer.Argument(help="audio file to write (.wav or .flac); a description is written beside it as .json")
    ],
    rate: Annotated[float, typer.Option(help="sample rate in Hz")] = 48000,
    level: Annotated[float | None, typer.Option(help="generator level in dBFS")] = None,
    marked: Annotated[
        bool,
        typer.Option("--marked", help="add sync markers, for playback and recording on devices with their own clock"),
    ] = False,
    *,
    command: Annotated[
        Path | None,
        typer.Option(help="recording of the command that makes the unit play the file; “measure --command” plays it"),
    ] = None,
    bits: Annotated[Bits, typer.Option(help="sample format")] = Bits.TWENTYFOUR,
    set_: Set = [],
    as_json: Json = False,
) -> int:
    """Write the stimulus of a procedure as an audio file with a description."""
    from epidote.core.chain.chain import Chain
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.settings import make_settings
    from epidote.measurement.offline import (
        between_marks,
        describe,
        describe_stimulus,
        offline_stimuli,
        write_with_description,
    )

    proc = find(procedure)
    values = parsed_settings(proc.Settings, set_)
    if level is not None:
        values["level"] = level
    settings = make_settings(proc.Settings, values)
    if not 8000 <= rate <= 384000:
        raise SettingError(f"The rate {rate:g} Hz is out of range: 8000 to 384000 Hz.")
    stimuli = offline_stimuli(procedure, settings, Chain(rate=rate))
    # a unit that plays by itself has a clock of its own
    if marked or command is not None or any(s != stimuli[0] for s in stimuli):
        file = between_marks(stimuli)
        samples, description = file.samples(), describe(procedure, settings, file)
        words = "with sync markers. Analyse a recording of it with --stimulus {}."
    else:
        samples, description = stimuli[0].by_output(), describe_stimulus(procedure, settings, stimuli[0])
        words = f"{bits.value} bit. Analyse a recording of it with --stimulus {{}}."
    if command is not None:
        description = {**description, "command": _command(command, out, rate, bits.value)}
    description_file = write_with_description(out, samples, rate, bits.value, description)
    if as_json:
        print_json({**description, "file": str(out)})
    else:
        say(f"{out}: {samples.shape[0] / rate:.2f} s at {rate:g} Hz, {words.format(description_file.name)}")
    return 0


def _command(clip: Path, out: Path, rate: float, bits: str) -> dict[str, Any]:
    """Write a command clip at the stimulus' rate beside its file; return what the description says of it."""
    from epidote.measurement.commanded import command_samples
    from epidote.measurement.offline import write_sound

    samples = command_samples(clip, rate)
    beside = out.with_name(f"{out.stem} command{out.suffix}")
    write_sound(beside, samples, rate, bits)
    return {"file": beside.name, "from": clip.name, "seconds": samples.size / rate}


def analyse(
    procedure: Annotated[str, typer.Argument(help="procedure, e.g. response or tone; “epidote procedures” lists all")],
    recordings: Annotated[
        list[Path], typer.Argument(help="audio files; several recordings are averaged where the procedure supports it")
    ],
    stimulus: Annotated[Path | None, typer.Option(help="description (.json) written by “epidote stimulus”")] = None,
    set_: Set = [],
    chain: Annotated[Path | None, typer.Option(help="chain file (.toml), for levels in volts instead of dBFS")] = None,
    *,
    baseline: Annotated[
        Path | None,
        typer.Option(help="loopback recording of the chain with the same stimulus; corrected for, or used as floor"),
    ] = None,
    background: Annotated[
        Path | None,
        typer.Option(help="recording of the background alone, for procedures that compare the level with it"),
    ] = None,
    original: Annotated[
        Path | None, typer.Option(help="what was played, for procedures that compare a recording with it")
    ] = None,
    channel: Annotated[list[int], typer.Option(help="analyse only this channel (from 1); may be repeated")] = [],
    track: Annotated[int, typer.Option(help="track of a multi-track file (from 1); “paths” uses all", min=1)] = 1,
    first: Annotated[
        float, typer.Option("--from", help="start of the section to analyse, in s", min=0, max=_LONGEST)
    ] = 0.0,
    last: Annotated[
        float | None, typer.Option("--to", help="end of the section to analyse, in s", min=0, max=_LONGEST)
    ] = None,
    as_json: Json = False,
) -> int:
    """Analyse recordings; readings are given per channel."""
    from epidote.audio.files.sound_file import read_tracks
    from epidote.core.analysis.delay.clock_offset import ClockOffset, to_player_clock, with_clock
    from epidote.core.comparison.baseline import against_baseline
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.results.caution import Caution
    from epidote.core.settings import make_settings
    from epidote.core.signals.recording import Recording
    from epidote.measurement.offline import background_recording, recording_of_original
    from epidote.measurement.processing import analyse
    from epidote.measurement.stimulus_description import read_description

    proc = find(procedure)
    told = read_description(stimulus)
    stated, played, marks = told.settings, told.stimulus, told.marks
    settings = make_settings(proc.Settings, {**stated, **parsed_settings(proc.Settings, set_)})

    def read(path: Path) -> list[Recording]:
        signal = _signal_of(read_tracks(path, first, last), path.name, track, channel)
        if original is not None:
            return [recording_of_original(procedure, signal, original)]
        if marks is None:
            return [Recording(signal, played)]
        parts, clock = to_player_clock(signal, marks)
        clocks.append(clock)
        return parts

    if marks is None and not channel and baseline is None and original is None:
        streamed = _streamed(proc, recordings, settings, first, last)
        if streamed is not None:
            rate, result = streamed
            _say_result(procedure, rate, settings, result, as_json=as_json)
            return 0
    clocks: list[ClockOffset] = []
    captured = [recording for path in recordings for recording in read(path)]
    if background is not None:
        quiet = _signal_of(read_tracks(background), background.name, track, channel)
        captured.insert(0, background_recording(procedure, quiet))
    path_chain = read_chain(chain, rate=captured[0].signal.rate).changed(rate=captured[0].signal.rate)
    result = analyse(procedure, captured, settings, path_chain)
    if baseline is not None:
        baseline_free_clocks = list(clocks)
        result = against_baseline(result, analyse(procedure, read(baseline), settings, path_chain))
        clocks[:] = baseline_free_clocks
    if clocks:
        result = with_clock(result, clocks, path_chain.rate)
    result = _numbered(result, channel)
    _say_result(procedure, captured[0].signal.rate, settings, result, as_json=as_json)
    if Caution.STIMULUS_NOT_FOUND in result.cautions and not result.curves:
        warn(
            f"{', '.join(p.name for p in recordings)}: the stimulus of “{procedure}” was not found in the recording; no"
            " readings. Check that it is the right file and that the stimulus was recorded at a sufficient level."
        )
        return 3
    return 0


def _numbered(result: Result, channels: list[int]) -> Result:
    """Return a result of some channels of a file with their numbers in it; as it is where all were analysed."""
    if not channels:
        return result
    names = dict(enumerate(channels, start=1))
    return replace(
        result,
        curves=tuple(replace(c, channel=names[c.channel]) for c in result.curves),
        readings=tuple(replace(r, channel=names[r.channel]) for r in result.readings),
    )


def _signal_of(tracks: Sequence[Any], name: str, number: int, channels: list[int]) -> Any:
    """Return the channels asked for of a track, both from 1; all channels where none is. Raises UnusableInputError."""
    from epidote.core.signals.signal import Signal

    if number > len(tracks):
        raise UnusableInputError(
            f"Track {number} does not exist; tracks of {name}: {len(tracks)}. Nothing was computed."
        )
    signal = tracks[number - 1].signal
    if any(not 1 <= c <= signal.channels for c in channels):
        raise UnusableInputError(
            f"Channel {max(channels)} does not exist; channels of {name}: {signal.channels}. Nothing was computed."
        )
    if not channels:
        return Signal(signal.samples, signal.rate)
    return Signal(signal.samples[:, [c - 1 for c in channels]], signal.rate)


def _streamed(
    procedure: Any, files: list[Path], settings: Any, first: float, last: float | None
) -> tuple[float, Any] | None:
    """Rate and result of every channel of every track of all files, read piece by piece.

    None for a procedure that takes recordings whole.
    """
    from contextlib import ExitStack

    from epidote.audio.files.streams import SoundStream

    if not procedure.reads_sources:
        return None
    with ExitStack() as stack:
        streams = [stack.enter_context(SoundStream(path, first, last)) for path in files]
        tracks = [track for stream in streams for track in stream.tracks]
        sources = [track.channel(number) for track in tracks for number in range(1, track.channels + 1)]
        result = procedure.analyse_sources(sources, settings)
        for stream in streams:
            stream.require_still()
    return sources[0].rate, result


def _say_result(procedure: str, rate: float, settings: Any, result: Any, *, as_json: bool) -> None:
    from epidote.core.procedures.registry import procedure as find
    from epidote.core.procedures.registry import reading_titles

    if as_json:
        print_json(
            {
                "procedure": procedure,
                "rate": rate,
                "settings": settings.model_dump(mode="json"),
                "cautions": [str(c) for c in result.cautions],
                "readings": [r.to_json() for r in result.readings],
                "curves": [c.to_json() for c in result.curves],
                **find(procedure).details(result),
            }
        )
    else:
        print_result(result, reading_titles(find(procedure)))
