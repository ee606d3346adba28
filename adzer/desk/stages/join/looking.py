"""Another picture in place of the main one: how two eyes, or two lenses, lie against each other, made in the background."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from ...model import Desk
from ...theme import font
from ...widgets.questions import Choice

LOOKED = 1200  # columns of what is looked at
TURNS = 700  # milliseconds that each of two is shown: slower than anything that flashes
LEAST = 0.34  # seconds between two turns by hand: no more than three a second, though a key be held
WIPE = "wipe"
OVER = "#FFB347"  # what is drawn over a picture and matters
GRASP = 14  # pixels about the wipe's line within which it is taken hold of
COMPARED = {"wipe": WIPE, "turn": "by turns", "apart": "apart"}  # what the keys of comparing do while two are looked at


class Looking:
    """``chore`` of the service makes it. ``ways``: how, in words, what the chore calls it, and what is said under the picture; ``names`` of the
    two, which are shown by turns or left and right of a line; ``plain``: what is in its place otherwise. ``repaint``: has the picture drawn
    anew."""

    def __init__(
        self, desk: Desk, chore: str, ways: list[tuple[str, str, str]], names: tuple[str, str], plain: str, repaint: Callable[[], None]
    ) -> None:
        self.desk, self.chore, self.names, self.repaint = desk, chore, names, repaint
        self.says = {value: words for _, value, words in ways}
        self.how: str | None = None
        self.pictures: tuple[QImage, ...] = ()
        self._asked: tuple[object, ...] = ()
        self._waiting = False
        self._turn = 0
        self._by_hand, self._turned = False, 0.0  # by a key, and when last
        self.split, self._wiping, self._wide = 0.5, False, 1.0  # where the wipe's line stands, is it held, pixels of the picture's width
        self.timer = QTimer()
        self.timer.setInterval(TURNS)
        self.timer.timeout.connect(self._next)
        self.choice = Choice([(plain, None), *((name, value) for name, value, _ in ways)], None)
        self.choice.chosen.connect(self._look)

    def _look(self, how: object) -> None:
        self.how, self._asked = (None if how is None else str(how)), ()
        self._by_hand = self._wiping = False
        self.timer.stop()
        self.ask()

    @property
    def made_as(self) -> str:
        """What the service makes of it: a wipe is laid together here, of the two that are shown by turns."""
        return "by turns" if self.how == WIPE else str(self.how)

    def compare(self, way: str) -> bool:
        """A key of comparing, while two are looked at: they are, that way, or no longer where they were already."""
        if self.how is None:
            return False
        how = COMPARED.get(way)
        if how is None:
            self.desk.said.emit(f"The {self.names[0]} and the {self.names[1]} are compared by a wipe, by turns, or by what differs.")
        else:
            self.choice.choose(None if how == self.how else how)
        return True

    def flip(self) -> None:
        """By turns as a key is pressed; the timer's turns end. Not faster than what flashes, though the key be held."""
        now = time.monotonic()
        if now - self._turned < LEAST:
            return
        if self.how != "by turns":
            self.choice.choose("by turns")
        else:
            self._turn += 1
        self._by_hand, self._turned = True, now
        self.timer.stop()
        self.repaint()

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
            self.timer.start() if self.how == "by turns" and not self._by_hand else self.timer.stop()
            self.repaint()

        self.desk.worker.chore(self.chore, (shot.facts, route, self.desk.seen(shot), self.desk.frame, self.made_as, LOOKED), then)

    def put_away(self) -> None:
        if self.pictures:
            self.repaint()
        self.pictures, self._asked = (), ()
        self.timer.stop()

    def _next(self) -> None:
        if self.desk.stage != "join":
            self.timer.stop()
            return
        self._turn += 1
        self.repaint()

    def dragged(self, place: QPointF, done: bool) -> bool:
        """Is the wipe's line dragged?"""
        if self.how != WIPE or len(self.pictures) < 2:
            return False
        self._wiping = self._wiping or abs(place.x() - self.split) * self._wide < GRASP
        if self._wiping:
            self.split = min(max(place.x(), 0.0), 1.0)
            self.repaint()
        took, self._wiping = self._wiping, self._wiping and not done
        return took

    def instead(self) -> QImage | None:
        return self.pictures[self._turn % len(self.pictures) if self.how == "by turns" else 0] if self.pictures else None

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if not self.pictures:
            return
        self._wide = rect.width()
        name = ""
        if self.how == WIPE and len(self.pictures) > 1:
            name = f" · left of the line the {self.names[0]}, right of it the {self.names[1]}"
            self._draw_wipe(painter, rect)
        elif self.how == "by turns":
            name = f" · {self.names[self._turn % 2]}" + (" · ⇧E shows the other" if self._by_hand else "")
        painter.setPen(QColor("#FFFFFF"))
        painter.setFont(font(9))
        painter.drawText(rect.translated(0, rect.height() + 3), int(Qt.TextFlag.TextWordWrap), self.says[str(self.how)] + name)

    def _draw_wipe(self, painter: QPainter, rect: QRectF) -> None:
        x = rect.left() + rect.width() * self.split
        painter.save()
        painter.setClipRect(QRectF(x, rect.top(), rect.right() - x, rect.height()))
        painter.drawImage(rect, self.pictures[1])
        painter.restore()
        painter.setPen(QPen(QColor("#FFFFFF"), 1.4))
        painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))


def _image(rgb: NDArray[np.uint8]) -> QImage:
    h, w = rgb.shape[:2]
    return QImage(np.ascontiguousarray(rgb).tobytes(), w, h, 3 * w, QImage.Format.Format_RGB888).copy()
