"""The Log: every decision and render, with its numbers, the newest first."""

from __future__ import annotations

import time
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QHeaderView, QLabel, QTableView, QVBoxLayout, QWidget

from ..core.errors import AdzerError
from ..core.ledger import LogRow
from .model import Desk
from .theme import font, theme

COLUMNS = ("when", "what", "shot", "said", "numbers")
Index = QModelIndex | QPersistentModelIndex


def numbers_text(numbers: dict[str, Any]) -> str:
    """``shape.squeeze 1/1 → 8/5`` for changed answers, ``name value`` otherwise."""
    parts = []
    for key, value in numbers.items():
        if isinstance(value, list) and len(value) == 2 and "." in key:
            parts.append(f"{key} {_short(value[0])} → {_short(value[1])}")
        else:
            parts.append(f"{key} {_short(value)}")
    return ", ".join(parts)


def _short(value: Any) -> str:
    if value is None:
        return "none"
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, list):
        return "×".join(_short(v) for v in value)
    return str(value)


class LogModel(QAbstractTableModel):
    def __init__(self) -> None:
        super().__init__()
        self.rows: list[LogRow] = []

    def set_rows(self, rows: list[LogRow]) -> None:
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:
        return len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation is Qt.Orientation.Horizontal:
            return COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row = self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            at = time.strftime("%d.%m. %H:%M:%S", time.localtime(row.at))
            return (at, row.kind, row.shot or "", row.text, numbers_text(row.numbers))[index.column()]
        if role == Qt.ItemDataRole.FontRole:
            return font(9)
        if role == Qt.ItemDataRole.ForegroundRole and index.column() != 3:
            return theme.p.quiet
        return None


class LogView(QWidget):
    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("page")
        self.model = LogModel()
        self.table = QTableView()
        self.table.setModel(self.model)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(27)
        self.table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.table.setWordWrap(False)
        header = self.table.horizontalHeader()
        for i, width in enumerate((140, 84, 130, 420)):
            header.resizeSection(i, width)
        header.setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        header.setHighlightSections(False)
        self.empty = QLabel(
            "Nothing has been decided yet. Every answer and every render will be written here, with its numbers."
        )
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.empty)
        column.addWidget(self.table, 1)

    def refresh(self) -> None:
        try:
            rows = self.desk.job.log_rows()
        except AdzerError as error:
            self.desk.said.emit(str(error))
            return
        self.model.set_rows(rows)
        self.empty.setVisible(not rows)
        self.table.setVisible(bool(rows))
