"""The rule: a graduated scale in timecode with in and out notches, pegs on marked frames, and the frame in view."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from PySide6.QtCore import QLineF, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from ..theme import font, theme

STEPS = (1, 2, 5, 10, 25, 50, 100, 125, 250, 500, 750, 1500, 3000, 7500, 15000, 45000, 90000)


class Rule(QWidget):
    """``moved`` frame; ``ranged`` (start, stop) when a notch is let go."""

    moved = Signal(int)
    ranged = Signal(int, int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.frames, self.start, self.stop, self.frame = 1, 0, 1, 0
        self.rate = Fraction(25)
        self.marks: list[int] = []
        self.keys: list[int] = []
        self._label = lambda frame: str(frame)
        self._grab: str | None = None

    def sizeHint(self) -> QSize:
        return QSize(400, 46)

    def set_shot(
        self, frames: int, start: int, stop: int, rate: Fraction, label: object, marks: Sequence[int] = (),
        keys: Sequence[int] = (),
    ) -> None:  # fmt: skip
        """``label``: frame number → timecode; ``marks``: frames with a dot; ``keys``: keyframes, with a peg."""
        self.marks, self.keys = list(marks), list(keys)
        self.frames, self.start, self.stop, self.rate = max(frames, 1), start, stop, rate
        self._label = label  # type: ignore[assignment]
        self.update()

    def set_frame(self, frame: int) -> None:
        self.frame = frame
        self.update()

    def _x(self, frame: float) -> float:
        return 20 + frame / max(self.frames, 1) * (self.width() - 40)

    def _frame_at(self, x: float) -> int:
        return round(min(max((x - 20) / max(self.width() - 40, 1), 0.0), 1.0) * self.frames)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), p.high)
        painter.setPen(QPen(p.line, 1))
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        painter.fillRect(QRectF(self._x(self.start), 1, self._x(self.stop) - self._x(self.start), 8), p.tint)
        per_pixel = self.frames / max(self.width() - 40, 1)
        minor = next((s for s in STEPS if s / per_pixel >= 5), STEPS[-1])
        major = next((s for s in STEPS if s / per_pixel >= 105 and s % minor == 0), STEPS[-1])
        painter.setFont(font(8.5))
        bottom = self.height() - 2
        at = [(frame, self._x(frame)) for frame in range(0, self.frames + 1, minor)]
        for long, colour in ((False, p.quiet), (True, p.ink)):
            painter.setPen(QPen(colour, 1))
            high = 13 if long else 6
            painter.drawLines([QLineF(x, bottom - high, x, bottom) for n, x in at if (n % major == 0) == long])
        for frame, x in at:
            if frame % major == 0 and x < self.width() - 60:
                painter.drawText(
                    QRectF(x + 3, 12, 110, 16),
                    Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter,
                    self._label(frame),
                )
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(p.accent)
        for frame, turn in ((self.start, 1), (self.stop, -1)):
            x = self._x(frame)
            painter.drawPolygon(QPolygonF([QPointF(x, 1), QPointF(x + turn * 8, 1), QPointF(x, 14)]))
        painter.setBrush(p.ink)
        for frame in self.marks:
            painter.drawEllipse(QPointF(self._x(frame + 0.5), 6), 3.2, 3.2)
        for frame in self.keys:
            x = self._x(frame + 0.5)
            painter.fillRect(QRectF(x - 2.5, 2, 5, 11), p.accent)
        x = self._x(self.frame + 0.5)
        painter.setPen(QPen(p.ink, 2))
        painter.drawLine(QPointF(x, 1), QPointF(x, bottom))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        x = event.position().x()
        self._grab = "frame"
        if event.position().y() < 16:
            if abs(x - self._x(self.start)) < 9:
                self._grab = "start"
            elif abs(x - self._x(self.stop)) < 9:
                self._grab = "stop"
        self.mouseMoveEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = self._frame_at(event.position().x())
        if self._grab == "frame":
            self.moved.emit(min(at, self.frames - 1))
        elif self._grab == "start":
            self.start = min(at, self.stop - 1)
        elif self._grab == "stop":
            self.stop = max(at, self.start + 1)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grab in ("start", "stop"):
            self.ranged.emit(self.start, self.stop)
        self._grab = None
