"""What is kept of the picture, and the crop in it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from ....core.job import Shot
from ....core.route import Walk, span_of
from ....core.shape.view import Viewed, outline
from ...model import Desk
from ...theme import theme
from ...words import form_words
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    result = walked["shape"].result
    second = f"keeps {float(result.shaped.framing.kept):.0%}" if result.shaped is not None else ""
    if result.viewed is not None:
        second = f"{'×'.join(map(str, result.viewed.look.size))} · {form_words(walked['shape'].before)}"
    return Cell(result.says, second)


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """The desqueezed picture's outline with the crop in it, to scale."""
    result = desk.walk(shot)["shape"].result
    if result.viewed is not None:
        span = span_of(shot.facts, shot.start, shot.stop)
        _draw_view(painter, result.viewed, box, span[0] if span else result.viewed.look.path.keys[0].t)
    if (shaped := result.shaped) is None:
        return
    f = shaped.framing
    whole_w, whole_h = float(f.desqueezed[0]), float(f.desqueezed[1])
    k = min(box.width() / whole_w, box.height() / whole_h)
    outer = QRectF(box.left(), box.top(), whole_w * k, whole_h * k)
    sx, sy = float(f.scale[0]), float(f.scale[1])
    x, y, w, h = (float(v) for v in f.crop)
    inner = QRectF(outer.left() + x / sx * k, outer.top() + y / sy * k, w / sx * k, h / sy * k)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(outer)
    painter.setPen(QPen(theme.p.accent, 1.3))
    painter.setBrush(theme.p.tint)
    painter.drawRect(inner)


def _draw_view(painter: QPainter, viewed: Viewed, box: QRectF, time: float) -> None:
    """The unrolled recording's outline with the view's true outline in it, as it is at a moment."""
    w, h = viewed.lens.size
    k = min(box.width() / w, box.height() / h)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(QRectF(box.left(), box.top(), w * k, h * k))
    place = viewed.lens.place(outline(viewed.panel, time, 10)) * k
    painter.setPen(QPen(theme.p.accent, 1.3))
    for a, b in zip(place, np.roll(place, -1, axis=0), strict=True):
        if abs(a[0] - b[0]) < w * k / 3:
            painter.drawLine(QPointF(box.left() + a[0], box.top() + a[1]), QPointF(box.left() + b[0], box.top() + b[1]))
