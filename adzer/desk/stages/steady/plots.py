"""How much of a shake is how fast, before and after."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from ...theme import theme
from ...widgets.plots import Array, Plot


class Thirds(Plot):
    """A bar for each third of an octave: outlined as it was held, filled as it is laid."""

    def __init__(self, title: str, stretch: int) -> None:
        super().__init__(title, stretch)
        self.hz: Array = np.zeros(0)
        self.before: Array = np.zeros(0)
        self.after: Array | None = None
        self.unit = "px"

    def show_thirds(self, hz: Array, before: Array, after: Array | None, unit: str) -> None:
        self.hz, self.before, self.after, self.unit = hz, before, after, unit
        self.note = f"{unit} rms in thirds of octaves" + ("" if after is None else " · filled: left, as reckoned")
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not len(self.hz):
            return
        most = max(float(self.before.max()), 1e-6)
        foot, high = body.bottom() - 17, body.height() - 34
        wide = (body.width() - 16) / len(self.hz)
        for n, hz in enumerate(self.hz):
            x = body.left() + 8 + n * wide
            for value, filled in ((self.before[n], False), (None if self.after is None else self.after[n], True)):
                if value is None:
                    continue
                tall = min(float(value) / most, 1.0) * high
                painter.setPen(QPen(theme.p.ink, 1.2))
                painter.setBrush(theme.p.accent if filled else Qt.BrushStyle.NoBrush)
                painter.drawRect(QRectF(x + 1.5, foot - tall, wide - 3, tall))
            for mark in (0.5, 1, 2, 4, 8, 16):
                if abs(np.log2(hz / mark)) < 1 / 6:
                    painter.setPen(theme.p.quiet)
                    self.text(painter, x + wide / 2 - 4, body.bottom() - 4, f"{mark:g}")
        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(body.left(), foot), QPointF(body.right(), foot))
        painter.setPen(theme.p.quiet)
        self.text(painter, body.right() - 5, body.bottom() - 4, "Hz", right=True)
        self.text(painter, body.left() + 6, body.top() + 13, f"{most:.2g} {self.unit}")
