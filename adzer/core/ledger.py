"""The job file as a ledger: opening, upgrading, transactions with undo, the log (``docs/job-file.md``).

Every edit is one transaction, recorded row by row before and after, so that undo and redo survive a restart.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import sqlite3
import stat
import threading
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Self

import msgspec

from . import records
from .errors import AdzerError, UnreadableError
from .media import disk

SCHEMA = 6
APPLICATION_ID = 0x41445A52  # "ADZR"
LARGEST = 4 << 30

_SHOT_COLUMNS = """
    id INTEGER PRIMARY KEY, position REAL NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL, facts TEXT NOT NULL,
    route TEXT NOT NULL, start INTEGER NOT NULL, stop INTEGER NOT NULL"""
# What schema 2 added to a shot.
_ADDED = {
    "parts": "TEXT NOT NULL DEFAULT '[]'", "doubts": "TEXT NOT NULL DEFAULT '[]'",
    "camera": "TEXT NOT NULL DEFAULT ''", "scene": "TEXT NOT NULL DEFAULT ''", "notes": "TEXT NOT NULL DEFAULT ''",
    "marks": "TEXT NOT NULL DEFAULT '[]'", "verdict": "TEXT NOT NULL DEFAULT ''",
}  # fmt: skip
# What schema 4 added: what was measured on a recording, known by its fingerprint; no edit, so that undo leaves it.
_MEASURED = """
CREATE TABLE IF NOT EXISTS measured (
    fingerprint TEXT NOT NULL, name TEXT NOT NULL, version INTEGER NOT NULL, key TEXT NOT NULL DEFAULT '', body BLOB NOT NULL,
    PRIMARY KEY (fingerprint, name, key)) WITHOUT ROWID;
"""
# What schema 5 added: measurements as frozen orders need them, each once, known by what they say.
# What schema 6 added to a queued render: a mark that it was frozen here, which process renders it, how often one has ended at it, and after
# how many frames the last time.
_SEALED = {"seal": "TEXT", "holder": "TEXT", "ends": "INTEGER NOT NULL DEFAULT 0", "ended_at": "INTEGER NOT NULL DEFAULT 0"}
_FROZEN = "CREATE TABLE IF NOT EXISTS frozen (hash TEXT PRIMARY KEY, body BLOB NOT NULL) WITHOUT ROWID;"
_TABLES = f"""
{_MEASURED}
{_FROZEN}
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE shots ({_SHOT_COLUMNS}, {", ".join(f"{n} {t}" for n, t in _ADDED.items())});
CREATE TABLE slips (
    id INTEGER PRIMARY KEY, at REAL NOT NULL, state TEXT NOT NULL, shot_id INTEGER NOT NULL, body TEXT NOT NULL,
    done INTEGER NOT NULL DEFAULT 0, total INTEGER NOT NULL DEFAULT 0, progress TEXT, report TEXT, why TEXT, pid INTEGER,
    lease REAL, {", ".join(f"{n} {t}" for n, t in _SEALED.items())});
CREATE TABLE log (
    id INTEGER PRIMARY KEY, at REAL NOT NULL, kind TEXT NOT NULL, shot TEXT, text TEXT NOT NULL, numbers TEXT NOT NULL);
CREATE TABLE edits (id INTEGER PRIMARY KEY, at REAL NOT NULL, words TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
CREATE TABLE changes (
    id INTEGER PRIMARY KEY, edit_id INTEGER NOT NULL REFERENCES edits(id) ON DELETE CASCADE, tbl TEXT NOT NULL,
    row TEXT NOT NULL, before TEXT, after TEXT);
"""
_KEYS = {"meta": "key", "shots": "id"}  # the tables that undo reaches


class LogRow(msgspec.Struct, frozen=True):
    at: float
    kind: str
    shot: str | None
    text: str
    numbers: dict[str, object]


class EditConflict(AdzerError):
    """Another process changed the very same thing since it was read; nothing was changed."""


class Edit:
    """Collects the row changes of one transaction; see ``Job.edit``."""

    def __init__(self, db: sqlite3.Connection, edit_id: int) -> None:
        self._db, self._id = db, edit_id

    def put(self, table: str, key: object, values: dict[str, object] | None) -> None:
        """Sets columns of a row (made if absent), or deletes it (None)."""
        before = _row(self._db, table, key)
        after = None if values is None else (before or {}) | {_KEYS[table]: key} | values
        _write(self._db, table, key, after)
        self._db.execute(
            "INSERT INTO changes (edit_id, tbl, row, before, after) VALUES (?,?,?,?,?)",
            (self._id, table, json.dumps(key), _text(before), _text(after)),
        )


def _text(row: dict[str, object] | None) -> str | None:
    return None if row is None else json.dumps(row)


def _row(db: sqlite3.Connection, table: str, key: object) -> dict[str, object] | None:
    cursor = db.execute(f"SELECT * FROM {table} WHERE {_KEYS[table]} = ?", (key,))
    found = cursor.fetchone()
    return None if found is None else dict(zip([c[0] for c in cursor.description], found, strict=True))


def _write(db: sqlite3.Connection, table: str, key: object, row: dict[str, object] | None) -> None:
    if row is None:
        db.execute(f"DELETE FROM {table} WHERE {_KEYS[table]} = ?", (key,))
        return
    known = {c[1] for c in db.execute(f"PRAGMA table_info({table})")}
    columns = [c for c in row if c in known]
    marks = ",".join("?" * len(columns))
    db.execute(f"INSERT OR REPLACE INTO {table} ({','.join(columns)}) VALUES ({marks})", [row[c] for c in columns])


class Ledger:
    """An open job file's records, of which a process has one. Other processes may have the file open, too; another thread may
    only change it, one transaction at a time."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path, self._db = path, db
        self._turn, self._depth = threading.RLock(), 0
        self.touched: set[int] = set()  # shots that the last undo or redo changed
        self.locked = ""  # why it can only be looked at

    # --- opening ---------------------------------------------------------------------------------------------------
    @classmethod
    def create(cls, path: Path, name: str, rate: Fraction = Fraction(25)) -> Self:
        """A new, empty job, which gets its name when it is whole. UnreadableError if something is there already or it cannot
        be made."""
        path = path.absolute()
        taken = UnreadableError(f"{path} is there already. Open it, or give another name.")
        if os.path.lexists(path):
            raise taken
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with contextlib.closing(sqlite3.connect(":memory:", isolation_level=None)) as db:
                db.executescript(_TABLES)
                db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                db.execute(f"PRAGMA user_version = {SCHEMA}")
                db.executemany("INSERT INTO meta VALUES (?,?)", [("name", name), ("rate", str(rate)), ("created", str(time.time()))])
                whole = db.serialize()
            if not disk.write_new(path, whole):
                raise taken
            return cls(path, _connect(path))
        except (sqlite3.Error, OSError) as error:
            raise UnreadableError(f"{path} cannot be made ({_why(error)}). Choose another folder.") from None

    @classmethod
    def open(cls, path: str | Path) -> Self:
        """Opens a job file, checking that it is one. UnreadableError names the file and says what to do. On a disk that is full
        or read-only it can be looked at: ``locked`` then says why nothing can be changed."""
        path = Path(path).absolute()
        if not path.exists():
            raise UnreadableError(f"{path} is not there. Check the name, or make a new job.")
        if path.is_dir():
            raise UnreadableError(f"{path} is a folder. A job is a single file ending in .adzer.")
        if not stat.S_ISREG((held := path.stat()).st_mode):
            raise UnreadableError(f"{path} is a pipe or a device. A job is a single file ending in .adzer.")
        if held.st_size > LARGEST:
            raise UnreadableError(f"{path} is far too large for a job file.")
        _refuse_foreign(path)
        try:
            db, locked = _opened(path)
            number = db.execute("PRAGMA application_id").fetchone()[0]
            schema = db.execute("PRAGMA user_version").fetchone()[0]
            if number != APPLICATION_ID:
                db.close()
                raise UnreadableError(f"{path} is not an Adzer job.")
            if schema > SCHEMA:
                db.close()
                raise UnreadableError(f"{path} was made by a newer Adzer (schema {schema}). Open it with that.")
            odd = db.execute("SELECT name FROM sqlite_master WHERE type IN ('trigger', 'view')").fetchone() or _computed(db)
            tables = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            whole = db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
            if odd or not whole or not {"meta", "shots", "slips", "log", "edits", "changes"} <= tables:
                db.close()
                raise UnreadableError(f"{path} is damaged or has been tampered with. Take a copy from your backup.")
            if schema < SCHEMA:
                _upgrade(db)
            job = cls(path, db)
            job.locked = locked
            job._check()
        except sqlite3.Error as error:
            if _of_the_disk(error):
                raise UnreadableError(
                    f"{path} is sound, as far as can be told, but cannot be written to ({_why(error)}). Free some space, or check the disk "
                    "and its permissions."
                ) from None
            raise UnreadableError(
                f"{path} is not a job that can be opened ({error}). Take a copy from your backup."
            ) from None
        return job

    def _check(self) -> None:
        """Subclasses read everything once, so that a hostile row is met here, with the file's name."""
        self.log_rows()
        assert self.rate

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    # --- reading ---------------------------------------------------------------------------------------------------
    def meta(self, key: str, default: str = "") -> str:
        row = self._db.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return str(row[0]) if row else default

    @property
    def name(self) -> str:
        return self.meta("name", self.path.stem)

    @property
    def rate(self) -> Fraction:
        try:
            rate = records.parse_fraction(self.meta("rate", "25"))
        except ValueError as error:
            raise UnreadableError(f"{self.path}: the job's rate is broken ({error}).") from None
        if not Fraction(1) <= rate <= 1000:
            raise UnreadableError(f"{self.path}: the job's rate is {rate}, which cannot be.")
        return rate

    @property
    def edited(self) -> tuple[int, int, float]:
        """Another with every edit, undo and redo, whichever process makes it. Numbers of edits that were taken back are used
        again, hence the time of the last."""
        last, undone, at = self._db.execute(
            "SELECT COALESCE(MAX(id), 0), COALESCE(SUM(undone), 0), COALESCE(MAX(at), 0.0) FROM edits"
        ).fetchone()
        return int(last), int(undone), float(at)

    @property
    def out_folder(self) -> Path:
        return Path(self.meta("out") or self.path.parent / "masters")

    def log_rows(self, most: int = 500) -> list[LogRow]:
        """The newest first."""
        rows = self._db.execute("SELECT at, kind, shot, text, numbers FROM log ORDER BY id DESC LIMIT ?", (most,))
        try:
            return [LogRow(float(r[0]), str(r[1]), r[2], str(r[3]), json.loads(r[4])) for r in rows]
        except ValueError:
            raise UnreadableError(f"{self.path}: its log is damaged. Take a copy from your backup.") from None

    # --- editing ---------------------------------------------------------------------------------------------------
    @contextlib.contextmanager
    def edit(self, words: str) -> Iterator[Edit]:
        """One transaction and one step of undo; what was undone before can then no longer be redone."""
        with self._changing():
            self._db.execute("DELETE FROM edits WHERE undone = 1")
            cursor = self._db.execute("INSERT INTO edits (at, words) VALUES (?,?)", (time.time(), words))
            assert cursor.lastrowid is not None
            yield Edit(self._db, cursor.lastrowid)

    @contextlib.contextmanager
    def exclusively(self) -> Iterator[None]:
        """What is read and edited within is one transaction: no other process changes anything between."""
        with self._changing():
            yield

    @contextlib.contextmanager
    def _changing(self) -> Iterator[None]:
        """One transaction, also where these are nested. The threads of a process take turns."""
        with self._turn:
            if self._depth:
                yield
                return
            try:
                self._db.execute("BEGIN IMMEDIATE")
                self._depth += 1
                try:
                    yield
                except BaseException:
                    self._db.execute("ROLLBACK")
                    raise
                finally:
                    self._depth -= 1
                self._db.execute("COMMIT")
            except sqlite3.Error as error:
                with contextlib.suppress(sqlite3.Error):
                    if self._db.in_transaction:  # a COMMIT that the disk refused
                        self._db.execute("ROLLBACK")
                raise UnreadableError(
                    f"{self.path} could not be saved ({self.locked or _why(error)}). Free some space or check its permissions; nothing of it is lost."
                ) from None

    def undo(self) -> str | None:
        """Takes back the last edit; returns its words, or None if there is nothing to take back."""
        return self._step("SELECT id, words FROM edits WHERE undone = 0 ORDER BY id DESC LIMIT 1", undo=True)

    def redo(self) -> str | None:
        """Does again what was undone last; returns its words, or None."""
        return self._step("SELECT id, words FROM edits WHERE undone = 1 ORDER BY id LIMIT 1", undo=False)

    def _step(self, query: str, undo: bool) -> str | None:
        with self._changing():  # which edit is the last is only sure where nobody else can make one
            row = self._db.execute(query).fetchone()
            if row is None:
                return None
            edit_id, words = row
            turn = "DESC" if undo else "ASC"
            changes = self._db.execute(
                f"SELECT tbl, row, before, after FROM changes WHERE edit_id = ? ORDER BY id {turn}", (edit_id,)
            )
            self.touched = set()
            for table, key, before, after in changes.fetchall():
                if table == "shots":
                    self.touched.add(json.loads(key))
                state = before if undo else after
                if table in _KEYS:
                    _write(self._db, table, json.loads(key), json.loads(state) if state else None)
            self._db.execute("UPDATE edits SET undone = ? WHERE id = ?", (int(undo), edit_id))
            self._log("undo" if undo else "redo", None, words, {})
        return str(words)

    # --- measurements ------------------------------------------------------------------------------------------------
    def measured(self, fingerprint: str, name: str, version: int = 1) -> dict[str, bytes]:
        """What a measurement found on a recording, by its keys; nothing of other versions of it."""
        rows = self._db.execute(
            "SELECT key, body FROM measured WHERE fingerprint = ? AND name = ? AND version = ?", (fingerprint, name, version)
        )
        return {str(key): body.encode() if isinstance(body, str) else bytes(body) for key, body in rows}

    def keep_measured(self, fingerprint: str, name: str, body: bytes, key: str = "", version: int = 1) -> None:
        """Keeps a finding instead of an older one; what is of another version of the measurement is gone with it."""
        with self._changing():
            self._put_measured(fingerprint, name, body, key, version)

    def _put_measured(self, fingerprint: str, name: str, body: bytes, key: str = "", version: int = 1) -> None:
        self._db.execute("DELETE FROM measured WHERE fingerprint = ? AND name = ? AND version <> ?", (fingerprint, name, version))
        self._db.execute("INSERT OR REPLACE INTO measured VALUES (?,?,?,?,?)", (fingerprint, name, version, key, body))

    def _freeze(self, body: bytes) -> str:
        """Keeps what was measured as it is now; the hash by which it is found again."""
        name = hashlib.sha256(body).hexdigest()
        self._db.execute("INSERT OR IGNORE INTO frozen VALUES (?,?)", (name, body))
        return name

    def _frozen(self, name: str) -> bytes:
        row = self._db.execute("SELECT body FROM frozen WHERE hash = ?", (name,)).fetchone()
        body = bytes(row[0]) if row and isinstance(row[0], bytes) else b""
        if hashlib.sha256(body).hexdigest() != name:
            raise UnreadableError(f"{self.path}: a measurement that a queued render depends on is gone or damaged. Queue that shot anew.")
        return body

    def set_meta(self, words: str, **values: str) -> None:
        with self.edit(words) as edit:
            for key, value in values.items():
                edit.put("meta", key, {"value": value})

    def log(self, kind: str, shot: str | None, text: str, numbers: dict[str, object]) -> None:
        with self._changing():
            self._log(kind, shot, text, numbers)

    def _log(self, kind: str, shot: str | None, text: str, numbers: dict[str, object]) -> None:
        self._db.execute(
            "INSERT INTO log (at, kind, shot, text, numbers) VALUES (?,?,?,?,?)",
            (time.time(), kind, shot, text, records.to_json(numbers)),
        )


def _of_the_disk(error: Exception) -> bool:
    """Is it a full, read-only or failing disk, and not the file?"""
    kinds = ("SQLITE_READONLY", "SQLITE_FULL", "SQLITE_IOERR", "SQLITE_CANTOPEN", "SQLITE_PERM")
    return str(getattr(error, "sqlite_errorname", "")).startswith(kinds)


def _why(error: Exception) -> str:
    """What a database's error means to a person."""
    kind = str(getattr(error, "sqlite_errorname", ""))
    for start, words in (("SQLITE_FULL", "the disk is full"), ("SQLITE_IOERR", "the disk is full, or fails"),
                         ("SQLITE_BUSY", "another program holds it")):  # fmt: skip
        if kind.startswith(start):
            return words
    return "nothing can be written there" if kind and _of_the_disk(error) else str(error)


def _refuse_foreign(path: Path) -> None:
    """Another program's database is refused before anything could touch it. One whose beginning is still in its journal is left
    for the database to tell.

    The header is read through the database, which knows its own locks on the file: closing any other handle on it would drop all
    locks of this process (POSIX advisory locks), and the next process to close the job would throw its write-ahead log away."""
    try:
        with contextlib.closing(sqlite3.connect(f"{path.as_uri()}?mode=ro&immutable=1", uri=True)) as db:
            mine = db.execute("PRAGMA application_id").fetchone()[0] == APPLICATION_ID
    except sqlite3.Error as error:
        if _of_the_disk(error):
            raise UnreadableError(f"{path} cannot be read ({_why(error)}). Check its permissions.") from None
        mine = False
    if not mine and not path.with_name(path.name + "-wal").exists():
        raise UnreadableError(f"{path} is not an Adzer job.")


def _computed(db: sqlite3.Connection) -> bool:
    """Does a table have columns that are computed, or shadow an expression? None of ours has."""
    tables = [str(r[0]) for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
    return any(c[6] for t in tables for c in db.execute("SELECT * FROM pragma_table_xinfo(?)", (t,)))


def _connect(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, timeout=10, isolation_level=None, check_same_thread=False)
    for pragma in ("trusted_schema = OFF", "foreign_keys = ON", "journal_mode = WAL", "synchronous = FULL"):
        db.execute(f"PRAGMA {pragma}")
    return db


def _opened(path: Path) -> tuple[sqlite3.Connection, str]:
    """A connection, and why it cannot write; empty if it can."""
    try:
        return _connect(path), ""
    except sqlite3.Error as error:
        rest = path.with_name(path.name + "-wal")  # edits that only a disk that can be written to brings in
        if not _of_the_disk(error) or (rest.exists() and rest.stat().st_size):
            raise
        db = sqlite3.connect(f"{path.as_uri()}?mode=ro&immutable=1", uri=True, isolation_level=None, check_same_thread=False)
        db.execute("PRAGMA trusted_schema = OFF")
        return db, _why(error)


def _upgrade(db: sqlite3.Connection) -> None:
    """Older schemas → this one: columns are added, measurements moved to a table of their own; what was measured in the form of
    schema 1 is measured again."""
    known = {c[1] for c in db.execute("PRAGMA table_info(shots)")}
    db.execute("BEGIN IMMEDIATE")
    for name, kind in _ADDED.items():
        if name not in known:
            db.execute(f"ALTER TABLE shots ADD COLUMN {name} {kind}")
    slips = {c[1] for c in db.execute("PRAGMA table_info(slips)")}
    for name, kind in ({"lease": "REAL"} | _SEALED).items():
        if name not in slips:
            db.execute(f"ALTER TABLE slips ADD COLUMN {name} {kind}")
    db.execute(_MEASURED)
    db.execute(_FROZEN)
    if "seen" in known:
        db.execute(
            "INSERT OR REPLACE INTO measured SELECT json_extract(seen, '$.fingerprint'), 'seen', 1, '', seen FROM shots "
            "WHERE seen IS NOT NULL AND json_extract(seen, '$.fingerprint') IS NOT NULL"
        )
    if "trials" in known:
        db.execute(
            "INSERT OR REPLACE INTO measured SELECT json_extract(facts, '$.fingerprint'), 'trial', 1, "
            "shots.id || ' ' || json_extract(value, '$.card'), value FROM shots, json_each(shots.trials)"
        )
    for column in ("seen", "trials"):
        if column in known:
            db.execute(f"ALTER TABLE shots DROP COLUMN {column}")
    db.execute(f"PRAGMA user_version = {SCHEMA}")
    db.execute("COMMIT")
