"""How a shot shakes, and its trace."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.job import Shot
from ....core.route import Walk
from ....core.steady.measure import words
from ....core.steady.step import found_of, lens_of
from ...model import Desk
from ...theme import theme
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    """Nothing, where nobody has measured it."""
    found = found_of(walked["steady"].before, walked.draft, desk.found(shot))
    if found is None:
        return Cell("", quiet=True)
    first, _, second = words(found).removeprefix("shakes ").partition(" at ")
    if walked.route.steady.method != "off":
        second = walked["steady"].result.says
    return Cell(first, second.replace(", ", " · "))


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """How far it is off to the right and down, over the shot; as high as the box are 8 pixels, or 4° of a sphere, or the most that it is off."""
    trace = desk.trace(shot)
    if trace is None or len(trace) < 2:
        return
    walked = desk.walk(shot)
    least = 8.0 if lens_of(walked["steady"].before, walked.draft) is None else 4.0
    kept = trace[:: max(1, len(trace) // 120), :2]
    scale = box.height() / 2 / max(least, float(np.abs(kept).max()))
    painter.setPen(QPen(theme.p.line, 1))
    painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
    x = np.linspace(box.left(), box.right(), len(kept))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for column, colour in ((1, theme.p.quiet), (0, theme.p.ink)):
        painter.setPen(QPen(colour, 1.1))
        painter.drawPolyline(QPolygonF([QPointF(u, box.center().y() + v * scale) for u, v in zip(x, kept[:, column], strict=True)]))
