"""Question cards: a plain question, the answer as a control, the reason, and what others do."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from html import escape

from PySide6.QtCore import QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PySide6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from ..theme import theme


class Choice(QWidget):
    """A row of answers of which one holds. Arrow keys move along it."""

    chosen = Signal(object)

    def __init__(self, answers: Sequence[tuple[str, object]], value: object = None, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._values = [v for _, v in answers]
        self._group = QButtonGroup(self)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(3)
        for i, (label, _) in enumerate(answers):
            button = QPushButton(label)
            button.setCheckable(True)
            button.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
            button.setMinimumWidth(20)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.setStyleSheet("padding: 5px 2px;")
            self._group.addButton(button, i)
            row.addWidget(button)
        self._group.idClicked.connect(self._clicked)
        self.set_value(value)

    def _clicked(self, which: int) -> None:
        self._let_in()
        self.chosen.emit(self._values[which])

    def set_value(self, value: object) -> None:
        """Shows which answer holds; none if the value is not among them."""
        self._group.setExclusive(False)
        for i, v in enumerate(self._values):
            self._group.button(i).setChecked(v == value)
        self._group.setExclusive(any(v == value for v in self._values))
        self._let_in()

    def _let_in(self) -> None:
        """Tab comes to the answer that holds, or to the first if none does; arrows go on from there."""
        held = max(self._group.checkedId(), 0)
        for i in range(len(self._values)):
            self._group.button(i).setFocusPolicy(Qt.FocusPolicy.TabFocus if i == held else Qt.FocusPolicy.NoFocus)

    def choose(self, value: object) -> None:
        """As if the person had clicked it."""
        self._group.button(self._values.index(value)).click()


class Pick(QComboBox):
    """One of many answers, as a list that opens."""

    chosen = Signal(object)

    def __init__(self, answers: Sequence[tuple[str, object]], value: object = None) -> None:
        super().__init__()
        self._values: list[object] = []
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(12)
        self.set_answers(answers, value)
        self.activated.connect(lambda i: self.chosen.emit(self._values[i]))

    @property
    def value(self) -> object:
        return self._values[self.currentIndex()] if self.currentIndex() >= 0 else None

    def set_answers(self, answers: Sequence[tuple[str, object]], value: object) -> None:
        self._values = [v for _, v in answers]
        self.clear()
        self.addItems([label for label, _ in answers])
        self.set_value(value)

    def set_value(self, value: object) -> None:
        self.setCurrentIndex(self._values.index(value) if value in self._values else -1)

    def hidePopup(self) -> None:
        super().hidePopup()
        self.clearFocus()  # the keys go back to the picture

    def wheelEvent(self, event: QWheelEvent) -> None:
        event.ignore()  # scrolling the column must not change answers


class Number(QLineEdit):
    """A typed number that can also be dragged sideways, or moved with Up and Down (Shift: ten times, Ctrl: a tenth).

    ``drafted`` while it moves, ``settled`` when it is let go or entered.
    """

    drafted = Signal(float)
    settled = Signal(float)

    def __init__(self, value: float, step: float, low: float, high: float, digits: int = 2, sign: bool = False) -> None:
        super().__init__()
        self._value, self._step, self._low, self._high = value, step, low, high
        self._digits, self._sign = digits, sign
        self._from: tuple[QPoint, float] | None = None
        self._dragged = False
        self.setMinimumWidth(40)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.editingFinished.connect(self._entered)
        self.set_value(value)

    def set_value(self, value: float) -> None:
        self._value = value
        if not self.hasFocus() or self._dragged or not self.isModified():
            self.setText(f"{value:{'+' if self._sign else ''}.{self._digits}f}".replace("-", "−"))
            self.setModified(False)

    @property
    def value(self) -> float:
        return self._value

    def revert(self) -> None:
        """The number that holds, instead of what was typed."""
        self.setModified(False)
        self.set_value(self._value)

    def _entered(self) -> None:
        if not self.isModified():
            return
        self.setModified(False)
        try:
            typed = float(self.text().strip().replace("−", "-").replace(",", "."))
        except ValueError:
            self.set_value(self._value)
            return
        if typed != typed:
            self.set_value(self._value)
            return
        self._move(typed)
        self.settled.emit(self._value)

    def _move(self, value: float) -> None:
        self._value = round(min(max(value, self._low), self._high), 6)
        self.setModified(False)
        self.setText(f"{self._value:{'+' if self._sign else ''}.{self._digits}f}".replace("-", "−"))
        self.drafted.emit(self._value)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = (event.globalPosition().toPoint(), self._value)
        self._dragged = False
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from is None:
            return
        moved = event.globalPosition().toPoint().x() - self._from[0].x()
        if self._dragged or abs(moved) > 4:
            self._dragged = True
            self._move(self._from[1] + moved / 4 * self._step)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._dragged:
            self.settled.emit(self._value)
        self._from, self._dragged = None, False
        super().mouseReleaseEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        turn = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(Qt.Key(event.key()))
        if turn is None:
            super().keyPressEvent(event)
            return
        times = 10.0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        times = 0.1 if event.modifiers() & Qt.KeyboardModifier.ControlModifier else times
        self._move(self._value + turn * times * self._step)
        self.settled.emit(self._value)

    def focusInEvent(self, event: QFocusEvent) -> None:
        super().focusInEvent(event)
        self.selectAll()


class Numbers(QWidget):
    """Several numbers side by side, each with a small label over it."""

    def __init__(self, *fields: tuple[str, QWidget]) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        for label, number in fields:
            column = QVBoxLayout()
            column.setSpacing(2)
            small = QLabel(label)
            small.setObjectName("quiet")
            number.setAccessibleName(label)
            column.addWidget(small)
            column.addWidget(number)
            row.addLayout(column)


PRESSES = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)


class Question(QWidget):
    """One card. ``reason`` and ``others`` may be set again whenever the numbers change."""

    def __init__(self, title: str, *controls: QWidget) -> None:
        super().__init__()
        self.title, self._opened, self._short = title, False, ""
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 11, 14, 12)
        outer.setSpacing(7)
        self._head = QLabel(title)
        self._head.setObjectName("title")
        self._head.setWordWrap(True)
        outer.addWidget(self._head)
        self._body = QWidget()
        column = QVBoxLayout(self._body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(7)
        outer.addWidget(self._body)
        self.setAccessibleName(title)
        for control in controls:
            column.addWidget(control)
            for each in (control, *control.findChildren(QWidget)):
                each.setAccessibleDescription(title)
                if isinstance(each, QComboBox | QLineEdit | Choice) and not each.accessibleName():
                    each.setAccessibleName(title)
        self._reason, self._others = QLabel(), QLabel()
        for label, name in ((self._reason, "quiet"), (self._others, "others")):
            label.setObjectName(name)
            label.setWordWrap(True)
            label.setVisible(False)
            column.addWidget(label)

    def say(self, reason: str, others: str = "") -> None:
        for label, text in ((self._reason, reason), (self._others, others)):
            label.setText(text)
            label.setVisible(bool(text))

    def settle(self, short: str) -> None:
        """Answered without doubt: folds to a line with the answer, until somebody opens it. "" where it is open."""
        self._short = short
        self._fold()

    @property
    def folded(self) -> bool:
        held = QApplication.focusWidget()
        in_hand = held is not None and self._body.isAncestorOf(held)  # nothing folds under somebody's fingers
        return bool(self._short) and not self._opened and not in_hand

    def _fold(self) -> None:
        self._body.setVisible(not self.folded)
        title, quiet = self.title.rstrip("?"), theme.p.quiet.name()
        self._head.setText(f'{self.title if not self.folded else title}' + (
            f' <span style="font-weight: normal; color: {quiet}">· {escape(self._short)} ▸</span>' if self.folded else ""
        ))  # fmt: skip
        self._head.setCursor(Qt.CursorShape.PointingHandCursor if self._short else Qt.CursorShape.ArrowCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus if self._short else Qt.FocusPolicy.NoFocus)
        self.setAccessibleName(f"{title}: {self._short}" if self.folded else self.title)

    def toggle(self) -> None:
        """Opens it, or folds it again, where it can be folded."""
        if self._short:
            self._opened = not self._opened
            self._fold()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._head.geometry().contains(event.position().toPoint()):
            self.toggle()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in PRESSES:
            self.toggle()
        else:
            super().keyPressEvent(event)

    @property
    def reason(self) -> str:
        return self._reason.text()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.p.high)
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QRectF(self.rect()).bottomLeft(), QRectF(self.rect()).bottomRight())
        if self.hasFocus():
            painter.setPen(QPen(theme.p.accent, 2))
            painter.drawRect(self.rect().adjusted(2, 2, -3, -3))


def act(label: str, then: Callable[[], object], main: bool = True) -> QPushButton:
    """A button that does something: ``main`` is what the person can act on now."""
    button = QPushButton(label)
    button.setObjectName("act" if main else "plain")
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)  # a click leaves the keys with the picture
    button.clicked.connect(lambda: then())
    return button
