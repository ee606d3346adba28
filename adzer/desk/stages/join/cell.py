"""Which files are one recording, the way on which two lenses meet, and how deep two eyes see."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.join.eyes import EYES, Seen
from ....core.records import from_json
from ....core.route import Walk
from ...model import Desk
from ...theme import theme
from ..base import Cell

REACH = 4.0  # per cent of the width that the cell shows of depth, before and behind the screen


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    """Nothing, where there was nothing to join."""
    facts, two = shot.facts, walked["read"].after.eyes not in (None, "one")
    if walked.draft.rig:
        return Cell(walked["join"].result.says, quiet=True)
    if two and (walked.draft.pair is not None or facts.beside is not None or desk.found(shot).get(EYES)):
        pair = walked.draft.pair
        if pair is None:
            return Cell("two eyes, as recorded", quiet=True)
        if len(pair.eyes) == 1:
            return Cell(f"{pair.first} eye alone", quiet=True)
        return Cell(f"eyes {'beside' if pair.laid == 'side by side' else 'over'}", f"{pair.first} first")
    if facts.beside is not None:
        return Cell("two pictures: eyes or lenses?", quiet=True)
    if facts.files and facts.codec not in ("tiff", "dpx", "exr"):
        frames = len(facts.files) == facts.frames
        return Cell(f"{len(facts.files)} {'frames' if frames else 'chapters'}, one recording", quiet=True)
    return Cell("the other eye waits" if facts.apart is not None else "", quiet=True)


@lru_cache(maxsize=64)
def _depth(body: bytes) -> tuple[float, float] | None:
    try:
        depth = from_json(body, Seen, "What was measured of these eyes").depth
    except AdzerError:
        return None
    return depth.least, depth.most


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """The seam of two lenses, seen along their axis; of two eyes how far they see before and behind the screen."""
    settings = desk.route_of(shot).join
    body = desk.found(shot).get(EYES)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    if settings.met and (seam := settings.met[0].seam):
        far, middle, n = min(box.width(), box.height()) * 0.36, box.center(), len(seam)
        turned = np.radians(np.arange(n + 1) * 360 / n)
        out = far * (1 - np.array((*seam, seam[0])) / 20)
        painter.setPen(QPen(theme.p.accent, 1.3))
        painter.drawPolyline(QPolygonF([QPointF(middle.x() + r * np.sin(t), middle.y() - r * np.cos(t)) for r, t in zip(out, turned, strict=True)]))
    elif body is not None and (depth := _depth(body)) is not None:
        y = box.center().y()
        x = [box.center().x() + np.clip((v + settings.pin) / REACH, -1, 1) * box.width() / 2 for v in depth]
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
        painter.setPen(QPen(theme.p.accent, 3))
        painter.drawLine(QPointF(x[0], y), QPointF(x[1], y))
        painter.setPen(QPen(theme.p.ink, 1.3))
        painter.drawLine(QPointF(box.center().x(), y - 6), QPointF(box.center().x(), y + 6))
