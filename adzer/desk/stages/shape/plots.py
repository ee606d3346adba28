"""Shape's instruments: pictures to scale, and how much resolution a view leaves."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...theme import font, theme
from ...widgets.plots import Plot

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Outline:
    """A rectangle to scale in a figure: width, height and place in common units."""

    words: str
    width: float
    height: float
    x: float = 0.0
    y: float = 0.0
    filled: bool = False
    accent: bool = False


class ScaleFigure(Plot):
    """Groups of rectangles side by side, all drawn to one scale, with words under each group."""

    def __init__(self, title: str, stretch: int = 3) -> None:
        super().__init__(title, stretch)
        self._groups: list[list[Outline]] = []

    def show_groups(self, groups: list[list[Outline]], note: str = "") -> None:
        self._groups, self.note = groups, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._groups:
            return
        tall = max(o.height for g in self._groups for o in g)
        wide = max(o.width for g in self._groups for o in g)
        column = body.width() / len(self._groups)
        k = min((body.height() - 52) / tall, (column - 22) / wide)
        for n, group in enumerate(self._groups):
            w = max(o.width for o in group) * k
            h = max(o.height for o in group) * k
            x = body.left() + (n + 0.5) * column - w / 2
            top = body.top() + 8 + (body.height() - 52 - h) / 2
            for o in group:
                box = QRectF(x + o.x * k, top + o.y * k, o.width * k, o.height * k)
                if o.filled:
                    painter.fillRect(box, theme.p.tint)
                painter.setPen(QPen(theme.p.accent if o.accent else theme.p.ink, 1.4))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box)
            painter.setPen(theme.p.ink)
            painter.setFont(font(8))
            for i, line in enumerate(group[0].words.split("\n")):
                area = QRectF(body.left() + n * column, body.bottom() - 36 + 14 * i, column, 14)
                painter.setPen(theme.p.ink if i == 0 else theme.p.quiet)
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter, line)


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
