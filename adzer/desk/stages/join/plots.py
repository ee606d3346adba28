"""Join's instruments: where two lenses meet, and how well they agree there."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ....core.join.rig import Error
from ...theme import theme
from ...widgets.plots import Plot


class Ring(Plot):
    """The way round on which two lenses meet, unrolled from below over the left, the top and the right: the seam as a line, and how far
    each thing there tears as a bar, up where it is nearer than what meets, down where it is farther."""

    def __init__(self) -> None:
        super().__init__("Where they meet", 2)
        self._tears: Sequence[tuple[float, float]] = ()
        self._seam: Sequence[float] = ()
        self._most = 1.0

    def show_ring(self, tears: Sequence[tuple[float, float]], seam: Sequence[float], wide: int) -> None:
        """``tears``: degrees round from straight up to the right, pixels of ``wide``; ``seam``: degrees nearer to the first lens."""
        self._tears, self._seam = tears, seam
        self._most = max(8.0, max((abs(t) for _, t in tears), default=0.0))
        self.note = f"bars: things that tear, at most {self._most:.0f} px of {wide} · line: the seam" if tears else "not measured yet"
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        inner = body.adjusted(10, 8, -10, -20)
        middle, half = inner.center().y(), inner.height() / 2

        def x(turned: float) -> float:
            return inner.left() + ((turned + 180) % 360) / 360 * inner.width()

        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(inner.left(), middle), QPointF(inner.right(), middle))
        painter.setPen(QPen(theme.p.ink, 2))
        for turned, tear in self._tears:
            painter.drawLine(QPointF(x(turned), middle), QPointF(x(turned), middle - tear / self._most * half * 0.9))
        if self._seam:
            painter.setPen(QPen(theme.p.accent, 1.8))
            n, high = len(self._seam), half / 10  # ten degrees fill the half
            line = sorted(((360 * i / n + 180) % 360, v) for i, v in enumerate(self._seam))
            line.append((360.0, line[0][1]))
            painter.drawPolyline(QPolygonF([QPointF(inner.left() + t / 360 * inner.width(), middle - v * high) for t, v in line]))
        painter.setPen(theme.p.quiet)
        for share, word in enumerate(("below", "left", "up", "right", "below")):
            at = inner.left() + share / 4 * inner.width()
            self.text(painter, min(max(at, inner.left() + 2), inner.right() - 30) if share in (0, 4) else at - 10, body.bottom() - 5, word)


class Disagreement(Plot):
    """By how much two fitted lenses still see the same thing in different places, by its angle from the first one's axis: a bar of
    degrees each, with the recorded pixels that it is."""

    def __init__(self) -> None:
        super().__init__("What is left, by angle", 2)
        self._errors: Sequence[Error] = ()

    def show_errors(self, errors: Sequence[Error]) -> None:
        self._errors = sorted(errors, key=lambda e: -e.height)
        self.note = "from the first lens's axis"
        rows = [f"{90 - e.height:.0f}° from the first lens's axis: {e.degrees:.3f}°, {e.pixels:.1f} px, of {e.pieces} pieces" for e in self._errors]
        self.setToolTip("\n".join(rows))
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._errors:
            return
        inner = body.adjusted(10, 30, -10, -20)
        step, most = inner.width() / len(self._errors), max(max(e.degrees for e in self._errors), 1e-6)
        painter.setPen(QPen(self.faint(), 1))
        painter.drawLine(QPointF(inner.left(), inner.bottom()), QPointF(inner.right(), inner.bottom()))
        for n, error in enumerate(self._errors):
            middle, high = inner.left() + (n + 0.5) * step, inner.height() * error.degrees / most
            wide = min(step * 0.3, 10.0)
            painter.fillRect(QRectF(middle - wide / 2, inner.bottom() - high, wide, high), theme.p.ink)
            painter.setPen(theme.p.ink)
            self.centred(painter, middle, inner.bottom() - high - 15, f"{error.degrees:.2f}°")
            self.centred(painter, middle, inner.bottom() - high - 4, f"{error.pixels:.1f} px")
            painter.setPen(theme.p.quiet)
            self.centred(painter, middle, body.bottom() - 5, f"at {90 - error.height:.0f}°")
