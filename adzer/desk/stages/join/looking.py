"""Another picture in place of the main one: how two eyes, or two lenses, lie against each other, made in the background."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, QTimer
from PySide6.QtGui import QColor, QImage, QPainter

from ...model import Desk
from ...widgets.questions import Choice

LOOKED = 1200  # columns of what is looked at
TURNS = 700  # milliseconds that each of two is shown: slower than anything that flashes


class Looking:
    """``chore`` of the service makes it. ``ways``: how, in words, what the chore calls it, and what is said under the picture; ``turns``: names
    of two that are shown by turns."""

    def __init__(self, desk: Desk, chore: str, ways: list[tuple[str, str, str]], turns: tuple[str, str]) -> None:
        self.desk, self.chore, self.turns = desk, chore, turns
        self.says = {value: words for _, value, words in ways}
        self.how: str | None = None
        self.pictures: tuple[QImage, ...] = ()
        self._asked: tuple[object, ...] = ()
        self._waiting = False
        self._turn = 0
        self.timer = QTimer()
        self.timer.setInterval(TURNS)
        self.timer.timeout.connect(self._next)
        self.choice = Choice([("as recorded", None), *((name, value) for name, value, _ in ways)], None)
        self.choice.chosen.connect(self._look)

    def _look(self, how: object) -> None:
        self.how, self._asked = (None if how is None else str(how)), ()
        self.ask()

    def ask(self) -> None:
        """Has it made anew, if anything about it has changed."""
        shot = self.desk.shot
        if shot is None or self.how is None or self.desk.stage != "join":
            self.put_away()
            return
        route = self.desk.route_of(shot)
        asked = (shot.id, self.desk.frame, self.how, route)
        if asked == self._asked or self._waiting:  # while it plays one is asked for at a time
            return
        self._asked, self._waiting = asked, True

        def then(made: tuple[NDArray[np.uint8], ...] | None, error: str | None) -> None:
            self._waiting = False
            if made is None:
                self.desk.said.emit(error or "They cannot be shown.")
                return
            if asked != self._asked:  # something else is wanted by now
                self.ask()
                return
            self.pictures = tuple(_image(p) for p in made)
            self.timer.start() if len(made) > 1 else self.timer.stop()
            self.desk.moved.emit()

        self.desk.worker.chore(self.chore, (shot.facts, route, self.desk.seen(shot), self.desk.frame, self.how, LOOKED), then)

    def put_away(self) -> None:
        if self.pictures:
            QTimer.singleShot(0, self.desk.moved.emit)  # the main picture is drawn anew, after what asks here
        self.pictures, self._asked = (), ()
        self.timer.stop()

    def _next(self) -> None:
        if self.desk.stage != "join":
            self.timer.stop()
            return
        self._turn += 1
        self.desk.moved.emit()

    def instead(self) -> QImage | None:
        return self.pictures[self._turn % len(self.pictures)] if self.pictures else None

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if self.pictures:
            name = f" · {self.turns[self._turn % 2]}" if len(self.pictures) > 1 else ""
            painter.setPen(QColor("#FFFFFF"))
            painter.drawText(QPointF(rect.left(), rect.bottom() + 16), self.says[str(self.how)] + name)


def _image(rgb: NDArray[np.uint8]) -> QImage:
    h, w = rgb.shape[:2]
    return QImage(np.ascontiguousarray(rgb).tobytes(), w, h, 3 * w, QImage.Format.Format_RGB888).copy()
