"""Files that belong together: what names suggested and nobody was sure of, asked once for all; and two rows that somebody puts together."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QHeaderView, QLabel, QTableWidget, QTableWidgetItem, QWidget

from ..core.intake.group import Doubt
from ..core.job import Part, Shot
from ..core.media.probe import FileFacts
from .dialogs import Sheet
from .model import Desk

TOGETHER = {
    "lens pair": "front and rear lens", "eye pair": "left and right eye", "proxy": "master and its proxy", "chapters": "one recording in pieces",
}  # fmt: skip
Answered = tuple[Shot, Doubt, bool]


class Belonging:
    """Answers to questions about files, as one edit. ``joined``: told of the shots that have further files now."""

    def __init__(self, desk: Desk, joined: Callable[[Iterable[int]], None]) -> None:
        self.desk, self._joined = desk, joined

    def questions(self) -> list[tuple[Shot, Doubt]]:
        """All that are open on the Board, of files that are on it."""
        there = {s.facts.path for s in self.desk.all.values()}
        return [(s, d) for s in self.desk.shots for d in s.doubts if d.paths and set(d.paths) <= there]

    def settle(self, answers: list[Answered], words: str = "") -> None:
        """What belongs together becomes one, once all of it was joined; nothing changes if one cannot be."""
        answers = list(answers)
        by_path = {s.facts.path: s for s in self.desk.all.values()}
        joins = [(s, d, by_path[d.paths[0]]) for s, d, yes in answers if yes and d.paths and d.paths[0] in by_path]

        def then(made: list[FileFacts | Part] | None, error: str | None) -> None:
            if made is None:
                self.desk.said.emit(error or "They cannot be joined.")
                return
            values: dict[int, dict[str, Any]] = {}
            gone: dict[int, Shot] = {}
            for shot, doubt, _ in answers:
                held = values.setdefault(shot.id, {"doubts": shot.doubts, "parts": shot.parts})
                held["doubts"] = tuple(d for d in held["doubts"] if d != doubt)
            for (shot, doubt, other), found in zip(joins, made, strict=True):
                if shot.id in gone or other.id in gone:
                    continue  # it is part of another by now
                self._put(values[shot.id], doubt.kind, other, found)
                gone[other.id] = other
            shots = {s.id: s for s, _, _ in answers}
            label = words or (f"{len(gone)} files put together" if gone else "files kept apart")

            def work() -> None:
                with self.desk.job.edit(label) as edit:
                    self.desk.job.set_files([(shots[i], v) for i, v in values.items() if i not in gone], label, edit)
                    for each in gone:
                        edit.put("shots", each, None)

            self.desk.record(work, [*values, *gone])
            self._joined([i for i in values if i not in gone and i in self.desk.all])

        if joins:
            self.desk.worker.chore("join all", ([(d.kind, s, other) for s, d, other in joins],), then)
        else:
            then([], None)

    @staticmethod
    def _put(held: dict[str, Any], kind: str, other: Shot, found: FileFacts | Part) -> None:
        if isinstance(found, Part):
            held["parts"] = (*held["parts"], found)
            return
        held |= {"facts": found, "kind": kind}
        if kind == "chapters":
            held |= {"kind": f"{len(found.files)} chapters", "start": 0, "stop": found.frames}
        else:
            held["parts"] = (*held["parts"], Part("second", other.facts.path, other.facts))

    def join_rows(self, kind: str) -> None:
        """The two chosen rows, in the Board's order; of a master and its proxy the larger is the master."""
        rows = self.desk.rows()
        if len(rows) != 2:
            self.desk.said.emit(f"Choose two rows, {TOGETHER[kind]}: click one, and the other with Ctrl held.")
            return
        first, second = sorted(rows, key=lambda s: -s.facts.raster[0] * s.facts.raster[1]) if kind == "proxy" else rows
        if kind == "proxy" and first.facts.raster == second.facts.raster:
            self.desk.said.emit(f"{first.name} and {second.name} are equally large, so neither is the other's proxy.")
            return
        if first.facts.rate != second.facts.rate or abs(first.frames - second.frames) > max(1, 0.01 * first.frames):
            self.desk.said.emit(
                f"{first.name} has {first.facts.frames} frames and {second.name} {second.facts.frames}, or their rates differ: they are not of one "
                "moment. Look for partners by what both heard on Join."
            )
            return
        doubt = Doubt(kind, (second.facts.path,), "")
        self.settle([(first, doubt, True)], f"{first.name} and {second.name}: {TOGETHER[kind]}")


class AskBelonging(Sheet):
    """All open questions about files in one table; what is ticked belongs together."""

    def __init__(self, belonging: Belonging, parent: QWidget) -> None:
        self.asked, self._ticks = belonging.questions(), list[QTableWidgetItem]()
        many = len(self.asked)
        super().__init__("Do these files belong together?" if many > 1 else "Do these two files belong together?", parent, 860)
        note = QLabel("Tick what does. What is not ticked stays apart, and is not asked again. Ctrl+Z takes all of it back.")
        note.setObjectName("quiet")
        self.column.addWidget(note)
        self.table = QTableWidget(many, 3)
        self.table.setHorizontalHeaderLabels(["files", "would be", "why it is asked"])
        self.table.verticalHeader().setVisible(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setWordWrap(True)
        self.table.horizontalHeader().setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        for row, (shot, doubt) in enumerate(self.asked):
            names = " · ".join((Path(shot.facts.path).name, *(Path(p).name for p in doubt.paths)))
            tick = QTableWidgetItem(names)
            tick.setFlags(Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsUserCheckable | Qt.ItemFlag.ItemIsSelectable)
            other = next(s.facts for s in belonging.desk.all.values() if s.facts.path == doubt.paths[0])
            likely = doubt.kind == "chapters" or abs(other.frames - shot.facts.frames) <= 3
            tick.setCheckState(Qt.CheckState.Checked if likely else Qt.CheckState.Unchecked)
            self._ticks.append(tick)
            for column, item in enumerate((tick, QTableWidgetItem(TOGETHER.get(doubt.kind, doubt.kind)), QTableWidgetItem(doubt.ask))):
                self.table.setItem(row, column, item)
        self.table.resizeColumnsToContents()
        self.table.setMinimumHeight(min(420, 60 + 44 * many))
        self.column.addWidget(self.table)

        def go() -> None:
            answers = [(s, d, t.checkState() == Qt.CheckState.Checked) for (s, d), t in zip(self.asked, self._ticks, strict=True)]
            self.accept()
            belonging.settle(answers)

        self.finish("So it is", go)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        QTimer.singleShot(0, self.table.resizeRowsToContents)  # as wide as the reason's column is by then
