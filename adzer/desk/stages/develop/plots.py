"""Develop's instruments: pieces at their own pixels, noise by level, values below the sensor's ceiling, what is taken off."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QLinearGradient, QMouseEvent, QPainter, QPen, QPolygonF

from ....core.develop import camera
from ....core.develop.measure import BINS, STOPS, Held
from ....core.develop.noise import SEEN, Noise, Seen
from ....core.light import names
from ....core.light.primaries import daylight, rgb_to_xyz, xy_to_xyz
from ....core.run.developing import STRUCTURE, Close, Taken
from ...theme import theme
from ...widgets.plots import Plot

Light = tuple[float, float]  # kelvin and tint
HUES = 24
CHANNELS = (("red", QColor("#C98072")), ("green", QColor("#8FAF8B")), ("blue", QColor("#7F9CC6")))


def image_of(size: tuple[int, int], rows: bytes) -> QImage:
    return QImage(rows, size[0], size[1], 4 * size[0], QImage.Format.Format_RGB32).copy()


class Loupe(Plot):
    """Pieces of the frame at whole multiples of their pixels, side by side."""

    dark = True

    def __init__(self) -> None:
        super().__init__("Close to", 6)
        self.zoom = 2
        self._pieces: list[tuple[str, QImage]] = []
        self._places = 1

    @property
    def pieces(self) -> int:
        return len(self._pieces)

    def _room(self, many: int, places: int) -> tuple[int, float, float]:
        """Rows, and how wide and high each piece may be, of ``places`` with so many pieces: all beside each other, or a row a place."""
        body, rooms = self.body(), []
        for rows in {1, places}:
            columns = many * places // rows
            rooms.append((rows, (body.width() - 6 * (columns + 1)) / columns, (body.height() - 6) / rows - 18))
        return max(rooms, key=lambda room: min(room[1:]))

    def each(self, many: int, places: int = 1) -> tuple[int, int]:
        """Recorded pixels that one of so many pieces of as many places has room for."""
        _, wide, high = self._room(many, places)
        return max(16, int(wide / self.zoom)), max(16, int(high / self.zoom))

    def show_close(self, made: list[Close]) -> None:
        self._pieces, self._places = [], len(made)
        for n, piece in enumerate(made):
            which = f"{n} " if n else ""  # as it is numbered in the picture
            if not piece.after:
                self._pieces.append((f"{which}as it is", image_of(piece.size, piece.before)))
                continue
            for name, rows in (("before", piece.before), ("after", piece.after), ("off ×8" if n else "taken off, ×8", piece.removed)):
                self._pieces.append((which + name, image_of(piece.size, rows)))
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        painter.fillRect(body, QColor(119, 119, 119))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        if not self._pieces:
            return
        rows, wide, high = self._room(len(self._pieces) // self._places, self._places)
        columns = len(self._pieces) // rows
        for n, (name, picture) in enumerate(self._pieces):
            w, h = picture.width() * self.zoom, picture.height() * self.zoom
            left = round(body.left() + 6 + n % columns * (wide + 6) + max(0.0, (wide - w) / 2))
            top = round(body.top() + 6 + n // columns * (high + 18))
            painter.drawImage(QRectF(left, top, w, h), picture)
            painter.setPen(QColor("#FFFFFF"))
            self.text(painter, left + 1, top + h + 12, name)


class Levels(Plot):
    """Shares of the sensor's values by stops below full, a row a channel."""

    dark = True

    def __init__(self) -> None:
        super().__init__("Below the ceiling, stops", 3)
        self._held: Held | None = None

    def show_held(self, held: Held | None) -> None:
        self._held = held
        self.setVisible(held is not None)
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if self._held is None:
            return
        high = (body.height() - 16) / 3
        for n, (name, colour) in enumerate(CHANNELS):
            shares = np.sqrt(np.array(self._held.levels[n]))
            peak = max(float(shares[1:].max()), 1e-6)
            base = body.top() + (n + 1) * high
            points = [QPointF(body.left(), base)]
            points += [
                QPointF(body.left() + (k + 0.5) / BINS * body.width(), base - min(float(v) / peak, 1.0) * (high - 8)) for k, v in enumerate(shares)
            ]
            points.append(QPointF(body.right(), base))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(colour)
            painter.drawPolygon(QPolygonF(points))
            painter.setPen(self.ink())
            room = self._held.headroom[n]
            self.text(painter, body.left() + 6, base - high + 14, f"{name}  {room:.1f} to spare" if room else f"{name}  full")
        painter.setPen(QPen(self.faint(), 1))
        for stop in range(2, STOPS, 4):
            x = body.right() - stop / STOPS * body.width()
            painter.drawLine(QPointF(x, body.top()), QPointF(x, body.bottom() - 14))
        painter.setPen(self.ink())
        for stop in range(2, STOPS, 4):
            self.text(painter, body.right() - stop / STOPS * body.width() - 6, body.bottom() - 4, f"−{stop}")


class Lights(Plot):
    """What was white, on the line of daylights from warm to cool and off it, greener or pinker: as the camera said (a ring), and as it is taken (a
    dot), which can be dragged. ``picked``: kelvin, tint, and whether that was the last of a drag; a control, not an instrument."""

    dark, unfolds = True, False
    picked = Signal(float, float, bool)

    def __init__(self) -> None:
        super().__init__("On the line of daylights")
        self.setFixedHeight(112)
        self._said: Light | None = None
        self._taken: Light | None = None
        self._dragged = False

    def show_lights(self, said: Light | None, taken: Light) -> None:
        """Each kelvin and tint; ``said`` None: the camera did not say."""
        self._said, self._taken = said, taken
        self.update()

    def place(self, light: Light) -> QPointF:
        """Evenly by reciprocal kelvins, as light is seen to differ, and by tint."""
        body, (warm, cool) = self.body(), (1 / k for k in camera.KELVIN)
        across = (warm - 1 / light[0]) / (warm - cool)
        return QPointF(body.left() + across * body.width(), body.center().y() - light[1] / camera.TINT[1] * (body.height() / 2 - 16))

    def light_at(self, at: QPointF) -> Light:
        body, (warm, cool) = self.body(), (1 / k for k in camera.KELVIN)
        across = float(np.clip((at.x() - body.left()) / body.width(), 0, 1))
        tint = (body.center().y() - at.y()) / (body.height() / 2 - 16) * camera.TINT[1]
        return round(1 / (warm - across * (warm - cool)) / 25) * 25, round(float(np.clip(tint, *camera.TINT)), 1)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._dragged = self._taken is not None and self.body().contains(event.position())
        self._drag(event, False)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._drag(event, False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drag(event, True)
        self._dragged = False

    def _drag(self, event: QMouseEvent, done: bool) -> None:
        if self._dragged:
            self.picked.emit(*self.light_at(event.position()), done)

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if self._taken is None:
            return
        line = QLinearGradient(body.left(), 0, body.right(), 0)
        for n, colour in enumerate(_hues()):
            line.setColorAt(n / (HUES - 1), colour)
        middle = body.center().y()
        painter.fillRect(QRectF(body.left(), middle - 3, body.width(), 6), line)
        painter.setPen(QPen(self.faint(), 1))
        for kelvin in (2500, 3200, 4000, 5600, 9000):
            x = self.place((kelvin, 0.0)).x()
            painter.drawLine(QPointF(x, middle + 5), QPointF(x, body.bottom() - 15))
        painter.setPen(self.ink())
        for kelvin in (2500, 3200, 4000, 5600, 9000):
            self.text(painter, self.place((kelvin, 0.0)).x() - 11, body.bottom() - 4, f"{kelvin}")
        self.text(painter, body.left() + 6, body.top() + 13, "greener")
        self.text(painter, body.left() + 6, body.bottom() - 17, "pinker")
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(self.ink(), 1.6))
        if self._said is not None:
            painter.drawEllipse(self.place(self._said), 8, 8)
        painter.setBrush(self.ink())
        painter.drawEllipse(self.place(self._taken), 4, 4)


@lru_cache(maxsize=1)
def _hues() -> tuple[QColor, ...]:
    """Of daylights, evenly by reciprocal kelvins, each as bright as a screen shows it."""
    to_screen, made = np.linalg.inv(rgb_to_xyz(names.primaries("bt709"))), list[QColor]()
    for kelvin in 1 / np.linspace(1 / camera.KELVIN[0], 1 / camera.KELVIN[1], HUES):
        light = np.clip(to_screen @ xy_to_xyz(daylight(float(kelvin))), 0, None)
        made.append(QColor.fromRgbF(*((light / light.max()) ** (1 / 2.2)).tolist()))
    return tuple(made)


class ByLevel(Plot):
    """Noise as delivered, in per cent of white, over the delivered level; and what is just seen."""

    def __init__(self) -> None:
        super().__init__("Noise as delivered, % of white", 3)
        self._seen: Seen | None = None
        self._left = 0.0

    def show_seen(self, noise: Noise | None, seen: Seen | None, left: float) -> None:
        """``left``: share of it that a cleaning leaves, 0: there is none."""
        self._seen, self._left = (seen if noise is not None else None), left
        self.note = f"{seen.most * 100:.2f}" if seen is not None and seen.sigma else ""
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if self._seen is None or len(self._seen.sigma) < 2:
            painter.setPen(theme.p.quiet)
            painter.drawText(body, Qt.AlignmentFlag.AlignCenter, "not measured yet")
            return
        most = max(self._seen.most, 1.3 * SEEN) * 1.15

        def at(level: float, sigma: float) -> QPointF:
            return QPointF(body.left() + 8 + level * (body.width() - 16), body.bottom() - 14 - sigma / most * (body.height() - 26))

        painter.setPen(QPen(theme.p.accent, 1, Qt.PenStyle.DashLine))
        painter.drawLine(at(0, SEEN), at(1, SEEN))
        painter.setPen(theme.p.accent_text)
        self.text(painter, body.right() - 6, at(0, SEEN).y() - 3, "just seen", right=True)
        pairs = sorted(zip(self._seen.levels, self._seen.sigma, strict=True))
        self._line(painter, [at(level, s) for level, s in pairs], 1.6, "as recorded")
        if self._left:
            self._line(painter, [at(level, s * self._left) for level, s in pairs], 2.4, "cleaned", 0.85)
        painter.setPen(theme.p.quiet)
        self.text(painter, body.left() + 8, body.bottom() - 3, "black")
        self.text(painter, body.right() - 8, body.bottom() - 3, "white", right=True)

    def _line(self, painter: QPainter, points: Sequence[QPointF], width: float, name: str, where: float = 0.3) -> None:
        painter.setPen(QPen(theme.p.ink, width))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolyline(QPolygonF(points))
        middle = points[int(where * (len(points) - 1))]
        self.text(painter, middle.x(), middle.y() - 5, name)


class Off(Plot):
    """What a cleaning takes off, by amount: noise, and what of it is structure."""

    def __init__(self) -> None:
        super().__init__("Structure lost", 2)
        self._tried: Sequence[Taken] = ()
        self._amount: float | None = None

    def show_taken(self, tried: Sequence[Taken], amount: float | None) -> None:
        self._tried, self._amount = tried, amount
        self.update()

    def draw(self, painter: QPainter, body: QRectF) -> None:
        if not self._tried:
            painter.setPen(theme.p.quiet)
            painter.drawText(body, Qt.AlignmentFlag.AlignCenter, "nothing tried yet")
            return
        high = (body.height() - 8) / len(self._tried)
        most = max(0.2, *(t.structure for t in self._tried))
        for n, each in enumerate(self._tried):
            top = body.top() + 6 + n * high
            painter.setPen(theme.p.ink)
            chosen = self._amount is not None and abs(each.amount - self._amount) < 1e-6
            self.text(painter, body.left() + 8, top + 10, f"{'▸ ' if chosen else ''}×{each.amount:g}")
            self.text(painter, body.right() - 8, top + 10, f"{each.structure:.0%}", right=True)
            fine = each.structure <= STRUCTURE
            bar = QRectF(body.left() + 8, top + 14, max(2.0, each.structure / most * (body.width() - 16)), 5)
            painter.fillRect(bar, theme.p.ink if fine else theme.p.stop)
