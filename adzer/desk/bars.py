"""The bar at the top of the window, and the line at its bottom that says what to do next."""

from __future__ import annotations

from itertools import islice

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from ..core.finding import Finding, Level
from ..core.job import Shot
from ..core.stage import STAGES
from .model import Desk
from .theme import draw_mark, font, theme
from .widgets.questions import act

PLACES = ("Board", "Intake", "Queue", "Log")


class TopBar(QWidget):
    """Job name, places, and how much there is to see to. ``wanted``: the first finding of a level."""

    picked = Signal(str)
    asked = Signal(str)
    wanted = Signal(object)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk, self.place = desk, "Board"
        self.looking = 0  # shots that are still to be looked at
        self.setFixedHeight(42)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def _tabs(self) -> dict[str, QRectF]:
        x = self.width() / 2 - len(PLACES) * 76 / 2
        return {name: QRectF(x + i * 76, 0, 76, 42) for i, name in enumerate(PLACES)}

    def _corner(self) -> dict[str, QRectF]:
        return {"words": QRectF(self.width() - 178, 0, 92, 42), "lights": QRectF(self.width() - 82, 0, 74, 42)}

    def _counts(self) -> dict[Level, QRectF]:
        return {level: QRectF(self.width() - 330 + 42 * n, 0, 42, 42) for n, level in enumerate((Level.STOP, Level.WARN, Level.NOTE))}

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.fillRect(self.rect(), p.high)
        painter.setPen(QPen(p.line, 1))
        painter.drawLine(QPointF(0, 41.5), QPointF(self.width(), 41.5))
        painter.setFont(font(11.5, bold=True))
        painter.setPen(p.ink)
        name = painter.fontMetrics().elidedText(self.desk.job.name, Qt.TextElideMode.ElideRight, 250)
        painter.drawText(QRectF(18, 0, 260, 42), Qt.AlignmentFlag.AlignVCenter, name)
        x = 18 + painter.fontMetrics().horizontalAdvance(name) + 22
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        n, shown = len(self.desk.all), len(self.desk.shots)
        words = f"{shown} of {n} shots" if shown != n else f"{n} {'shot' if n == 1 else 'shots'}"
        if self.looking:
            words += f" · looking at {self.looking}"
        painter.drawText(QRectF(x, 0, 190, 42), Qt.AlignmentFlag.AlignVCenter, words)
        x += painter.fontMetrics().horizontalAdvance(words) + 14
        painter.setFont(font(8.5, bold=True))
        chosen = len(self.desk.rows())
        for tag in (f"{chosen} chosen" if chosen > 1 else "", "on proxies" if self.desk.on_proxies else ""):
            if tag:
                box = QRectF(x, 11, painter.fontMetrics().horizontalAdvance(tag) + 18, 20)
                painter.fillRect(box, p.accent)
                painter.setPen(p.high)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, tag)
                x += int(box.width()) + 8
        for name, box in self._tabs().items():
            here = name == self.place
            painter.setFont(font(10, bold=here))
            painter.setPen(p.ink if here else p.quiet)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
            if here:
                painter.fillRect(QRectF(box.left() + 16, 39, box.width() - 32, 3), p.accent)
        painter.setFont(font(9.5))
        for level, box in self._counts().items():
            count = self.desk.counts[level]
            draw_mark(painter, QPointF(box.left() + 10, 22), level, 11 if count else 8)
            painter.setPen(p.ink if count else p.quiet)
            painter.drawText(box.adjusted(22, 0, 0, 1), Qt.AlignmentFlag.AlignVCenter, str(count))
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        for name, box in self._corner().items():
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, "words  ^Space" if name == "words" else "lights  L")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for name, box in self._tabs().items():
            if box.contains(event.position()):
                self.picked.emit(name)
        for name, box in self._corner().items():
            if box.contains(event.position()):
                self.asked.emit(name)
        for level, box in self._counts().items():
            if box.contains(event.position()) and self.desk.counts[level]:
                self.wanted.emit(level)


class NextLine(QWidget):
    """The finding in hand, with its fix; below the Board, and what was said last."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.shown: tuple[Shot, Finding] | None = None
        self.title, self.text, self.keys = QLabel(), QLabel(), QLabel()
        self.title.setObjectName("title")
        self.text.setWordWrap(True)
        self.keys.setObjectName("quiet")
        self.fix = act("", self._mend)
        self.all = act("", self._mend_all, main=False)
        self.skip = act("Next  N", self.advance, main=False)
        self.queue = act("", desk.enqueue, main=False)
        words = QVBoxLayout()
        words.setSpacing(1)
        words.setContentsMargins(0, 0, 0, 0)
        for label in (self.title, self.text):
            words.addWidget(label)
        words.addStretch(1)
        words.addWidget(self.keys)
        row = QHBoxLayout(self)
        row.setContentsMargins(40, 9, 18, 7)
        row.setSpacing(12)
        row.addLayout(words, 1)
        row.addWidget(self.fix)
        row.addWidget(self.all)
        row.addWidget(self.skip)
        row.addWidget(self.queue)
        self._at = 0

    def _all(self) -> list[tuple[Shot, Finding]]:
        """Of the selected shot first, the most severe first; beyond a few hundred nobody steps through them."""
        shot = self.desk.shot
        found = list(islice(self.desk.findings(), 400))
        return sorted(found, key=lambda sf: (shot is None or sf[0].id != shot.id, -sf[1].level.weight))

    def refresh(self, start: bool = True) -> None:
        if start:
            self._at = 0
        found = self._all()
        self.shown = found[self._at % len(found)] if found else None
        self.skip.setVisible(len(found) > 1)
        chosen = len(self.desk.rows())
        self.queue.setVisible(chosen > 1)
        self.queue.setText(f"Queue these {chosen}  ^↵")
        self.keys.setText(
            f"{chosen} chosen: answers, ^↵ queue, K, D, P, E and ^M go to all of them · ^D all as the first · a click chooses one"
            if chosen > 1 else
            "↵ unfold · ↑↓ shot · ←→ stage · ^D same as the row above · / find · K keep · D drop · F a card · ? keys"
        )
        if self.shown is None:
            self.fix.setVisible(False)
            self.all.setVisible(False)
            self.title.setText("Nothing stands in the way" if self.desk.shots else "Start here")
            self.text.setText(
                "Unfold Deliver and queue it."
                if self.desk.shots
                else "Drop recordings on the Board, or press A. With F a card is copied first, and every copy compared with it."
            )
        else:
            shot, finding = self.shown
            self.title.setText(f"{shot.name} · {finding.stage.capitalize()}")
            self.text.setText(finding.text)
            self.fix.setVisible(finding.fix is not None)
            others = self.desk.alike(shot, finding)
            self.all.setVisible(bool(others))
            self.all.setText(f"for these {len(others) + 1}")
            if finding.fix is not None:
                self.fix.setText(finding.fix.label)
        self._fit()
        self.update()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._fit()

    def _fit(self) -> None:
        """As high as its sentence needs at this width."""
        buttons = sum(b.sizeHint().width() + 12 for b in (self.fix, self.all, self.skip, self.queue) if not b.isHidden())
        text = self.text.heightForWidth(max(120, self.width() - 58 - buttons))
        lines = self.title.sizeHint().height() + text + self.keys.sizeHint().height()
        self.setFixedHeight(max(96, lines + 24))

    def advance(self) -> None:
        self._at += 1
        self.refresh(start=False)

    def lead_to(self, level: Level) -> None:
        """The next finding of a level after the one in hand, with its shot selected and its stage in hand."""
        found = self._all()
        ahead = [n % len(found) for n in range(self._at + 1, self._at + 1 + len(found))]
        at = next((n for n in ahead if found[n][1].level == level), None)
        if at is None:
            return
        shot, finding = found[at]
        self.desk.column = STAGES.index(finding.stage) if finding.stage in STAGES else self.desk.column
        self.desk.select(next(i for i, s in enumerate(self.desk.shots) if s.id == shot.id))
        again = self._all()
        self._at = next(n for n, (s, f) in enumerate(again) if s.id == shot.id and f == finding)
        self.refresh(start=False)

    def _mend(self) -> None:
        if self.shown is not None and self.shown[1].fix is not None:
            self.desk.mend(self.shown[0], self.shown[1].fix)

    def _mend_all(self) -> None:
        if self.shown is not None:
            self.desk.mend_all(*self.shown)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.p.high)
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        draw_mark(painter, QPointF(24, 20), self.shown[1].level if self.shown else None)
