"""The distance at which two lenses meet, as a handle in the picture."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from .looking import OVER

NEAREST, FARTHEST = 0.3, 30.0  # metres; what lies beyond is far away
LEFT, RIGHT, AT, HIGH = 0.15, 0.85, 0.93, 0.05  # of the picture: where it begins and ends, how low it lies, and how near to it one may press
MARKS = (0.5, 1.0, 2.0, 5.0, 10.0)


def place_of(distance: float | None) -> float:
    """Share of the way along; far away at its end.

    >>> place_of(NEAREST), round(place_of(3.0), 3), place_of(None)
    (0.0, 0.475, 1.0)
    """
    if distance is None:
        return 1.0
    return min(max(0.95 * math.log(distance / NEAREST) / math.log(FARTHEST / NEAREST), 0.0), 0.95)


def distance_at(place: float) -> float | None:
    """The other way, to two figures; None: far away."""
    if place > 0.975:
        return None
    metres = NEAREST * (FARTHEST / NEAREST) ** (min(max(place, 0.0), 0.95) / 0.95)
    return round(metres, 2 if metres < 1 else 1)


class Reach:
    """Drawn over the picture and dragged on it. ``shown``: is there anything for it to change?"""

    def __init__(self) -> None:
        self.shown = self.held = False
        self.distance: float | None = None

    def pressed(self, place: QPointF) -> bool:
        """Is it taken hold of by a press at a place 0 … 1 of the picture, or held already?"""
        on_it = abs(place.y() - AT) < HIGH and LEFT - 0.03 < place.x() < RIGHT + 0.03
        self.held = self.shown and (self.held or on_it)
        return self.held

    def moved(self, place: QPointF) -> float | None:
        self.distance = distance_at((place.x() - LEFT) / (RIGHT - LEFT))
        return self.distance

    def draw(self, painter: QPainter, rect: QRectF) -> None:
        if not self.shown:
            return
        y = rect.top() + AT * rect.height()

        def x(share: float) -> float:
            return rect.left() + rect.width() * (LEFT + (RIGHT - LEFT) * share)

        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        band = QRectF(x(0) - 16, y - 26, x(1) - x(0) + 46, 44)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(0, 0, 0, 120))
        painter.drawRoundedRect(band, 6, 6)
        painter.setPen(QPen(QColor(255, 255, 255, 200), 1.5))
        painter.drawLine(QPointF(x(0), y), QPointF(x(1), y))
        small = painter.font()
        small.setPixelSize(11)
        painter.setFont(small)
        for share, words in [*((place_of(m), f"{m:g}") for m in MARKS), (1.0, "far")]:
            painter.drawLine(QPointF(x(share), y - 4), QPointF(x(share), y + 4))
            painter.drawText(QRectF(x(share) - 20, y + 4, 40, 14), Qt.AlignmentFlag.AlignHCenter, words)
        at = x(place_of(self.distance))
        painter.setBrush(QColor(OVER))
        painter.drawEllipse(QPointF(at, y), 6, 6)
        words = "meet far away" if self.distance is None else f"meet {self.distance:g} m away"
        painter.drawText(QRectF(min(max(at - 60, band.left()), band.right() - 120), y - 25, 120, 14), Qt.AlignmentFlag.AlignHCenter, words)
