-- What people write down beside the runs: claims, limits, guides, points, notes, pictures. data: JSON of the kind's own model; the keys say what
-- it belongs to. A picture's file lies in attachments/.
CREATE TABLE entry (
    id INTEGER PRIMARY KEY,
    kind TEXT NOT NULL,
    unit_id INTEGER REFERENCES unit (id),
    subject_id INTEGER REFERENCES subject (id),
    run_id INTEGER REFERENCES run (id),
    column_id INTEGER REFERENCES column_ (id),
    data TEXT NOT NULL,
    made TEXT NOT NULL,
    person TEXT NOT NULL DEFAULT '',
    deleted INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX entry_kind ON entry (kind, deleted);
-- What a run was measured with, and by whom, kept without being asked for.
ALTER TABLE run ADD COLUMN firmware TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN person TEXT NOT NULL DEFAULT '';
