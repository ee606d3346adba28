"""The start page: the jobs that were open last, a new one, another one, or the demo."""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QPixmap, QShortcut
from PySide6.QtWidgets import QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from ..core import recent
from . import choosers
from .theme import font, style_sheet, theme
from .widgets.questions import act


def when(at: float, now: float | None = None) -> str:
    """How long ago, in words that a person would use."""
    days = int((time.time() if now is None else now) // 86400) - int(at // 86400)
    return "today" if days <= 0 else "yesterday" if days == 1 else f"{days} days ago" if days < 60 else f"{days // 30} months ago"


def ask_new(parent: QWidget) -> Path | None:
    """Where a new job is to lie."""
    path = choosers.new_file(parent, "Where the new job lies", "Adzer jobs (*.adzer)", "job.adzer")
    return path if path is None or path.suffix == ".adzer" else path.with_name(f"{path.name}.adzer")


def ask_open(parent: QWidget) -> Path | None:
    path = choosers.file(parent, "A job", "Adzer jobs (*.adzer)")
    return Path(path) if path else None


class JobRow(QWidget):
    """One job: its first picture, its name, where it lies, what waits."""

    opened = Signal(str)
    ROW = 92

    def __init__(self, row: recent.Recent) -> None:
        super().__init__()
        self.row, self._picture = row, QPixmap(str(recent.picture(row.path)))
        self.setFixedHeight(self.ROW)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName(f"{row.name}, {row.waits}")
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(560, self.ROW)

    def paintEvent(self, event: QPaintEvent) -> None:
        p, row = theme.p, self.row
        painter = QPainter(self)
        painter.setRenderHints(QPainter.RenderHint.Antialiasing | QPainter.RenderHint.SmoothPixmapTransform)
        if self.hasFocus() or self.underMouse():
            painter.fillRect(self.rect(), p.high)
        place = QRectF(10, 8, 124, 76)
        painter.fillRect(place, QColor(p.line))
        if not self._picture.isNull():
            fitted = QSize(self._picture.size()).scaled(place.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
            box = QRectF(0, 0, fitted.width(), fitted.height())
            box.moveCenter(place.center())
            painter.drawPixmap(box, self._picture, QRectF(self._picture.rect()))
        width = self.width() - 170
        for y, text, size, bold, colour in (
            (10, row.name, 12.0, True, p.ink),
            (36, row.waits if row.there else "it is not there now; is its disk plugged in?", 9.5, False, p.ink),
            (58, f"{when(row.at)} · {Path(row.path).parent}", 9.0, False, p.quiet),
        ):
            painter.setFont(font(size, bold=bold))
            painter.setPen(colour)
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideMiddle, width)
            painter.drawText(QRectF(150, y, width, 24), Qt.AlignmentFlag.AlignVCenter, shown)
        painter.setPen(p.line)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))

    def enterEvent(self, event: object) -> None:
        self.update()

    def leaveEvent(self, event: object) -> None:
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.rect().contains(event.position().toPoint()):
            self.opened.emit(self.row.path)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.opened.emit(self.row.path)
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
            self.focusNextPrevChild(event.key() == Qt.Key.Key_Down)
        else:
            super().keyPressEvent(event)


class StartPage(QWidget):
    """``wanted`` with a job's path, ``begun`` with a new one's; ``demo`` for the demo job."""

    wanted = Signal(str)
    begun = Signal(str)
    demo = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Adzer")
        self.resize(1280, 800)
        self.setMinimumSize(720, 480)
        rows = recent.jobs()
        title = QLabel("Adzer")
        title.setStyleSheet("font-size: 26pt; font-weight: bold;")
        line = QLabel("Squares rough footage: comes home with you, and leaves as masters.")
        line.setObjectName("quiet")
        begin = act("New job  ^N", self.new)
        other = act("Open a job  ^O", self.open, False)
        demo = act("Show me the demo", self.demo.emit, False)
        buttons = QHBoxLayout()
        for button in (begin, other, demo):
            button.setMinimumHeight(36)
            buttons.addWidget(button)
        buttons.addStretch(1)
        self.say_line = QLabel("")
        self.say_line.setWordWrap(True)
        column = QVBoxLayout()
        column.setSpacing(10)
        for widget in (title, line):
            column.addWidget(widget)
        column.addSpacing(8)
        column.addLayout(buttons)
        column.addWidget(self.say_line)
        column.addSpacing(14)
        head = QLabel("Jobs that were open last" if rows else "No job has been open here yet. A new one asks where it is to lie.")
        head.setObjectName("title")
        column.addWidget(head)
        held = QWidget()
        inner = QVBoxLayout(held)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(0)
        self.rows = [JobRow(row) for row in rows]
        for each in self.rows:
            each.opened.connect(self.wanted)
            inner.addWidget(each)
        inner.addStretch(1)
        area = QScrollArea()
        area.setAccessibleName("recent jobs")
        area.setWidget(held)
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setMaximumHeight(JobRow.ROW * len(rows))
        column.addWidget(area, 10)
        column.addStretch(1)
        outer = QHBoxLayout(self)
        outer.setContentsMargins(40, 44, 40, 24)
        outer.addStretch(1)
        middle = QWidget()
        middle.setLayout(column)
        middle.setMaximumWidth(760)
        outer.addWidget(middle, 6)
        outer.addStretch(1)
        for keys, then in (("Ctrl+N", self.new), ("Ctrl+O", self.open), ("L", self._lights)):
            QShortcut(QKeySequence(keys), self).activated.connect(then)
        self.setStyleSheet(style_sheet())
        (self.rows[0] if self.rows else begin).setFocus()

    def new(self) -> None:
        if (path := ask_new(self)) is not None:
            self.begun.emit(str(path))

    def open(self) -> None:
        if (path := ask_open(self)) is not None:
            self.wanted.emit(str(path))

    def say(self, text: str) -> None:
        self.say_line.setText(text)

    def _lights(self) -> None:
        theme.dim = not theme.dim
        self.setStyleSheet(style_sheet())
        for each in self.findChildren(QWidget):
            each.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        QPainter(self).fillRect(self.rect(), theme.p.paper)
