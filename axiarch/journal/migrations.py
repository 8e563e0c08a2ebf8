"""The journal's tables, as ordered migrations; each runs in one transaction with its record."""

from __future__ import annotations

import sqlite3

from axiarch.errors import WorkspaceNewer

#: Migration number n + 1 brings a journal from version n to n + 1.
MIGRATIONS: tuple[str, ...] = (
    """
    CREATE TABLE search (
        number INTEGER PRIMARY KEY,
        name TEXT NOT NULL,
        file TEXT NOT NULL,                 -- the search file
        data TEXT NOT NULL,                 -- name of the data set
        data_fingerprint TEXT NOT NULL,
        state TEXT NOT NULL,                -- preparing running paused stopped done failed
        why TEXT NOT NULL DEFAULT '',
        started REAL NOT NULL,              -- seconds since 1970
        ended REAL,
        -- seconds spent running until running_since, pauses left out
        busy REAL NOT NULL DEFAULT 0,
        running_since REAL,
        changed INTEGER NOT NULL
    );
    CREATE TABLE recipe (
        search INTEGER NOT NULL REFERENCES search(number),
        number INTEGER NOT NULL,            -- in the order proposed, from 1
        fingerprint TEXT NOT NULL,
        "values" TEXT NOT NULL,             -- JSON
        parameters INTEGER NOT NULL,
        changed INTEGER NOT NULL,
        PRIMARY KEY (search, number),
        UNIQUE (search, fingerprint)
    ) WITHOUT ROWID;
    CREATE TABLE run (
        id INTEGER PRIMARY KEY,
        search INTEGER NOT NULL,
        recipe INTEGER NOT NULL,
        repeat INTEGER NOT NULL,
        fold INTEGER NOT NULL,
        state TEXT NOT NULL,                -- waiting training ended failed
        -- completed patience diverged, or the cause of a failure
        reason TEXT NOT NULL DEFAULT '',
        text TEXT NOT NULL DEFAULT '',
        best_epoch INTEGER NOT NULL DEFAULT 0,
        attempts INTEGER NOT NULL DEFAULT 0,
        lane INTEGER,
        changed INTEGER NOT NULL,
        UNIQUE (search, recipe, repeat, fold)
    );
    CREATE INDEX run_changed ON run (search, changed);
    CREATE TABLE epoch (
        seq INTEGER PRIMARY KEY AUTOINCREMENT,
        run INTEGER NOT NULL REFERENCES run(id),
        epoch INTEGER NOT NULL,
        train_loss REAL, train_loss_still REAL, validation_loss REAL, accuracy REAL,
        learning_rate REAL, gradient_norm REAL, seconds REAL,
        UNIQUE (run, epoch)
    );
    CREATE TABLE event (
        seq INTEGER PRIMARY KEY AUTOINCREMENT,
        search INTEGER NOT NULL,
        at REAL NOT NULL,
        kind TEXT NOT NULL,
        text TEXT NOT NULL
    );
    CREATE TABLE lane (
        search INTEGER NOT NULL,
        number INTEGER NOT NULL,
        pid INTEGER NOT NULL,
        state TEXT NOT NULL,                -- starting idle training held gone
        PRIMARY KEY (search, number)
    ) WITHOUT ROWID;
    """,
    """
    -- JSON list, in the order of the target's metrics
    ALTER TABLE epoch ADD COLUMN metrics TEXT NOT NULL DEFAULT '[]';
    UPDATE epoch SET metrics = json_array(accuracy);
    ALTER TABLE epoch DROP COLUMN accuracy;
    CREATE TABLE opening (                  -- of the seal on the test rows
        seq INTEGER PRIMARY KEY AUTOINCREMENT,
        at REAL NOT NULL,
        data TEXT NOT NULL,
        data_fingerprint TEXT NOT NULL,
        rows INTEGER NOT NULL,
        reason TEXT NOT NULL
    );
    """,
    """
    -- JSON: gradient, dead share, move of each layer
    ALTER TABLE epoch ADD COLUMN layers TEXT NOT NULL DEFAULT '[]';
    """,
    """
    ALTER TABLE epoch ADD COLUMN waited REAL NOT NULL DEFAULT 0;
    -- epochs it may train for now; 0 is all
    ALTER TABLE run ADD COLUMN until INTEGER NOT NULL DEFAULT 0;
    -- epochs taken over from another run
    ALTER TABLE run ADD COLUMN start INTEGER NOT NULL DEFAULT 0;
    -- of a search, in the order decided: what its outcome is replayed from
    CREATE TABLE step (
        search INTEGER NOT NULL,
        number INTEGER NOT NULL,            -- from 1
        recipe INTEGER NOT NULL,
        until INTEGER NOT NULL,
        blocks INTEGER NOT NULL,
        parent INTEGER NOT NULL,
        told INTEGER NOT NULL,              -- outcomes the method had been told before
        why TEXT NOT NULL,
        PRIMARY KEY (search, number)
    ) WITHOUT ROWID;
    CREATE TABLE ruling (                   -- what a user decided while a search ran
        seq INTEGER PRIMARY KEY AUTOINCREMENT,
        search INTEGER NOT NULL,
        after INTEGER NOT NULL,             -- steps taken before
        what TEXT NOT NULL,
        value INTEGER NOT NULL
    );
    -- what a watched run says of some validation rows, after its last epoch
    CREATE TABLE example (
        run INTEGER PRIMARY KEY,
        epoch INTEGER NOT NULL,
        outputs TEXT NOT NULL               -- JSON: probabilities or scaled amounts of each row
    );
    """,
    """
    -- norm before L1 and clipping; 0 is unknown
    ALTER TABLE epoch ADD COLUMN loss_gradient REAL DEFAULT 0;
    """,
    """
    -- whose recipe is scored; 0 is none
    ALTER TABLE opening ADD COLUMN search INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE opening ADD COLUMN recipe INTEGER NOT NULL DEFAULT 0;
    -- JSON: what was found on the test rows
    ALTER TABLE opening ADD COLUMN scores TEXT NOT NULL DEFAULT '';
    """,
    """
    -- where it was trained, if not here
    ALTER TABLE recipe ADD COLUMN origin TEXT NOT NULL DEFAULT '';
    """,
    """
    ALTER TABLE epoch RENAME COLUMN train_loss_still TO train_loss_eval;
    ALTER TABLE step RENAME COLUMN told TO observed;
    ALTER TABLE step RENAME COLUMN blocks TO replicates;
    ALTER TABLE ruling RENAME TO override;
    ALTER TABLE run RENAME COLUMN lane TO worker;
    DROP TABLE lane;
    CREATE TABLE worker (
        search INTEGER NOT NULL,
        number INTEGER NOT NULL,            -- from 0
        machine TEXT NOT NULL,              -- empty is the machine of the runner
        state TEXT NOT NULL,                -- compiling idle training held silent
        memory INTEGER NOT NULL DEFAULT 0,  -- bytes that it has to itself
        busy REAL NOT NULL DEFAULT 0,       -- share of a core that it used lately
        PRIMARY KEY (search, number)
    ) WITHOUT ROWID;
    """,
    """
    -- losses of validation rows by the weights that an ended run kept
    CREATE TABLE row_loss (
        run INTEGER PRIMARY KEY,
        total INTEGER NOT NULL,             -- rows of the validation part
        losses BLOB NOT NULL                -- float32, little-endian, of the rows that are kept
    );
    """,
    """
    -- digest of all that bits depend on; empty where it changed while the search was trained
    ALTER TABLE search ADD COLUMN engine TEXT NOT NULL DEFAULT '';
    -- epochs taken over from a run of an earlier search, and that run
    ALTER TABLE run ADD COLUMN taken INTEGER NOT NULL DEFAULT 0;
    ALTER TABLE run ADD COLUMN source INTEGER NOT NULL DEFAULT 0;
    CREATE TABLE known (                    -- what a method was given of earlier searches
        search INTEGER NOT NULL,
        number INTEGER NOT NULL,            -- from 1, in the order given
        source INTEGER NOT NULL,            -- the search it is of
        "values" TEXT NOT NULL,             -- JSON, of the recipe
        losses TEXT NOT NULL,               -- JSON, validation loss of each epoch of its first run
        ended INTEGER NOT NULL,             -- whether that run came to its own end
        PRIMARY KEY (search, number)
    ) WITHOUT ROWID;
    """,
    """
    CREATE TABLE note (                     -- words of a user
        number INTEGER PRIMARY KEY AUTOINCREMENT,
        at REAL NOT NULL,
        search INTEGER NOT NULL,
        recipe INTEGER NOT NULL,            -- 0 is the search as a whole
        run INTEGER NOT NULL,               -- 0 is the recipe as a whole
        text TEXT NOT NULL
    );
    CREATE TABLE probe (
        number INTEGER PRIMARY KEY AUTOINCREMENT,
        at REAL NOT NULL,
        data TEXT NOT NULL,                 -- name of the data set
        data_fingerprint TEXT NOT NULL,
        kind TEXT NOT NULL,                 -- rate batch depth noise
        "values" TEXT NOT NULL,             -- JSON, of the recipe
        found TEXT NOT NULL                 -- JSON, what was measured
    );
    -- the class predicted of each of these rows, 16 bits, little-endian; empty for amounts
    ALTER TABLE row_loss ADD COLUMN predicted BLOB NOT NULL DEFAULT x'';
    """,
    """
    -- the loss on the sample of training rows, where a metric is lowered
    ALTER TABLE epoch ADD COLUMN sample_loss REAL DEFAULT 0;
    """,
)

VERSION = len(MIGRATIONS)


def version(connection: sqlite3.Connection) -> int:
    """Return the version of a journal; 0 is an empty one."""
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def check_version(connection: sqlite3.Connection, where: str) -> int:
    """Return the version, or raise :class:`WorkspaceNewer` if this program cannot read it."""
    found = version(connection)
    if found > VERSION:
        raise WorkspaceNewer(
            f"the journal has version {found}; this program reads up to {VERSION}", where,
            "use the version of the program that wrote it, or a later one; nothing was changed")
    return found


def migrate(connection: sqlite3.Connection, where: str) -> None:
    """Bring a journal up to date."""
    for number in range(check_version(connection, where), VERSION):
        script = f"BEGIN IMMEDIATE;{MIGRATIONS[number]}PRAGMA user_version = {number + 1};COMMIT;"
        connection.executescript(script)
