"""The Board's cells: where each lies, and how what a stage says and draws there is laid out."""

from __future__ import annotations

from typing import Protocol

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter

from ..core.job import Shot
from ..core.route import Walk
from ..core.stage import STAGES
from .model import Desk
from .stages.base import Cell
from .stages.colour import cell as colour
from .stages.deliver import cell as deliver
from .stages.develop import cell as develop
from .stages.join import cell as join
from .stages.read import cell as read
from .stages.shape import cell as shape
from .stages.steady import cell as steady
from .theme import draw_mark, fitting, font, theme, worst_level

SHOT_WIDTH = 242
WEIGHTS = {"read": 150, "join": 104, "develop": 112, "steady": 112, "shape": 150, "colour": 160, "deliver": 170}
ROW, COMPACT = 92, 66


class Cells(Protocol):
    """What a stage's ``cell`` module offers."""

    def says(self, desk: Desk, shot: Shot, walked: Walk) -> Cell:
        """All figures come from the walk, the footage or the queue."""
        ...

    def draw(self, painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
        """A small drawing of the stage's own."""
        ...


OF: dict[str, Cells] = {
    "read": read, "join": join, "develop": develop, "steady": steady, "shape": shape, "colour": colour, "deliver": deliver,
}  # fmt: skip


def column_rects(width: float, top: float, height: float) -> dict[str, QRectF]:
    """The seven stages' cells of a row."""
    total, x, rects = sum(WEIGHTS.values()), float(SHOT_WIDTH), {}
    for stage in STAGES:
        w = (width - SHOT_WIDTH) * WEIGHTS[stage] / total
        rects[stage] = QRectF(x, top, w, height)
        x += w
    return rects


def cell(desk: Desk, shot: Shot, stage: str) -> Cell:
    return OF[stage].says(desk, shot, desk.walk(shot))


def draw_cell(painter: QPainter, desk: Desk, shot: Shot, stage: str, rect: QRectF, drawing: bool) -> None:
    """Text, mark and drawing of one cell."""
    p, c = theme.p, cell(desk, shot, stage)
    level = worst_level(desk.walk(shot)[stage].findings)
    painter.setFont(font(9.5))
    middle = Qt.AlignmentFlag.AlignVCenter
    if c.quiet:
        painter.setPen(p.quiet)
        width = rect.width() - (12 if level is None else 34)
        painter.drawText(QRectF(rect.left() + 8, rect.top(), width, rect.height()), middle | Qt.TextFlag.TextWordWrap, c.first)
    else:
        room, top = int(rect.width() - 34), rect.top() + 11
        painter.setPen(p.ink)
        painter.drawText(QRectF(rect.left() + 8, top, room, 18), middle, fitting(c.first, painter.fontMetrics(), room))
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        second = fitting(c.second, painter.fontMetrics(), rect.width() - 14)
        painter.drawText(QRectF(rect.left() + 8, top + 18, rect.width() - 12, 16), middle, second)
    if level is not None:
        draw_mark(painter, QPointF(rect.right() - 16, rect.top() + 20), level)
    elif stage == "deliver" and c.second.endswith("rendered, checked"):
        draw_mark(painter, QPointF(rect.right() - 16, rect.top() + 20), None)
    if drawing:
        OF[stage].draw(painter, desk, shot, QRectF(rect.left() + 8, rect.top() + 54, rect.width() - 40, 27))
