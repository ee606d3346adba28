"""The whole queue drawn to the clock: what renders now, what comes after it, and when all of it is done."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QImage, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from ..core.deliver.outlook import Outlook
from ..core.job import Slip
from .theme import font, theme

STEPS = (5, 10, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 28800)  # seconds from tick to tick
APART = 84.0  # pixels between ticks at least


class Night(QWidget):
    """``pictures``: of a queued render, small, if it is there."""

    def __init__(self, pictures: Callable[[int], QImage | None]) -> None:
        super().__init__()
        self._pictures = pictures
        self._spans: tuple[tuple[int, float, float], ...] = ()
        self._states: dict[int, str] = {}
        self._now = time.time()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(96)

    def sizeHint(self) -> QSize:
        return QSize(800, 96)

    def show_night(self, seen: Outlook, slips: list[Slip]) -> None:
        self._now, self._states = time.time(), {s.id: s.state for s in slips}
        self._spans = tuple(s for s in seen.spans if s[2] > s[1])
        self.setVisible(bool(self._spans))
        if self._spans:
            last = time.strftime("%H:%M", time.localtime(self._now + self._spans[-1][2]))
            self.setAccessibleName(f"{len(self._spans)} renders drawn to the clock, the last of them done at {last}")
        self.update()

    def boxes(self) -> dict[int, QRectF]:
        """Where each queued render lies."""
        first, last = self._reach()
        per = (self.width() - 40) / max(last - first, 1e-3)
        return {n: QRectF(20 + (a - first) * per, 24, max((b - a) * per - 2, 1.5), 38) for n, a, b in self._spans}

    def _reach(self) -> tuple[float, float]:
        if not self._spans:
            return 0.0, 1.0
        return min(0.0, *(a for _, a, _ in self._spans)), max(b for _, _, b in self._spans)

    def paintEvent(self, event: QPaintEvent) -> None:
        p, painter = theme.p, QPainter(self)
        painter.fillRect(self.rect(), p.paper)
        if not self._spans:
            return
        first, last = self._reach()
        per = (self.width() - 40) / max(last - first, 1e-3)
        now = 20 - first * per
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        for n, box in self.boxes().items():
            painter.fillRect(box, p.tint)
            if self._states.get(n) == "rendering":
                painter.fillRect(QRectF(box.left(), box.top(), max(now - box.left(), 0), box.height()), p.accent)
            if (picture := self._pictures(n)) is not None and box.width() > 20:
                k = (box.height() - 6) / picture.height()
                place = QRectF(box.left() + 3, box.top() + 3, min(picture.width() * k, box.width() - 6), box.height() - 6)
                painter.drawImage(place, picture, QRectF(0, 0, place.width() / k, picture.height()))
        painter.setPen(QPen(p.ink, 1))
        line = 66.0
        painter.drawLine(QPointF(20, line), QPointF(self.width() - 20, line))
        self._draw_ticks(painter, line, first, last, per)
        painter.setPen(QPen(p.ink, 2))
        painter.drawLine(QPointF(now, 18), QPointF(now, line))
        painter.setFont(font(8.5, bold=True))
        words = f"now {time.strftime('%H:%M', time.localtime(self._now))}"
        wide = painter.fontMetrics().horizontalAdvance(words)
        painter.drawText(QRectF(min(now + 4, self.width() - 20 - wide), 4, wide + 4, 16), Qt.AlignmentFlag.AlignVCenter, words)

    def _draw_ticks(self, painter: QPainter, line: float, first: float, last: float, per: float) -> None:
        step = next((s for s in STEPS if s * per >= APART), STEPS[-1])
        began = self._now + first
        local = time.localtime(began)
        since = local.tm_hour * 3600 + local.tm_min * 60 + local.tm_sec
        at = began + (-since) % step
        painter.setFont(font(8.5))
        painter.setPen(theme.p.quiet)
        while at <= self._now + last:
            x = 20 + (at - began) * per
            painter.drawLine(QPointF(x, line), QPointF(x, line + 5))
            words = time.strftime("%H:%M" if step >= 60 else "%H:%M:%S", time.localtime(at))
            if x + 8 + painter.fontMetrics().horizontalAdvance(words) < self.width():
                painter.drawText(QRectF(x + 4, line + 6, 70, 16), Qt.AlignmentFlag.AlignVCenter, words)
            at += step
