"""What a recording is, and its outline."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from ....core.job import Shot
from ....core.light import names as colour_cards
from ....core.read.advise import rate_text
from ....core.route import Walk
from ...model import Desk
from ...theme import theme
from ...words import form_words
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    after = walked["read"].after
    rate = ("~" if after.constant_rate is False else "") + rate_text(after.rate)
    first = f"{colour_cards.title(after.curve)}, {after.bits}-bit" if after.curve else "curve unknown"
    form = form_words(after) or f"{after.raster[0]}×{after.raster[1]}"
    depth = "" if after.curve else f"{after.bits}-bit, "
    return Cell(first, f"{depth}{form} · {rate}")


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """The recorded picture's outline to scale, with what is in it: a sphere's net, a lens's disc, two eyes."""
    picture = desk.walk(shot)["read"].after
    shape = float(picture.shape)
    k = min(box.width(), box.height() * shape)
    outer = QRectF(box.left(), box.top(), k, k / shape)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.drawRect(outer)
    beside = picture.eyes == "side by side"
    halves = [outer]
    if picture.eyes not in (None, "one"):
        w, h = (outer.width() / 2, outer.height()) if beside else (outer.width(), outer.height() / 2)
        halves = [
            QRectF(outer.left() + (w if beside else 0) * i, outer.top() + (0 if beside else h) * i, w, h)
            for i in (0, 1)
        ]
    elif picture.projection == "fisheye" and picture.coverage == "360" and shape > 1.5:
        w = outer.width() / 2
        halves = [QRectF(outer.left() + w * i, outer.top(), w, outer.height()) for i in (0, 1)]
    for half in halves:
        painter.setPen(QPen(theme.p.ink, 1))
        painter.drawRect(half)
        painter.setPen(QPen(theme.p.quiet, 1))
        if picture.projection == "equirectangular":
            for i in (0.25, 0.5, 0.75):
                painter.drawLine(
                    QPointF(half.left() + i * half.width(), half.top()),
                    QPointF(half.left() + i * half.width(), half.bottom()),
                )
            painter.drawLine(QPointF(half.left(), half.center().y()), QPointF(half.right(), half.center().y()))
        elif picture.projection == "fisheye":
            r = min(half.width(), half.height()) * 0.47
            painter.drawEllipse(half.center(), r, r)
