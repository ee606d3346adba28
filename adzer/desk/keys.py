"""Whom a key belongs to: first the control that has the focus, then the page that is seen."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QTextEdit,
    QWidget,
)

from .widgets.questions import PRESSES, Number, Question

# What the window keeps for itself while somebody types: to go elsewhere, and to be done with typing.
KEPT = frozenset((
    *((Qt.Key(k), Qt.KeyboardModifier.NoModifier) for k in range(Qt.Key.Key_F1, Qt.Key.Key_F12 + 1)),
    *((k, Qt.KeyboardModifier.ControlModifier) for k in (Qt.Key.Key_Space, Qt.Key.Key_N, Qt.Key.Key_O, Qt.Key.Key_Return)),
))  # fmt: skip
ARROWS = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right)
LEAPS = (Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)


def typing(widget: QWidget | None) -> bool:
    """Is text being typed there?"""
    return isinstance(widget, QLineEdit | QPlainTextEdit | QTextEdit | QAbstractSpinBox)


def claims(widget: QWidget | None, event: QKeyEvent) -> bool:
    """Does a key belong to the control that has the focus, whatever the window would do with it?"""
    key, modifiers = Qt.Key(event.key()), event.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
    if typing(widget):
        moves_on = key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and isinstance(widget, QLineEdit) and not isinstance(widget, Number)
        return (key, modifiers) not in KEPT and not moves_on
    if modifiers & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.MetaModifier):
        return False
    if isinstance(widget, QComboBox | QAbstractItemView):
        return key in ARROWS + LEAPS + PRESSES or event.text().isalnum()
    if isinstance(widget, Question):
        return key in PRESSES
    if isinstance(widget, QAbstractButton):
        return key in PRESSES or (key in ARROWS and widget.group() is not None)
    return False
