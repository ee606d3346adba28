"""The job file: shots, answers, slips, log and undo in one SQLite database (``docs/job-file.md``).

Every edit is one transaction, recorded row by row before and after, so that undo and redo survive a restart.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import sqlite3
import time
from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import msgspec

from . import records, route
from .compile import Order
from .deliver.advise import Trial
from .errors import UnreadableError
from .media.probe import FileFacts
from .read.measure import Levels
from .route import Route

SCHEMA = 1
APPLICATION_ID = 0x41445A52  # "ADZR"
LARGEST = 4 << 30

_TABLES = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE shots (
    id INTEGER PRIMARY KEY, position REAL NOT NULL, name TEXT NOT NULL, kind TEXT NOT NULL, facts TEXT NOT NULL,
    levels TEXT, route TEXT NOT NULL, start INTEGER NOT NULL, stop INTEGER NOT NULL, trials TEXT NOT NULL DEFAULT '[]');
CREATE TABLE slips (
    id INTEGER PRIMARY KEY, at REAL NOT NULL, state TEXT NOT NULL, shot_id INTEGER NOT NULL, body TEXT NOT NULL,
    done INTEGER NOT NULL DEFAULT 0, total INTEGER NOT NULL DEFAULT 0, progress TEXT, report TEXT, why TEXT, pid INTEGER);
CREATE TABLE log (
    id INTEGER PRIMARY KEY, at REAL NOT NULL, kind TEXT NOT NULL, shot TEXT, text TEXT NOT NULL, numbers TEXT NOT NULL);
CREATE TABLE edits (id INTEGER PRIMARY KEY, at REAL NOT NULL, words TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
CREATE TABLE changes (
    id INTEGER PRIMARY KEY, edit_id INTEGER NOT NULL REFERENCES edits(id) ON DELETE CASCADE, tbl TEXT NOT NULL,
    row TEXT NOT NULL, before TEXT, after TEXT);
"""
_KEYS = {"meta": "key", "shots": "id"}  # the tables that undo reaches


class Shot(msgspec.Struct, frozen=True):
    """One recording in the job. ``start`` and ``stop`` (excluded) are its in and out in recorded frames."""

    id: int
    position: float
    name: str
    kind: str
    facts: FileFacts
    levels: Levels | None
    route: Route
    start: int
    stop: int
    trials: tuple[Trial, ...] = ()

    @property
    def frames(self) -> int:
        return self.stop - self.start


class Slip(msgspec.Struct, frozen=True):
    """A frozen render order in the queue. ``state``: waiting, rendering, done, failed, cancelled."""

    id: int
    at: float
    state: str
    shot_id: int
    order: Order
    done: int
    total: int
    progress: dict[str, Any] | None = None
    report: dict[str, Any] | None = None
    why: str | None = None


class LogRow(msgspec.Struct, frozen=True):
    at: float
    kind: str
    shot: str | None
    text: str
    numbers: dict[str, Any]


class Edit:
    """Collects the row changes of one transaction; see ``Job.edit``."""

    def __init__(self, db: sqlite3.Connection, edit_id: int) -> None:
        self._db, self._id = db, edit_id

    def put(self, table: str, key: Any, values: dict[str, Any] | None) -> None:
        """Sets columns of a row (made if absent), or deletes it (None)."""
        before = _row(self._db, table, key)
        after = None if values is None else (before or {}) | {_KEYS[table]: key} | values
        _write(self._db, table, key, after)
        self._db.execute(
            "INSERT INTO changes (edit_id, tbl, row, before, after) VALUES (?,?,?,?,?)",
            (self._id, table, json.dumps(key), _text(before), _text(after)),
        )


def _text(row: dict[str, Any] | None) -> str | None:
    return None if row is None else json.dumps(row)


def _row(db: sqlite3.Connection, table: str, key: Any) -> dict[str, Any] | None:
    cursor = db.execute(f"SELECT * FROM {table} WHERE {_KEYS[table]} = ?", (key,))
    found = cursor.fetchone()
    return None if found is None else dict(zip([c[0] for c in cursor.description], found, strict=True))


def _write(db: sqlite3.Connection, table: str, key: Any, row: dict[str, Any] | None) -> None:
    if row is None:
        db.execute(f"DELETE FROM {table} WHERE {_KEYS[table]} = ?", (key,))
        return
    known = {c[1] for c in db.execute(f"PRAGMA table_info({table})")}
    columns = [c for c in row if c in known]
    marks = ",".join("?" * len(columns))
    db.execute(f"INSERT OR REPLACE INTO {table} ({','.join(columns)}) VALUES ({marks})", [row[c] for c in columns])


class Job:
    """An open job file. Not shared between threads; other processes may have it open, too."""

    def __init__(self, path: Path, db: sqlite3.Connection) -> None:
        self.path, self._db = path, db

    # --- opening ---------------------------------------------------------------------------------------------------
    @classmethod
    def create(cls, path: Path, name: str, rate: Fraction = Fraction(25)) -> Job:
        """A new, empty job. UnreadableError if something is there already or cannot be made."""
        path = path.absolute()
        if path.exists():
            raise UnreadableError(f"{path} is there already. Open it, or give another name.")
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            db = _connect(path)
            with db:
                db.executescript(_TABLES)
                db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                db.execute(f"PRAGMA user_version = {SCHEMA}")
                db.executemany(
                    "INSERT INTO meta VALUES (?,?)",
                    [("name", name), ("rate", str(rate)), ("created", str(time.time()))],
                )
        except (sqlite3.Error, OSError) as error:
            raise UnreadableError(f"{path} cannot be made ({error}). Choose another folder.") from None
        return cls(path, db)

    @classmethod
    def open(cls, path: str | Path) -> Job:
        """Opens a job file, checking that it is one. UnreadableError names the file and says what to do."""
        path = Path(path).absolute()
        if not path.exists():
            raise UnreadableError(f"{path} is not there. Check the name, or make a new job.")
        if path.is_dir():
            raise UnreadableError(f"{path} is a folder. A job is a single file ending in .adzer.")
        if path.stat().st_size > LARGEST:
            raise UnreadableError(f"{path} is far too large for a job file.")
        try:
            db = _connect(path)
            number = db.execute("PRAGMA application_id").fetchone()[0]
            schema = db.execute("PRAGMA user_version").fetchone()[0]
            if number != APPLICATION_ID:
                db.close()
                raise UnreadableError(f"{path} is not an Adzer job.")
            if schema > SCHEMA:
                db.close()
                raise UnreadableError(f"{path} was made by a newer Adzer (schema {schema}). Open it with that.")
            odd = db.execute("SELECT name FROM sqlite_master WHERE type IN ('trigger', 'view')").fetchone()
            tables = {r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
            whole = db.execute("PRAGMA quick_check(1)").fetchone()[0] == "ok"
            if odd or not whole or not {"meta", "shots", "slips", "log", "edits", "changes"} <= tables:
                db.close()
                raise UnreadableError(f"{path} is damaged or has been tampered with. Take a copy from your backup.")
            job = cls(path, db)
            job._check()
        except sqlite3.Error as error:
            raise UnreadableError(
                f"{path} is not a job that can be opened ({error}). Take a copy from your backup."
            ) from None
        return job

    def _check(self) -> None:
        """Reads everything once, so that a hostile row is met here, with the file's name."""
        for read in (self.shots, self.slips, self.log_rows, lambda: self.rate):
            read()

    def close(self) -> None:
        self._db.close()

    def __enter__(self) -> Job:
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
    def out_folder(self) -> Path:
        return Path(self.meta("out") or self.path.parent / "masters")

    def shots(self) -> list[Shot]:
        """All shots in the Board's order."""
        rows = self._db.execute(
            "SELECT id, position, name, kind, facts, levels, route, start, stop, trials FROM shots ORDER BY position, id"
        )
        return [self._shot(row) for row in rows]

    def shot(self, shot_id: int) -> Shot:
        row = self._db.execute(
            "SELECT id, position, name, kind, facts, levels, route, start, stop, trials FROM shots WHERE id = ?",
            (shot_id,),
        ).fetchone()
        if row is None:
            raise UnreadableError(f"{self.path}: shot {shot_id} is not in the job any more.")
        return self._shot(row)

    def _shot(self, row: tuple[Any, ...]) -> Shot:
        what = f"{self.path}: shot {row[2]!r}"
        facts = records.from_json(row[4], FileFacts, what)
        start, stop = row[7], row[8]
        if not (isinstance(start, int) and isinstance(stop, int) and 0 <= start < stop <= max(facts.frames, 1)):
            raise UnreadableError(f"{what} has its in and out outside the recording.")
        return Shot(
            id=int(row[0]), position=float(row[1]), name=str(row[2]), kind=str(row[3]), facts=facts,
            levels=records.from_json(row[5], Levels, what) if row[5] else None, route=route.load(row[6], what),
            start=start, stop=stop, trials=records.from_json(row[9], tuple[Trial, ...], what),
        )  # fmt: skip

    def slips(self) -> list[Slip]:
        rows = self._db.execute(
            "SELECT id, at, state, shot_id, body, done, total, progress, report, why FROM slips ORDER BY id"
        )
        return [
            Slip(
                id=r[0], at=float(r[1]), state=str(r[2]), shot_id=int(r[3]), done=int(r[5]), total=int(r[6]),
                order=records.from_json(r[4], Order, f"{self.path}: slip {r[0]}"),
                progress=json.loads(r[7]) if r[7] else None, report=json.loads(r[8]) if r[8] else None, why=r[9],
            )
            for r in rows
        ]  # fmt: skip

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
    def _changing(self) -> Iterator[None]:
        try:
            self._db.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                self._db.execute("ROLLBACK")
                raise
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            raise UnreadableError(
                f"{self.path} could not be saved ({error}). Free some space or check its permissions; nothing of it is lost."
            ) from None

    def undo(self) -> str | None:
        """Takes back the last edit; returns its words, or None if there is nothing to take back."""
        return self._step("SELECT id, words FROM edits WHERE undone = 0 ORDER BY id DESC LIMIT 1", undo=True)

    def redo(self) -> str | None:
        """Does again what was undone last; returns its words, or None."""
        return self._step("SELECT id, words FROM edits WHERE undone = 1 ORDER BY id LIMIT 1", undo=False)

    def _step(self, query: str, undo: bool) -> str | None:
        row = self._db.execute(query).fetchone()
        if row is None:
            return None
        edit_id, words = row
        with self._changing():
            turn = "DESC" if undo else "ASC"
            changes = self._db.execute(
                f"SELECT tbl, row, before, after FROM changes WHERE edit_id = ? ORDER BY id {turn}", (edit_id,)
            )
            for table, key, before, after in changes.fetchall():
                state = before if undo else after
                if table in _KEYS:
                    _write(self._db, table, json.loads(key), json.loads(state) if state else None)
            self._db.execute("UPDATE edits SET undone = ? WHERE id = ?", (int(undo), edit_id))
            self._log("undo" if undo else "redo", None, words, {})
        return str(words)

    def set_meta(self, words: str, **values: str) -> None:
        with self.edit(words) as edit:
            for key, value in values.items():
                edit.put("meta", key, {"value": value})

    def add_shot(self, facts: FileFacts, name: str | None = None, kind: str = "", first: Route | None = None) -> Shot:
        """Takes a recording into the job, last on the Board."""
        top = self._db.execute("SELECT COALESCE(MAX(position), 0) FROM shots").fetchone()[0]
        key = 1 + self._db.execute("SELECT COALESCE(MAX(id), 0) FROM shots").fetchone()[0]
        used = self._db.execute(
            "SELECT COALESCE(MAX(CAST(row AS INTEGER)), 0) FROM changes WHERE tbl = 'shots'"
        ).fetchone()[0]
        key = max(key, used + 1)
        title = name or Path(facts.path).stem
        with self.edit(f"add {title}") as edit:
            edit.put("shots", key, {
                "position": top + 1, "name": title, "kind": kind, "facts": records.to_json(facts), "levels": None,
                "route": records.to_json(first or Route()), "start": 0, "stop": facts.frames, "trials": "[]",
            })  # fmt: skip
            self._log(
                "add",
                title,
                f"{Path(facts.path).name}, {facts.frames} frames",
                {"frames": facts.frames, "bytes": facts.size},
            )
        return self.shot(key)

    def remove_shot(self, shot: Shot) -> None:
        with self.edit(f"take {shot.name} out of the job") as edit:
            edit.put("shots", shot.id, None)
            self._log("remove", shot.name, "taken out of the job; its file stays where it is", {})

    def decide(self, shot: Shot, new: Route, words: str) -> Shot:
        """Sets a shot's route: one edit, one log row with the answers that changed."""
        return self.decide_all([(shot, new)], words)[0]

    def decide_all(self, pairs: list[tuple[Shot, Route]], words: str) -> list[Shot]:
        """The same for several shots in one edit."""
        with self.edit(words) as edit:
            for shot, new in pairs:
                edit.put("shots", shot.id, {"route": records.to_json(new)})
                self._log("decide", shot.name, words, _difference(shot.route, new))
        return [self.shot(shot.id) for shot, _ in pairs]

    def set_range(self, shot: Shot, start: int, stop: int) -> Shot:
        with self.edit(f"{shot.name}: in and out") as edit:
            edit.put("shots", shot.id, {"start": start, "stop": stop})
            self._log("decide", shot.name, "in and out", {"start": start, "stop": stop})
        return self.shot(shot.id)

    def keep_levels(self, shot_id: int, levels: Levels) -> None:
        """Measurements are facts, not edits: undo leaves them."""
        with self._changing():
            self._db.execute("UPDATE shots SET levels = ? WHERE id = ?", (records.to_json(levels), shot_id))

    def keep_trial(self, shot_id: int, trial: Trial) -> None:
        shot = self.shot(shot_id)
        trials = [t for t in shot.trials if t.card != trial.card] + [trial]
        with self._changing():
            self._db.execute("UPDATE shots SET trials = ? WHERE id = ?", (records.to_json(trials), shot_id))
            self._log("measure", shot.name, f"one second as {trial.card}", records.to_plain(trial))

    # --- queue and log ---------------------------------------------------------------------------------------------
    def enqueue(self, shot_id: int, order: Order) -> int:
        """Puts a frozen order at the end of the queue; returns the slip's number."""
        with self._changing():
            cursor = self._db.execute(
                "INSERT INTO slips (at, state, shot_id, body, total) VALUES (?,?,?,?,?)",
                (time.time(), "waiting", shot_id, records.to_json(order), order.stop - order.start),
            )
            self._log(
                "queue",
                order.shot,
                f"{order.card.title} → {Path(order.out).name}",
                {"digest": order.digest, "folder": self.where(order.out)},
            )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def where(self, out: str) -> str:
        """The folder of a master: below the job's own as seen from it, else in full."""
        folder = Path(out).parent
        here = self.path.parent
        return str(folder.relative_to(here)) if folder.is_relative_to(here) else str(folder)

    def set_slip(self, slip_id: int, **columns: Any) -> None:
        names = [n for n in columns if n in ("state", "done", "total", "progress", "report", "why", "pid")]
        values = [json.dumps(v) if isinstance(v, dict) else v for v in (columns[n] for n in names)]
        with self._changing():
            self._db.execute(
                f"UPDATE slips SET {', '.join(f'{n} = ?' for n in names)} WHERE id = ?", (*values, slip_id)
            )

    def claim(self) -> Slip | None:
        """The next slip to render, marked as this process's; slips whose process died are waiting again."""
        with self._changing():
            for slip_id, pid in self._db.execute("SELECT id, pid FROM slips WHERE state = 'rendering'").fetchall():
                if not _alive(pid):
                    self._db.execute("UPDATE slips SET state = 'waiting' WHERE id = ?", (slip_id,))
            row = self._db.execute("SELECT id FROM slips WHERE state = 'waiting' ORDER BY id LIMIT 1").fetchone()
            if row is None:
                return None
            self._db.execute("UPDATE slips SET state = 'rendering', pid = ? WHERE id = ?", (os.getpid(), row[0]))
        return next(s for s in self.slips() if s.id == row[0])

    def slip_state(self, slip_id: int) -> str:
        row = self._db.execute("SELECT state FROM slips WHERE id = ?", (slip_id,)).fetchone()
        return str(row[0]) if row else "cancelled"

    def log(self, kind: str, shot: str | None, text: str, numbers: dict[str, Any]) -> None:
        with self._changing():
            self._log(kind, shot, text, numbers)

    def _log(self, kind: str, shot: str | None, text: str, numbers: dict[str, Any]) -> None:
        self._db.execute(
            "INSERT INTO log (at, kind, shot, text, numbers) VALUES (?,?,?,?,?)",
            (time.time(), kind, shot, text, records.to_json(numbers)),
        )

    def master_path(self, shot: str, card: Any) -> Path:
        """A free name in the output folder that no waiting slip has taken either."""
        stem = re.sub(r"[^\w ,.()-]+", "-", f"{shot} - {card.title}").strip(" .") or "master"
        taken = {s.order.out for s in self.slips() if s.state in ("waiting", "rendering")}
        for n in range(1, 10_000):
            path = self.out_folder / f"{stem}{'' if n == 1 else f' {n}'}.{card.container}"
            if not path.exists() and str(path) not in taken:
                return path
        raise UnreadableError(f"{self.out_folder} is full of masters of {shot}. Choose another output folder.")


def _connect(path: Path) -> sqlite3.Connection:
    db = sqlite3.connect(path, timeout=10, isolation_level=None)
    for pragma in ("trusted_schema = OFF", "foreign_keys = ON", "journal_mode = WAL", "synchronous = FULL"):
        db.execute(f"PRAGMA {pragma}")
    return db


def _alive(pid: int | None) -> bool:
    if not pid:
        return False
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def _difference(old: Route, new: Route) -> dict[str, Any]:
    """Answers that changed, ``stage.field`` → [before, after]."""
    before, after = records.to_plain(old), records.to_plain(new)
    return {
        f"{stage}.{field}": [before[stage].get(field), value]
        for stage, fields in after.items()
        if isinstance(fields, dict)
        for field, value in fields.items()
        if before[stage].get(field) != value
    }
