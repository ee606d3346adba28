"""One shot's way of steadying for many: each is measured if nobody has, solved for itself, and all are kept as one edit."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from PySide6.QtCore import QObject, Signal

from ..core.job import Shot
from ..core.route import Route, carried
from ..core.run import analysing
from ..core.steady.settings import SteadySettings
from ..core.steady.step import lens_of, named
from .analysing import Analysing
from .model import Desk


class Holding(QObject):
    """``moved`` when there is something new to say of what is under way."""

    moved = Signal()

    def __init__(self, desk: Desk, measuring: Analysing) -> None:
        super().__init__(desk)
        self.desk, self.measuring = desk, measuring
        self._line: deque[int] = deque()
        self._settings, self._words = SteadySettings(), ""
        self._done: list[tuple[Shot, Route]] = []
        self._failed: list[str] = []
        self._asked, self._solving = "", False  # the shot and analysis that were last asked for
        measuring.moved.connect(self._next)
        desk.hold_alike.connect(self.want)

    @property
    def busy(self) -> bool:
        return bool(self._line)

    def want(self, shots: Sequence[Shot], settings: SteadySettings, words: str) -> None:
        """Has the shots held as ``settings`` say; what was marked on another's picture is not taken over."""
        if self.busy:
            self.desk.said.emit("Others are being held still; wait for them.")
            return
        self._line, self._settings, self._words = deque(s.id for s in shots), settings, words
        self._done, self._failed, self._asked = [], [], ""
        self.desk.said.emit(f"{len(shots)} shots are measured and held; Ctrl+Z takes that back when it is done.")
        self._next()

    def _next(self) -> None:
        """The first of the line: measured, then solved."""
        if self._solving or not self._line:
            return
        shot = self.desk.all.get(self._line[0])
        if shot is None:
            self._over("")
            return
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
        lens = lens_of(walked["steady"].before, walked.draft)
        rows = analysing.kept_rows(self.desk.job, "motion" if lens is None else named("turns", lens), shot.facts)
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
            self._next()
        else:
            self._keep()
        self.moved.emit()

    def _keep(self) -> None:
        """All at once; a shot that was changed meanwhile keeps what it was changed to, besides."""
        pairs = [(now, now.route.with_("steady", **_answers(route))) for s, route in self._done if (now := self.desk.all.get(s.id)) is not None]
        if pairs:
            self.desk.record(lambda: self.desk.job.decide_all(pairs, self._words), [s.id for s, _ in pairs])
        told = f"{len(pairs)} shots are held alike now; Ctrl+Z takes that back." if pairs else "None of them could be held."
        self.desk.said.emit(told + (f" Not held: {'; '.join(self._failed)}." if self._failed else ""))


def _answers(route: Route) -> dict[str, object]:
    s = route.steady
    return {name: getattr(s, name) for name in s.__struct_fields__ if name != "version"}
