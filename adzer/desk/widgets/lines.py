"""Values over time."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF

from ..theme import font, theme
from ..widgets.plots import Array, Plot


def _beside(body: QRectF, columns: Array, courses: list[Array], own: int, about: float, wide: float, taken: list[QRectF]) -> QRectF:
    """Where a line's name goes: just above or below it, where that touches as little as can be, ``about`` that share of the way. ``courses``: how
    high each line lies in each of ``columns``."""
    best, least = QRectF(), float("inf")
    for share in np.linspace(0, 1, 41):
        left = body.left() + 8 + share * max(body.width() - 16 - wide, 0)
        under = (columns >= left) & (columns <= left + wide)
        if not under.any():
            continue
        line = courses[own][under]
        for top in (float(line.min()) - 15, float(line.max()) + 2):
            box = QRectF(left, top, wide, 13)
            crossed = sum(float(((c[under] > top) & (c[under] < top + 13)).sum()) for c in courses)
            crossed += 60 * sum(box.intersects(t) for t in taken) + 60 * (not body.contains(box))
            if (cost := crossed + 20 * abs(share - about)) < least:
                best, least = box, cost
    return best


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
        least = min([float(v.min()) for _, v in self._lines] + [v for v, _ in self._limits] + [0.0])
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
            self.text(painter, body.right() - 5, y(limit) - 3, f"{name} {limit:.3g}".replace("-", "−"), right=True)
        columns = np.arange(body.left(), body.right())
        across = np.array([x(float(t)) for t in self._times])
        courses = [np.interp(columns, across, [y(float(v)) for v in values]) for _, values in self._lines]
        top = f"{most:.3g} {self.unit}"
        painter.setFont(font(8))
        words = painter.fontMetrics().horizontalAdvance
        corner, now = body.left() + 5, x(self._now)
        corner = now + 4 if corner - 3 < now < corner + words(top) else corner
        taken = [QRectF(corner, body.top(), words(top), 14)]
        for i, (name, values) in enumerate(self._lines):
            painter.setPen(QPen(theme.p.ink, 1.5, self.STYLES[i % 3]))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF([QPointF(a, y(float(v))) for a, v in zip(across, values, strict=True)]))
            if not name:
                continue
            painter.setPen(theme.p.ink)
            # Names stand apart even where lines meet.
            box = _beside(body, columns, courses, i, 0.12 + 0.3 * i, words(name), taken)
            taken.append(box)
            self.text(painter, box.left(), box.bottom() - 3, name)
        self._span = (x(first), x(last), first, last)
        self._draw_pegs(painter, body.bottom() - 5, x)
        painter.setPen(QPen(theme.p.ink, 1.5))
        painter.drawLine(QPointF(now, body.top()), QPointF(now, body.bottom()))
        painter.setPen(theme.p.quiet)
        self.text(painter, corner, body.top() + 11, top)

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
