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

from .vocabulary import ALSO


@dataclass(frozen=True)
class Action:
    """Something that can be done: its words, its keys, and where it holds: ``everywhere``, ``board``, ``bench``, or ``shots``, which is
    both of these: what is done to shots is done where they are seen."""

    words: str
    keys: tuple[str, ...]
    place: str
    run: Callable[[], object]
    shown: str = ""

    @property
    def also(self) -> str:
        """Further words that people look for it by."""
        return ALSO.get(self.words, "")

    @property
    def where(self) -> str:
        return {"board": "on the Board", "bench": "on a bench", "shots": "on the Board or a bench"}.get(self.place, "")

    def holds(self, place: str) -> bool:
        return self.place in ("everywhere", place) or (self.place == "shots" and place in ("board", "bench"))


# What keys are for, in the order of the work.
PURPOSES: tuple[tuple[str, frozenset[str]], ...] = tuple((name, frozenset(keys.split())) for name, keys in (
    ("Go about", "↵ Esc ↑ ↓ ← → [ ] N / O F2 F3 F4 F5"),
    ("Time", "Space Shift+Left Shift+Right { } J ^→ ^←"),
    ("See and compare", "Q W ⇧W V ⇧V T U S ⇧S Z L"),
    ("Frame and follow", "G ⇧G , . Y B I H X ⇧X"),
    ("Shots", "A ⇧A F K D E R C P M ^A ^D ^⌫"),
    ("Deliver", "^↵ ^M"),
    ("The job", "^N ^O ^Z ^⇧Z ^Space ?"),
))  # fmt: skip


def shown_keys(action: Action) -> str:
    return action.shown or " ".join(action.keys)


class Words(QDialog):
    """Type some words of an action, or others that people use for it; Enter does it, where it can be done. ``elsewhere``: told of one that
    belongs to another place."""

    def __init__(self, actions: list[Action], place: str, elsewhere: Callable[[Action], object], parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Dialog | Qt.WindowType.FramelessWindowHint)
        self.found, self.place, self.elsewhere = actions, place, elsewhere
        self.line = QLineEdit()
        self.line.setPlaceholderText("what do you want to do?")
        self.list = QListWidget()
        column = QVBoxLayout(self)
        column.addWidget(self.line)
        column.addWidget(self.list)
        self.resize(620, 380)
        self.line.textChanged.connect(self._filter)
        self.line.returnPressed.connect(self._do)
        self.list.itemActivated.connect(lambda _: self._do())
        self.line.installEventFilter(self)
        self._filter("")

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        self.list.clear()
        fitting = [(i, a) for i, a in enumerate(self.found) if all(w in f"{a.words} {a.also}".lower() for w in words)]
        # What says the words itself stands before what is only looked for by them, what can be done here before what is elsewhere.
        def order(of: tuple[int, Action]) -> tuple[bool, bool, int]:
            said, also = (all(w in text.lower() for w in words) for text in (of[1].words, of[1].also))
            return not said, not of[1].holds(self.place), max(map(of[1].also.find, words), default=0) if also else 0

        for i, action in sorted(fitting, key=order):
            where = "" if action.holds(self.place) else f"    {action.where}"
            item = QListWidgetItem(f"{action.words}    {shown_keys(action)}{where}")
            item.setData(Qt.ItemDataRole.UserRole, i)
            self.list.addItem(item)
        if not fitting:
            item = QListWidgetItem("Nothing is called so. Try another word; the guide explains each stage.")
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(item)
        self.list.setCurrentRow(0)

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is not None and item.data(Qt.ItemDataRole.UserRole) is not None:
            self.accept()
            action = self.found[item.data(Qt.ItemDataRole.UserRole)]
            action.run() if action.holds(self.place) else self.elsewhere(action)

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
        fitting = [a for a in actions if a.holds(place) and (a.keys or a.shown)]
        groups = [(name, [a for a in fitting if shown_keys(a) in keys]) for name, keys in PURPOSES]
        known = {key for _, keys in PURPOSES for key in keys}
        groups.append(("more", [a for a in fitting if shown_keys(a) not in known]))
        # What works only here stands first; the columns are filled evenly.
        groups = sorted((g for g in groups if g[1]), key=lambda g: not any(a.place in (place, "shots") for a in g[1]))
        grid = QGridLayout(self)
        grid.setContentsMargins(22, 18, 22, 18)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        head = QLabel(f"Keys here: {place}")
        head.setObjectName("title")
        grid.addWidget(head, 0, 0, 1, 6)
        high = -(-(len(fitting) + 2 * len(groups)) // 3)
        column, row = 0, 1
        for name, held in groups:
            if row > 1 and row + len(held) > high + 2 and column < 2:
                column, row = column + 1, 1
            title = QLabel(name)
            title.setObjectName("title")
            grid.addWidget(title, row, 2 * column, 1, 2)
            for n, action in enumerate(held, row + 1):
                keys = QLabel(shown_keys(action))
                keys.setObjectName("others")
                grid.addWidget(keys, n, 2 * column)
                grid.addWidget(QLabel(action.words), n, 2 * column + 1)
            row += len(held) + 2

    def keyPressEvent(self, event: QKeyEvent) -> None:
        self.accept()
