"""Answers of one shot for many, where what they go by has to be measured on each: how it is held, and how much noise is its own. Each is measured if
nobody has, solved for itself, and all are kept as one edit."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from PySide6.QtCore import QObject, QTimer, Signal

from ..core.develop import noise
from ..core.errors import AdzerError
from ..core.job import Shot
from ..core.records import to_json, to_plain
from ..core.route import Route, carried
from ..core.stage import Settings
from .analysing import Analysing
from .model import Desk


class Alike(QObject):
    """``moved`` when there is something new to say of what is under way."""

    moved = Signal()

    def __init__(self, desk: Desk, measuring: Analysing) -> None:
        super().__init__(desk)
        self.desk, self.measuring = desk, measuring
        self._line: deque[int] = deque()
        self._stage, self._settings, self._words = "steady", Settings(), ""
        self._done: list[tuple[Shot, Route]] = []
        self._failed: list[str] = []
        self._asked, self._solving = "", False  # the shot and analysis that were last asked for
        measuring.moved.connect(self._next)
        desk.alike_wanted.connect(self.want)

    @property
    def busy(self) -> bool:
        return bool(self._line)

    def want(self, shots: Sequence[Shot], stage: str, settings: Settings, words: str) -> None:
        """Has the shots answered as ``settings`` say; what was marked on another's picture is not taken over."""
        if self.busy:
            self.desk.said.emit("Other shots are being measured for that; wait for them.")
            return
        self._line, self._stage, self._settings, self._words = deque(s.id for s in shots), stage, settings, words
        self._done, self._failed, self._asked = [], [], ""
        self.desk.said.emit(f"{len(shots)} shots are measured for it, each for itself; Ctrl+Z takes that back when it is done.")
        self._next()

    def _next(self) -> None:
        """The first of the line: measured, then solved."""
        if self._solving or not self._line:
            return
        shot = self.desk.all.get(self._line[0])
        if shot is None:
            self._over("")
        elif self._stage == "steady":
            self._hold(shot)
        else:
            self._clean(shot)

    def _clean(self, shot: Shot) -> None:
        """By its own noise, by the amounts of the other."""

        def use(found: noise.Noise) -> None:
            self._done.append((shot, shot.route.with_("develop", **carried(self._settings), noise=to_plain(found.grain))))
            self._over("")

        if (known := noise.found(self.desk.found(shot))) is not None:
            use(known)
            return
        self._solving = True

        def come(found: noise.Noise | None, error: str | None) -> None:
            self._solving = False
            if found is None:
                self._over(error or f"{shot.name} could not be measured")
                return
            try:
                self.desk.job.keep_measured(shot.facts.fingerprint, "noise", to_json(found).encode())
            except AdzerError as fault:
                self._over(str(fault))
                return
            self.desk.learn_found(shot.facts.fingerprint)
            use(found)

        self.desk.worker.chore("noise", (shot.facts, shot.route, self.desk.seen(shot)), come)

    def _hold(self, shot: Shot) -> None:
        walked = self.desk.walk(shot)
        if wants := walked["steady"].result.wants:
            asked = f"{shot.id} {wants}"
            if self.measuring.waits(shot):
                return
            if asked == self._asked:  # it was measured, or stopped, and still nobody knows
                self._over(f"{shot.name} could not be measured")
                return
            self._asked = asked
            self.measuring.want(shot, wants)
            return
        rows = self.desk.moved_rows(shot)
        if rows is None:
            self._over(f"{shot.name} is of lenses that nobody has matched")
            return
        self._solving = True
        route = shot.route.with_("steady", **carried(self._settings))

        def come(found: tuple[dict[str, object], bytes] | None, error: str | None) -> None:
            self._solving = False
            if found is not None:
                self.desk.keep_laid(shot, str(found[0]["moves"]), found[1])
                self._done.append((shot, shot.route.with_("steady", **found[0])))
            self._over(error or "")

        self.desk.worker.chore("steady", (rows, shot.facts, route, self.desk.seen(shot)), come)

    def _over(self, why: str) -> None:
        self._line.popleft()
        if why:
            self._failed.append(why.rstrip("."))
        if self._line:
            QTimer.singleShot(0, self._next)  # of thousands that are known none calls the next
        else:
            self._keep()
        self.moved.emit()

    def _keep(self) -> None:
        """All at once; a shot that was changed meanwhile keeps what it was changed to, besides."""
        held = [(self.desk.all.get(s.id), _answers(getattr(route, self._stage))) for s, route in self._done]
        pairs = [(now, now.route.with_(self._stage, **answers)) for now, answers in held if now is not None]
        if pairs:
            self.desk.record(lambda: self.desk.job.decide_all(pairs, self._words), [s.id for s, _ in pairs])
        told = f"{len(pairs)} shots are answered alike now; Ctrl+Z takes that back." if pairs else "None of them could be."
        self.desk.said.emit(told + (f" Left out: {'; '.join(self._failed)}." if self._failed else ""))


def _answers(settings: Settings) -> dict[str, object]:
    return {name: getattr(settings, name) for name in settings.__struct_fields__ if name != "version"}
