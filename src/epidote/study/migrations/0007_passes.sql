-- One row per pass of a routine over a unit, written whole when the pass has ended. steps: JSON array (docs/formats.md).
CREATE TABLE pass (
    id INTEGER PRIMARY KEY,
    routine TEXT NOT NULL,
    digest TEXT NOT NULL,
    subject_id INTEGER NOT NULL REFERENCES subject (id),
    serial TEXT NOT NULL,
    begun TEXT NOT NULL,
    ended TEXT NOT NULL,
    verdict TEXT NOT NULL,
    operator TEXT NOT NULL DEFAULT '',
    shift TEXT NOT NULL DEFAULT '',
    firmware TEXT NOT NULL DEFAULT '',
    words TEXT NOT NULL DEFAULT '',
    steps TEXT NOT NULL,
    deleted INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX pass_of_routine ON pass (routine, serial);
-- Of a run that was computed again: the digest of recordings, settings and version, by which it is known as done.
ALTER TABLE run ADD COLUMN digest TEXT NOT NULL DEFAULT '';
CREATE INDEX run_by_digest ON run (digest) WHERE digest != '';
-- What keeps a study of many thousand units quick: the cost of one more unit does not grow with those there are.
DROP INDEX run_of_cell;
CREATE INDEX run_of_cell ON run (subject_id, column_id, deleted, recomputed_from);
CREATE INDEX run_of_column ON run (column_id, deleted, subject_id, made, firmware, person);
CREATE INDEX recording_of_run ON recording (run_id);
CREATE INDEX subject_of_unit ON subject (unit_id);
CREATE INDEX subject_in_order ON subject (position);
CREATE INDEX unit_by_serial ON unit (serial);
-- The readings' values once more, so that one of them can be read over ten thousand units at once; channel 0: the average.
CREATE TABLE value (
    column_id INTEGER NOT NULL,
    key TEXT NOT NULL,
    channel INTEGER NOT NULL,
    run_id INTEGER NOT NULL,
    value REAL NOT NULL,
    unit TEXT NOT NULL,
    PRIMARY KEY (column_id, key, channel, run_id)
) WITHOUT ROWID;
INSERT OR IGNORE INTO value
SELECT column_id, one.value ->> '$.key', CASE one.value ->> '$.channel' WHEN 'average' THEN 0 ELSE one.value ->> '$.channel' END,
    run.id, one.value ->> '$.value', coalesce(one.value ->> '$.unit', '')
FROM run, json_each(CASE WHEN json_valid(readings) AND json_type(readings) = 'array' THEN readings ELSE '[]' END) AS one
WHERE one.type = 'object' AND typeof(one.value ->> '$.value') IN ('real', 'integer') AND typeof(one.value ->> '$.key') = 'text'
    AND (typeof(one.value ->> '$.channel') = 'integer' OR one.value ->> '$.channel' = 'average');
