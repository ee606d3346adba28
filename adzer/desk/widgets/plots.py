"""The instruments: plots by which a stage is judged. They draw what they are given; nothing is measured here."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from ..theme import fitting, font, theme

Array = NDArray[np.float64]
WRAPPED = int(Qt.TextFlag.TextWordWrap)


TITLE = 22  # pixels of the title's line


class Plot(QWidget):
    """A titled panel. Subclasses draw inside ``body`` in ``draw``; ``dark`` ones judge light, so they are dark in both lights.
    A click on the title asks that it unfold to the full width, or fold back (``wide``), where it ``unfolds``."""

    dark = False
    unfolds = True
    unfolded = Signal()

    def __init__(self, title: str, stretch: int = 1) -> None:
        super().__init__()
        self.title, self.note, self.stretch = title, "", stretch
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(120, 110)
        self.setAccessibleName(title)
        self.wide = False

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.unfolds and event.position().y() < TITLE:
            self.unfolded.emit()

    def body(self) -> QRectF:
        return QRectF(0.5, 24.5, self.width() - 1, self.height() - 25)

    def ink(self) -> QColor:
        return theme.p.plot_ink if self.dark else theme.p.ink

    def faint(self) -> QColor:
        return QColor(110, 108, 104) if self.dark else theme.p.line

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(9, bold=True))
        painter.setPen(p.ink)
        top = QRectF(0, 0, self.width(), 20)
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.title)
        used = painter.fontMetrics().horizontalAdvance(self.title) + 24
        painter.setPen(QPen(p.quiet, 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        x, tip = used - 14.0, 7.5 if not self.wide else 12.5  # an angle that opens, or closes
        if self.unfolds:
            painter.drawPolyline(QPolygonF([QPointF(x - 3.5, 20 - tip), QPointF(x, tip), QPointF(x + 3.5, 20 - tip)]))
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        note = fitting(self.note, painter.fontMetrics(), self.width() - used)
        painter.drawText(top, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, note)
        body = self.body()
        painter.fillRect(body, p.plot if self.dark else p.high)
        painter.setPen(QPen(p.line, 1))
        painter.drawRect(body)
        painter.setClipRect(body)
        self.draw(painter, body)

    def draw(self, painter: QPainter, body: QRectF) -> None:
        raise NotImplementedError

    def text(self, painter: QPainter, x: float, y: float, words: str, right: bool = False) -> None:
        """Small words with their base line at (x, y)."""
        painter.setFont(font(8))
        shift = painter.fontMetrics().horizontalAdvance(words) if right else 0
        painter.drawText(QPointF(x - shift, y), words)

    def centred(self, painter: QPainter, x: float, y: float, words: str) -> None:
        """The same about x."""
        painter.setFont(font(8))
        self.text(painter, x - painter.fontMetrics().horizontalAdvance(words) / 2, y, words)


class Histogram(Plot):
    """Shares over 0–1 of an axis, with named places marked on it."""

    def __init__(self, title: str, stretch: int = 2, dark: bool = False) -> None:
        super().__init__(title, stretch)
        self.dark = dark
        self._shares: Array = np.zeros(1)
        self._marks: list[tuple[float, str]] = []
        self._low, self._high = 0.0, 1.0

    def show_shares(
        self, shares: Array, low: float, high: float, marks: Sequence[tuple[float, str]] = (), note: str = ""
    ) -> None:
        self._shares, self._low, self._high, self._marks, self.note = shares, low, high, list(marks), note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        n = max(40, int(body.width() / 2))
        edges = np.linspace(0, len(self._shares), n + 1).astype(int)
        sums = np.array(
            [
                self._shares[a:b].max(initial=0.0)
                for a, b in zip(edges[:-1], np.maximum(edges[1:], edges[:-1] + 1), strict=True)
            ]
        )
        peak = max(float(np.quantile(sums, 0.99)), 1e-9)
        heights = np.clip(np.sqrt(sums / peak), 0, 1) * (body.height() - 30)
        points = [QPointF(body.left(), body.bottom())]
        points += [
            QPointF(body.left() + (i + 0.5) / n * body.width(), body.bottom() - float(v)) for i, v in enumerate(heights)
        ]
        points.append(QPointF(body.right(), body.bottom()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(200, 194, 180) if self.dark else theme.p.quiet)
        painter.drawPolygon(QPolygonF(points))
        painter.setFont(font(8))
        taken: list[QRectF] = []
        for at, words in sorted(self._marks):
            x = body.left() + (at - self._low) / (self._high - self._low) * body.width()
            painter.setPen(QPen(theme.p.accent, 1.2))
            painter.drawLine(QPointF(x, body.top() + 2), QPointF(x, body.bottom()))
            painter.setPen(theme.p.accent if self.dark else theme.p.accent_text)
            box = _free_place(body, x, painter.fontMetrics().horizontalAdvance(words) + 2.0, taken)
            taken.append(box)
            self.text(painter, box.left() + 1, box.top() + 10, words)


def _free_place(body: QRectF, x: float, wide: float, taken: list[QRectF]) -> QRectF:
    """Where a line's word goes: right of it, else left, in the first row in which it touches no other word."""
    for row in range(4):
        for left in (x + 3, x - 3 - wide):
            box = QRectF(left, body.top() + 2 + 12 * row, wide, 12)
            if body.left() <= left and box.right() <= body.right() and not any(box.adjusted(-4, 0, 4, 0).intersects(t) for t in taken):
                return box
    return QRectF(x + 3, body.top() + 2, wide, 12)


ROW = 15.5  # pixels a line of a table is high; what does not fit is named in the last one


class Table(Plot):
    """Rows of short texts in columns, the first quiet; for what a file says and how it is known."""

    def __init__(self, title: str, shares: Sequence[float], stretch: int = 3, rest: str = "also") -> None:
        super().__init__(title, stretch)
        self._shares, self._rows, self._rest = shares, list[tuple[str, ...]](), rest

    def show_rows(self, rows: Sequence[tuple[str, ...]], note: str = "") -> None:
        self._rows, self.note = list(rows), note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._rows:
            return
        painter.setFont(font(8.5))
        most = [share * (body.width() - 16) for share in self._shares]
        metrics = painter.fontMetrics()
        widths = [max(metrics.horizontalAdvance(row[j]) for row in self._rows) + 14.0 for j in range(len(most) - 1)]
        widths = [min(max(w, m), (0.3 if len(most) > 2 else 0.5) * body.width()) for w, m in zip(widths, most, strict=False)]
        widths.append(body.width() - 16 - sum(widths))
        y, left = body.top() + 3, list(self._rows)
        while left:
            row = left[0]
            high = self._height(painter, row, widths)
            last = y + high > body.bottom() - 2 - (ROW if len(left) > 1 else 0)
            if last and (len(left) > 1 or y + high > body.bottom()):  # the rest is named in what room there is
                row = (f"+ {len(left)}", *[""] * (len(widths) - 2), f"{self._rest}: {', '.join(r[0] for r in left)}")
                left = left[:1]
                high = self._height(painter, row, widths)
            x = body.left() + 8
            for j, (cell, w) in enumerate(zip(row, widths, strict=True)):
                painter.setPen(theme.p.ink if j == 1 else theme.p.quiet)
                painter.drawText(QRectF(x, y, w - 6, high), WRAPPED, cell)
                x += w
            y += high
            left = left[1:]

    @staticmethod
    def _height(painter: QPainter, row: tuple[str, ...], widths: Sequence[float]) -> float:
        """Of a row whose cells are wrapped."""
        boxes = [painter.boundingRect(QRectF(0, 0, w - 6, 1e4), WRAPPED, cell) for cell, w in zip(row, widths, strict=True)]
        return max(ROW, *(b.height() + 1 for b in boxes))
