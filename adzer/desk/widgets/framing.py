"""The instruments of framing: the view over time, what resolution is left of it, and all delivered shapes at once."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen, QPolygonF

from ..theme import MAT, font, theme
from .plots import Array, Plot


class Lines(Plot):
    """Values over time, each with its name, limits that should not be passed, and pegs where there are keyframes.

    Between pegs lies the course of the speed, gathered and lost again: its two corners are handles. ``pegged``: key and
    seconds while a peg is dragged; ``eased``: key and both shares while a handle is; ``let_go`` at the end.
    """

    pegged = Signal(int, float)
    eased = Signal(int, float, float)
    let_go = Signal()

    STYLES = (Qt.PenStyle.SolidLine, Qt.PenStyle.DashLine, Qt.PenStyle.DotLine)

    def __init__(self, title: str, unit: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self.unit = unit
        self._times: Array = np.zeros(0)
        self._lines: list[tuple[str, Array]] = []
        self._pegs: Sequence[float] = ()
        self._limits: Sequence[tuple[float, str]] = ()
        self._now = 0.0
        self._eases: Sequence[tuple[float, float] | None] = ()
        self._handles: list[tuple[QPointF, int, int]] = []  # where, which key, 0 the peg, 1 and 2 its easing
        self._grab: tuple[int, int] | None = None
        self._span = (0.0, 1.0, 0.0, 1.0)  # pixels and seconds at both ends

    def show_lines(
        self, times: Array, lines: list[tuple[str, Array]], pegs: Sequence[float], now: float,
        limits: Sequence[tuple[float, str]] = (), eases: Sequence[tuple[float, float] | None] = (),
    ) -> None:  # fmt: skip
        self._eases = eases
        self._times, self._lines, self._pegs, self._now, self._limits = times, lines, pegs, now, limits
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if len(self._times) < 2:
            return
        first, last = float(self._times[0]), max(float(self._times[-1]), float(self._times[0]) + 1e-6)
        most = max([float(v.max()) for _, v in self._lines] + [v for v, _ in self._limits])
        least = min([float(v.min()) for _, v in self._lines] + [0.0])
        reach = max(most - least, 1e-6)

        def x(time: float) -> float:
            return body.left() + 8 + (time - first) / (last - first) * (body.width() - 16)

        def y(value: float) -> float:
            return body.bottom() - 12 - (value - least) / reach * (body.height() - 28)

        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(body.left(), y(0)), QPointF(body.right(), y(0)))
        for limit, name in self._limits:
            painter.setPen(QPen(theme.p.accent, 1, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(body.left(), y(limit)), QPointF(body.right(), y(limit)))
            painter.setPen(theme.p.accent_text)
            self.text(painter, body.right() - 5, y(limit) - 3, f"{name} {limit:.0f}", right=True)
        for i, (name, values) in enumerate(self._lines):
            painter.setPen(QPen(theme.p.ink, 1.5, self.STYLES[i % 3]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(
                QPolygonF([QPointF(x(float(t)), y(float(v))) for t, v in zip(self._times, values, strict=True)])
            )
            painter.setPen(theme.p.ink)
            at = int((0.12 + 0.3 * i) * (len(values) - 1))  # names stand apart even where lines meet
            where = y(float(values[at]))
            self.text(painter, x(float(self._times[at])), where - 4 if where > body.top() + 16 else where + 12, name)
        self._span = (x(first), x(last), first, last)
        self._draw_pegs(painter, body.bottom() - 5, x)
        painter.setPen(QPen(theme.p.ink, 1.5))
        painter.drawLine(QPointF(x(self._now), body.top()), QPointF(x(self._now), body.bottom()))
        painter.setPen(theme.p.quiet)
        self.text(painter, body.left() + 5, body.top() + 11, f"{most:.0f} {self.unit}")

    def _draw_pegs(self, painter: QPainter, base: float, x: Callable[[float], float]) -> None:
        self._handles = []
        if len(self._pegs) > 1:
            for n, ease in enumerate(self._eases):
                if ease is None:
                    continue
                a, b = self._pegs[n], self._pegs[n + 1]
                total = max(sum(ease), 1.0)
                ends = [
                    QPointF(x(a + ease[0] / total * (b - a)), base - 9),
                    QPointF(x(b - ease[1] / total * (b - a)), base - 9),
                ]
                painter.setPen(QPen(theme.p.accent, 1))
                painter.drawPolyline(QPolygonF([QPointF(x(a), base), *ends, QPointF(x(b), base)]))
                painter.setBrush(theme.p.high)
                for i, end in enumerate(ends, 1):
                    painter.drawRect(QRectF(end.x() - 2.5, end.y() - 2.5, 5, 5))
                    self._handles.append((end, n, i))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.p.ink)
        for n, t in enumerate(self._pegs):
            painter.drawEllipse(QPointF(x(t), base), 3, 3)
            self._handles.insert(0, (QPointF(x(t), base), n, 0))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        here = event.position()
        near = [(h[0] - here).manhattanLength() for h in self._handles]
        n = int(np.argmin(near)) if near else -1
        self._grab = self._handles[n][1:] if near and near[n] < 14 and len(self._pegs) > 1 else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._grab is None:
            return
        left, right, first, last = self._span
        time = first + (event.position().x() - left) / max(right - left, 1.0) * (last - first)
        n, kind = self._grab
        if kind == 0:
            self.pegged.emit(n, time)
            return
        ease = self._eases[n] if n < len(self._eases) else None
        if ease is None:
            return
        a, b = self._pegs[n], self._pegs[n + 1]
        share = min(max((time - a) / max(b - a, 1e-6), 0.0), 1.0)
        start, end = (min(share, 1 - ease[1]), ease[1]) if kind == 1 else (ease[0], min(1 - share, 1 - ease[0]))
        self.eased.emit(n, max(start, 0.0), max(end, 0.0))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grab is not None:
            self._grab = None
            self.let_go.emit()


class Field(Plot):
    """A value in each place of the delivered picture: darker where it is lower, with figures; NaN where there is none."""

    def __init__(self, title: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self._values: Array = np.zeros((0, 0))

    def show_field(self, values: Array, note: str = "") -> None:
        self._values, self.note = values, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._values.size:
            return
        rows, columns = self._values.shape
        w, h = body.width() / columns, body.height() / rows
        for i in range(rows):
            for j in range(columns):
                value = float(self._values[i, j])
                box = QRectF(body.left() + j * w, body.top() + i * h, w + 0.5, h + 0.5)
                if np.isfinite(value):
                    grey = int(np.clip(70 + 150 * value, 70, 235))
                    painter.fillRect(box, QColor(grey, grey, grey))
                else:
                    painter.fillRect(box, QColor(20, 20, 20))
        painter.setFont(font(8))
        for i in sorted({0, rows // 2, rows - 1}):
            for j in sorted({0, columns // 2, columns - 1}):
                value = float(self._values[i, j])
                words = f"{value:.2f}" if np.isfinite(value) else "none"
                wide = painter.fontMetrics().horizontalAdvance(words) + 6
                x = min(max(body.left() + (j + 0.5) * w - wide / 2, body.left() + 2), body.right() - wide - 2)
                y = min(max(body.top() + (i + 0.5) * h - 7, body.top() + 2), body.bottom() - 16)
                painter.fillRect(QRectF(x, y, wide, 14), theme.p.high)
                painter.setPen(theme.p.ink)
                painter.drawText(QRectF(x, y, wide, 14), Qt.AlignmentFlag.AlignCenter, words)


@dataclass
class Framed:
    """One delivered shape: its picture once it has come, and what a player of it covers or cuts."""

    words: str
    shape: float
    picture: QImage | None = None
    title_safe: float | None = None
    covered: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    current: bool = False


def draw_safe(
    painter: QPainter, box: QRectF, title_safe: float | None, covered: tuple[float, float, float, float]
) -> None:
    """Dotted: titles are surely seen inside; shaded: a usual player lays its own things over."""
    if title_safe is not None:
        painter.setPen(QPen(QColor(255, 255, 255, 150), 1, Qt.PenStyle.DotLine))
        m = (1 - title_safe) / 2
        painter.drawRect(box.adjusted(m * box.width(), m * box.height(), -m * box.width(), -m * box.height()))
    left, up, right, down = covered
    middle = (box.top() + box.height() * up, box.height() * (1 - up - down))
    for part in (
        QRectF(box.left(), box.top(), box.width(), box.height() * up),
        QRectF(box.left(), box.bottom() - box.height() * down, box.width(), box.height() * down),
        QRectF(box.left(), middle[0], box.width() * left, middle[1]),
        QRectF(box.right() - box.width() * right, middle[0], box.width() * right, middle[1]),
    ):
        painter.fillRect(part, QColor(40, 38, 34, 130))


class Shapes(Plot):
    """All delivered shapes side by side, to one height or width, each with its safe area; one of them is in hand."""

    picked = Signal(int)

    def __init__(self, title: str, stretch: int = 3) -> None:
        super().__init__(title, stretch)
        self.frames: list[Framed] = []
        self._boxes: list[QRectF] = []

    def show_frames(self, frames: list[Framed], note: str = "") -> None:
        self.frames, self.note = frames, note
        self.update()

    def show_picture(self, index: int, picture: QImage) -> None:
        if index < len(self.frames):
            self.frames[index].picture = picture
            self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        painter.fillRect(body, MAT)
        if not self.frames:
            return
        gap, top = 12.0, body.top() + 8
        tall = body.height() - 28
        wide = sum(tall * f.shape for f in self.frames)
        k = min(1.0, (body.width() - gap * (len(self.frames) + 1)) / wide)
        x = body.left() + (body.width() - wide * k - gap * (len(self.frames) - 1)) / 2
        self._boxes = []
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for f in self.frames:
            box = QRectF(x, top + (tall - tall * k) / 2, tall * k * f.shape, tall * k)
            self._boxes.append(box)
            if f.picture is not None:
                painter.drawImage(box, f.picture)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            draw_safe(painter, box, f.title_safe, f.covered)
            painter.setPen(QPen(theme.p.accent if f.current else QColor(255, 255, 255, 120), 2 if f.current else 1))
            painter.drawRect(box)
            painter.setPen(QColor("#FFFFFF"))
            painter.setFont(font(8))
            painter.drawText(
                QRectF(box.left() - 8, body.bottom() - 18, box.width() + 16, 16), Qt.AlignmentFlag.AlignCenter, f.words
            )
            x += box.width() + gap

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        for i, box in enumerate(self._boxes):
            if box.contains(event.position()):
                self.picked.emit(i)
