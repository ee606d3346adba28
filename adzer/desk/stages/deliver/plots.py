"""Deliver's instrument: the frames that leave."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QImage, QPainter, QPen

from ...theme import font, theme
from ...widgets.plots import Plot
from ...widgets.shapes import draw_safe

WRAPPED = int(Qt.TextFlag.TextWordWrap)


@dataclass(frozen=True)
class Leaving:
    """One delivery: its frame and what of it the picture fills (0–1 both ways), what is known of it, line by line, and what a player of it
    cuts or covers."""

    title: str
    raster: tuple[int, int]
    filled: tuple[float, float]
    lines: tuple[str, ...]
    title_safe: float | None = None
    covered: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)


class Frames(Plot):
    """Deliveries to one scale: each one's own picture with its bars and safe areas, and beside it what it comes to. Until its picture has come,
    what it fills is a field."""

    def __init__(self, title: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self.held: list[Leaving] = []
        self._pictures: dict[tuple[str, tuple[int, int]], QImage] = {}

    def show_leaving(self, held: list[Leaving], note: str = "") -> None:
        self.held, self.note = held, note
        there = {(d.title, d.raster) for d in held}
        self._pictures = {key: picture for key, picture in self._pictures.items() if key in there}
        self.update()

    def show_picture(self, index: int, picture: QImage) -> None:
        if index < len(self.held):
            self._pictures[self.held[index].title, self.held[index].raster] = picture
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
            painter.fillRect(frame, theme.p.low)
            inner = QRectF(0, 0, frame.width() * d.filled[0], frame.height() * d.filled[1])
            inner.moveCenter(frame.center())
            if (picture := self._pictures.get((d.title, d.raster))) is not None:
                painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
                painter.drawImage(frame, picture)
                draw_safe(painter, frame, d.title_safe, d.covered)
            else:
                painter.fillRect(inner, theme.p.quiet)
            painter.setPen(QPen(theme.p.ink, 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(frame)
            x, y = frame.right() + 10, cell.top() + 6
            for k, line in enumerate((d.title, *d.lines)):
                painter.setFont(font(9 if k == 0 else 8.5, bold=k == 0))
                painter.setPen(theme.p.ink if k < 2 else theme.p.quiet)
                room = painter.boundingRect(QRectF(x, y, cell.right() - x - 6, high), WRAPPED, line)
                if room.bottom() > cell.bottom() - 2:
                    break
                painter.drawText(QRectF(x, y, cell.right() - x - 6, room.height()), WRAPPED, line)
                y += room.height() + 2
