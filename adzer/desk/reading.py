"""Getting recordings onto the Board: taking files in, looking at footage in the background, offloading cards, relinking."""

from __future__ import annotations

import contextlib
import json
import sys
from collections import deque
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, QProcess, Signal

from ..core.errors import AdzerError
from ..core.intake import proxies
from ..core.intake.relink import Match
from ..core.job import Part, Shot, Taken
from ..core.media.probe import FileFacts
from ..core.read.seen import Seen
from .belonging import Belonging
from .model import Desk


class Offload(QObject):
    """One card's run in a process of its own. ``moved``: progress; ``ended``: its outcome, or a sentence as ``error``."""

    moved = Signal(dict)
    ended = Signal(dict)

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._process: QProcess | None = None
        self.paused = False
        self._last: dict[str, object] = {}

    @property
    def running(self) -> bool:
        return self._process is not None

    def start(self, ask: dict[str, Any]) -> None:
        """``card``, ``to`` (folders), ``job``, ``camera``, ``template``."""
        if self._process is not None:
            return
        self.paused = False
        self._last = {}
        process = self._process = QProcess(self)
        process.readyReadStandardOutput.connect(self._read)
        process.finished.connect(self._finished)
        process.start(sys.executable, ["-m", "adzer.core.intake.offload", json.dumps(ask)])

    def _read(self) -> None:
        if self._process is None:
            return
        while self._process.canReadLine():
            line = bytes(self._process.readLine().data())
            with contextlib.suppress(ValueError):
                word = json.loads(line)
                if "moving" in word:
                    self.moved.emit(word["moving"])
                else:
                    self._last = word

    def _tell(self, word: str) -> None:
        if self._process is not None:
            self._process.write(f"{word}\n".encode())

    def pause(self) -> None:
        self.paused = not self.paused
        self._tell("pause" if self.paused else "go")

    def stop(self) -> None:
        self._tell("stop")

    def _finished(self) -> None:
        self._read()
        self._process = None
        self.ended.emit(self._last or {"error": "The offload ended early. Start it again; what is copied is kept."})

    def close(self) -> None:
        if self._process is not None:
            self._process.blockSignals(True)
            self._process.kill()
            self._process.waitForFinished(2000)


class Reading(QObject):
    """``looking`` when the number of shots still to be looked at changes; ``asked`` when new files may belong together."""

    looking = Signal()
    asked = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.desk = desk
        self.offload, self.belonging = Offload(self), Belonging(desk, self._put_together)
        self._line: deque[int] = deque()
        self._busy: int | None = None
        desk.relook.connect(lambda shot_id: self.look([shot_id], first=True))
        if len(desk.all) < 200:
            self.look_at_the_rest()

    # --- looking ---------------------------------------------------------------------------------------------------
    @property
    def waiting(self) -> int:
        """Shots that have still to be looked at."""
        return len(self._line) + (self._busy is not None)

    def look(self, ids: Iterable[int], first: bool = False) -> None:
        """Puts shots into the line; one is looked at at a time."""
        fresh = [i for i in ids if i not in self._line and i != self._busy]
        if first:
            self._line.extendleft(reversed(fresh))
        else:
            self._line.extend(fresh)
        self._next()

    def stop(self) -> None:
        """No further shot is looked at until it is asked for."""
        count = len(self._line)
        self._line.clear()
        self.looking.emit()
        self.desk.said.emit(
            f"{count} shots are left unlooked at. “look at the footage” goes on."
            if count
            else "Nothing is being looked at."
        )

    def look_at_the_rest(self) -> None:
        self.look(s.id for s in self.desk.all.values() if self.desk.seen(s) is None)

    def _next(self) -> None:
        self.looking.emit()
        while self._busy is None and self._line:
            shot = self.desk.all.get(self._line.popleft())
            if shot is not None:
                self._busy = shot.id
                self.desk.worker.chore("look", (shot.facts, shot.route), partial(self._looked, shot))

    def _looked(self, shot: Shot, seen: Seen | None, error: str | None) -> None:
        self._busy = None
        if seen is not None:
            self.desk.keep_seen(shot.id, seen)
        elif error is None:
            error = f"{shot.facts.path} cannot be decoded. Copy it from the card again."
        if error:
            self.desk.said.emit(error)
        if not self._line:
            self.desk.learn_usual()
        self._next()

    def measure_playing(self, shot: Shot) -> None:
        """How well this machine plays it; kept with what else was seen."""
        seen = self.desk.seen(shot)
        if seen is None or seen.play is not None:
            return

        def then(value: object, error: str | None) -> None:
            now = self.desk.seen(shot) if shot.id in self.desk.all else None
            if error is None and now is not None:
                self.desk.keep_seen(shot.id, msgspec.structs.replace(now, play=value))

        self.desk.worker.chore("play", (shot.facts,), then)

    # --- taking in -------------------------------------------------------------------------------------------------
    def add(self, paths: Iterable[str | Path], camera: str = "") -> None:
        """Files and folders become shots, at once; then their footage is looked at."""

        def then(value: tuple[list[Taken], list[str]] | None, error: str | None) -> None:
            taken, said = value or ([], [error or ""])
            known = {s.facts.path for s in self.desk.all.values()}
            fresh = [msgspec.structs.replace(t, camera=camera) for t in taken if t.facts.path not in known]
            try:
                added = self.desk.job.add_shots(fresh) if fresh else []
            except AdzerError as fault:
                self.desk.said.emit(str(fault))
                return
            self.desk.reload([s.id for s in added])
            words = f"{len(added)} {'shot is' if len(added) == 1 else 'shots are'} on the Board." if added else ""
            double = f" {len(taken) - len(fresh)} were there already." if len(taken) > len(fresh) else ""
            self.desk.said.emit(
                (" ".join(said[:3]) + f" {words}{double}").strip() or "Nothing that can be read is there."
            )
            self.look(s.id for s in added)
            if any(d.paths for s in added for d in s.doubts):
                self.asked.emit()

        self.desk.worker.chore("take", ([str(p) for p in paths], self.desk.job_rate), then)
        self.desk.said.emit("Reading…")

    def answer_doubt(self, shot: Shot, together: bool) -> None:
        """The files of a shot's first question belong together, or not."""
        if shot.doubts:
            self.belonging.settle([(shot, shot.doubts[0], together)])

    def _put_together(self, shot_ids: Iterable[int]) -> None:
        """Looks at shots that have further files now, and says which of their proxies carry a look."""
        shots = [self.desk.all[i] for i in shot_ids]
        self.look(s.id for s in shots if any(p.role == "second" for p in s.parts) or len(s.facts.files) > 1)
        for shot in shots:
            self._say_look(shot)

    def _say_look(self, shot: Shot) -> None:
        for part in shot.parts:
            if part.role == "proxy" and part.look == "look":
                self.desk.said.emit(f"{shot.name}: {Path(part.path).name} carries a look that its master does not have.")

    # --- proxies ---------------------------------------------------------------------------------------------------
    def make_copies(self, card: str, size: str) -> None:
        """Queues a proxy or intermediate of every chosen row."""
        count = 0
        for shot in self.desk.rows():
            try:
                self.desk.job.enqueue(shot.id, proxies.copy_order(self.desk.job, shot, card, size))
                count += 1
            except AdzerError as error:
                self.desk.said.emit(str(error))
        if count:
            self.desk.said.emit(
                f"{count} {card} queued at {size} size; {'it is' if count == 1 else 'they are'} linked when done."
            )
            self.desk.run_queue()
        self.desk.refresh_slips()

    def measure_copy(self, card: str, size: str) -> None:
        """One second of the selected shot as a proxy or intermediate: what it takes and costs."""
        shot = self.desk.shot
        if shot is None:
            return

        def then(value: Any, error: str | None) -> None:
            if error:
                self.desk.said.emit(error)
                return
            self.desk.record(lambda: self.desk.job.keep_trial(shot.id, msgspec.structs.replace(value, card=f"{card}, {size}")), (shot.id,))

        self.desk.worker.chore("copy trial", (shot, card, size), then)

    def relink(self, folder: str, show: Callable[[list[Match], list[FileFacts]], None]) -> None:
        """Looks through a folder for masters and proxies of the job's shots, and shows what it would link."""
        shots = list(self.desk.all.values())

        def then(value: tuple[list[Match], list[FileFacts], list[str]] | None, error: str | None) -> None:
            if value is None:
                self.desk.said.emit(error or "Nothing was found.")
                return
            matches, found, said = value
            if said:
                self.desk.said.emit(" ".join(said[:2]))
            show(matches, found)

        self.desk.worker.chore("relink", (shots, [folder]), then)
        self.desk.said.emit(f"Looking through {Path(folder).name}…")

    def link(self, matches: list[Match], found: list[FileFacts]) -> None:
        """Links what is matched, then compares new proxies with their masters and looks at new masters."""
        before = {i: s.facts.fingerprint for i, s in self.desk.all.items()}
        changed: list[Shot] = []

        def work() -> None:
            changed.extend(proxies.apply(self.desk.job, self.desk.all.values(), matches, found))

        self.desk.record(work, None)
        self.look(s.id for s in changed if s.facts.fingerprint != before.get(s.id))
        for shot in changed:
            for part in shot.parts:
                if part.role == "proxy" and part.look is None:
                    self.desk.worker.chore("baked", (shot, part), partial(self._compared, shot.id))
        self.desk.check_sources()

    def _compared(self, shot_id: int, part: Part | None, error: str | None) -> None:
        shot = self.desk.all.get(shot_id)
        if shot is None or part is None:
            return
        parts = tuple(part if p.path == part.path else p for p in shot.parts)
        words = f"{shot.name}: proxy compared"
        self.desk.record(lambda: self.desk.job.set_files([(shot, {"parts": parts})], words), (shot_id,))
        self._say_look(self.desk.all[shot_id])

    def close(self) -> None:
        self._line.clear()
        self.offload.close()
