"""The project file's schema, and how an older one is brought forward.

`CREATE` makes the newest version. `MIGRATIONS[n]` is the SQL that turns version n into n + 1;
each stays as it was written, with a file of version n among the tests. `SCHEMAS[n]` makes an
empty file of version n: what a file of that version may define, and nothing else.
"""

VERSION = 2
APPLICATION_ID = 0x4F41524C  # "OARL"

_FIRST = f"""
PRAGMA application_id = {APPLICATION_ID};
PRAGMA user_version = 1;
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE view (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE axis_state (
    id INTEGER PRIMARY KEY, axis TEXT NOT NULL, label TEXT NOT NULL, toml TEXT NOT NULL,
    saved TEXT NOT NULL
);
CREATE TABLE run (
    id INTEGER PRIMARY KEY, axis TEXT NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL,
    started TEXT NOT NULL, ended TEXT NOT NULL, settings TEXT NOT NULL, gains TEXT NOT NULL,
    figures TEXT NOT NULL, remark TEXT NOT NULL, note TEXT NOT NULL, pinned INTEGER NOT NULL,
    starred INTEGER NOT NULL, used INTEGER NOT NULL, sparkline TEXT NOT NULL
);
CREATE TABLE record (
    run INTEGER PRIMARY KEY REFERENCES run (id), experiment TEXT NOT NULL,
    sample_time REAL NOT NULL, settings TEXT NOT NULL, drive TEXT NOT NULL, date TEXT NOT NULL,
    ended TEXT NOT NULL
);
CREATE TABLE channel (
    run INTEGER NOT NULL REFERENCES record (run), position INTEGER NOT NULL, name TEXT NOT NULL,
    unit TEXT NOT NULL, type TEXT NOT NULL, data BLOB NOT NULL, PRIMARY KEY (run, position)
);
CREATE TRIGGER record_stays BEFORE UPDATE ON record BEGIN SELECT RAISE(ABORT, 'records stay'); END;
CREATE TRIGGER record_kept BEFORE DELETE ON record BEGIN SELECT RAISE(ABORT, 'records stay'); END;
CREATE TRIGGER channel_stays BEFORE UPDATE ON channel
    BEGIN SELECT RAISE(ABORT, 'records stay'); END;
CREATE TRIGGER channel_kept BEFORE DELETE ON channel BEGIN SELECT RAISE(ABORT, 'records stay'); END;
"""

# Version 2: gains of several loops, named by their loop; why the drive tripped; sums over steps.
_TO_2 = """
CREATE TABLE outcome (
    run INTEGER PRIMARY KEY REFERENCES record (run), trip TEXT NOT NULL, channels TEXT NOT NULL,
    sums BLOB NOT NULL
);
CREATE TRIGGER outcome_stays BEFORE UPDATE ON outcome
    BEGIN SELECT RAISE(ABORT, 'records stay'); END;
CREATE TRIGGER outcome_kept BEFORE DELETE ON outcome
    BEGIN SELECT RAISE(ABORT, 'records stay'); END;
UPDATE run SET gains = replace(replace(replace(replace(gains,
    '"Kp_d"', '"current.Kp_d"'), '"Ki_d"', '"current.Ki_d"'),
    '"Kp_q"', '"current.Kp_q"'), '"Ki_q"', '"current.Ki_q"')
"""

MIGRATIONS: dict[int, str] = {1: _TO_2}
CREATE = f"{_FIRST};{_TO_2};PRAGMA user_version = {VERSION};"
SCHEMAS: dict[int, str] = {1: _FIRST, 2: CREATE}
