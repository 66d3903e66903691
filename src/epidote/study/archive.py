"""A whole study as one zip file, and as one JSON document."""

from __future__ import annotations

import sqlite3
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from epidote.study.models import Overview, RunSummary, StudyError
from epidote.study.store import DATABASE, SUFFIX, Study

Progress = Callable[[float], None]


def zip_study(study: Study, target: Path, progress: Progress = lambda _: None) -> Path:
    """The study as it is now, recordings and pictures with it, in a zip that unpacks to a study folder. Raises StudyError."""
    if target.suffix.lower() != ".zip":
        target = target.with_name(target.name + ".zip")
    part = target.with_name(target.name + ".part")
    folder = study.path.name if study.path.name.endswith(SUFFIX) else study.path.name + SUFFIX
    try:
        with tempfile.TemporaryDirectory() as scratch, zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out:
            copy = Path(scratch) / DATABASE
            source = sqlite3.connect(f"file:{study.path / DATABASE}?mode=ro", uri=True)
            into = sqlite3.connect(copy)
            source.backup(into)  # consistent whatever else is being written
            into.execute("PRAGMA journal_mode = DELETE")
            into.close()
            source.close()
            out.write(copy, f"{folder}/{DATABASE}")
            files = [p for name in ("recordings", "attachments") for p in sorted((study.path / name).glob("*")) if p.is_file() and p.suffix != ".part"]
            files += [p for p in (study.path / "README.txt",) if p.exists()]
            for i, file in enumerate(files):
                packed = zipfile.ZIP_STORED if file.suffix in (".flac", ".png", ".jpg", ".jpeg", ".webp") else zipfile.ZIP_DEFLATED
                out.write(file, f"{folder}/{file.relative_to(study.path)}", compress_type=packed)
                progress((i + 1) / len(files))
        part.replace(target)
    except (OSError, sqlite3.Error) as error:
        part.unlink(missing_ok=True)
        raise StudyError(f"{target.name} could not be written: {error}. The study is unchanged; free some space or choose another folder.") from error
    return target


def unzip_study(source: Path, folder: Path) -> Path:
    """Unpack a zipped study into ``folder``; where it then lies. Raises StudyError for what is none, or where one lies already."""
    try:
        with zipfile.ZipFile(source) as packed:
            names = packed.namelist()
            tops = {n.split("/")[0] for n in names}
            top = next(iter(tops), "")
            if len(tops) != 1 or f"{top}/{DATABASE}" not in names or not top.endswith(SUFFIX):
                raise StudyError(f"{source.name} does not contain a study. Nothing was unpacked; select another file.")
            if any(n.startswith("/") or ".." in Path(n).parts for n in names):
                raise StudyError(f"{source.name} contains unsafe paths. Nothing was unpacked.")
            target = folder / top
            if target.exists():
                raise StudyError(f"{target} already exists. Nothing was unpacked; choose another folder.")
            packed.extractall(folder)
            (target / "attachments").mkdir(exist_ok=True)
            return target
    except (zipfile.BadZipFile, EOFError) as error:
        raise StudyError(f"{source.name} is not a ZIP file or is truncated. Nothing was unpacked.") from error
    except OSError as error:
        raise StudyError(f"{source.name} could not be unpacked completely: {error}. Delete what was unpacked, free some space and try again.") from error


def run_json(run: RunSummary) -> dict[str, Any]:
    return {
        "id": run.id, "subject": run.subject_id, "column": run.column_id, "procedure": run.procedure, "made": run.made.isoformat(), "device": run.device,
        "firmware": run.firmware, "person": run.person, "settings": dict(run.settings), "chain": dict(run.chain), "cautions": list(run.cautions),
        "readings": list(run.readings),
    }  # fmt: skip


def study_json(study: Study, seen: Overview, *, curves: bool = False) -> dict[str, Any]:
    """Units, rows, columns, the latest run of each cell, claims, limits and notes; with every curve where asked."""
    units = {s.unit.id: s.unit for s in seen.subjects if s.unit is not None}
    runs = []
    for run in seen.runs.values():
        told = run_json(run)
        if curves:
            told["curves"] = [c.to_json() for c in study.curves(run.id)]
        runs.append(told)
    return {
        "title": seen.title, "reference": seen.reference, "units": [vars(u) for u in units.values()],
        "subjects": [{"id": s.id, "unit": s.unit.id if s.unit else None, "conditions": dict(s.conditions), "device": s.device} for s in seen.subjects],
        "columns": [{"id": c.id, "procedure": c.procedure, "settings": dict(c.settings)} for c in seen.columns], "runs": runs,
        "entries": [{"id": e.id, "kind": e.kind, "owner": {k: v for k, v in vars(e.owner).items() if v is not None}, "data": dict(e.data), "made": e.made.isoformat(), "person": e.person} for e in seen.entries],
    }  # fmt: skip
