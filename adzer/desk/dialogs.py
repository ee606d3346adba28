"""Small sheets over the window: words about a shot, names for many, and what relinking would do."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QPlainTextEdit, QVBoxLayout, QWidget

from ..core.errors import AdzerError
from ..core.intake.naming import FIELDS, rename
from ..core.intake.relink import Match, report_text
from ..core.job import Shot
from ..core.media.probe import FileFacts
from .model import Desk
from .widgets.questions import act


class Sheet(QDialog):
    """A frameless sheet with a title and buttons at its bottom."""

    def __init__(self, title: str, parent: QWidget, width: int = 560) -> None:
        super().__init__(parent, Qt.WindowType.Dialog | Qt.WindowType.FramelessWindowHint)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(22, 18, 22, 16)
        self.column.setSpacing(10)
        head = QLabel(title)
        head.setObjectName("title")
        self.column.addWidget(head)
        self.setMinimumWidth(width)

    def finish(self, label: str, then: Callable[[], None]) -> None:
        self.done_, leave = act(label, then), act("Leave it", self.reject, main=False)
        leave.setAutoDefault(False)  # Enter in a field keeps what was typed
        self.done_.setDefault(True)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(leave)
        row.addWidget(self.done_)
        self.column.addLayout(row)


class Describe(Sheet):
    """Name, scene, camera and notes of the chosen shots; a field that is left alone stays as it is in each."""

    def __init__(self, desk: Desk, parent: QWidget) -> None:
        self.desk, self.shots = desk, desk.rows()
        many = len(self.shots) > 1
        super().__init__(f"About {len(self.shots)} shots" if many else f"About {self.shots[0].name}", parent)
        grid = QGridLayout()
        self.fields: dict[str, QLineEdit | QPlainTextEdit] = {}
        for i, field in enumerate(("name", "scene", "camera", "notes")):
            if field == "name" and many:
                continue
            held = {getattr(s, field) for s in self.shots}
            box: QLineEdit | QPlainTextEdit
            if field == "notes":
                box = QPlainTextEdit(held.copy().pop() if len(held) == 1 else "")
                box.setFixedHeight(110)
                box.setTabChangesFocus(True)
            else:
                box = QLineEdit(held.copy().pop() if len(held) == 1 else "")
            if len(held) > 1:
                box.setPlaceholderText("they differ; leave it empty to keep each")
            label = QLabel(field)
            label.setObjectName("quiet")
            grid.addWidget(label, i, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(box, i, 1)
            self.fields[field] = box
        self.column.addLayout(grid)
        self.finish("Keep it", self._keep)

    def _keep(self) -> None:
        changes: dict[int, dict[str, str]] = {}
        for field, box in self.fields.items():
            text = (box.toPlainText() if isinstance(box, QPlainTextEdit) else box.text()).strip()
            held = {getattr(s, field) for s in self.shots}
            if (len(held) > 1 and not text) or held == {text} or (field == "name" and not text):
                continue
            for shot in self.shots:
                changes.setdefault(shot.id, {})[field] = text
        self.accept()
        if changes:
            what = self.shots[0].name if len(self.shots) == 1 else f"{len(self.shots)} shots"
            self.desk.describe(changes, f"about {what}")


class Rename(Sheet):
    """New names for the chosen shots, or for all that are shown, by a pattern, with every name seen beforehand."""

    def __init__(self, desk: Desk, parent: QWidget) -> None:
        self.desk = desk
        self.shots = desk.rows() if desk.marked else list(desk.shots)
        super().__init__(f"New names for {len(self.shots)} shots", parent, 640)
        self.pattern = QLineEdit("{camera} {n:3}")
        self.hint = QLabel("; ".join(f"{{{k}}} {v}" for k, v in FIELDS.items()) + ". Files keep their names.")
        self.hint.setWordWrap(True)
        self.hint.setObjectName("quiet")
        self.preview = QPlainTextEdit()
        self.preview.setReadOnly(True)
        self.preview.setFixedHeight(230)
        for widget in (self.pattern, self.hint, self.preview):
            self.column.addWidget(widget)
        self.finish("Rename them", self._rename)
        self.pattern.textChanged.connect(self._show)
        self._show()

    def _show(self) -> None:
        try:
            self.made: list[tuple[Shot, str]] = rename(self.shots, self.pattern.text())
            lines = [f"{s.name}  →  {new}" for s, new in self.made[:200]]
            if len(self.made) > 200:
                lines.append(f"… and {len(self.made) - 200} more")
            self.preview.setPlainText("\n".join(lines))
            self.done_.setEnabled(True)
        except AdzerError as error:
            self.preview.setPlainText(str(error))
            self.done_.setEnabled(False)

    def _rename(self) -> None:
        changes = {s.id: {"name": new} for s, new in self.made if new != s.name}
        self.accept()
        if changes:
            self.desk.describe(changes, f"rename {len(changes)} shots")


class Relink(Sheet):
    """What was found, what is doubtful and what is missing, each with the reason; links only when it is told to."""

    def __init__(self, matches: list[Match], found: list[FileFacts], link: Callable[[], None], parent: QWidget) -> None:
        sure = sum(m.state == "matched" for m in matches)
        super().__init__(f"{sure} of {len(matches)} shots found among {len(found)} files", parent, 760)
        text = QPlainTextEdit(report_text(matches))
        text.setReadOnly(True)
        text.setMinimumHeight(340)
        self.column.addWidget(text)
        note = QLabel(
            "Only what is matched is linked. A different length is never linked; what is doubtful stays as it is."
        )
        note.setObjectName("quiet")
        note.setWordWrap(True)
        self.column.addWidget(note)

        def go() -> None:
            self.accept()
            link()

        self.finish(f"Link {sure}", go)
        self.done_.setEnabled(sure > 0)
