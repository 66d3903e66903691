"""A whole study as one zip file, and as one JSON document."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager
from datetime import datetime
from pathlib import Path
from typing import Any

from epidote.audio.files.sound_file import new_part, part_of
from epidote.study.database import quoted
from epidote.study.folder import ATTACHMENTS, RECORDINGS, UnsafeNameError, require_plain
from epidote.study.models import Overview, RunSummary, StudyError
from epidote.study.store import DATABASE, README, SUFFIX, Study

Progress = Callable[[float], None]
MOST_UNPACKED = 20_000_000_000  # bytes that a zip may unpack to unless the user allows more
_MOST_FILES = 200_000
_BLOCK = 1 << 20
_PACKED_ALREADY = (".flac", ".png", ".jpg", ".jpeg", ".webp")


def zip_study(study: Study, target: Path, progress: Progress = lambda _: None) -> Path:
    """Return the study as it is now, recordings and pictures with it, in a zip that unpacks to a study folder.

        Raises StudyError.

    Only the study's own regular files are packed: what a link points to is not the study's.
    """
    if not target.name:
        raise StudyError(f"“{target}” is not a file name. Nothing was written; enter a name.")
    if target.suffix.lower() != ".zip":
        target = target.with_name(target.name + ".zip")
    if study.path.name.endswith(SUFFIX):
        folder = study.path.name
    else:
        folder = study.path.name + SUFFIX
    try:
        with new_part(target) as part:
            with (
                tempfile.TemporaryDirectory() as scratch,
                zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as out,
            ):
                copy = Path(scratch) / DATABASE
                _copy_database(study.path / DATABASE, copy)
                out.write(copy, f"{folder}/{DATABASE}")
                out.writestr(f"{folder}/README.txt", README)
                files = [
                    (room, n)
                    for room in (RECORDINGS, ATTACHMENTS)
                    for n in study.folder.names(room)
                    if not n.endswith(".part")
                ]
                for i, (room, name) in enumerate(files):
                    if Path(name).suffix in _PACKED_ALREADY:
                        packed = zipfile.ZIP_STORED
                    else:
                        packed = zipfile.ZIP_DEFLATED
                    entry = zipfile.ZipInfo(f"{folder}/{room}/{name}", datetime.now().timetuple()[:6])
                    entry.compress_type = packed
                    with (
                        os.fdopen(study.folder.open(room, name), "rb") as source,
                        out.open(entry, "w", force_zip64=True) as into,
                    ):
                        shutil.copyfileobj(source, into, _BLOCK)
                    progress((i + 1) / len(files))
            part.flush()
            os.fsync(part.fileno())
        part_of(target).replace(target)
    except (OSError, sqlite3.Error) as error:
        part_of(target).unlink(missing_ok=True)
        if isinstance(error, OSError) and error.strerror:
            why = error.strerror
        else:
            why = str(error)
        raise StudyError(
            f"{target.name} could not be written: {why}. The study is unchanged; free some space or choose another"
            " folder."
        ) from error
    return target


def _copy_database(source: Path, copy: Path) -> None:
    """Copy the database consistently, whatever else is being written."""
    with (
        closing(sqlite3.connect(f"file:{quoted(source)}?mode=ro", uri=True)) as database,
        closing(sqlite3.connect(copy)) as into,
    ):
        database.backup(into)
        into.execute("PRAGMA journal_mode = DELETE")


def unpacked_size(source: Path) -> int:
    """Bytes that a zipped study takes when it is unpacked, as the ZIP file itself says. Raises StudyError."""
    with _translated(source), zipfile.ZipFile(source) as packed:
        return _size(_files_of_study(source, packed)[1])


def _size(entries: Mapping[str, zipfile.ZipInfo]) -> int:
    return sum(i.file_size for i in entries.values())


def unzip_study(source: Path, folder: Path, most_bytes: int = MOST_UNPACKED) -> Path:
    """Unpack a zipped study into ``folder``, whole or not at all; where it then lies. Raises StudyError.

    Nothing but the files of a study is unpacked. ``most_bytes``: more than that is refused with the number, before
    anything is written.
    """
    partial: Path | None = None
    try:
        with _translated(source), zipfile.ZipFile(source) as packed:
            top, names = _files_of_study(source, packed)
            target = folder / top
            if os.path.lexists(target):
                raise StudyError(f"{target} already exists. Nothing was unpacked; choose another folder.")
            _require_room(source, _size(names), folder, most_bytes)
            partial = folder / f".{top[:120]}.{os.urandom(4).hex()}.part"
            for room in ("", RECORDINGS, ATTACHMENTS):
                (partial / room).mkdir(parents=True, exist_ok=True)
            for name, entry in names.items():
                with packed.open(entry) as content, (partial / name).open("xb") as into:
                    shutil.copyfileobj(content, into, _BLOCK)
            partial.rename(target)
            return target
    finally:
        if partial is not None and partial.is_dir():
            shutil.rmtree(partial, ignore_errors=True)


def _require_room(source: Path, size: int, folder: Path, most_bytes: int) -> None:
    if size > most_bytes:
        raise StudyError(
            f"{source.name} unpacks to {size / 1e9:.1f} GB; at most {most_bytes / 1e9:.1f} GB are unpacked without"
            " being asked for. Nothing was unpacked; if you trust the file, allow more with “epidote study unzip"
            " --most-gb”."
        )
    if folder.is_dir():
        free = shutil.disk_usage(folder).free
    else:
        free = size
    if size > free:
        raise StudyError(
            f"{source.name} unpacks to {size / 1e6:.0f} MB, but {free / 1e6:.0f} MB are free. Nothing was unpacked;"
            " free some space and try again."
        )


@contextmanager
def _translated(source: Path) -> Iterator[None]:
    """Yield what may be wrong with a ZIP file, in words."""
    try:
        yield
    except (zipfile.BadZipFile, EOFError, zlib.error) as error:
        raise StudyError(
            f"{source.name} is not a ZIP file or is truncated. Nothing was unpacked; export or copy it again."
        ) from error
    except (NotImplementedError, RuntimeError) as error:
        words = (
            "is encrypted or packed in a way that is not supported. Nothing was unpacked; pack it without a password."
        )
        raise StudyError(f"{source.name} {words}") from error
    except OSError as error:
        words = (
            f"could not be unpacked: {error.strerror or error}. Nothing was unpacked; free some space or choose another"
            " folder."
        )
        raise StudyError(f"{source.name} {words}") from error


def _files_of_study(source: Path, packed: zipfile.ZipFile) -> tuple[str, dict[str, zipfile.ZipInfo]]:
    """Return the study's folder in the zip, and its files by their name in it.

    Raises StudyError for what is no study, or holds odd names.
    """
    entries = [i for i in packed.infolist() if not i.is_dir()]
    if len(entries) > _MOST_FILES:
        raise StudyError(
            f"{source.name} holds {len(entries)} files; at most {_MOST_FILES} are unpacked. Nothing was unpacked."
        )
    tops = {i.filename.split("/")[0] for i in entries}
    top = next(iter(tops), "")
    if len(tops) != 1 or f"{top}/{DATABASE}" not in packed.namelist() or not top.endswith(SUFFIX):
        raise StudyError(f"{source.name} does not contain a study. Nothing was unpacked; select another file.")
    files: dict[str, zipfile.ZipInfo] = {}
    for entry in entries:
        parts = entry.filename.split("/")[1:]
        try:
            for part in (top, *parts):
                require_plain(part)
        except UnsafeNameError:
            raise StudyError(f"{source.name} contains unsafe paths. Nothing was unpacked.") from None
        known = parts in ([DATABASE], ["README.txt"]) or (len(parts) == 2 and parts[0] in (RECORDINGS, ATTACHMENTS))
        name = "/".join(parts)
        if name in files:
            raise StudyError(f"{source.name} contains {name} twice. Nothing was unpacked.")
        if known:
            files[name] = entry
    return top, files


def run_json(run: RunSummary) -> dict[str, Any]:
    """Return a run as JSON has it, without its curves."""
    return {
        "id": run.id,
        "subject": run.subject_id,
        "column": run.column_id,
        "procedure": run.procedure,
        "made": run.made.isoformat(),
        "device": run.device,
        "firmware": run.firmware,
        "person": run.person,
        "settings": dict(run.settings),
        "chain": run.chain.model_dump(mode="json"),
        "cautions": list(run.cautions),
        "readings": [reading.to_json() for reading in run.readings],
    }


def study_json(study: Study, seen: Overview, *, curves: bool = False) -> dict[str, Any]:
    """Units, rows, columns, the latest run of each cell, claims, limits and notes; with every curve where asked."""
    units = {s.unit.id: s.unit for s in seen.subjects if s.unit is not None}
    runs = []
    for run in seen.runs.values():
        run_data = run_json(run)
        if curves:
            run_data["curves"] = [c.to_json() for c in study.curves(run.id)]
        runs.append(run_data)
    return {
        "title": seen.title,
        "reference": seen.reference,
        "units": [vars(u) for u in units.values()],
        "subjects": [
            {"id": s.id, "unit": s.unit.id if s.unit else None, "conditions": dict(s.conditions), "device": s.device}
            for s in seen.subjects
        ],
        "columns": [{"id": c.id, "procedure": c.procedure, "settings": dict(c.settings)} for c in seen.columns],
        "runs": runs,
        "entries": [
            {
                "id": e.id,
                "kind": e.kind,
                "owner": {k: v for k, v in vars(e.owner).items() if v is not None},
                "data": dict(e.data),
                "made": e.made.isoformat(),
                "person": e.person,
            }
            for e in seen.entries
        ],
    }
