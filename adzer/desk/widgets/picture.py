"""The picture in its mat: fitted, with a wipe between before and after, and what a bench draws over it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from ...core.run.service import Image
from ..theme import MAT, MAT_INK, font
from ..widgets.shapes import draw_safe

# Lines across and down, as shares of the picture.
GUIDES: dict[str, tuple[float, ...]] = {
    "none": (), "thirds": (1 / 3, 2 / 3), "golden sections": (0.381966, 0.618034), "middle": (0.5,), "diagonals": (),
    "safe areas": (),
}  # fmt: skip
Covered = tuple[float, float, float, float]
Overlay = Callable[[QPainter, QRectF], None]


def to_qimage(image: Image) -> QImage:
    """A QImage of its own memory."""
    return QImage(image.data, image.width, image.height, image.width * 4, QImage.Format.Format_RGB32).copy()


ENLARGED = 8  # times, how a difference is shown


def difference(a: QImage, b: QImage) -> QImage:
    """How far two pictures lie apart, ``ENLARGED`` times, black where they are the same."""
    b = b.scaled(a.size(), Qt.AspectRatioMode.IgnoreAspectRatio, Qt.TransformationMode.SmoothTransformation)
    one, two = (
        np.frombuffer(i.convertToFormat(QImage.Format.Format_RGB32).constBits(), np.uint8).reshape(i.height(), i.width(), 4)
        for i in (a, b)
    )
    apart = np.clip(np.abs(one.astype(np.int16) - two) * ENLARGED, 0, 255).astype(np.uint8)
    apart[..., 3] = 255
    return QImage(apart.data, a.width(), a.height(), a.width() * 4, QImage.Format.Format_RGB32).copy()


class PictureView(QWidget):
    """Shows ``after``; ``before`` while held, or as ``way`` compares them: by a wipe, in turn, side by side, or apart.

    Emits places in the picture as 0–1. ``space_changed``: the room for the picture, in device pixels, whenever it changes.
    """

    space_changed = Signal()
    dragged = Signal(QPointF, bool)

    MARGIN = 16

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumHeight(180)
        self.after: QImage | None = None
        self.before: QImage | None = None
        self.hold_before = False
        self.instead: Callable[[], QImage | None] = lambda: None  # what a bench shows in place of the picture
        self.way: str | None = None  # wipe · turn · beside · apart
        self.split = 0.4  # where the wipe stands
        self.turned = False  # in turn: is it the recorded one's?
        self._taking = QTimer(self, interval=700)
        self._taking.timeout.connect(self._take_turn)
        self.guide = "none"
        self.inner = QRectF(0, 0, 1, 1)  # where the picture lies inside its file, which may have bars
        self.safe: tuple[float | None, Covered] = (None, (0.0, 0.0, 0.0, 0.0))
        self.overlay: Overlay | None = None
        self.caption_left = ""
        self.caption_right = ""
        self.empty_text = ""
        self._wiping = False

    def compare(self, way: str) -> None:
        """Compares that way, or no longer where it does already."""
        self.way = None if self.way == way else way
        self.turned = False
        if self.way == "turn":
            self._taking.start()
        else:
            self._taking.stop()
        self.update()

    def _take_turn(self) -> None:
        self.turned = not self.turned
        self.update()

    def room(self) -> QSize:
        """Device pixels that the picture may take."""
        ratio = self.devicePixelRatioF()
        w = self.width() - 2 * self.MARGIN
        h = self.height() - 2 * self.MARGIN - 18
        return QSize(max(64, int(w * ratio)), max(64, int(h * ratio)))

    def show_pictures(self, after: Image | None, before: Image | None) -> None:
        if after is not None:
            self.after = to_qimage(after)
        if before is not None:
            self.before = to_qimage(before)
        self.update()

    def clear(self) -> None:
        self.after = self.before = None
        self.update()

    def picture_rect(self) -> QRectF:
        """Where the picture lies in the widget."""
        image = self.instead() or self.after or self.before
        w, h = self.width() - 2 * self.MARGIN, self.height() - 2 * self.MARGIN - 18
        if image is None or not image.width():
            return QRectF(self.MARGIN, self.MARGIN, w, h)
        k = min(w / image.width(), h / image.height(), 1.0 / self.devicePixelRatioF() * 2)
        size = (image.width() * k, image.height() * k)
        return QRectF((self.width() - size[0]) / 2, self.MARGIN + (h - size[1]) / 2, size[0], size[1])

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), MAT)
        rect = self.picture_rect()
        if self.after is None and self.before is None:
            painter.setPen(MAT_INK)
            painter.setFont(font(10))
            painter.drawText(rect, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty_text)
            return
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        if (other := self.instead()) is not None:
            painter.drawImage(rect, other)
            if self.overlay is not None:
                self.overlay(painter, rect)
            return
        held = self.hold_before or self.turned
        shown = self.before if (held or self.after is None) and self.before is not None else self.after
        assert shown is not None
        before = None if self.hold_before or self.after is None else self.before
        if before is not None and self.way == "beside":
            self._draw_beside(painter, rect)
        elif before is not None and self.way == "apart":
            painter.drawImage(rect, difference(shown, before))
        else:
            painter.drawImage(rect, shown)
        if before is not None and self.way == "wipe":
            x = rect.left() + rect.width() * self.split
            painter.save()
            painter.setClipRect(QRectF(rect.left(), rect.top(), x - rect.left(), rect.height()))
            painter.drawImage(rect, before)
            painter.restore()
            painter.setPen(QPen(QColor("#FFFFFF"), 1.4))
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
        if before is not None and self.way == "beside":  # what is drawn over one picture would lie wrong on two
            self._draw_captions(painter, rect, held)
            return
        x, y = rect.left() + self.inner.left() * rect.width(), rect.top() + self.inner.top() * rect.height()
        self._draw_guide(painter, QRectF(x, y, self.inner.width() * rect.width(), self.inner.height() * rect.height()))
        if self.overlay is not None:
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self.overlay(painter, rect)
            painter.restore()
        self._draw_captions(painter, rect, held)

    def _draw_captions(self, painter: QPainter, rect: QRectF, held: bool) -> None:
        painter.setFont(font(9))
        painter.setPen(MAT_INK)
        recorded = held or self.way in ("wipe", "beside") or self.after is None
        left = "as recorded" if recorded else f"apart, {ENLARGED} times" if self.way == "apart" else self.caption_left
        line = QRectF(rect.left(), rect.bottom() + 3, rect.width(), 18)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, left)
        if not held:
            width = painter.fontMetrics().horizontalAdvance
            if width(left) + width(self.caption_right) + 12 > line.width():  # one under the other
                line = line.translated(0, line.height()).adjusted(0, 0, 0, line.height())
            aligned = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap
            painter.drawText(line.adjusted(0, 2, 0, 0), aligned, self.caption_right)

    def _draw_beside(self, painter: QPainter, rect: QRectF) -> None:
        """The recorded picture on the left, the delivered one on the right, each half as wide."""
        for image, left in ((self.before, rect.left()), (self.after, rect.center().x() + 1)):
            assert image is not None
            half = rect.width() / 2 - 1
            k = min(half / image.width(), rect.height() / image.height())
            size = (image.width() * k, image.height() * k)
            painter.drawImage(QRectF(left + (half - size[0]) / 2, rect.center().y() - size[1] / 2, *size), image)

    def _draw_guide(self, painter: QPainter, rect: QRectF) -> None:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.guide == "safe areas":
            draw_safe(painter, rect, *self.safe)
        painter.setPen(QPen(QColor(255, 255, 255, 110), 1))
        for share in GUIDES[self.guide]:
            x, y = rect.left() + rect.width() * share, rect.top() + rect.height() * share
            painter.drawLine(QPointF(x, rect.top()), QPointF(x, rect.bottom()))
            painter.drawLine(QPointF(rect.left(), y), QPointF(rect.right(), y))
        if self.guide == "diagonals":
            painter.drawLine(rect.topLeft(), rect.bottomRight())
            painter.drawLine(rect.bottomLeft(), rect.topRight())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.space_changed.emit()

    def _place(self, event: QMouseEvent) -> QPointF:
        rect = self.picture_rect()
        p = event.position()
        return QPointF((p.x() - rect.left()) / max(rect.width(), 1), (p.y() - rect.top()) / max(rect.height(), 1))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        place = self._place(event)
        if self.way == "wipe" and abs(place.x() - self.split) * self.picture_rect().width() < 14:
            self._wiping = True
        else:
            self.dragged.emit(place, False)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place = self._place(event)
        if self._wiping:
            self.split = min(max(place.x(), 0.0), 1.0)
            self.update()
        else:
            self.dragged.emit(place, False)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if not self._wiping:
            self.dragged.emit(self._place(event), True)
        self._wiping = False
