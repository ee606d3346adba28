"""Values over time."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen, QPolygonF

from ..theme import theme
from ..widgets.plots import Array, Plot


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
        self.text(painter, body.left() + 5, body.top() + 11, f"{most:.3g} {self.unit}")

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
