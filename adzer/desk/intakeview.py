"""Intake: getting memory cards home: offloading a card into the job's folders, verified, with progress, time left, pause and a plain verdict."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from ..core.deliver.advise import size_text, time_text
from ..core.errors import AdzerError
from ..core.finding import Level
from ..core.intake import card, offload
from . import choosers
from .reading import Reading
from .theme import draw_mark, font, theme
from .widgets.questions import act


class Progress(QWidget):
    """Two bars for one run, copied and read back, and the figures; or what is to be done."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(92)
        self.moving: dict[str, Any] | None = None
        self.paused = False

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.moving is None:
            return
        m = self.moving
        share = m["done"] / max(m["total"], 1)
        painter.setFont(font(10, bold=True))
        painter.setPen(p.ink)
        words = "Paused" if self.paused else "Copying and reading back"
        painter.drawText(QRectF(0, 0, self.width(), 20), Qt.AlignmentFlag.AlignLeft, words)
        painter.setFont(font(9))
        painter.setPen(p.quiet)
        left = f"{time_text(m['left'])} left" if m["left"] and not self.paused else ""
        figures = f"{m['files']} of {m['of_files']} files · {size_text(m['rate'])}/s · {left}".strip(" ·")
        painter.drawText(QRectF(0, 0, self.width(), 20), Qt.AlignmentFlag.AlignRight, figures)
        bar = QRectF(0, 27, self.width(), 9)
        painter.fillRect(bar, p.line)
        painter.fillRect(QRectF(0, 27, self.width() * share, 9), p.quiet if self.paused else p.accent)
        painter.setPen(QPen(p.low, 1))
        for i in range(1, 20):
            painter.drawLine(QPointF(self.width() * i / 20, 27), QPointF(self.width() * i / 20, 36))
        painter.setFont(font(9))
        painter.setPen(p.ink)
        text = f"{m['doing']} {m['file']}"
        painter.drawText(QRectF(0, 44, self.width(), 18), Qt.AlignmentFlag.AlignLeft, painter.fontMetrics().elidedText(
            text, Qt.TextElideMode.ElideMiddle, self.width()))  # fmt: skip


class Verdict(QWidget):
    """What became of a card: mark, sentence, and what is odd, differing or failed."""

    def __init__(self, outcome: dict[str, Any]) -> None:
        super().__init__()
        self.outcome = outcome
        column = QVBoxLayout(self)
        column.setContentsMargins(44, 12, 14, 12)
        column.setSpacing(5)
        safe = outcome.get("safe_to_erase", False)
        self.level = None if safe else Level.STOP
        title = QLabel("Safe to erase" if safe else "Stopped" if "error" in outcome else "Do not erase this card yet")
        title.setObjectName("title")
        column.addWidget(title)
        lines = [outcome.get("words") or outcome.get("error", "")]
        lines += list(outcome.get("differing", {}).values())[:4] + list(outcome.get("failed", {}).values())[:4]
        lines += [f"{o['place']} {o['why']}." for o in outcome.get("oddities", [])[:5]]
        for i, words in enumerate(lines):
            label = QLabel(words)
            label.setWordWrap(True)
            label.setObjectName("" if i == 0 else "quiet")
            label.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            column.addWidget(label)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.p.high)
        draw_mark(painter, QPointF(24, 22), self.level, 13)
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))


def _folders(found: card.Survey) -> list[str]:
    """The card's folders with most in them, each with how many files and bytes."""
    sums: dict[str, list[int]] = {}
    for item in found.items:
        held = sums.setdefault(item.place.rpartition("/")[0] or ".", [0, 0])
        held[0] += 1
        held[1] += item.size
    largest = sorted(sums.items(), key=lambda kv: -kv[1][1])[:8]
    return [f"     {name}   {n} {'file' if n == 1 else 'files'}, {size_text(size)}" for name, (n, size) in largest]


class IntakeView(QWidget):
    """One card at a time. ``arrived``: files that are safe now, and their camera."""

    arrived = Signal(list, str)
    said = Signal(str)

    def __init__(self, reading: Reading) -> None:
        super().__init__()
        self.setObjectName("page")
        self.reading, self.run = reading, reading.offload
        job = reading.desk.job
        self.card, self.to, self.also = QLineEdit(), QLineEdit(str(job.path.parent / "footage")), QLineEdit()
        self.job, self.camera = QLineEdit(job.name), QLineEdit()
        self.pattern = QLineEdit(job.meta("offload", offload.TEMPLATE))
        self.goal, self.found = QLabel(), QLabel()
        self.start = act("Copy and verify", self.begin)
        self.pause = act("Pause", self._pause, main=False)
        self.stop = act("Stop", self.run.stop, main=False)
        self.progress = Progress()
        self.verdicts: list[Verdict] = []
        self._lay_out()
        for field in (self.card, self.to, self.also, self.job, self.camera, self.pattern):
            field.textChanged.connect(self._preview)
        self.run.moved.connect(self._moved)
        self.run.ended.connect(self._ended)
        self._preview()
        self._show_state()

    def _lay_out(self) -> None:
        form = QGridLayout()
        form.setHorizontalSpacing(10)
        form.setVerticalSpacing(8)
        rows = (
            ("The card's folder", self.card, True), ("Copy it to", self.to, True), ("and also to", self.also, True),
            ("Job", self.job, False), ("Camera", self.camera, False), ("Folders", self.pattern, False),
        )  # fmt: skip
        for i, (words, field, folder) in enumerate(rows):
            label = QLabel(words)
            label.setObjectName("quiet")
            field.setAccessibleName(words)
            form.addWidget(label, i, 0)
            form.addWidget(field, i, 1)
            if folder:
                form.addWidget(act("Choose…", partial(self._choose, field), main=False), i, 2)
        self.also.setPlaceholderText("a second disk is the usual caution")
        self.camera.setPlaceholderText("sphere, eyes, scope lens, log body …")
        for label in (self.goal, self.found):
            label.setWordWrap(True)
            label.setObjectName("quiet")
        buttons = QHBoxLayout()
        for button in (self.start, self.pause, self.stop):
            buttons.addWidget(button)
        buttons.addStretch(1)
        left = QVBoxLayout()
        left.setContentsMargins(34, 26, 24, 20)
        left.setSpacing(14)
        head = QLabel("Get a card home")
        head.setFont(font(13, bold=True))
        left.addWidget(head)
        left.addLayout(form)
        left.addWidget(self.found)
        left.addWidget(self.goal)
        left.addLayout(buttons)
        left.addWidget(self.progress)
        left.addStretch(1)
        caution = QLabel(
            "The card is only read. Each file is copied once, read back from every disk and compared; nothing is overwritten. "
            "Keep the card until this says that it is safe to erase, and batteries cool and apart while they charge."
        )
        caution.setWordWrap(True)
        caution.setObjectName("quiet")
        left.addWidget(caution)
        self._list = QVBoxLayout()
        self._list.setContentsMargins(0, 0, 0, 0)
        self._list.setSpacing(0)
        self._none = QLabel("What became of each card is kept here, and beside its files as a report.")
        self._none.setObjectName("quiet")
        self._none.setWordWrap(True)
        self._none.setContentsMargins(24, 30, 24, 0)
        self._list.addWidget(self._none)
        self._list.addStretch(1)
        inner = QWidget()
        inner.setLayout(self._list)
        area = QScrollArea()
        area.setAccessibleName("what became of each card")
        area.setWidget(inner)
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setFixedWidth(470)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addLayout(left, 1)
        row.addWidget(area)

    def _choose(self, field: QLineEdit) -> None:
        folder = choosers.folder(self, "A folder", field.text())
        if folder:
            field.setText(folder)

    def set_card(self, folder: str) -> None:
        self.card.setText(folder)

    def _bases(self) -> list[Path]:
        return [Path(t) for f in (self.to, self.also) if (t := f.text().strip())]

    def _preview(self) -> None:
        """What lies on the card and where it would go, as the fields are now."""
        self.found.setText("")
        self.goal.setText("Name the card's folder, or drop it here.")
        ready = False
        if self.card.text().strip():
            try:
                found = card.survey(Path(self.card.text().strip()))
                odd = sum(o.blocks for o in found.oddities)
                cannot = f"; {odd} cannot be copied" if odd else ""
                words = f"{len(found.items)} files, {size_text(found.size)}{cannot}."
                self.found.setText("\n".join([words, *_folders(found)]))
                name = self.camera.text().strip() or found.card.name
                roots = [
                    offload.destination(b, self.pattern.text(), found, self.job.text(), name) for b in self._bases()
                ]
                ready = bool(roots)
                told = offload.cautions(Path(self.card.text().strip()), self._bases())
                self.goal.setText("\n".join([*(f"→ {r}" for r in roots), *told]) or "Choose where to copy it.")
            except AdzerError as error:
                self.goal.setText(str(error))
        self.start.setEnabled(ready and not self.run.running)

    def begin(self) -> None:
        """Starts the run, and remembers the folders' pattern in the job."""
        ask = {
            "card": self.card.text().strip(), "to": [str(b) for b in self._bases()], "job": self.job.text(),
            "camera": self.camera.text().strip(), "template": self.pattern.text(),
        }  # fmt: skip
        if self.pattern.text() != self.reading.desk.job.meta("offload", offload.TEMPLATE):
            self.reading.desk.job.set_meta("the folders' pattern", offload=self.pattern.text())
        self._camera = self.camera.text().strip() or Path(self.card.text().strip()).name
        self.progress.moving = {
            "doing": "reading",
            "file": "",
            "files": 0,
            "of_files": 0,
            "done": 0,
            "total": 1,
            "rate": 0,
            "left": 0,
        }
        self.run.start(ask)
        self._show_state()

    def _pause(self) -> None:
        self.run.pause()
        self._show_state()

    def _show_state(self) -> None:
        running = self.run.running
        for button in (self.pause, self.stop):
            button.setVisible(running)
        self.start.setVisible(not running)
        self.pause.setText("Go on" if self.run.paused else "Pause")
        self.progress.paused = self.run.paused
        self.progress.setVisible(running)
        self.progress.update()

    def _moved(self, moving: dict[str, object]) -> None:
        self.progress.moving = moving
        self.progress.update()

    def _ended(self, word: dict[str, Any]) -> None:
        outcome = word.get("outcome", word)
        self._none.hide()
        verdict = Verdict(outcome)
        self.verdicts.append(verdict)
        self._list.insertWidget(0, verdict)
        self._show_state()
        self._preview()
        files = word.get("files", [])
        words = outcome.get("words") or outcome.get("error", "")
        numbers = {"files": len(files), "bytes": outcome.get("bytes", 0)}
        self.reading.desk.record(lambda: self.reading.desk.job.log("offload", None, words, numbers), ())
        self.said.emit(words)
        if files:
            self.arrived.emit(files, self._camera)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.p.paper)
        painter.setPen(QPen(theme.p.line, 1))
        painter.drawLine(QPointF(self.width() - 470.5, 0), QPointF(self.width() - 470.5, self.height()))
