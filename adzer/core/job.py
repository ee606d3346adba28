"""The job: its shots with their answers, and its queue of frozen renders (``docs/job-file.md``)."""

from __future__ import annotations

import contextlib
import json
import os
import re
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any, Literal, TypeVar

import msgspec

from . import habits, holders, records, route, seal
from .cards import DeliveryCard
from .compile import ORDER_VERSION, Order
from .deliver.advise import Trial
from .errors import AdzerError, UnreadableError
from .finding import Finding
from .intake.group import Doubt
from .ledger import Edit, EditConflict, Ledger
from .media.probe import FileFacts
from .read.seen import Seen
from .read.step import turn_of, upright_raster
from .route import Route, Walk, span_of, walk
from .stage import STAGES

T = TypeVar("T")

_COLUMNS = (
    "id, position, name, kind, facts, route, start, stop, parts, doubts, camera, scene, notes, marks, verdict"
)
WORDS = ("name", "camera", "scene", "notes", "verdict")  # what people may write about a shot


class _NothingNew(Exception):
    """All that was to be added is there; the edit is rolled back."""


class Part(msgspec.Struct, frozen=True):
    """A further file of a shot: ``second`` (rear lens or right eye), ``proxy``, ``intermediate``, ``sound`` (no facts).

    ``look``: what comparing a proxy with its master found; None until then.
    """

    role: Literal["second", "proxy", "intermediate", "sound"]
    path: str
    facts: FileFacts | None = None
    look: str | None = None


class Taken(msgspec.Struct, frozen=True):
    """A recording that is to become a shot."""

    facts: FileFacts
    name: str
    kind: str = ""
    parts: tuple[Part, ...] = ()
    doubts: tuple[Doubt, ...] = ()
    route: Route = Route()
    camera: str = ""
    seen: Seen | None = None


class Mark(msgspec.Struct, frozen=True):
    """A recorded frame worth finding again, and why."""

    frame: int
    words: str = ""


class Shot(msgspec.Struct, frozen=True):
    """One recording in the job. ``start`` and ``stop`` (excluded) are its in and out in recorded frames.

    ``verdict``: ``keep``, ``drop`` or nothing yet. What the footage says lies beside it: ``Job.seen``.
    """

    id: int
    position: float
    name: str
    kind: str
    facts: FileFacts
    route: Route
    start: int
    stop: int
    trials: tuple[Trial, ...] = ()
    parts: tuple[Part, ...] = ()
    doubts: tuple[Doubt, ...] = ()
    camera: str = ""
    scene: str = ""
    notes: str = ""
    marks: tuple[Mark, ...] = ()
    verdict: str = ""

    @property
    def frames(self) -> int:
        return self.stop - self.start

    @property
    def raster(self) -> tuple[int, int]:
        """Of the recorded picture as it stands upright."""
        return upright_raster(self.facts, self.route.read)

    @property
    def turn(self) -> int:
        return turn_of(self.facts, self.route.read)


def take_before(shot: Shot, shots: Iterable[Shot]) -> Shot | None:
    """The take of the same recording that ends where ``shot`` begins."""
    others = (s for s in shots if s.id != shot.id and s.facts.fingerprint == shot.facts.fingerprint)
    return next((s for s in others if s.stop == shot.start), None)


SLIP = "queued render"  # what the seals of queued renders are for
MOST_ENDS, FURTHER = 3, 90  # ends of a process at a queued render in a row, and frames by which it must have got further, to count anew
LEASE = 30.0  # seconds for which a queued render is held by whoever renders it


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


class Job(Ledger):
    """An open job. ``shots``, ``seen`` and ``slips`` read; everything that writes is one edit, but measurements."""

    _checked: list[Shot] | None = None
    _changes = 0

    def _check(self) -> None:
        super()._check()
        self.slips()
        self.untrusted()
        self._checked, self._changes = self.shots(), self._db.total_changes

    # --- reading ---------------------------------------------------------------------------------------------------
    def shots(self, only: Iterable[int] | None = None) -> list[Shot]:
        """All shots, or some, in the Board's order."""
        if only is None and self._checked is not None:
            held, self._checked = self._checked, None  # read when the file was opened, for checking
            if self._db.total_changes == self._changes:
                return held
        which = "" if only is None else f"WHERE id IN ({','.join(str(int(i)) for i in only)})"
        rows = self._db.execute(f"SELECT {_COLUMNS} FROM shots {which} ORDER BY position, id")
        return [self._shot(row) for row in rows]

    def shot(self, shot_id: int) -> Shot:
        row = self._db.execute(f"SELECT {_COLUMNS} FROM shots WHERE id = ?", (shot_id,)).fetchone()
        if row is None:
            raise UnreadableError(f"{self.path}: shot {shot_id} is not in the job any more.")
        return self._shot(row)

    def _shot(self, row: tuple[Any, ...]) -> Shot:
        what = f"{self.path}: shot {row[2]!r}"
        facts = records.from_json(row[4], FileFacts, what)
        start, stop = row[6], row[7]
        if not (isinstance(start, int) and isinstance(stop, int) and 0 <= start < stop <= max(facts.frames, 1)):
            raise UnreadableError(f"{what} has its in and out outside the recording.")
        if not (isinstance(row[1], int | float) and abs(row[1]) < 1e15):
            raise UnreadableError(f"{what} has no place among the others.")

        def several(text: str, kind: type[T]) -> tuple[T, ...]:
            return () if text == "[]" else records.from_json(text, tuple[kind, ...], what)  # type: ignore[valid-type]

        return Shot(
            id=int(row[0]), position=float(row[1]), name=str(row[2]), kind=str(row[3]), facts=facts,
            route=_route(row[5], what), start=start, stop=stop, trials=self._trials(facts.fingerprint, int(row[0]), what),
            parts=several(row[8], Part), doubts=several(row[9], Doubt), camera=str(row[10]),
            scene=str(row[11]), notes=str(row[12]), marks=several(row[13], Mark), verdict=str(row[14]),
        )  # fmt: skip

    def seen(self, shot_id: int) -> Seen | None:
        """What was measured on a shot's footage; None until it has been looked at."""
        row = self._db.execute("SELECT json_extract(facts, '$.fingerprint') FROM shots WHERE id = ?", (shot_id,)).fetchone()
        body = self.measured(row[0], "seen").get("") if row else None
        return records.from_json(body, Seen, f"{self.path}: shot {shot_id}") if body else None

    def found(self, fingerprint: str) -> dict[str, bytes]:
        """What analyses found on a recording, by the finding's name."""
        rows = self._db.execute("SELECT name, body FROM measured WHERE fingerprint = ? AND key = '' AND name <> 'seen'", (fingerprint,))
        return {str(name): bytes(body) for name, body in rows if isinstance(body, bytes)}

    def _trials(self, fingerprint: str, shot_id: int, what: str) -> tuple[Trial, ...]:
        found = self.measured(fingerprint, "trial").items()
        return tuple(records.from_json(body, Trial, what) for key, body in found if key.split(" ")[0] == str(shot_id))

    def slips(self) -> list[Slip]:
        rows = self._db.execute(
            "SELECT id, at, state, shot_id, body, done, total, progress, report, why FROM slips ORDER BY id"
        )
        return [
            Slip(
                id=r[0], at=float(r[1]), state=str(r[2]), shot_id=int(r[3]), done=int(r[5]), total=int(r[6]),
                order=_order(r[4], f"{self.path}: queued render {r[0]}", self._frozen),
                progress=json.loads(r[7]) if r[7] else None, report=json.loads(r[8]) if r[8] else None, why=r[9],
            )
            for r in rows
        ]  # fmt: skip

    def walker(self) -> Callable[..., Walk]:
        """Walks shots as the window does: with what was seen, the job's rate and what their cameras usually do.

        ``walk(shot, route=None, card=None, problem=None)``; what other shots of a camera say is taken once, now."""
        shots = self.shots()
        seen = {s.id: self.seen(s.id) for s in shots}
        usual = habits.usual((s.camera, look.sure_kind) for s in shots if (look := seen[s.id]) is not None)
        given = habits.given((s.camera, s.route.read.curve) for s in shots)

        def walk_shot(
            shot: Shot, route: Route | None = None, card: DeliveryCard | None = None, problem: Finding | None = None
        ) -> Walk:
            return walk(
                route or shot.route, shot.facts, seen.get(shot.id), card, self.rate, problem, usual.get(shot.camera),
                given.get(shot.camera), self.found(shot.facts.fingerprint), span_of(shot.facts, shot.start, shot.stop),
            )  # fmt: skip

        return walk_shot

    # --- editing ---------------------------------------------------------------------------------------------------
    def add_shot(
        self, facts: FileFacts, name: str | None = None, kind: str = "", first: Route | None = None, camera: str = "",
        parts: tuple[Part, ...] = (), doubts: tuple[Doubt, ...] = (), seen: Seen | None = None,
    ) -> Shot:  # fmt: skip
        """Takes a recording into the job, last on the Board."""
        return self.add_shots([Taken(facts, name or Path(facts.path).stem, kind, parts, doubts, first or Route(), camera, seen)])[0]

    def add_new(self, taken: Sequence[Taken]) -> list[Shot]:
        """The same for those recordings that the job does not have yet, whichever process added them."""
        try:
            return self.add_shots(taken, new=True)
        except _NothingNew:
            return []

    def add_shots(self, taken: Sequence[Taken], new: bool = False) -> list[Shot]:
        """Takes several in as one edit."""
        words = f"add {taken[0].name}" if len(taken) == 1 else f"add {len(taken)} shots"
        with self.edit(words) as edit:
            if new:  # asked here, where nobody else can add
                held = {r[0] for r in self._db.execute("SELECT json_extract(facts, '$.fingerprint') FROM shots")}
                taken = [one for one in taken if one.facts.fingerprint not in held]
                if not taken:
                    raise _NothingNew
            key, top = self._next_key(), self._db.execute("SELECT COALESCE(MAX(position), 0) FROM shots").fetchone()[0]
            for n, one in enumerate(taken):
                facts = one.facts
                edit.put("shots", key + n, {
                    "position": top + 1 + n, "name": one.name, "kind": one.kind, "facts": records.to_json(facts),
                    "route": records.to_json(one.route), "start": 0, "stop": facts.frames,
                    "camera": one.camera, "parts": records.to_json(one.parts), "doubts": records.to_json(one.doubts),
                    "scene": "", "notes": "", "marks": "[]", "verdict": "",
                })  # fmt: skip
                if one.seen:
                    self._put_measured(facts.fingerprint, "seen", records.to_json(one.seen).encode())
                numbers: dict[str, object] = {"frames": facts.frames, "bytes": facts.size}
                self._log("add", one.name, f"{facts.name}, {facts.frames} frames", numbers)
        return self.shots(range(key, key + len(taken)))

    def _next_key(self) -> int:
        """A number that no shot has or ever had. Only within an edit is it still free when it is used."""
        ids = self._db.execute("SELECT COALESCE(MAX(id), 0) FROM shots").fetchone()[0]
        used = self._db.execute(
            "SELECT COALESCE(MAX(CAST(row AS INTEGER)), 0) FROM changes WHERE tbl = 'shots'"
        ).fetchone()[0]
        return int(max(ids, used)) + 1

    def add_take(self, shot: Shot, start: int, stop: int, cut: bool = False) -> Shot:
        """Another range of a shot, with its answers so far, on a line of its own under it; ``cut``: the shot ends where the
        take begins. AdzerError if the range is none of the recording's."""
        if not 0 <= start < stop <= shot.facts.frames or (cut and start <= shot.start):
            raise AdzerError(
                f"{shot.name}: from frame {start} to {stop} there is nothing for a take. Set in before out."
            )
        base = re.sub(r" · \d+$", "", shot.name)
        with self.edit(f"{shot.name}: {'cut into two takes' if cut else 'another take'}") as edit:
            now = self.shot(shot.id)
            after = self._db.execute("SELECT MIN(position) FROM shots WHERE position > ?", (now.position,)).fetchone()[0]
            cursor = self._db.execute("SELECT * FROM shots WHERE id = ?", (shot.id,))
            row = dict(zip([c[0] for c in cursor.description], cursor.fetchone(), strict=True))
            names = {r[0] for r in self._db.execute("SELECT name FROM shots")}
            name = next(n for n in (f"{base} · {k}" for k in range(2, 10_000)) if n not in names)
            key = self._next_key()
            if cut:
                edit.put("shots", shot.id, {"stop": _value("stop", shot.stop, start, now.stop, shot.name)})
            edit.put("shots", key, row | {
                "id": key, "name": name, "start": start, "stop": stop, "marks": "[]", "verdict": "",
                "position": now.position + 1 if after is None else (now.position + after) / 2,
            })  # fmt: skip
            self._log("add", name, f"a take of {shot.facts.name}", {"start": start, "stop": stop})
        return self.shot(key)

    def remove_shots(self, shots: list[Shot], edit: Edit | None = None) -> None:
        words = f"take {shots[0].name} out of the job" if len(shots) == 1 else f"take {len(shots)} shots out"
        with self.edit(words) if edit is None else contextlib.nullcontext(edit) as edit:
            for shot in shots:
                edit.put("shots", shot.id, None)
                self._log("remove", shot.name, "taken out of the job; its file stays where it is", {})

    def decide(self, shot: Shot, new: Route, words: str) -> Shot:
        """Sets a shot's route: one edit, one log row with the answers that changed."""
        return self.decide_all([(shot, new)], words)[0]

    def decide_all(self, pairs: list[tuple[Shot, Route]], words: str) -> list[Shot]:
        """The same for several shots in one edit. What is applied is the difference between each shot as it was read and its new
        route; answers that others gave meanwhile stay. EditConflict if one of them is the same answer."""
        with self.edit(words) as edit:
            for shot, new in pairs:
                now = self.shot(shot.id)
                merged = _merged(shot.route, new, now.route, shot.name)
                edit.put("shots", shot.id, {"route": records.to_json(merged)})
                self._log("decide", shot.name, words, difference(now.route, merged))
        return [self.shot(shot.id) for shot, _ in pairs]

    def set_range(self, shot: Shot, start: int, stop: int) -> Shot:
        with self.edit(f"{shot.name}: in and out") as edit:
            now = self.shot(shot.id)
            values: dict[str, object] = {
                "start": _value("in", shot.start, start, now.start, shot.name), "stop": _value("out", shot.stop, stop, now.stop, shot.name)
            }  # fmt: skip
            edit.put("shots", shot.id, values)
            self._log("decide", shot.name, "in and out", values)
        return self.shot(shot.id)

    def describe(self, changes: dict[int, dict[str, str]], words: str) -> None:
        """Sets names, cameras, scenes, notes or verdicts of shots as one edit: what is given, and nothing else."""
        with self.edit(words) as edit:
            for shot_id, values in changes.items():
                self.shot(shot_id)
                edit.put("shots", shot_id, {k: str(v) for k, v in values.items() if k in WORDS})

    def set_marks(self, shot: Shot, marks: Iterable[Mark]) -> None:
        with self.edit(f"{shot.name}: marks") as edit:
            now = _several(shot.marks, tuple(marks), self.shot(shot.id).marks)
            edit.put("shots", shot.id, {"marks": records.to_json(tuple(sorted(now, key=lambda m: m.frame)))})

    def set_files(self, changes: Sequence[tuple[Shot, dict[str, Any]]], words: str, edit: Edit | None = None) -> None:
        """Changes which files a shot consists of: ``facts``, ``kind``, ``parts``, ``doubts``, ``start``, ``stop``, and with them
        ``route`` and ``marks``, each from what the shot has to what is given."""
        if edit is None:
            with self.edit(words) as made:
                self.set_files(changes, words, made)
            return
        for shot, values in changes:
            now, plain = self.shot(shot.id), dict[str, object]()
            for name, mine in values.items():
                base, here = getattr(shot, name), getattr(now, name)
                if isinstance(mine, Route):
                    mine = _merged(base, mine, here, shot.name)
                elif isinstance(mine, tuple):
                    mine = _several(base, mine, here)
                else:
                    mine = _value(name, base, mine, here, shot.name)
                plain[name] = mine if isinstance(mine, str | int) else records.to_json(mine)
            edit.put("shots", shot.id, plain)
            files = ", ".join(Path(p.path).name for p in values.get("parts", ())) if "parts" in values else ""
            self._log("files", shot.name, words, {"files": files} if files else {})

    def keep_seen(self, shot_id: int, seen: Seen) -> None:
        """Measurements are facts, not edits: undo leaves them."""
        self.keep_measured(seen.fingerprint or self.shot(shot_id).facts.fingerprint, "seen", records.to_json(seen).encode())

    def keep_trial(self, shot_id: int, trial: Trial) -> None:
        shot = self.shot(shot_id)
        with self._changing():
            self._put_measured(shot.facts.fingerprint, "trial", records.to_json(trial).encode(), f"{shot_id} {trial.card}")
            self._log("measure", shot.name, f"one second as {trial.card}", records.to_plain(trial))

    # --- queue ---------------------------------------------------------------------------------------------
    def enqueue(self, shot_id: int, order: Order) -> int:
        """Puts a frozen order at the end of the queue; returns the queued render's number."""
        with self._changing():
            plain = records.to_plain(order)
            if plain["seen"] is not None:  # large, and the same in many queued renders
                plain["seen"] = self._freeze(records.to_json(order.seen).encode())
            body = records.to_json(plain)
            cursor = self._db.execute(
                "INSERT INTO slips (at, state, shot_id, body, total, seal) VALUES (?,?,?,?,?,?)",
                (time.time(), "waiting", shot_id, body, order.stop - order.start, seal.mark(SLIP, body)),
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

    def set_slip(self, slip_id: int, **columns: object) -> None:
        names = [n for n in columns if n in ("state", "done", "total", "progress", "report", "why", "pid", "ends")]
        values = [json.dumps(v) if isinstance(v, dict) else v for v in (columns[n] for n in names)]
        with self._changing():
            self._db.execute(
                f"UPDATE slips SET {', '.join(f'{n} = ?' for n in names)} WHERE id = ?", (*values, slip_id)
            )

    def untrusted(self) -> list[Slip]:
        """Waiting queued renders that were not frozen by this person on this machine, whatever the file says: they do not run before
        ``trust``."""
        rows = self._db.execute("SELECT id, body, seal FROM slips WHERE state IN ('waiting', 'rendering')").fetchall()
        strange = {r[0] for r in rows if not seal.holds(r[2], SLIP, str(r[1]))}
        return [s for s in self.slips() if s.id in strange] if strange else []

    def trust(self) -> None:
        """From now on the queued renders that wait are this person's own."""
        with self._changing():
            for slip in self.untrusted():
                (body,) = self._db.execute("SELECT body FROM slips WHERE id = ?", (slip.id,)).fetchone()
                self._db.execute("UPDATE slips SET seal = ? WHERE id = ?", (seal.mark(SLIP, body), slip.id))
                self._log("trust", slip.order.shot, f"{Path(slip.order.out).name} may be rendered", {"folder": self.where(slip.order.out)})

    def claim(self, only: Iterable[int] | None = None) -> Slip | None:
        """The next queued render to render, of ``only`` these if they are given, held for LEASE seconds; ``renew`` holds it on. Queued renders
        that nobody holds any more are waiting again; those that were frozen elsewhere are passed by until they are trusted."""
        with self._changing():
            self._let_go()
            rows = self._db.execute("SELECT id, body, seal FROM slips WHERE state = 'waiting' ORDER BY id")
            some = None if only is None else {int(i) for i in only}
            mine = (r[0] for r in rows.fetchall() if (some is None or r[0] in some) and seal.holds(r[2], SLIP, str(r[1])))
            slip_id = next(mine, None)
            if slip_id is None:
                return None
            self._db.execute(
                "UPDATE slips SET state = 'rendering', pid = ?, holder = ?, lease = ? WHERE id = ?",
                (os.getpid(), holders.own(), time.time() + LEASE, slip_id),
            )
        return next(s for s in self.slips() if s.id == slip_id)

    def abandoned(self) -> set[int]:
        """Queued renders whose process has ended while it rendered them."""
        rows = self._db.execute("SELECT id, holder FROM slips WHERE state = 'rendering'").fetchall()
        return {int(r[0]) for r in rows if holders.ended(r[1])}

    def _let_go(self) -> None:
        """Queued renders whose lease is over, or whose process has ended on this machine, wait again; at which process after process ended
        without getting further are given up, so that what comes after them is rendered."""
        now = time.time()
        rows = self._db.execute("SELECT id, lease, holder, done, ends, ended_at FROM slips WHERE state = 'rendering'").fetchall()
        for slip_id, lease, holder, done, ends, ended_at in rows:
            ended = holders.ended(holder)
            if lease is not None and now <= lease <= now + 10 * LEASE and not ended:
                continue
            ends = (ends + 1 if done < ended_at + FURTHER else 1) if ended else ends
            state, why = "waiting", None
            if ends >= MOST_ENDS:
                state = "failed"
                why = f"The process that rendered it ended by itself {ends} times, near frame {done}. What is finished is kept; try another delivery."
            self._db.execute(
                "UPDATE slips SET state = ?, why = ?, ends = ?, ended_at = ? WHERE id = ?", (state, why, ends, done, slip_id)
            )

    def resumed(self, shot_id: int, order: Order) -> Slip | None:
        """The unfinished queued render of the very same order for the same folder, put in the queue again: what of it is rendered is used.
        None: there is none. AdzerError if another process renders it just now."""
        with self._changing():
            self._let_go()
            slips, strange = self.slips(), {s.id for s in self.untrusted()}
            same = [s for s in slips if s.shot_id == shot_id and s.order.digest == order.digest and s.id not in strange
                    and Path(s.order.out).parent == Path(order.out).parent]  # fmt: skip
            if busy := next((s for s in same if s.state == "rendering"), None):
                raise AdzerError(f"{order.shot} is being rendered as {busy.order.out} already, by another Adzer. Wait for it, or stop it.")
            taken = {s.order.out for s in slips if s.state in ("waiting", "rendering")}
            for slip in same:
                out = slip.order.out
                if slip.state == "waiting" or (slip.state in ("cancelled", "failed") and not os.path.lexists(out) and out not in taken):
                    self.set_slip(slip.id, state="waiting", why=None, report=None, ends=0)
                    return slip
        return None

    def withdraw(self, slips: Iterable[int]) -> None:
        """Those of these queued renders that wait, or that this process holds, are cancelled; what is rendered of them is kept."""
        with self._changing():
            for slip_id in slips:
                self._db.execute(
                    "UPDATE slips SET state = 'cancelled', why = 'stopped before it was finished' WHERE id = ? AND "
                    "(state = 'waiting' OR (state = 'rendering' AND holder = ?))", (slip_id, holders.own()),
                )  # fmt: skip

    def renew(self, slip_id: int) -> None:
        """Holds a queued render for LEASE seconds more."""
        with self._changing():
            self._db.execute("UPDATE slips SET lease = ? WHERE id = ?", (time.time() + LEASE, slip_id))

    def slip_state(self, slip_id: int) -> str:
        row = self._db.execute("SELECT state FROM slips WHERE id = ?", (slip_id,)).fetchone()
        return str(row[0]) if row else "cancelled"

    def master_path(self, shot: str, card: DeliveryCard) -> Path:
        """A free name in the output folder that no waiting queued render has taken either."""
        return self.free_path(self.out_folder, f"{shot} - {card.title}", card.container)

    def free_path(self, folder: Path, name: str, ending: str) -> Path:
        """A name in a folder that neither a file nor a waiting queued render has."""
        stem = re.sub(r"[^\w ,.()-]+", "-", name).strip(" .") or "master"
        taken = {s.order.out for s in self.slips() if s.state in ("waiting", "rendering")}
        for n in range(1, 10_000):
            path = folder / f"{stem}{'' if n == 1 else f' {n}'}.{ending}"
            if not path.exists() and str(path) not in taken:
                return path
        raise UnreadableError(f"{folder} is full of files named {stem}. Choose another folder.")


def _order(text: str, what: str, frozen: Callable[[str], bytes]) -> Order:
    """A frozen order from its JSON, the route of an older one upgraded. UnreadableError if a newer Adzer froze it. What was
    measured is asked for by its hash; orders of version 1 held it themselves."""
    plain = records.from_json(text, dict, what)
    if not isinstance(version := plain.get("version", 1), int) or version > ORDER_VERSION:
        raise UnreadableError(f"{what} was made by a newer Adzer. Open it with that.")
    if isinstance(plain.get("route"), dict):
        plain["route"] = route.upgrade(plain["route"], what)
    if isinstance(name := plain.get("seen"), str):
        plain["seen"] = records.from_json(frozen(name), dict, what)
    return records.from_plain(plain | {"version": ORDER_VERSION}, Order, what)


_routes: dict[str, Route] = {}


def _route(text: str, what: str) -> Route:
    """A route from its JSON; thousands of shots share a few, and routes never change."""
    if text not in _routes:
        if len(_routes) > 4000:
            _routes.clear()
        _routes[text] = route.load(text, what)
    return _routes[text]


def _value(what: str, base: T, mine: T, now: T, shot: str) -> T:
    """A value that was ``base`` when it was read and is ``now`` in the file: the edit's if it changed it, else the file's."""
    if mine == base:
        return now
    if now not in (base, mine):
        raise EditConflict(
            f"{shot}: {what} was changed elsewhere meanwhile, and that was kept. Look at it as it is now, then change it again."
        )
    return mine


def _several(base: tuple[T, ...], mine: tuple[T, ...], now: tuple[T, ...]) -> tuple[T, ...]:
    """The file's list without what the edit took away, and with what it added."""
    if now == base:
        return mine
    return tuple(v for v in now if v in mine or v not in base) + tuple(v for v in mine if v not in base and v not in now)


def _merged(base: Route, mine: Route, now: Route, shot: str) -> Route:
    """The route in the file with those answers changed that differ between ``base`` and ``mine``."""
    if now == base:
        return mine
    for stage in STAGES:
        a, b, c = (getattr(r, stage) for r in (base, mine, now))
        values = {
            f: _value(f"{stage}.{f}", getattr(a, f), getattr(b, f), getattr(c, f), shot) for f in c.__struct_fields__ if f != "version"
        }
        now = msgspec.structs.replace(now, **{stage: msgspec.structs.replace(c, **values)})
    return now


def _brief(value: object) -> object:
    packed = isinstance(value, str) and len(value) > 200 and " " not in value
    return f"{len(str(value)) / 1000:.1f} kB of frames" if packed else value


def difference(old: Route, new: Route) -> dict[str, object]:
    """Answers that changed, ``stage.field`` → [before, after]; of what was solved frame by frame only how much it is."""
    before, after = records.to_plain(old), records.to_plain(new)
    return {
        f"{stage}.{field}": [_brief(before[stage].get(field)), _brief(value)]
        for stage, fields in after.items()
        if isinstance(fields, dict)
        for field, value in fields.items()
        if before[stage].get(field) != value
    }
