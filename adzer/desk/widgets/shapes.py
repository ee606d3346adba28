"""All delivered shapes at once."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPen

from ..theme import MAT, MAT_INK, font, theme
from ..widgets.plots import Plot


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
            painter.setPen(MAT_INK)
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
