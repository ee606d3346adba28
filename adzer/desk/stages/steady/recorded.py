"""The recorded picture on the Steady bench: what was followed in it, what goes its own way, and the frame that is held in it."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen

from ....core.job import Shot
from ....core.media.clock import clock_of
from ....core.run.steadied import Followed, held_lines
from ...model import Desk

LONGER = (1, 2, 4, 8, 16)  # times, how strokes may be drawn: most are shorter than a pixel of the window
STROKE = 0.02  # of its width, about which most are to be then
Array = NDArray[np.float64]


class Recorded:
    """Asks for what was followed to the frame in view, one at a time, and draws it. ``came``: what is to be done when it is there."""

    def __init__(self, desk: Desk, came: Callable[[], object]) -> None:
        self.desk, self.came = desk, came
        self.found: Followed | None = None
        self._of: tuple[object, ...] = ()
        self._waiting = False

    def ask(self) -> None:
        shot = self.desk.shot
        if shot is None or self._waiting:
            return
        route = self.desk.route_of(shot)
        asked = (shot.id, self.desk.frame, route.read, route.join)
        if asked == self._of:
            return
        self._of, self._waiting, self.found = asked, True, None

        def come(found: Followed | None, error: str | None) -> None:
            self._waiting, self.found = False, found
            if error:
                self.desk.said.emit(error)
            if self.desk.stage == "steady" and self.desk.shot is not None:
                self.ask()  # the playhead may have gone on
                self.came()

        self.desk.worker.chore("followed", (shot.facts, route, self.desk.seen(shot), self.desk.frame), come)

    def words(self) -> str:
        """What is drawn, for the caption."""
        if self.found is None or not len(self.found.still):
            return "recorded · nothing could be followed here" if self.found is not None else "recorded"
        longer, still = _longer(self.found), self.found.still
        return f"{still.mean():.0%} of {len(still)} corners stand still" + (f" · drawn {longer} times as long" if longer > 1 else "")

    def draw(self, painter: QPainter, rect: QRectF, shot: Shot) -> None:
        painter.setClipRect(rect)
        if self.found is not None:
            self._draw_followed(painter, rect, self.found)
        draft = self.desk.walk(shot).draft
        if draft.panels and draft.held is not None:
            time, whole = clock_of(shot.facts).time(self.desk.frame), np.array(draft.inputs[0].raster, np.float64)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for width, colour in ((3.4, QColor(0, 0, 0, 150)), (1.6, QColor(255, 255, 255, 240))):
                painter.setPen(QPen(colour, width))
                for line in held_lines(draft.panels[0], time):
                    _draw(painter, rect, line / whole)

    @staticmethod
    def _draw_followed(painter: QPainter, rect: QRectF, found: Followed) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QBrush(QColor(255, 190, 110, 150), Qt.BrushStyle.BDiagPattern))
        for x, y, w, h in found.excluded:
            painter.drawRect(QRectF(rect.left() + x * rect.width(), rect.top() + y * rect.height(), w * rect.width(), h * rect.height()))
        longer = _longer(found)
        for (x, y, x1, y1), still in zip(found.strokes, found.still, strict=True):
            a = QPointF(rect.left() + x * rect.width(), rect.top() + y * rect.height())
            by = QPointF((x1 - x) * rect.width(), (y1 - y) * rect.height())
            if abs(by.x()) > rect.width() / 4:  # over the end of a sphere
                continue
            painter.setPen(QPen(QColor(255, 255, 255, 230) if still else QColor(255, 176, 84), 1.6))
            painter.drawLine(a, a + by * longer)
            painter.setBrush(QColor(255, 255, 255) if still else Qt.BrushStyle.NoBrush)
            painter.drawEllipse(a, 1.6 if still else 3.0, 1.6 if still else 3.0)


def _longer(found: Followed) -> int:
    """Times as long as they are, so that most can be seen."""
    far = float(np.median(np.abs(found.strokes[:, 2:] - found.strokes[:, :2]).max(axis=1))) if len(found.strokes) else 0.0
    return next((k for k in LONGER if k * far >= STROKE), LONGER[-1])


def _draw(painter: QPainter, rect: QRectF, line: Array) -> None:
    for (x, y), (x1, y1) in pairwise(line.tolist()):
        if abs(x1 - x) < 0.3:
            painter.drawLine(
                QPointF(rect.left() + x * rect.width(), rect.top() + y * rect.height()),
                QPointF(rect.left() + x1 * rect.width(), rect.top() + y1 * rect.height()),
            )
