"""What leaves a study: deleted runs with their recordings, and files that the database does not know."""

from __future__ import annotations

import json

from epidote.study.annotations import Entries
from epidote.study.database import Database
from epidote.study.folder import ATTACHMENTS, BIN, RECORDINGS, StudyFolder, UnsafeNameError, day_now

_WHY = (
    "These files were in the study's folder when it was opened, but its database did not know them: recordings of a run"
    " that was not\nfinished, of an older or newer copy of study.sqlite, or files that somebody put there. Nothing of"
    " them was changed. A recording that the\ndatabase names again is found here by itself.\n"
)


def move_orphans(database: Database, folder: StudyFolder) -> tuple[str, ...]:
    """Move files that the database does not know to the bin, as a killed process leaves them; return their names."""
    with database.reading() as c:
        recordings = {row[0] for row in c.execute("SELECT file FROM recording")}
    unknown = [(RECORDINGS, n) for n in folder.names(RECORDINGS, besides=recordings)]
    unknown += [(ATTACHMENTS, n) for n in folder.names(ATTACHMENTS) if n.endswith(".part")]
    if not unknown:
        return ()
    day = day_now("unknown to the study")
    moved = tuple(name for room, name in unknown if folder.move_to_bin(room, name, day))
    folder.write(f"{BIN}/{day}", "why.txt", _WHY.encode())
    return moved


def empty_into_bin(database: Database, folder: StudyFolder, annotations: Entries) -> None:
    """Move the files of what was deleted into bin/, with what the database knew of it, and only then forget it:
    a kill in between leaves rows that are marked as deleted, which the next closing takes up again.
    """
    gone = (
        "SELECT id FROM run WHERE deleted OR subject_id IN (SELECT id FROM subject WHERE deleted) OR column_id IN"
        " (SELECT id FROM column_ WHERE deleted)"
    )
    with database.reading() as c:
        runs = [dict(r) for r in c.execute(f"SELECT * FROM run WHERE id IN ({gone})")]
        # a recording stays while a kept run was recomputed from it
        needed = {
            r[0]
            for r in c.execute(
                f"SELECT recomputed_from FROM run WHERE recomputed_from IS NOT NULL AND id NOT IN ({gone})"
            )
        }
        runs = [r for r in runs if r["id"] not in needed]
        files = [dict(r) for run in runs for r in c.execute("SELECT * FROM recording WHERE run_id = ?", (run["id"],))]
    entries, pictures = annotations.deleted([r["id"] for r in runs])
    if not runs and not entries:
        return
    day = day_now()
    description = json.dumps({"runs": runs, "recordings": files, "entries": entries}, indent=1)
    folder.write(f"{BIN}/{day}", "deleted.json", description.encode())
    for room, name in [*((RECORDINGS, f["file"]) for f in files), *((ATTACHMENTS, name) for name in pictures)]:
        try:
            folder.move_to_bin(room, name, day)
        except UnsafeNameError:
            continue  # a foreign study's name that leads elsewhere: its row goes, the file is not this study's
    with database.writing() as c:
        c.executemany("DELETE FROM entry WHERE id = ?", [(e["id"],) for e in entries])
        for run in sorted(runs, key=lambda r: -r["id"]):
            c.execute("DELETE FROM curve WHERE run_id = ?", (run["id"],))
            c.execute("DELETE FROM recording WHERE run_id = ?", (run["id"],))
            c.execute("DELETE FROM value WHERE column_id = ? AND run_id = ?", (run["column_id"], run["id"]))
            c.execute("UPDATE run SET recomputed_from = NULL WHERE recomputed_from = ? AND deleted", (run["id"],))
            c.execute("DELETE FROM run WHERE id = ?", (run["id"],))
