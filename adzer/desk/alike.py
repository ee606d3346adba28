"""Answers for many shots that go by a measurement of each: how it is stabilised, how noisy it is, how its lenses stand. Each
is measured if nobody has, solved for itself, and all are kept as one edit."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ..core.develop import noise
from ..core.errors import AdzerError
from ..core.job import Shot
from ..core.join import rig
from ..core.records import to_json, to_plain
from ..core.route import Route
from ..core.stage import Settings
from ..core.steady.measure import Shake
from ..core.steady.step import found_of
from .analysing import Analysing
from .model import Desk

Besides = Mapping[str, Mapping[str, object]]
STANDS = 0.05  # of a picture's width that one goes at most which stands


class Alike(QObject):
    """``moved`` when there is something new to say of what is under way."""

    moved = Signal()

    def __init__(self, desk: Desk, measuring: Analysing) -> None:
        super().__init__(desk)
        self.desk, self.measuring = desk, measuring
        self._line: deque[int] = deque()
        self._stage, self._answers, self._words = "steady", dict[str, object](), ""
        self._besides: Besides = {}
        self._further: deque[tuple[Sequence[Shot], str, dict[str, object], str, Besides | None]] = deque()
        self._done: list[tuple[Shot, Route]] = []
        self._failed: list[str] = []
        self._asked, self._solving = "", False  # the shot and analysis that were last asked for
        measuring.moved.connect(self._next)
        desk.alike_wanted.connect(self.want)

    @property
    def busy(self) -> bool:
        return bool(self._line)

    def want(self, shots: Sequence[Shot], stage: str, answers: dict[str, object], words: str, besides: Besides | None = None) -> None:
        """Has a stage of the shots answered so, and what goes with it: steady by the method that suits each if it is called ``suits``.
        ``besides``: answers of other stages that are given in the same edit. What is asked meanwhile waits for its turn."""
        if self.busy:
            self._further.append((shots, stage, answers, words, besides))
            self.desk.said.emit(f"{len(self._line)} shots are being measured first; then it goes on with these {len(shots)}.")
            return
        self._line, self._stage, self._answers, self._words = deque(s.id for s in shots), stage, answers, words
        self._besides = besides or {}
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
        elif self._stage == "join":
            self._join(shot)
        else:
            self._clean(shot)

    def _measured(self, shot: Shot, chore: str, come: Callable[[Any], None]) -> None:
        """What a chore finds on a shot, kept under its name; a shot of which it finds nothing is left out."""
        self._solving = True

        def over(found: Any, error: str | None) -> None:
            self._solving = False
            if found is None:
                self._over(f"{shot.name}: {error}" if error else f"{shot.name} could not be measured")
                return
            try:
                self.desk.job.keep_measured(shot.facts.fingerprint, chore, to_json(found).encode())
            except AdzerError as fault:
                self._over(str(fault))
                return
            self.desk.learn_found(shot.facts.fingerprint)
            come(found)

        self.desk.worker.chore(chore, (shot.facts, shot.route, self.desk.seen(shot)), over)

    def _join(self, shot: Shot) -> None:
        """Two lenses, calibrated on this very shot, unless they are already."""

        def use(found: rig.Rigged | None) -> None:
            stand = rig.answers(found) if found is not None else {}
            self._done.append((shot, shot.route.with_("join", **stand, **self._answers)))
            self._over("")

        if self.desk.walk(shot).draft.rig is None or shot.route.join.error is not None:
            use(None)
        else:
            self._measured(shot, "rig", use)

    def _clean(self, shot: Shot) -> None:
        """By its own noise, by the amounts of the other."""

        def use(found: noise.Noise) -> None:
            self._done.append((shot, shot.route.with_("develop", **self._answers, noise=to_plain(found.grain))))
            self._over("")

        if (known := noise.found(self.desk.found(shot))) is not None:
            use(known)
        else:
            self._measured(shot, "noise", use)

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
            self._over(f"{shot.name} is of lenses that were not matched")
            return
        self._solving = True
        answers = self._answers | ({"method": self._suiting(shot)} if self._answers.get("method") == "suits" else {})
        route = shot.route.with_("steady", **answers)

        def come(found: tuple[dict[str, object], bytes] | None, error: str | None) -> None:
            self._solving = False
            if found is not None:
                self.desk.keep_laid(shot, str(found[0]["moves"]), found[1])
                self._done.append((shot, shot.route.with_("steady", **found[0])))
            self._over(error or "")

        self.desk.worker.chore("steady", (rows, shot.facts, route, self.desk.seen(shot)), come)

    def _suiting(self, shot: Shot) -> str:
        """``level`` for a sphere; ``hold`` for a static camera, ``path`` for one that pans evenly, else ``drift``."""
        walked = self.desk.walk(shot)
        found = found_of(walked["steady"].before, walked.draft, walked.route.steady, self.desk.found(shot))
        if not isinstance(found, Shake):
            return "level"
        return "hold" if found.widest < STANDS * shot.facts.raster[0] and not found.goes else "path" if found.goes else "drift"

    def _over(self, why: str) -> None:
        self._line.popleft()
        if why:
            self._failed.append(why.rstrip("."))
        if self._line:
            QTimer.singleShot(0, self, self._next)  # of thousands that are known none calls the next; none once the window is gone
        else:
            self._keep()
        self.moved.emit()

    def _keep(self) -> None:
        """All at once; a shot that was changed meanwhile keeps what it was changed to, besides."""
        held = [(self.desk.all.get(s.id), _answers(getattr(route, self._stage))) for s, route in self._done]
        pairs = [(now, now.route.with_(self._stage, **answers)) for now, answers in held if now is not None]
        for stage, answers in self._besides.items():
            pairs = [(now, route.with_(stage, **answers)) for now, route in pairs]
        if pairs:
            self.desk.record(lambda: self.desk.job.decide_all(pairs, self._words), [s.id for s, _ in pairs])
        told = f"{len(pairs)} shots are answered alike now; Ctrl+Z takes that back." if pairs else "None of them could be."
        self.desk.said.emit(told + (f" Left out: {'; '.join(self._failed)}." if self._failed else ""))
        if self._further:
            shots, stage, answers, words, besides = self._further.popleft()
            there = [s for each in shots if (s := self.desk.all.get(each.id)) is not None]
            if there:
                self.want(there, stage, answers, words, besides)


def _answers(settings: Settings) -> dict[str, object]:
    return {name: getattr(settings, name) for name in settings.__struct_fields__ if name != "version"}
