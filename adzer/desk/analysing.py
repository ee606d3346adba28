"""Analyses under way: span by span in the background, kept as they come, so that they can be stopped and gone on with."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from ..core.errors import AdzerError
from ..core.intake import proxies
from ..core.job import Shot
from ..core.run import analysing
from .model import Desk


class Analysing(QObject):
    """``moved`` when there is something new to say of what is under way."""

    moved = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.desk = desk
        self._line: deque[tuple[int, str]] = deque()
        self._now: tuple[Shot, str] | None = None
        self._left: deque[tuple[int, int]] = deque()
        self._begun, self._done, self._total = 0.0, 0, 0
        self._asked = 0  # what is answered to an older question is of no use any more

    @property
    def running(self) -> Shot | None:
        return self._now[0] if self._now else None

    def waits(self, shot: Shot) -> bool:
        return self.running is not None and (self.running.id == shot.id or any(i == shot.id for i, _ in self._line))

    def says(self) -> str:
        """Frames 96 of 250, 4 s left: how far it is; and how many shots wait."""
        if self._now is None:
            return ""
        left = ""
        if self._done:
            seconds = (time.monotonic() - self._begun) / self._done * (self._total - self._done)
            left = f", {seconds:.0f} s left" if seconds < 90 else f", {seconds / 60:.0f} min left"
        shot = self._now[0]
        done = shot.facts.frames - sum(b - a for a, b in self._left)
        return f"frame {done} of {shot.facts.frames}{left}" + (f", {len(self._line)} more shots wait" if self._line else "")

    def want(self, shot: Shot, name: str) -> None:
        if not self.waits(shot):
            self._line.append((shot.id, name))
            self._next()

    def want_for_rows(self) -> None:
        """What the stages of the chosen rows ask for."""
        asked = [(s, stop.result.wants) for s in self.desk.rows() for stop in self.desk.walk(s).stops if stop.result.wants]
        for shot, name in asked:
            self.want(shot, name)
        if not asked:
            self.desk.said.emit("Nothing is left to be measured on these shots.")

    def stop(self) -> None:
        """What is done is kept; it goes on from there when it is asked for again."""
        self._line.clear()
        self._now, self._asked = None, self._asked + 1
        self.moved.emit()

    def _next(self) -> None:
        while self._now is None and self._line:
            shot_id, name = self._line.popleft()
            shot = self.desk.all.get(shot_id)
            if shot is None:
                continue
            self._now, self._left = (shot, name), deque(analysing.missing(self.desk.job, name, shot.facts))
            self._begun, self._done, self._total = time.monotonic(), 0, sum(b - a for a, b in self._left)
            self._go_on()
        self.moved.emit()

    def _go_on(self) -> None:
        assert self._now is not None
        (shot, name), asked = self._now, self._asked
        if self._left:
            span = self._left[0]

            def spanned(body: bytes | None, error: str | None) -> None:
                if body is not None and self._kept(lambda: analysing.keep(self.desk.job, name, shot.facts, span, body)) and asked == self._asked:
                    self._left.popleft()
                    self._done += span[1] - span[0]
                    self._go_on()
                    self.moved.emit()
                elif asked == self._asked:
                    self._over(error)

            instead = proxies.instead(shot, self.desk.walk(shot))
            self.desk.worker.chore("analyse", (name, shot.facts, shot.route, span, self.desk.seen(shot), instead), spanned)
            return

        def found(bodies: dict[str, bytes] | None, error: str | None) -> None:
            if bodies is not None and self._kept(lambda: analysing.keep_found(self.desk.job, name, shot.facts, bodies)):
                self.desk.learn_found(shot.facts.fingerprint)
            if asked == self._asked:
                self._over(error)

        self.desk.worker.chore("found", (name, shot.facts, analysing.kept(self.desk.job, name, shot.facts)), found)

    def _kept(self, keep: Callable[[], None]) -> bool:
        try:
            keep()
        except AdzerError as error:
            self.desk.said.emit(str(error))
            return False
        return True

    def _over(self, error: str | None) -> None:
        if error:
            self.desk.said.emit(error)
        self._now = None
        self._next()
