"""What the unfolded stage has to say, above its questions: mark, sentence, and the fix as a button."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QPointF
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from ...core.finding import Finding, Fix
from ..theme import draw_mark, theme
from .questions import act


class FindingCard(QWidget):
    def __init__(self, finding: Finding, mend: Callable[[Fix], None]) -> None:
        super().__init__()
        self.finding = finding
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 11, 14, 12)
        column.setSpacing(7)
        text = QLabel(finding.text)
        text.setWordWrap(True)
        column.addWidget(text)
        if finding.fix is not None:
            fix = finding.fix
            self.button = act(fix.label, lambda: mend(fix))
            column.addWidget(self.button)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.p.high)
        draw_mark(painter, QPointF(22, 20), self.finding.level)
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))


class FindingList(QWidget):
    """The cards of a stage's findings; made anew only when the findings change."""

    def __init__(self, mend: Callable[[Fix], None]) -> None:
        super().__init__()
        self._mend, self._shown = mend, tuple[Finding, ...]()
        self.cards: list[FindingCard] = []
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)

    def show_findings(self, findings: Sequence[Finding]) -> None:
        if tuple(findings) == self._shown:
            return
        self._shown = tuple(findings)
        for card in self.cards:
            card.hide()
            card.deleteLater()
        self.cards = [FindingCard(f, self._mend) for f in sorted(findings, key=lambda f: -f.level.weight)]
        for card in self.cards:
            self._column.addWidget(card)
