"""``epidote loudness`` and ``epidote listen``: what is heard, in numbers, and what listening tests say."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say

app = typer.Typer(help="Listening tests: what their answers say.", no_args_is_help=True)


def loudness(
    files: Annotated[list[Path], typer.Argument(help="audio files")],
    as_json: Json = False,
) -> int:
    """Measure loudness (ITU-R BS.1770), loudness range (EBU Tech 3342) and true peak of audio files."""
    from epidote.audio.files.sound_file import read_sound
    from epidote.core.analysis.listening.loudness import measure_loudness

    found: list[dict[str, Any]] = []
    for file in files:
        signal = read_sound(file)
        measured = measure_loudness(signal.samples, signal.rate)
        found.append(
            {
                "file": str(file),
                "integrated": measured.integrated,
                "momentary_max": measured.momentary_max,
                "short_term_max": measured.short_term_max,
                "true_peak": measured.true_peak,
                "range": measured.range,
            }
        )
    if as_json:
        print_json(found[0] if len(found) == 1 else found)
        return 0
    for one in found:
        say(
            f"{one['file']}: {_shown(one['integrated'], 'LUFS')} integrated, {_shown(one['short_term_max'], 'LUFS')}"
            f" short-term at most, true peak {_shown(one['true_peak'], 'dB')}, range {_shown(one['range'], 'LU')}"
        )
    return 0


def _shown(value: float | None, unit: str) -> str:
    if value is None:
        return f"no {unit} (too short or too quiet)"
    return f"{value:.2f} {unit}"


@app.command("statistics")
def statistics(
    correct: Annotated[int, typer.Option(help="right answers")],
    trials: Annotated[int, typer.Option(help="trials")],
    as_json: Json = False,
) -> int:
    """Say what so many right answers of a forced choice mean: exact binomial test and Clopper-Pearson interval."""
    from epidote.core.analysis.listening.trials import judge_forced_choice

    judged = judge_forced_choice(correct, trials)
    if as_json:
        print_json(
            {
                "correct": correct,
                "trials": trials,
                "p": judged.p,
                "interval": list(judged.interval),
                "criterion": judged.criterion,
                "power": judged.power,
                "told_apart": judged.told_apart,
                "words": judged.words,
            }
        )
        return 0
    low, high = judged.interval
    say(judged.words)
    say(f"share of right answers: {100 * low:.0f} % to {100 * high:.0f} % (95 %)")
    return 0


@app.command("plan")
def plan(
    skill: Annotated[float, typer.Option(help="share of right answers of the listener that is to be found out")] = 0.8,
    certainty: Annotated[float, typer.Option(help="wished probability of finding that listener out")] = 0.8,
    as_json: Json = False,
) -> int:
    """Say how many trials a forced choice needs."""
    from epidote.core.analysis.listening.trials import least_right, trials_needed

    trials = trials_needed(skill, certainty)
    criterion = least_right(trials)
    if as_json:
        print_json({"trials": trials, "criterion": criterion, "skill": skill, "certainty": certainty})
        return 0
    say(f"{trials} trials; {criterion} right answers or more are needed for p < 0.05")
    return 0
