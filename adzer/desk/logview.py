"""The Log: every decision and render, with its numbers, the newest first."""

from __future__ import annotations

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt
from PySide6.QtWidgets import QHBoxLayout, QHeaderView, QLabel, QLineEdit, QTableView, QVBoxLayout, QWidget

from ..core import journal
from ..core.errors import AdzerError
from ..core.ledger import LogRow
from . import choosers
from .model import Desk
from .theme import font, theme
from .widgets.questions import Pick, act

Index = QModelIndex | QPersistentModelIndex


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
        return len(journal.COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if role == Qt.ItemDataRole.DisplayRole and orientation is Qt.Orientation.Horizontal:
            return journal.COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row = self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
            return journal.cells(row)[index.column()]
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
        self.table.setAccessibleName("what was done, newest first")
        self.table.setModel(self.model)
        self.table.setShowGrid(False)
        self.table.verticalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(27)
        self.table.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.table.setWordWrap(False)
        header = self.table.horizontalHeader()
        for i, width in enumerate((150, 76, 120, 460)):
            header.resizeSection(i, width)
        header.setSectionResizeMode(4, QHeaderView.ResizeMode.Stretch)
        header.setHighlightSections(False)
        self.empty = QLabel(
            "Nothing has been decided yet. Every answer and every render will be written here, with its numbers."
        )
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.kind, self.words = Pick([("everything", "")], ""), QLineEdit()
        self.kind.setAccessibleName("kind of row")
        self.words.setAccessibleName("words in it")
        self.kind.chosen.connect(lambda _: self._filter())
        self.words.setPlaceholderText("words in it")
        self.words.textChanged.connect(lambda _: self._filter())
        self.save = act("Save as CSV or Markdown", self._save, False)
        self.top = QWidget()
        row = QHBoxLayout(self.top)
        row.setContentsMargins(16, 10, 16, 10)
        for widget, share in ((self.kind, 1), (self.words, 2), (QLabel(), 3), (self.save, 0)):
            row.addWidget(widget, share)
        self._all: list[LogRow] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.top)
        column.addWidget(self.empty)
        column.addWidget(self.table, 1)

    def refresh(self) -> None:
        try:
            rows = self.desk.job.log_rows()
        except AdzerError as error:
            self.desk.said.emit(str(error))
            return
        self._all = rows
        kind = self.kind_now
        self.kind.set_answers([("everything", ""), *((k, k) for k in sorted({r.kind for r in rows}))], kind)
        self._filter()
        self.empty.setVisible(not rows)
        for part in (self.table, self.top):
            part.setVisible(bool(rows))

    @property
    def kind_now(self) -> str:
        return "" if self.kind.currentIndex() <= 0 else self.kind.currentText()

    def _filter(self) -> None:
        self.model.set_rows(journal.chosen(self._all, self.kind_now, self.words.text()))

    def _save(self) -> None:
        """What is shown, as a table to take along."""
        name = str(self.desk.job.path.with_suffix(".csv"))
        path = choosers.new_file(self, "Where the log goes", "CSV (*.csv);;Markdown (*.md)", name)
        if path is None:
            return
        rows = self.model.rows
        text = journal.as_markdown(rows, self.desk.job.name) if path.suffix == ".md" else journal.as_csv(rows)
        try:
            path.write_text(text, "utf-8")
        except OSError as error:
            self.desk.said.emit(f"{path} cannot be written ({error.strerror}). Choose another folder.")
        else:
            self.desk.said.emit(f"{len(rows)} rows of the log are in {path}.")
