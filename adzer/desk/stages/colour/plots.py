"""Colour's instruments: waveform, what clips, the curve."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from ....core.run.service import Scopes
from ...theme import font, theme
from ...widgets.plots import Plot

Array = NDArray[np.float64]


class Waveform(Plot):
    """Counts of delivered luma per column; 0 and 100 % of the signal are ruled."""

    dark = True

    def __init__(self) -> None:
        super().__init__("Waveform, delivered", 3)
        self._image: QImage | None = None
        self._black, self._white = 64 / 1024, 940 / 1024

    def show_scopes(self, scopes: Scopes, black: float, white: float) -> None:
        """``black`` and ``white``: where 0 and 100 % lie, as shares of all codes."""
        self._black, self._white = black, white
        share = scopes.wave / max(float(scopes.wave.sum(axis=0).max()), 1.0)
        glow = np.clip(np.power(share * 18, 0.5), 0, 1)[::-1]
        rgb = np.empty((*glow.shape, 4), np.uint8)
        for i, c in enumerate((216, 228, 233)):  # blue, green, red of the plot's ink
            rgb[..., i] = (30 + glow * (c - 30)).astype(np.uint8)
        rgb[..., 3] = 255
        h, w = glow.shape
        self._image = QImage(rgb.tobytes(), w, h, w * 4, QImage.Format.Format_RGB32).copy()
        self.note = f"{scopes.over:.1%} over · {scopes.under:.1%} under"
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        low, high = self._black - 0.04, self._white + 0.04
        if self._image is not None:
            h = self._image.height()
            source = QRectF(0, h * (1 - high), self._image.width(), h * (high - low))
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(body, self._image, source)
        for percent in (0, 25, 50, 75, 100):
            v = self._black + (self._white - self._black) * percent / 100
            y = body.bottom() - (v - low) / (high - low) * body.height()
            painter.setPen(QPen(QColor(255, 255, 255, 120 if percent in (0, 100) else 38), 1))
            painter.drawLine(QPointF(body.left(), y), QPointF(body.right(), y))
            painter.setPen(self.ink())
            if percent in (0, 100):
                self.text(painter, body.right() - 5, y + 11 if percent else y - 3, str(percent), right=True)


class Bars(Plot):
    """A bar for each name; on paper, with its value written over it."""

    def __init__(self, title: str, stretch: int = 2, dark: bool = False, digits: int = 1) -> None:
        super().__init__(title, stretch)
        self.dark, self._digits = dark, digits
        self._bars: list[tuple[str, float]] = []

    def show_bars(self, bars: list[tuple[str, float]], note: str = "") -> None:
        self._bars, self.note = bars, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._bars:
            painter.setPen(theme.p.quiet)
            painter.setFont(font(8.5))
            painter.drawText(body, Qt.AlignmentFlag.AlignCenter, "nothing measured yet")
            return
        peak = max(max(v for _, v in self._bars), 1e-9)
        width = (body.width() - 12) / len(self._bars)
        bar = width - 2 if self.dark else min(width * 0.5, 36.0)
        for i, (name, value) in enumerate(self._bars):
            share = np.sqrt(value / peak) if self.dark else value / peak
            h = share * (body.height() - (26 if self.dark else 42))
            x = body.left() + 6 + i * width
            warm = i / max(len(self._bars) - 1, 1)
            glow = QColor(int(110 + 140 * warm), int(104 + 118 * warm), int(92 + 70 * warm))
            box = QRectF(x + (width - bar) / 2, body.bottom() - 17 - h, bar, h)
            painter.fillRect(box, glow if self.dark else theme.p.quiet)
            painter.setFont(font(8))
            painter.setPen(self.ink() if self.dark else theme.p.quiet)
            painter.drawText(QRectF(x - 8, body.bottom() - 15, width + 16, 14), Qt.AlignmentFlag.AlignCenter, name)
            if not self.dark:
                painter.setPen(theme.p.ink)
                over = QRectF(x, box.top() - 16, width, 14)
                painter.drawText(over, Qt.AlignmentFlag.AlignCenter, f"{value:.{self._digits}f}")


class CurvePlot(Plot):
    """Signal over stops from grey: how a curve lays light out, with what the footage uses of it."""

    def __init__(self) -> None:
        super().__init__("Curve", 2)
        self._stops: Array = np.zeros(0)
        self._signal: Array = np.zeros(0)
        self._out: Array | None = None
        self._used: tuple[float, float] | None = None

    def show_curve(
        self, stops: Array, signal: Array, out: Array | None, used: tuple[float, float] | None, note: str
    ) -> None:
        """``out``: the delivered signal for the same light; ``used``: stops that the footage reaches."""
        self._stops, self._signal, self._out, self._used, self.note = stops, signal, out, used, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if len(self._stops) < 2:
            return
        low, high = float(self._stops[0]), float(self._stops[-1])

        def x(stop: float) -> float:
            return body.left() + (stop - low) / (high - low) * body.width()

        def y(signal: float) -> float:
            return body.bottom() - 14 - signal * (body.height() - 24)

        if self._used is not None:
            painter.fillRect(
                QRectF(x(self._used[0]), body.top(), x(self._used[1]) - x(self._used[0]), body.height()), theme.p.tint
            )
        painter.setPen(QPen(self.faint(), 1))
        for stop in range(int(np.ceil(low)), int(high) + 1, 2):
            painter.drawLine(QPointF(x(stop), body.top()), QPointF(x(stop), body.bottom() - 14))
        for level in (0.0, 0.5, 1.0):
            painter.drawLine(QPointF(body.left(), y(level)), QPointF(body.right(), y(level)))
        for curve, pen in ((self._signal, QPen(theme.p.ink, 1.8)), (self._out, QPen(theme.p.accent, 1.8))):
            if curve is not None:
                painter.setPen(pen)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                xs = body.left() + (self._stops - low) / (high - low) * body.width()
                ys = body.bottom() - 14 - curve * (body.height() - 24)
                painter.drawPolyline(QPolygonF(list(map(QPointF, xs.tolist(), ys.tolist()))))
        grey = float(np.interp(0.0, self._stops, self._signal))
        painter.setPen(QPen(theme.p.quiet, 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x(0), body.top()), QPointF(x(0), body.bottom() - 14))
        painter.setPen(theme.p.ink)
        self.text(painter, x(0) + 5, y(grey) + 14, f"grey {grey:.0%}")
        painter.setPen(theme.p.quiet)
        for stop in range(int(np.ceil(low)) // 4 * 4, int(high) + 1, 4):
            if low < stop < high:
                self.text(painter, x(stop) - 6, body.bottom() - 3, f"{stop:+d}" if stop else "0")
