"""The instruments: plots by which a stage is judged. They draw what they are given; nothing is measured here."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from ...core.run.service import Scopes
from ..theme import fitting, font, theme

Array = NDArray[np.float64]
WRAPPED = int(Qt.TextFlag.TextWordWrap)


TITLE = 22  # pixels of the title's line


class Plot(QWidget):
    """A titled panel. Subclasses draw inside ``body`` in ``draw``; ``dark`` ones judge light, so they are dark in both lights.
    A click on the title asks that it unfold to the full width, or fold back (``wide``)."""

    dark = False
    unfolded = Signal()

    def __init__(self, title: str, stretch: int = 1) -> None:
        super().__init__()
        self.title, self.note, self.stretch = title, "", stretch
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(120, 110)
        self.setAccessibleName(title)
        self.wide = False

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.position().y() < TITLE:
            self.unfolded.emit()

    def body(self) -> QRectF:
        return QRectF(0.5, 24.5, self.width() - 1, self.height() - 25)

    def ink(self) -> QColor:
        return theme.p.plot_ink if self.dark else theme.p.ink

    def faint(self) -> QColor:
        return QColor(110, 108, 104) if self.dark else theme.p.line

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(9, bold=True))
        painter.setPen(p.ink)
        top = QRectF(0, 0, self.width(), 20)
        painter.drawText(top, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.title)
        used = painter.fontMetrics().horizontalAdvance(self.title) + 24
        painter.setPen(QPen(p.quiet, 1.2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        x, tip = used - 14.0, 7.5 if not self.wide else 12.5  # an angle that opens, or closes
        painter.drawPolyline(QPolygonF([QPointF(x - 3.5, 20 - tip), QPointF(x, tip), QPointF(x + 3.5, 20 - tip)]))
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        note = fitting(self.note, painter.fontMetrics(), self.width() - used)
        painter.drawText(top, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, note)
        body = self.body()
        painter.fillRect(body, p.plot if self.dark else p.high)
        painter.setPen(QPen(p.line, 1))
        painter.drawRect(body)
        painter.setClipRect(body)
        self.draw(painter, body)

    def draw(self, painter: QPainter, body: QRectF) -> None:
        raise NotImplementedError

    def text(self, painter: QPainter, x: float, y: float, words: str, right: bool = False) -> None:
        """Small words with their base line at (x, y)."""
        painter.setFont(font(8))
        shift = painter.fontMetrics().horizontalAdvance(words) if right else 0
        painter.drawText(QPointF(x - shift, y), words)


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


class Histogram(Plot):
    """Shares over 0–1 of an axis, with named places marked on it."""

    def __init__(self, title: str, stretch: int = 2, dark: bool = False) -> None:
        super().__init__(title, stretch)
        self.dark = dark
        self._shares: Array = np.zeros(1)
        self._marks: list[tuple[float, str]] = []
        self._low, self._high = 0.0, 1.0

    def show_shares(
        self, shares: Array, low: float, high: float, marks: Sequence[tuple[float, str]] = (), note: str = ""
    ) -> None:
        self._shares, self._low, self._high, self._marks, self.note = shares, low, high, list(marks), note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        n = max(40, int(body.width() / 2))
        edges = np.linspace(0, len(self._shares), n + 1).astype(int)
        sums = np.array(
            [
                self._shares[a:b].max(initial=0.0)
                for a, b in zip(edges[:-1], np.maximum(edges[1:], edges[:-1] + 1), strict=True)
            ]
        )
        peak = max(float(np.quantile(sums, 0.99)), 1e-9)
        heights = np.clip(np.sqrt(sums / peak), 0, 1) * (body.height() - 30)
        points = [QPointF(body.left(), body.bottom())]
        points += [
            QPointF(body.left() + (i + 0.5) / n * body.width(), body.bottom() - float(v)) for i, v in enumerate(heights)
        ]
        points.append(QPointF(body.right(), body.bottom()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(200, 194, 180) if self.dark else theme.p.quiet)
        painter.drawPolygon(QPolygonF(points))
        painter.setFont(font(8))
        taken: list[QRectF] = []
        for at, words in sorted(self._marks):
            x = body.left() + (at - self._low) / (self._high - self._low) * body.width()
            painter.setPen(QPen(theme.p.accent, 1.2))
            painter.drawLine(QPointF(x, body.top() + 2), QPointF(x, body.bottom()))
            painter.setPen(theme.p.accent if self.dark else theme.p.accent_text)
            box = _free_place(body, x, painter.fontMetrics().horizontalAdvance(words) + 2.0, taken)
            taken.append(box)
            self.text(painter, box.left() + 1, box.top() + 10, words)


def _free_place(body: QRectF, x: float, wide: float, taken: list[QRectF]) -> QRectF:
    """Where a line's word goes: right of it, else left, in the first row in which it touches no other word."""
    for row in range(4):
        for left in (x + 3, x - 3 - wide):
            box = QRectF(left, body.top() + 2 + 12 * row, wide, 12)
            if body.left() <= left and box.right() <= body.right() and not any(box.adjusted(-4, 0, 4, 0).intersects(t) for t in taken):
                return box
    return QRectF(x + 3, body.top() + 2, wide, 12)


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


@dataclass(frozen=True)
class Leaving:
    """One delivery: its frame and what of it the picture fills (0–1 both ways), and what is known of it, line by line."""

    title: str
    raster: tuple[int, int]
    filled: tuple[float, float]
    lines: tuple[str, ...]


class Frames(Plot):
    """Deliveries as frames to one scale, the picture in each as a lighter field, and beside it what it comes to."""

    def __init__(self, title: str, stretch: int = 2) -> None:
        super().__init__(title, stretch)
        self.held: list[Leaving] = []

    def show_leaving(self, held: list[Leaving], note: str = "") -> None:
        self.held, self.note = held, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self.held:
            painter.setPen(theme.p.quiet)
            painter.setFont(font(8.5))
            painter.drawText(body, Qt.AlignmentFlag.AlignCenter, "no delivery is chosen")
            return
        columns = min(max(len(self.held), 2), max(1, int(body.width() // 290)))
        rows = -(-len(self.held) // columns)
        wide, high = body.width() / columns, body.height() / rows
        most = max(r for d in self.held for r in d.raster)
        scale = min(wide * 0.36, high - 20) / most
        for n, d in enumerate(self.held):
            cell = QRectF(body.left() + n % columns * wide, body.top() + n // columns * high, wide, high)
            frame = QRectF(0, 0, d.raster[0] * scale, d.raster[1] * scale)
            frame.moveTopLeft(QPointF(cell.left() + 10, cell.top() + 10))
            painter.setPen(QPen(theme.p.ink, 1))
            painter.setBrush(theme.p.low)
            painter.drawRect(frame)
            inner = QRectF(0, 0, frame.width() * d.filled[0], frame.height() * d.filled[1])
            inner.moveCenter(frame.center())
            painter.fillRect(inner, theme.p.quiet)
            x, y = frame.right() + 10, cell.top() + 6
            for k, line in enumerate((d.title, *d.lines)):
                painter.setFont(font(9 if k == 0 else 8.5, bold=k == 0))
                painter.setPen(theme.p.ink if k < 2 else theme.p.quiet)
                room = painter.boundingRect(QRectF(x, y, cell.right() - x - 6, high), WRAPPED, line)
                if room.bottom() > cell.bottom() - 2:
                    break
                painter.drawText(QRectF(x, y, cell.right() - x - 6, room.height()), WRAPPED, line)
                y += room.height() + 2


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


@dataclass(frozen=True)
class Outline:
    """A rectangle to scale in a figure: width, height and place in common units."""

    words: str
    width: float
    height: float
    x: float = 0.0
    y: float = 0.0
    filled: bool = False
    accent: bool = False


class ScaleFigure(Plot):
    """Groups of rectangles side by side, all drawn to one scale, with words under each group."""

    def __init__(self, title: str, stretch: int = 3) -> None:
        super().__init__(title, stretch)
        self._groups: list[list[Outline]] = []

    def show_groups(self, groups: list[list[Outline]], note: str = "") -> None:
        self._groups, self.note = groups, note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._groups:
            return
        tall = max(o.height for g in self._groups for o in g)
        wide = max(o.width for g in self._groups for o in g)
        column = body.width() / len(self._groups)
        k = min((body.height() - 52) / tall, (column - 22) / wide)
        for n, group in enumerate(self._groups):
            w = max(o.width for o in group) * k
            h = max(o.height for o in group) * k
            x = body.left() + (n + 0.5) * column - w / 2
            top = body.top() + 8 + (body.height() - 52 - h) / 2
            for o in group:
                box = QRectF(x + o.x * k, top + o.y * k, o.width * k, o.height * k)
                if o.filled:
                    painter.fillRect(box, theme.p.tint)
                painter.setPen(QPen(theme.p.accent if o.accent else theme.p.ink, 1.4))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box)
            painter.setPen(theme.p.ink)
            painter.setFont(font(8))
            for i, line in enumerate(group[0].words.split("\n")):
                area = QRectF(body.left() + n * column, body.bottom() - 36 + 14 * i, column, 14)
                painter.setPen(theme.p.ink if i == 0 else theme.p.quiet)
                painter.drawText(area, Qt.AlignmentFlag.AlignCenter, line)


ROW = 15.5  # pixels a line of a table is high; what does not fit is named in the last one


class Table(Plot):
    """Rows of short texts in columns, the first quiet; for what a file says and how it is known."""

    def __init__(self, title: str, shares: Sequence[float], stretch: int = 3, rest: str = "also") -> None:
        super().__init__(title, stretch)
        self._shares, self._rows, self._rest = shares, list[tuple[str, ...]](), rest

    def show_rows(self, rows: Sequence[tuple[str, ...]], note: str = "") -> None:
        self._rows, self.note = list(rows), note
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._rows:
            return
        painter.setFont(font(8.5))
        most = [share * (body.width() - 16) for share in self._shares]
        metrics = painter.fontMetrics()
        widths = [max(metrics.horizontalAdvance(row[j]) for row in self._rows) + 14.0 for j in range(len(most) - 1)]
        widths = [min(max(w, m), (0.3 if len(most) > 2 else 0.5) * body.width()) for w, m in zip(widths, most, strict=False)]
        widths.append(body.width() - 16 - sum(widths))
        y, left = body.top() + 3, list(self._rows)
        while left:
            row = left[0]
            high = self._height(painter, row, widths)
            last = y + high > body.bottom() - 2 - (ROW if len(left) > 1 else 0)
            if last and (len(left) > 1 or y + high > body.bottom()):  # the rest is named in what room there is
                row = (f"+ {len(left)}", *[""] * (len(widths) - 2), f"{self._rest}: {', '.join(r[0] for r in left)}")
                left = left[:1]
                high = self._height(painter, row, widths)
            x = body.left() + 8
            for j, (cell, w) in enumerate(zip(row, widths, strict=True)):
                painter.setPen(theme.p.ink if j == 1 else theme.p.quiet)
                painter.drawText(QRectF(x, y, w - 6, high), WRAPPED, cell)
                x += w
            y += high
            left = left[1:]

    @staticmethod
    def _height(painter: QPainter, row: tuple[str, ...], widths: Sequence[float]) -> float:
        """Of a row whose cells are wrapped."""
        boxes = [painter.boundingRect(QRectF(0, 0, w - 6, 1e4), WRAPPED, cell) for cell, w in zip(row, widths, strict=True)]
        return max(ROW, *(b.height() + 1 for b in boxes))
