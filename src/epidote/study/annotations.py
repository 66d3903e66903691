"""What people write down beside the runs: claims, limits, guides, points, notes and pictures, each belonging to
something or to the whole study.
"""

from __future__ import annotations

import json
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from epidote.study.database import Database
from epidote.study.folder import ATTACHMENTS, StudyFolder
from epidote.study.models import Entry, Owner, StudyError
from epidote.study.rows import Reader, entry_from_row

if TYPE_CHECKING:
    from pydantic import BaseModel

KINDS = (
    "claim",
    "limit",
    "guide",
    "point",
    "note",
    "picture",
    "waiting",
    "listening test",
    "listening answers",
    "listening reveal",
    "routine",
)
PICTURES = (".png", ".jpg", ".jpeg", ".webp", ".gif", ".bmp")  # pixels only: a drawing may refer to other files
_MOST_BYTES = 64 * 1024 * 1024


def default_operator() -> str:
    """Who is working here, as the system knows; "" where it does not."""
    import getpass  # what the first window does not need is loaded when it is asked for

    try:
        import pwd

        name = pwd.getpwuid(os.getuid()).pw_gecos.split(",")[0]
        return name or getpass.getuser()
    except (KeyError, OSError, ImportError):
        return ""


M = TypeVar("M", bound="BaseModel")


def valid(entries: Iterable[Entry], model: type[M]) -> list[tuple[Entry, M]]:
    """Return the entries whose data fit their model, with it; the others are damaged and left out, here as
    everywhere.
    """
    from pydantic import ValidationError

    valid_entries = []
    for entry in entries:
        try:
            valid_entries.append((entry, model.model_validate(dict(entry.data))))
        except (ValidationError, RecursionError):
            continue
    return valid_entries


@dataclass(frozen=True)
class Entries:
    """The entries of an open study."""

    db: Database
    folder: StudyFolder

    def all(self, kind: str | None = None) -> tuple[Entry, ...]:
        """In the order they were made."""
        with self.db.reading() as c:
            rows = c.execute(
                "SELECT * FROM entry WHERE NOT deleted AND (?1 IS NULL OR kind = ?1) ORDER BY id", (kind,)
            ).fetchall()
        return tuple(Reader().each("entry", rows, entry_from_row))

    def add(self, kind: str, data: Mapping[str, Any], owner: Owner = Owner(), person: str = "") -> Entry:  # noqa: B008  frozen
        """Keep a new entry."""
        return self.add_all(kind, [data], owner, person)[0]

    def add_all(
        self, kind: str, all_data: Sequence[Mapping[str, Any]], owner: Owner, person: str = ""
    ) -> tuple[Entry, ...]:
        """Keep several entries of one owner: all of them or none."""
        if kind not in KINDS:
            raise ValueError(kind)
        made = datetime.now(UTC)
        entries = []
        with self.db.writing() as c:
            for data in all_data:
                key = c.execute(
                    "INSERT INTO entry (kind, unit_id, subject_id, run_id, column_id, data, made, person) VALUES (?, ?,"
                    " ?, ?, ?, ?, ?, ?)",
                    (
                        kind,
                        owner.unit,
                        owner.subject,
                        owner.run,
                        owner.column,
                        json.dumps(dict(data)),
                        made.isoformat(),
                        person,
                    ),
                ).lastrowid
                assert key is not None
                entries.append(Entry(key, kind, owner, dict(data), made, person))
        return tuple(entries)

    def update(self, key: int, data: Mapping[str, Any]) -> None:
        with self.db.writing() as c:
            c.execute("UPDATE entry SET data = ? WHERE id = ?", (json.dumps(dict(data)), key))

    def attach(self, source: Path | bytes, owner: Owner, caption: str = "", name: str = "", person: str = "") -> Entry:
        """Keep a picture, a copy of a file or its bytes. Raises StudyError for what is no picture or too large."""
        import hashlib

        from epidote.audio.files.sound_file import read_bounded

        if isinstance(source, Path):
            name = name or source.name
            content = read_bounded(source, _MOST_BYTES, "a picture")
        else:
            content = source
        suffix = Path(name).suffix.lower()
        if suffix not in PICTURES:
            raise StudyError(f"“{name}” is not a supported picture ({', '.join(PICTURES)}). Nothing was added.")
        if not content or len(content) > _MOST_BYTES:
            raise StudyError(
                f"“{name}” is empty or larger than {_MOST_BYTES // 2**20} MB. Nothing was added; use a smaller file."
            )
        digest = hashlib.sha256(content).hexdigest()
        file = f"{digest[:16]}{suffix}"
        if not self.folder.has(ATTACHMENTS, file):
            self.folder.write(ATTACHMENTS, file, content)
        return self.add("picture", {"file": file, "name": name, "caption": caption, "sha256": digest}, owner, person)

    def read(self, entry: Entry) -> bytes:
        """Return a picture's bytes; b"" where its file is missing or is none of the study's."""
        try:
            return self.folder.read(ATTACHMENTS, entry.file, _MOST_BYTES)
        except StudyError:
            return b""

    def deleted(self, run_ids: list[int]) -> tuple[list[dict[str, Any]], list[str]]:
        """Rows of deleted entries and of those of these runs; names of the pictures that nothing needs any more."""
        with self.db.reading() as c:
            marks = ",".join("?" * len(run_ids))
            gone = [dict(r) for r in c.execute(f"SELECT * FROM entry WHERE deleted OR run_id IN ({marks})", run_ids)]
            others = c.execute(
                "SELECT * FROM entry WHERE kind = 'picture' AND NOT deleted AND (run_id IS NULL OR run_id NOT IN"
                f" ({marks}))",
                run_ids,
            )
            needed = {e.file for e in Reader().each("entry", others, entry_from_row)}
        pictures = {_file_of(r["data"]) for r in gone if r["kind"] == "picture"}
        return gone, sorted(pictures - needed - {""})


def _file_of(data: str) -> str:
    """Return the file that a picture's row names; "" where it names none."""
    try:
        return str(json.loads(data)["file"])
    except (ValueError, KeyError, TypeError):
        return ""
