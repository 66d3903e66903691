"""A forced-choice test with a sealed key: a folder of anonymous clips, an answer sheet, and a commitment.

The key and a nonce are kept in the study; their SHA-256 goes into the folder before anybody listens, so that nothing
can be changed afterwards without being noticed.
"""

from __future__ import annotations

import csv
import hashlib
import html
import io
import json
import secrets
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ConfigDict

from epidote.audio.files.sound_file import encode, read_bounded, write_whole
from epidote.core.analysis.listening.trials import ForcedChoice, judge_forced_choice
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure
from epidote.core.quantities.column_text import decoded
from epidote.core.settings import make_settings
from epidote.core.signals.recording import recorded_and_original
from epidote.core.signals.signal import Samples
from epidote.measurement.listening.clips import (
    Matched,
    aligned_samples,
    match_clips,
    require_matched,
)
from epidote.study.annotations import valid
from epidote.study.models import RunSummary, StudyError
from epidote.study.store import Study

TEST, ANSWERS = "listening test", "listening answers"
FORCED_CHOICE = "forced-choice"
ORIGINAL = "original"
LETTERS = ("A", "B")
_MOST_TRIALS, _MOST_SHEET = 100, 1_000_000
_SHEET, _COMMITMENT, _PAGE = "answers.csv", "commitment.txt", "listen.html"


class SealedTest(BaseModel):
    """A test as the study keeps it. letters: what each letter was; key: which letter each trial was; files: SHA-256 of
    each file of the folder by its name.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    number: str
    kind: str
    trials: int
    letters: dict[str, str]
    key: list[str]
    nonce: str
    commitment: str
    files: dict[str, str]
    matching: str
    overruled: str = ""
    made: str

    @property
    def commitment_kept(self) -> bool:
        """Whether key and nonce still give the commitment."""
        return commitment_of(self.letters, self.key, self.nonce) == self.commitment


class Sheet(BaseModel):
    """The answers of one listener: a letter for each trial."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    test: str
    listener: str
    answers: list[str]
    file: str = ""


class Revealed(BaseModel):
    """What a test says once its key is shown: all listeners together, and each apart."""

    model_config = ConfigDict(frozen=True, arbitrary_types_allowed=True)

    test: SealedTest
    together: Any
    apart: dict[str, Any]
    changed: tuple[str, ...]


def commitment_of(letters: dict[str, str], key: Sequence[str], nonce: str) -> str:
    """Return the SHA-256 of key and nonce, as it is written before the test."""
    text = json.dumps({"letters": letters, "key": list(key)}, sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(f"{nonce}\n{text}".encode()).hexdigest()


def clips_of_rows(study: Study, runs: Sequence[RunSummary], names: Sequence[str], *, with_original: bool) -> Matched:
    """Return matched clips of runs of programme, and of their original if wished. Raises EpidoteError."""
    raw: list[tuple[str, Samples, float, float]] = []
    rates = set()
    for run, name in zip(runs, names, strict=True):
        proc = procedure(run.procedure)
        if not proc.takes_original:
            raise SettingError(f"“{proc.title}” is no programme that can be heard. Select runs of “Programme”.")
        recording = study.acquired(run.id).recordings[0]
        settings = make_settings(proc.Settings, run.settings)
        rate = recording.signal.rate
        rates.add(rate)
        heard, originals = recorded_and_original(recording, lambda s=settings, r=rate: s.played(r))  # type: ignore[misc]
        recorded = heard.samples
        if with_original and not raw:
            raw.append((ORIGINAL, np.repeat(originals[:, :1], recorded.shape[1], axis=1), 0.0, 0.0))
        raw.append((name, *aligned_samples(recorded, originals, rate)))
    if len(rates) != 1:
        raise SettingError("The rows were measured at different sample rates. Measure them at the same rate first.")
    return match_clips(raw, rates.pop())


def seal_test(
    study: Study, matched: Matched, folder: Path, trials: int, *, strict: bool = False, overruled: str = ""
) -> SealedTest:
    """Write the folder of a forced-choice test of two clips and keep its key in the study. Raises EpidoteError; then
    nothing is kept.
    """
    if len(matched.clips) != 2:
        raise SettingError("A forced choice needs exactly two clips. Select two rows, or a row and the original.")
    if not 1 <= trials <= _MOST_TRIALS:
        raise SettingError(f"{trials} trials: use 1 to {_MOST_TRIALS}, set before the test begins.")
    require_matched(matched, strict=strict, overruled=overruled)
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UnusableInputError(f"{folder} is not an empty folder. Nothing was written; use another name.")
    chance = secrets.SystemRandom()
    clips = list(matched.clips)
    chance.shuffle(clips)
    letters = {letter: clip.name for letter, clip in zip(LETTERS, clips, strict=True)}
    key = [chance.choice(LETTERS) for _ in range(trials)]
    nonce = secrets.token_hex(32)
    sounds = dict(zip(LETTERS, (clip.samples for clip in clips), strict=True))
    rate = clips[0].rate
    folder.mkdir(parents=True, exist_ok=True)
    content = {f"{letter}.wav": _encoded(sounds[letter], rate) for letter in LETTERS}
    content |= {_trial_name(n): _encoded(sounds[letter], rate) for n, letter in enumerate(key, start=1)}
    number = secrets.token_hex(6)
    commitment = commitment_of(letters, key, nonce)
    content[_SHEET] = _empty_sheet(number, trials).encode()
    content[_COMMITMENT] = (
        f"{commitment}\nSHA-256 of the key of listening test {number}, made before anybody listened.\n".encode()
    )
    content[_PAGE] = _page(number, trials).encode()
    for name, data in content.items():
        write_whole(folder / name, data)
    # the sheet is filled in by the listener, so only the others must stay as they are
    files = {name: hashlib.sha256(data).hexdigest() for name, data in content.items() if name != _SHEET}
    test = SealedTest(
        number=number,
        kind=FORCED_CHOICE,
        trials=trials,
        letters=letters,
        key=key,
        nonce=nonce,
        commitment=commitment,
        files=files,
        matching=matched.words,
        overruled=overruled.strip(),
        made=datetime.now(UTC).isoformat(timespec="seconds"),
    )
    study.entries.add(TEST, test.model_dump(mode="json"), person=study.person)
    return test


def _trial_name(number: int) -> str:
    return f"trial-{number:02d}.wav"


def _encoded(samples: Samples, rate: float) -> bytes:
    """Return a 24-bit file whose dither is of its own, so that two files of one clip differ."""
    rng = np.random.default_rng(secrets.randbits(128))
    dither = (rng.random(samples.shape) - rng.random(samples.shape)) / 2**23
    return encode(samples + dither, rate, "WAV", "24")


def _empty_sheet(number: str, trials: int) -> str:
    lines = [f"# listening test {number}", "# listener: ", "trial,answer", *(f"{n}," for n in range(1, trials + 1))]
    return "\n".join(lines) + "\n"


def sealed_tests(study: Study) -> list[SealedTest]:
    """Return the sealed tests of a study, oldest first."""
    return [test for _, test in valid(study.entries.all(TEST), SealedTest)]


def sheets_of(study: Study, test: SealedTest) -> list[Sheet]:
    """Return the answers to a test."""
    return [sheet for _, sheet in valid(study.entries.all(ANSWERS), Sheet) if sheet.test == test.number]


def read_sheet(study: Study, path: Path) -> Sheet:
    """Return a filled-in answer sheet. Raises UnusableInputError, naming the lines, for one that does not fit."""
    text = decoded(read_bounded(path, _MOST_SHEET, "an answer sheet"))
    heads = [line[1:].strip() for line in text.splitlines() if line.startswith("#")]
    rows = [r for r in csv.reader(io.StringIO(text)) if r and not r[0].startswith("#")]
    number = next((h.removeprefix("listening test").strip() for h in heads if h.startswith("listening test")), "")
    test = next((t for t in sealed_tests(study) if t.number == number), None)
    if test is None:
        raise UnusableInputError(
            f"{path.name} is not an answer sheet of a test of this study. Nothing was kept; use the sheet that lies"
            " with the clips."
        )
    listener = next((h.removeprefix("listener:").strip() for h in heads if h.startswith("listener:")), "")
    answers: dict[int, str] = {}
    for row in rows:
        if row[0].strip().casefold() == "trial":
            continue
        trial, answer = row[0].strip(), (row[1].strip().upper() if len(row) > 1 else "")
        if not trial.isdecimal() or not 1 <= int(trial) <= test.trials:
            raise _wrong(path, f"trial “{trial}” is none of the {test.trials} trials")
        if int(trial) in answers:
            raise _wrong(path, f"trial {trial} is answered twice")
        if answer not in LETTERS:
            raise _wrong(path, f"trial {trial} has the answer “{answer}” instead of A or B")
        answers[int(trial)] = answer
    missing = [str(n) for n in range(1, test.trials + 1) if n not in answers]
    if missing:
        raise _wrong(path, f"trial {', '.join(missing[:5])} is not answered")
    named = listener or path.stem
    return Sheet(test=number, listener=named, answers=[answers[n] for n in sorted(answers)], file=path.name)


def _wrong(path: Path, what: str) -> UnusableInputError:
    return UnusableInputError(f"{path.name}: {what}. Nothing was kept; correct the sheet and hand it in again.")


def keep_answers(study: Study, paths: Sequence[Path]) -> list[Sheet]:
    """Keep the answers of several sheets: all of them or none. Raises UnusableInputError."""
    sheets = [read_sheet(study, path) for path in paths]
    for sheet in sheets:
        test = next(t for t in sealed_tests(study) if t.number == sheet.test)
        known = {s.listener for s in sheets_of(study, test)}
        if sheet.listener in known:
            raise UnusableInputError(
                f"{sheet.file}: the answers of “{sheet.listener}” are there already. Nothing was kept; enter another"
                " name in the sheet."
            )
    for sheet in sheets:
        study.entries.add(ANSWERS, sheet.model_dump(mode="json"), person=study.person)
    return sheets


def reveal_test(study: Study, number: str = "", folder: Path | None = None) -> Revealed:
    """Return what a test says, the last one where none is named. folder: whose files are compared with those that were
    handed out. Raises StudyError, SettingError.
    """
    tests = sealed_tests(study)
    test = next((t for t in reversed(tests) if number in ("", t.number)), None)
    if test is None:
        raise StudyError("There is no such listening test in this study. Make one first.")
    sheets = sheets_of(study, test)
    if not sheets:
        raise StudyError("No answers have come back yet, so nothing is revealed. Use “epidote listen answers” first.")

    def judged(those: Sequence[Sheet]) -> ForcedChoice:
        pairs = [(a, k) for s in those for a, k in zip(s.answers, test.key, strict=True)]
        return judge_forced_choice(sum(a == k for a, k in pairs), len(pairs))

    changed = _changed_files(test, folder) if folder is not None else ()
    return Revealed(
        test=test, together=judged(sheets), apart={s.listener: judged([s]) for s in sheets}, changed=changed
    )


def _changed_files(test: SealedTest, folder: Path) -> tuple[str, ...]:
    """Return the files of a folder that are missing or not as they were handed out."""

    def is_kept(name: str, digest: str) -> bool:
        file = folder / name
        return file.is_file() and hashlib.sha256(file.read_bytes()).hexdigest() == digest

    return tuple(name for name, digest in test.files.items() if not is_kept(name, digest))


def _page(number: str, trials: int) -> str:
    """Return the page that plays the clips and collects the answers, without a network."""
    rows = "\n".join(
        f'<tr><td>{n}</td><td><audio controls preload="none" src="{_trial_name(n)}"></audio></td>'
        + "".join(f'<td><label><input type="radio" name="t{n}" value="{x}"> {x}</label></td>' for x in LETTERS)
        + "</tr>"
        for n in range(1, trials + 1)
    )
    clips = "".join(f'<p>{x} <audio controls src="{x}.wav"></audio></p>' for x in LETTERS)
    title = html.escape(f"Listening test {number}")
    return f"""<!doctype html>
<html lang="en"><meta charset="utf-8"><title>{title}</title>
<style>body{{font:16px sans-serif;max-width:46em;margin:2em auto}}td{{padding:.2em .6em}}</style>
<h1>{title}</h1>
<p>Listen to A and B as often as you like. Each trial is one of the two: say which. Answer every trial, also where you
are not sure. Then save the answers and send the file back.</p>
{clips}
<p><label>Your name <input id="who"></label></p>
<table>{rows}</table>
<p><button onclick="save()">Save answers</button> <span id="said"></span></p>
<script>
function save() {{
  let out = "# listening test {number}\\n# listener: " + document.getElementById("who").value + "\\ntrial,answer\\n";
  let open = [];
  for (let n = 1; n <= {trials}; n++) {{
    const picked = document.querySelector("input[name=t" + n + "]:checked");
    if (picked) out += n + "," + picked.value + "\\n"; else open.push(n);
  }}
  if (open.length) {{ document.getElementById("said").textContent = "Not answered: " + open.join(", "); return; }}
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([out], {{type: "text/csv"}}));
  link.download = "answers.csv";
  link.click();
}}
</script></html>
"""
