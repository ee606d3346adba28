"""What Develop makes of a shot: its white and exposure, and its noise."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.develop import camera, noise, values
from ....core.develop.step import cleans
from ....core.job import Shot
from ....core.route import Walk
from ...model import Desk
from ...theme import theme
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    held = noise.found(desk.found(shot))
    second = ""
    if cleans(walked.route.develop):
        second = "cleaned"
    elif held is not None:
        known = [s for s, n in zip(held.grain.sigma[0], held.counts, strict=True) if n]
        second = f"σ {min(known):.1f}–{max(known):.1f}" if known else "σ not known"
    s = walked.route.develop
    sensor = values.sensor_of(shot.facts, s)
    if sensor is None:
        return Cell(second, quiet=True)
    kelvin, _ = camera.correlated(camera.white_of(sensor, values.neutral_of(sensor, s)))
    return Cell(f"{kelvin:.0f} K · {s.exposure:+.1f}".replace("-", "−"), second)


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """Noise over level, as it was measured."""
    held = noise.found(desk.found(shot))
    if held is None or sum(1 for n in held.counts if n) < 2:
        return
    box = QRectF(box.left(), box.top(), box.height() * 1.6, box.height())
    known = [(level, s) for level, s, n in zip(held.grain.levels, held.grain.sigma[0], held.counts, strict=True) if n]
    low, high, most = known[0][0], known[-1][0], max(s for _, s in known)
    painter.setPen(QPen(theme.p.line, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawLine(box.bottomLeft(), box.bottomRight())
    painter.setPen(QPen(theme.p.ink, 1.4))
    painter.drawPolyline(QPolygonF([
        QPointF(box.left() + (level - low) / max(high - low, 1e-6) * box.width(), box.bottom() - s / max(most, 1e-6) * box.height() * 0.9)
        for level, s in known
    ]))  # fmt: skip
