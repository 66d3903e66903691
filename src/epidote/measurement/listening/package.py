"""The files of a sealed test: anonymous clips, an answer sheet, a page that plays and collects, and the commitment."""

from __future__ import annotations

import hashlib
import html
import io
import json
import secrets
import zipfile
from pathlib import Path

import numpy as np

from epidote.audio.files.sound_file import encode, write_whole
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.signals.signal import Samples
from epidote.measurement.listening.clips import Matched
from epidote.measurement.listening.kinds import SCALES, UNKNOWN, ListeningDesign, Target
from epidote.measurement.listening.sealed_test import NewTest, SealedTest, draw_test, keep_test
from epidote.study.models import StudyError
from epidote.study.store import Study

SHEET, COMMITMENT, PAGE = "answers.csv", "commitment.txt", "listen.html"


def seal_test(study: Study, matched: Matched, target: Path, design: ListeningDesign) -> SealedTest:
    """Write the files of a test, a folder or a .zip file, and keep its key in the study. Raises EpidoteError; then
    nothing is kept.
    """
    if study.read_only:
        raise StudyError(
            f"The study is read-only ({study.why_read_only}), so the answer key cannot be saved. Use a copy of"
            " the study."
        )
    drawn = draw_test(matched, design)
    if not drawn.test.test_kind.answered:
        raise SettingError("Free listening has no questions and cannot be exported. Use another type of test.")
    if target.exists() and (not target.is_dir() or any(target.iterdir())):
        raise UnusableInputError(
            f"{target} is there already and not an empty folder. Nothing was written; use another name."
        )
    content, digests = files_of(drawn)
    write_files(target, content)
    test = drawn.test.model_copy(update={"files": digests})
    keep_test(study, test)
    return test


def files_of(drawn: NewTest) -> tuple[dict[str, bytes], dict[str, str]]:
    """Return the content of each file by its name, and the SHA-256 of those that must stay as they are."""
    test = drawn.test
    content: dict[str, bytes] = {}
    for trial in range(1, test.trials + 1):
        for target in test.targets(trial):
            name = _clip_name(trial, target)
            if name not in content:
                content[name] = _encoded(drawn.sounds[target.code], drawn.rate)
    content[SHEET] = _empty_sheet(test).encode()
    content[COMMITMENT] = (
        f"{test.commitment}\nSHA-256 of the key of listening test {test.number}, made before anybody listened.\n"
    ).encode()
    content[PAGE] = _page(test).encode()
    # the sheet is filled in by the listener, so only the others must stay as they are
    digests = {name: hashlib.sha256(data).hexdigest() for name, data in content.items() if name != SHEET}
    return content, digests


def write_files(target: Path, content: dict[str, bytes]) -> None:
    """Write a folder, or one .zip file. Raises UnusableInputError where that fails."""
    if target.suffix.lower() == ".zip":
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            for name, data in content.items():
                archive.writestr(name, data)
        write_whole(target, packed.getvalue())
        return
    target.mkdir(parents=True, exist_ok=True)
    written: list[Path] = []
    try:
        for name, data in content.items():
            write_whole(target / name, data)
            written.append(target / name)
    except (UnusableInputError, OSError):
        # a part of a test is none: nothing of it stays
        for file in written:
            file.unlink(missing_ok=True)
        raise


def changed_files(test: SealedTest, target: Path) -> tuple[str, ...]:
    """Return the files of a folder or .zip file that are missing or not as they were handed out."""
    if target.is_file():
        try:
            with zipfile.ZipFile(target) as archive:
                there = set(archive.namelist())
                return tuple(
                    n
                    for n, d in test.files.items()
                    if n not in there or hashlib.sha256(archive.read(n)).hexdigest() != d
                )
        except (zipfile.BadZipFile, OSError):
            return tuple(test.files)

    def is_kept(name: str, digest: str) -> bool:
        file = target / name
        return file.is_file() and hashlib.sha256(file.read_bytes()).hexdigest() == digest

    return tuple(name for name, digest in test.files.items() if not is_kept(name, digest))


def _clip_name(trial: int, target: Target) -> str:
    """Return the file of what a trial plays; what is the same in all trials has one file."""
    if target.fixed:
        return f"{target.label}.wav"
    if target.label == UNKNOWN:
        return f"trial-{trial:02d}.wav"
    return f"trial-{trial:02d}-{target.label}.wav"


def _encoded(samples: Samples, rate: float) -> bytes:
    """Return a 24-bit file whose dither is of its own, so that two files of one clip differ."""
    rng = np.random.default_rng(secrets.randbits(128))
    dither = (rng.random(samples.shape) - rng.random(samples.shape)) / 2**23
    return encode(samples + dither, rate, "WAV", "24")


def _empty_sheet(test: SealedTest) -> str:
    columns = test.test_kind.columns(len(test.letters))
    empty = "," * len(columns)
    lines = [f"# listening test {test.number}", "# listener: ", ",".join(("trial", *columns))]
    lines += [f"{n}{empty}" for n in range(1, test.trials + 1)]
    return "\n".join(lines) + "\n"


def _page(test: SealedTest) -> str:
    """Return the page that plays the clips and collects the answers, without a network."""
    kind = test.test_kind
    count = len(test.letters)
    fixed = "".join(
        f'<p>{html.escape(t.label)} <audio controls src="{_clip_name(1, t)}"></audio></p>'
        for t in test.targets(1)
        if t.fixed
    )
    rows = "\n".join(_page_row(test, trial) for trial in range(1, test.trials + 1))
    scale = ""
    if kind.scaled:
        marks = "; ".join(f"{value:g} {words}" for value, words in SCALES[test.scale].marks)
        scale = f"<p>{html.escape(SCALES[test.scale].title)}: {html.escape(marks)}.</p>"
    title = html.escape(f"Listening test {test.number}")
    columns = json.dumps(list(kind.columns(count)))
    return f"""<!doctype html>
<html lang="en"><meta charset="utf-8"><title>{title}</title>
<style>body{{font:16px sans-serif;max-width:52em;margin:2em auto}}td{{padding:.2em .6em;vertical-align:top}}</style>
<h1>{title}</h1>
<p>{html.escape(kind.question)} Listen as often as you like. Answer every trial, also where you are not sure. Then save
the answers and send the file back.</p>
{scale}{fixed}
<p><label>Your name <input id="who"></label></p>
<table>{rows}</table>
<p><button onclick="save()">Save answers</button> <span id="said"></span></p>
<script>
const columns = {columns};
function cellOf(n, column) {{
  const picked = document.querySelector("input[name=t" + n + "]:checked");
  if (picked) return picked.value;
  const field = document.querySelector("input[name=t" + n + column + "]");
  return field ? field.value : "";
}}
function save() {{
  let out = "# listening test {test.number}\\n# listener: " + document.getElementById("who").value + "\\n";
  out += "trial," + columns.join(",") + "\\n";
  let open = [];
  for (let n = 1; n <= {test.trials}; n++) {{
    const cells = columns.map(column => cellOf(n, column));
    if (cells.every(cell => cell !== "")) out += n + "," + cells.join(",") + "\\n"; else open.push(n);
  }}
  if (open.length) {{ document.getElementById("said").textContent = "Not answered: " + open.join(", "); return; }}
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([out], {{type: "text/csv"}}));
  link.download = "answers.csv";
  link.click();
}}
</script></html>
"""


def _page_row(test: SealedTest, trial: int) -> str:
    """Return the line of a trial: what it plays, and what is answered."""
    kind = test.test_kind
    count = len(test.letters)
    players = "".join(
        f'<td>{html.escape(t.label)}<br><audio controls preload="none" src="{_clip_name(trial, t)}"></audio>'
        f"{_grade(test, trial, t.label)}</td>"
        for t in test.targets(trial)
        if not t.fixed
    )
    choices = ""
    if not kind.scaled:
        choices = "".join(
            f'<td><label><input type="radio" name="t{trial}" value="{x}"> {x}</label></td>'
            for x in kind.answer_labels(count)
        )
    return f"<tr><td>{trial}</td>{players}{choices}</tr>"


def _grade(test: SealedTest, trial: int, label: str) -> str:
    if not test.test_kind.scaled:
        return ""
    scale = SCALES[test.scale]
    step = 10**-scale.decimals
    return (
        f'<br><input type="number" name="t{trial}{label}" min="{scale.low:g}" max="{scale.high:g}" step="{step:g}"'
        ' placeholder="grade">'
    )
