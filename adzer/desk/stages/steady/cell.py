"""How a shot shakes, and its trace."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.job import Shot
from ....core.route import Walk
from ....core.steady.measure import Shake, words
from ....core.steady.step import found_of, lens_of
from ...model import Desk
from ...theme import theme
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    """Nothing, where nobody has measured it."""
    found = found_of(walked["steady"].before, walked.draft, walked.route.steady, desk.found(shot))
    if found is None:
        return Cell("", quiet=True)
    told = words(found)
    if told.endswith("evenly") or told.startswith("turns evenly"):  # 17 px/s, evenly
        much = f"{found.goes:.0f} px/s" if isinstance(found, Shake) and found.goes else ""
        much = much or f"{found.rolls if isinstance(found, Shake) else found.fastest:.1f}°/s"
        first, second = f"goes {much}" if "px" in much else f"turns {much}", "evenly"
    else:
        first, _, second = told.removeprefix("shakes ").partition(" at ")
    if walked.route.steady.method != "off":
        second = walked["steady"].result.says
    return Cell(first, second.replace(", ", " · "))


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """How far it is off to the right and down, over the shot; as high as the box are 8 pixels, or 4° of a sphere, or the most that it is off. Where
    it is held, that is faint, and what is left lies over it."""
    trace = desk.trace(shot)
    if trace is None or len(trace) < 2:
        return
    walked = desk.walk(shot)
    least = 8.0 if lens_of(walked["steady"].before, walked.draft) is None else 4.0
    few = slice(None, None, max(1, len(trace) // 120))
    kept, laid = trace[few, :2], desk.laid(shot)
    scale = box.height() / 2 / max(least, float(np.abs(kept).max()))
    painter.setPen(QPen(theme.p.line, 1))
    painter.drawLine(QPointF(box.left(), box.center().y()), QPointF(box.right(), box.center().y()))
    x = np.linspace(box.left(), box.right(), len(kept))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    lines = [(kept, 1, theme.p.quiet), (kept, 0, theme.p.ink)]
    if laid is not None and len(laid) == len(trace):
        lines = [(kept, 1, theme.p.line), (kept, 0, theme.p.line), (laid[few], 1, theme.p.quiet), (laid[few], 0, theme.p.ink)]
    for values, column, colour in lines:
        painter.setPen(QPen(colour, 1.1))
        painter.drawPolyline(QPolygonF([QPointF(u, box.center().y() + v * scale) for u, v in zip(x, values[:, column], strict=True)]))
