"""What is done to the signal, and its curve."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.job import Shot
from ....core.route import Walk
from ...model import Desk
from ...theme import theme
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    chain = walked.draft.chain
    return Cell(walked["colour"].result.says, "" if chain is None else f"middle grey {chain.grey:.0%}")


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """Delivered signal over recorded signal; a straight line where nothing is changed."""
    chain = desk.walk(shot).draft.chain
    box = QRectF(box.left(), box.top(), box.height() * 1.2, box.height())
    painter.setPen(QPen(theme.p.line, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(box)
    x = np.linspace(0, 1, 24)
    if chain is None:
        y = x
    else:
        y = chain.tone(chain.decode(x) * chain.gain)
    painter.setPen(QPen(theme.p.ink, 1.6))
    points = [QPointF(box.left() + u * box.width(), box.bottom() - v * box.height()) for u, v in zip(x, y, strict=True)]
    painter.drawPolyline(QPolygonF(points))
