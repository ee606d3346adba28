"""Finding and ordering shots on the Board: one line, shown when it is asked for or in force."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QWidget

from .model import Desk
from .ordering import ORDERS


class Finder(QWidget):
    """Words narrow the Board down as they are typed; Esc shows all again."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("page")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.line = QLineEdit()
        self.line.setPlaceholderText("words in name, scene, camera, notes · keep · drop · undecided · stop · warn")
        self.count, self.order = QLabel(), QLabel()
        for label in (self.count, self.order):
            label.setObjectName("quiet")
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 6, 18, 6)
        row.addWidget(self.line, 1)
        row.addWidget(self.count)
        row.addSpacing(16)
        row.addWidget(self.order)
        self.soon = QTimer(self, singleShot=True, interval=40)
        self.soon.timeout.connect(lambda: desk.arrange(filter_=self.line.text()))
        self.line.textChanged.connect(lambda _: self.soon.start())
        self.hide()

    def ask(self) -> None:
        self.show()
        self.line.setFocus()
        self.line.selectAll()

    def next_order(self) -> None:
        names = list(ORDERS)
        self.desk.arrange(order=names[(names.index(self.desk.order) + 1) % len(names)])

    def clear(self) -> None:
        """All shots, in the order in which they were added."""
        self.line.clear()
        self.soon.stop()
        self.line.clearFocus()
        self.desk.arrange(filter_="", order="as added")
        self.hide()

    def refresh(self) -> None:
        in_force = bool(self.desk.filter) or self.desk.order != "as added"
        if in_force or self.line.hasFocus():
            self.show()
        elif not self.line.text():
            self.hide()
        self.count.setText(f"{len(self.desk.shots)} of {len(self.desk.all)}")
        self.order.setText(f"{self.desk.order}  O")
