-- Curves of one key and channel may stand against several axes: the drive, the output in volts, its power.
ALTER TABLE curve RENAME TO curve_1;
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
    PRIMARY KEY (run_id, key, channel, x_unit)
) WITHOUT ROWID;
INSERT INTO curve SELECT * FROM curve_1;
DROP TABLE curve_1;
