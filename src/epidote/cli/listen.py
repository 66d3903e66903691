"""``epidote loudness`` and ``epidote listen``: what is heard, in numbers, and what listening tests say."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from epidote.cli.analyse import Json
from epidote.cli.common import print_json, say
from epidote.cli.study import PathArgument, find_subject

app = typer.Typer(help="Create, answer and evaluate sealed (blind) listening tests.", no_args_is_help=True)


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
    correct: Annotated[int, typer.Option(help="number of correct answers")],
    trials: Annotated[int, typer.Option(help="trials")],
    as_json: Json = False,
) -> int:
    """Evaluate a forced-choice result: exact binomial test and Clopper-Pearson interval."""
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
    say(f"proportion of correct answers: {100 * low:.0f} % to {100 * high:.0f} % (95 %)")
    return 0


@app.command("plan")
def plan(
    skill: Annotated[float, typer.Option(help="proportion of correct answers of a listener to be detected")] = 0.8,
    certainty: Annotated[float, typer.Option(help="required probability of detecting that listener (power)")] = 0.8,
    as_json: Json = False,
) -> int:
    """Calculate the number of trials for a forced-choice test."""
    from epidote.core.analysis.listening.trials import least_right, trials_needed

    trials = trials_needed(skill, certainty)
    criterion = least_right(trials)
    if as_json:
        print_json({"trials": trials, "criterion": criterion, "skill": skill, "certainty": certainty})
        return 0
    say(f"{trials} trials; {criterion} or more correct answers are needed for p < 0.05")
    return 0


@app.command("new")
def new(
    path: PathArgument,
    rows: Annotated[
        list[str], typer.Option(help="row, as printed by “epidote study show”; “original” for the original")
    ],
    seal: Annotated[
        Path,
        typer.Option(help="folder, or .zip file, for the anonymous clips and the answer sheet; it must not exist"),
    ],
    kind: Annotated[str, typer.Option(help="kind of test: forced-choice, grading or preference")] = "forced-choice",
    scale: Annotated[str, typer.Option(help="scale of grades: quality (BS.1534) or impairment (BS.1116)")] = "quality",
    *,
    trials: Annotated[int, typer.Option(help="number of trials, fixed before the test; 0: default of the type")] = 0,
    control: Annotated[bool, typer.Option("--control", help="control test: the first row as both A and B")] = False,
    strict: Annotated[
        bool, typer.Option("--strict", help="require level matching within 0.1 dB instead of 0.5 dB")
    ] = False,
    overrule: Annotated[str, typer.Option(help="reason for accepting unequal levels; saved with the result")] = "",
    as_json: Json = False,
) -> int:
    """Create a sealed listening test from measured rows, or from a row and the original."""
    from epidote.core.errors import SettingError
    from epidote.measurement.listening.clips import ORIGINAL, align_run, clips_of_runs
    from epidote.measurement.listening.kinds import SCALES, ListeningDesign, kind_named
    from epidote.measurement.listening.package import seal_test
    from epidote.study.store import Study

    chosen = kind_named(kind)
    if scale not in SCALES:
        raise SettingError(f"“{scale}” is not a scale of grades. Available: {', '.join(SCALES)}.")
    with Study(path) as study:
        named = [name for name in rows if name.casefold() != ORIGINAL]
        if control:
            named = [*named[:1], *named[:1]]
        subjects = [find_subject(study, name) for name in named]
        if not subjects:
            raise SettingError("A listening test needs at least one measured row. Name it with --rows.")
        runs = [_programme_run(study, subject) for subject in subjects]
        aligned = {run.id: align_run(study, run) for run in runs}
        parts = [(s.full_name, run.id, aligned[run.id]) for s, run in zip(subjects, runs, strict=True)]
        with_original = chosen.needs_original or (not control and len(named) < len(rows))
        matched = clips_of_runs(parts, original=with_original, anchor=chosen.anchored)
        design = ListeningDesign(chosen.key, trials or chosen.usual_trials, scale, strict, overrule)
        test = seal_test(study, matched, seal, design)
    if as_json:
        print_json(
            {
                "test": test.number,
                "kind": test.kind,
                "trials": test.trials,
                "commitment": test.commitment,
                "matching": test.matching,
                "difference_db": matched.difference,
                "folder": str(seal),
            }
        )
        return 0
    say(f"{seal}: test {test.number}, {test.trials} trials; {test.matching}")
    say(f"commitment {test.commitment}")
    return 0


def _programme_run(study: Any, subject: Any) -> Any:
    """Return the latest run of a row that can be heard beside its original. Raises SettingError."""
    from epidote.core.errors import SettingError
    from epidote.core.procedures.registry import procedure

    heard = [r for r in study.overview().runs_of_row(subject.id) if procedure(r.procedure).takes_original]
    if not heard:
        raise SettingError(f"{subject.full_name} has no run of “Programme material”. Measure it first.")
    return max(heard, key=lambda r: r.made)


@app.command("answers")
def answers(
    path: PathArgument,
    files: Annotated[list[Path], typer.Argument(help="completed answer sheets (.csv)")],
    as_json: Json = False,
) -> int:
    """Import answer sheets of sealed tests; results stay hidden until the test is revealed."""
    from epidote.measurement.listening.answers import keep_answers
    from epidote.study.store import Study

    with Study(path) as study:
        sheets = keep_answers(study, files)
    if as_json:
        print_json([{"test": s.test, "listener": s.listener, "trials": len(s.answers)} for s in sheets])
        return 0
    for sheet in sheets:
        say(f"{sheet.file}: {len(sheet.answers)} answers of {sheet.listener} imported")
    return 0


@app.command("reveal")
def reveal(
    path: PathArgument,
    test: Annotated[str, typer.Option(help="number of the test [default: the last one]")] = "",
    folder: Annotated[Path | None, typer.Option(help="exported folder or .zip file, to verify its files")] = None,
    as_json: Json = False,
) -> int:
    """Reveal a sealed test: show its answer key, verify the commitment and evaluate the answers."""
    from epidote.measurement.listening.answers import identical_words, reveal_test
    from epidote.study.store import Study

    with Study(path) as study:
        found = reveal_test(study, test, folder)
    kept = found.test.commitment_kept
    if as_json:
        print_json(
            {
                "test": found.test.number,
                "kind": found.test.kind,
                "letters": found.test.letters,
                "key": found.test.key,
                **found.together.figures,
                "words": list(found.together.words),
                "commitment": found.test.commitment,
                "commitment_kept": kept and not found.changed,
                "changed_files": list(found.changed),
                "identical_answers": [list(names) for names in found.identical],
                "matching": found.test.matching,
                "overruled": found.test.overruled,
                "listeners": {name: {**one.figures, "words": list(one.words)} for name, one in found.apart.items()},
            }
        )
        return 0
    for letter, name in found.test.letters.items():
        say(f"{letter} was {name}")
    for words in found.together.words:
        say(f"all listeners: {words}")
    for name, one in found.apart.items():
        for words in one.words:
            say(f"{name}: {words}")
    said = "kept" if kept else "INVALID: the key or the random number was changed"
    say(f"commitment {said}; {found.test.matching}")
    for name in found.changed:
        say(f"changed or missing: {name}")
    for words in identical_words(found.identical):
        say(words)
    return 0
