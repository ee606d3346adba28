"""Read's instruments: how evenly frames come, and how it is known what form the picture has."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.picture import Picture
from ....core.read.projection import POLE, SEAM
from ....core.read.seen import Halves, Seen, Wrap
from ...theme import theme
from ...widgets.plots import Plot

Array = NDArray[np.float64]


class FormPlot(Plot):
    """Shows what decides: for two eyes the shift of every block over its height; for a sphere its poles and seam."""

    def __init__(self) -> None:
        super().__init__("Form", 2)
        self._wrap: Wrap | None = None
        self._halves: Halves | None = None

    @property
    def has_something(self) -> bool:
        return self._wrap is not None or self._halves is not None

    def show_seen(self, seen: Seen | None, picture: Picture) -> None:
        self._wrap = self._halves = None
        if seen is not None and picture.eyes not in (None, "one") and seen.halves and seen.halves.places:
            self._halves = seen.halves
            self.title = "Shift"
            first = "left" if seen.halves.slope > 0 else "right"
            self.note = f"near things {'right' if seen.halves.slope > 0 else 'left'}: {first} eye first"
        elif seen is not None and picture.projection == "equirectangular":
            self._wrap = seen.wrap
            self.title = "Closes?"
            self.note = f"sphere: {POLE}, {SEAM} at most"
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if self._halves is not None:
            self._draw_halves(painter, body, self._halves)
        elif self._wrap is not None:
            self._draw_wrap(painter, body, self._wrap)

    def _draw_halves(self, painter: QPainter, body: QRectF, h: Halves) -> None:
        """Each block a dot: across, its shift; down, its height in the picture. The line is the trend that tells the eyes."""
        d = np.array([p[1] for p in h.places])
        reach = max(float(np.percentile(np.abs(d - np.median(d)), 97)), abs(h.slope), 0.4) * 1.3
        middle = float(np.median(d))

        def at(shift: float, height: float) -> QPointF:
            x = body.center().x() + (shift - middle) / reach * (body.width() / 2 - 8)
            return QPointF(x, body.top() + 16 + height * (body.height() - 34))

        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.p.quiet)
        for height, shift in h.places:
            painter.drawEllipse(at(shift, height), 1.8, 1.8)
        painter.setPen(QPen(theme.p.accent, 1.8))
        centre = float(np.median([p[0] for p in h.places]))
        painter.drawLine(at(middle - h.slope * centre, 0.0), at(middle + h.slope * (1 - centre), 1.0))
        painter.setPen(theme.p.ink)
        self.text(painter, body.left() + 6, body.top() + 12, "above, far")
        self.text(painter, body.left() + 6, body.bottom() - 5, "below, near")
        self.text(painter, body.right() - 6, body.top() + 12, f"agree {h.agree:.0%}", right=True)

    def _draw_wrap(self, painter: QPainter, body: QRectF, w: Wrap) -> None:
        """Left: how much rows vary, top to bottom. Right: the two outer columns, which must agree if the picture closes."""
        half = body.width() / 2
        rows = np.array(w.rows)
        top = max(float(rows.max()), 1e-4)
        n = len(rows)
        left = [QPointF(body.left() + 10 + v / top * (half - 24), body.top() + 16 + i / (n - 1) * (body.height() - 34))
                for i, v in enumerate(rows.tolist())]  # fmt: skip
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.p.ink, 1.6))
        painter.drawPolyline(QPolygonF(left))
        both = np.array([w.left, w.right])
        low, high = float(both.min()), float(both.max())
        for values, pen in (
            (both[0], QPen(theme.p.ink, 1.6)),
            (both[1], QPen(theme.p.accent, 1.4, Qt.PenStyle.DashLine)),
        ):
            points = [
                QPointF(body.left() + half + 8 + (v - low) / max(high - low, 1e-4) * (half - 18),
                        body.top() + 16 + i / (n - 1) * (body.height() - 34))
                for i, v in enumerate(values.tolist())
            ]  # fmt: skip
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(points))
        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(body.left() + half, body.top()), QPointF(body.left() + half, body.bottom()))
        painter.setPen(theme.p.ink)
        self.text(painter, body.left() + 6, body.top() + 12, "rows vary")
        self.text(painter, body.left() + half + 6, body.top() + 12, "outer edges")
        painter.setPen(theme.p.quiet)
        self.text(painter, body.left() + 6, body.bottom() - 5, f"poles {w.poles:.2f}")
        self.text(painter, body.left() + half + 6, body.bottom() - 5, f"seam {w.seam:.1f}")


class Trace(Plot):
    """A value for each of many moments, as dots over time, with the least and the most written at the edge."""

    def __init__(self, title: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self._values: Array = np.zeros(0)

    def show_values(self, values: Array, note: str = "") -> None:
        self._values, self.note = values, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not len(self._values):
            return
        low, high = float(self._values.min()), float(self._values.max())
        middle = float(np.median(self._values))
        reach = max(high - middle, middle - low, middle * 0.1, 1e-6)

        def y(value: float) -> float:
            return body.center().y() - (value - middle) / reach * (body.height() / 2 - 18)

        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(body.left(), y(middle)), QPointF(body.right(), y(middle)))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.p.quiet)
        step = (body.width() - 16) / len(self._values)
        for i, value in enumerate(self._values):
            painter.drawEllipse(QPointF(body.left() + 8 + (i + 0.5) * step, y(float(value))), 1.6, 1.6)
        painter.setPen(theme.p.ink)
        self.text(painter, body.left() + 6, body.top() + 12, f"most {high:.2f}")
        self.text(painter, body.left() + 6, body.bottom() - 6, f"least {low:.2f}")
