"""Deliver's instrument: the frames that leave."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from ...theme import font, theme
from ...widgets.plots import Plot

WRAPPED = int(Qt.TextFlag.TextWordWrap)


@dataclass(frozen=True)
class Leaving:
    """One delivery: its frame and what of it the picture fills (0–1 both ways), and what is known of it, line by line."""

    title: str
    raster: tuple[int, int]
    filled: tuple[float, float]
    lines: tuple[str, ...]


class Frames(Plot):
    """Deliveries as frames to one scale, the picture in each as a lighter field, and beside it what it comes to."""

    def __init__(self, title: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self.held: list[Leaving] = []

    def show_leaving(self, held: list[Leaving], note: str = "") -> None:
        self.held, self.note = held, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self.held:
            painter.setPen(theme.p.quiet)
            painter.setFont(font(8.5))
            painter.drawText(body, Qt.AlignmentFlag.AlignCenter, "no delivery is chosen")
            return
        columns = min(max(len(self.held), 2), max(1, int(body.width() // 290)))
        rows = -(-len(self.held) // columns)
        wide, high = body.width() / columns, body.height() / rows
        most = max(r for d in self.held for r in d.raster)
        scale = min(wide * 0.36, high - 20) / most
        for n, d in enumerate(self.held):
            cell = QRectF(body.left() + n % columns * wide, body.top() + n // columns * high, wide, high)
            frame = QRectF(0, 0, d.raster[0] * scale, d.raster[1] * scale)
            frame.moveTopLeft(QPointF(cell.left() + 10, cell.top() + 10))
            painter.setPen(QPen(theme.p.ink, 1))
            painter.setBrush(theme.p.low)
            painter.drawRect(frame)
            inner = QRectF(0, 0, frame.width() * d.filled[0], frame.height() * d.filled[1])
            inner.moveCenter(frame.center())
            painter.fillRect(inner, theme.p.quiet)
            x, y = frame.right() + 10, cell.top() + 6
            for k, line in enumerate((d.title, *d.lines)):
                painter.setFont(font(9 if k == 0 else 8.5, bold=k == 0))
                painter.setPen(theme.p.ink if k < 2 else theme.p.quiet)
                room = painter.boundingRect(QRectF(x, y, cell.right() - x - 6, high), WRAPPED, line)
                if room.bottom() > cell.bottom() - 2:
                    break
                painter.drawText(QRectF(x, y, cell.right() - x - 6, room.height()), WRAPPED, line)
                y += room.height() + 2
