-- One row per kept value about the study itself: title, reference subject, chain, device.
CREATE TABLE setting (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
);
CREATE TABLE unit (
    id INTEGER PRIMARY KEY,
    maker TEXT NOT NULL,
    model TEXT NOT NULL,
    serial TEXT NOT NULL DEFAULT '',
    firmware TEXT NOT NULL DEFAULT '',
    notes TEXT NOT NULL DEFAULT '',
    deleted INTEGER NOT NULL DEFAULT 0
);
-- A row of the matrix: a unit under conditions (JSON object of text to text), or the baseline (no unit).
CREATE TABLE subject (
    id INTEGER PRIMARY KEY,
    unit_id INTEGER REFERENCES unit (id),
    conditions TEXT NOT NULL DEFAULT '{}',
    device TEXT NOT NULL DEFAULT '',
    colour INTEGER NOT NULL DEFAULT 0,
    position REAL NOT NULL,
    shown INTEGER NOT NULL DEFAULT 1,
    deleted INTEGER NOT NULL DEFAULT 0
);
-- A column of the matrix: a procedure with the settings that its empty cells offer (JSON object), and its head in words, so that
-- the matrix shows before anything that computes is loaded.
CREATE TABLE column_ (
    id INTEGER PRIMARY KEY,
    procedure TEXT NOT NULL,
    settings TEXT NOT NULL,
    title TEXT NOT NULL,
    summary TEXT NOT NULL,
    position REAL NOT NULL,
    deleted INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE run (
    id INTEGER PRIMARY KEY,
    subject_id INTEGER NOT NULL REFERENCES subject (id),
    column_id INTEGER NOT NULL REFERENCES column_ (id),
    procedure TEXT NOT NULL,
    settings TEXT NOT NULL,
    chain TEXT NOT NULL,
    device TEXT NOT NULL,
    made TEXT NOT NULL,
    program TEXT NOT NULL,
    recomputed_from INTEGER REFERENCES run (id),
    cautions TEXT NOT NULL,
    readings TEXT NOT NULL,
    headline TEXT NOT NULL,
    thumbnail TEXT NOT NULL,
    deleted INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX run_of_cell ON run (subject_id, column_id);
-- Recordings belong to the run that made them; a recomputed run uses those of the run it came from.
CREATE TABLE recording (
    id INTEGER PRIMARY KEY,
    run_id INTEGER NOT NULL REFERENCES run (id),
    position INTEGER NOT NULL,
    file TEXT NOT NULL,
    rate REAL NOT NULL,
    channels INTEGER NOT NULL,
    frames INTEGER NOT NULL,
    sha256 TEXT NOT NULL,
    stimulus TEXT NOT NULL,
    faults TEXT NOT NULL
);
-- x, y and floor: float64, little endian, compressed with zlib; an even x is kept as its first value and step.
CREATE TABLE curve (
    run_id INTEGER NOT NULL REFERENCES run (id),
    key TEXT NOT NULL,
    channel INTEGER NOT NULL,
    x_unit TEXT NOT NULL,
    y_unit TEXT NOT NULL,
    points INTEGER NOT NULL,
    x_first REAL,
    x_step REAL,
    x BLOB,
    y BLOB NOT NULL,
    floor BLOB,
    meta TEXT NOT NULL,
    PRIMARY KEY (run_id, key, channel)
) WITHOUT ROWID;
CREATE TABLE pin (
    id INTEGER PRIMARY KEY,
    column_id INTEGER NOT NULL REFERENCES column_ (id),
    curve TEXT NOT NULL,
    x REAL NOT NULL,
    deleted INTEGER NOT NULL DEFAULT 0
);
