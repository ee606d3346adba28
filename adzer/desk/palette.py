"""Words and keys: every action by its words (Ctrl+Space), and the keys of the current place (?)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QDialog,
    QGridLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QVBoxLayout,
    QWidget,
)


@dataclass(frozen=True)
class Action:
    """Something that can be done: its words, its keys, where it holds (``everywhere``, ``board``, ``bench``)."""

    words: str
    keys: tuple[str, ...]
    place: str
    run: Callable[[], object]
    shown: str = ""


class Words(QDialog):
    """Type some words of an action; Enter does it."""

    def __init__(self, actions: list[Action], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Dialog | Qt.WindowType.FramelessWindowHint)
        self.found = actions
        self.line = QLineEdit()
        self.line.setPlaceholderText("what do you want to do?")
        self.list = QListWidget()
        column = QVBoxLayout(self)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.resize(460, 340)
        self.line.textChanged.connect(self._filter)
        self.line.returnPressed.connect(self._do)
        self.list.itemActivated.connect(lambda _: self._do())
        self.line.installEventFilter(self)
        self._filter("")

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        for i, action in enumerate(self.found):
            if all(w in action.words.lower() for w in words):
                keys = action.shown or " ".join(action.keys)
                item = QListWidgetItem(f"{action.words}    {keys}")
                item.setData(Qt.ItemDataRole.UserRole, i)
                self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is not None:
            self.accept()
            self.found[item.data(Qt.ItemDataRole.UserRole)].run()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down)
        ):
            step = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(min(max(self.list.currentRow() + step, 0), self.list.count() - 1))
            return True
        return super().eventFilter(watched, event)


class Keys(QDialog):
    """The keys of the current place."""

    def __init__(self, actions: list[Action], place: str, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Dialog | Qt.WindowType.FramelessWindowHint)
        grid = QGridLayout(self)
        grid.setContentsMargins(22, 18, 22, 18)
        grid.setHorizontalSpacing(22)
        head = QLabel(f"Keys here: {place}")
        head.setObjectName("title")
        grid.addWidget(head, 0, 0, 1, 4)
        fitting = [a for a in actions if a.place in (place, "everywhere") and (a.keys or a.shown)]
        half = (len(fitting) + 1) // 2
        for i, action in enumerate(fitting):
            keys = QLabel(action.shown or " ".join(action.keys))
            keys.setObjectName("others")
            grid.addWidget(keys, 1 + i % half, i // half * 2)
            grid.addWidget(QLabel(action.words), 1 + i % half, i // half * 2 + 1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        self.accept()
