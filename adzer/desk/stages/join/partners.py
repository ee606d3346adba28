"""Which recordings of two cameras belong together, whatever they are called: found, shown with how surely, and put together in one go."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QHeaderView, QTableWidget, QTableWidgetItem

from ....core.job import Part, Shot
from ....core.media.probe import FileFacts
from ....core.route import Walk
from ....core.run.syncing import Paired, Pairs
from ...model import Desk
from ...widgets.questions import Pick, Question, act

FIND = "Look for the partners of this camera's shots"


class PartnersCard(Question):
    """The question, with a table of what was found."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._busy = False
        self._found: Pairs | None = None
        self.other = Pick([])
        self.search = act(FIND, self.look)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["pair", "starts later", "sure"])
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.verticalHeader().setVisible(False)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setMaximumHeight(180)
        self.accept = act("Put them together", self.put_together)
        super().__init__("Does this recording have a partner?", self.other, self.search, self.table, self.accept)

    def _lone(self, camera: str) -> list[Shot]:
        """Shots of a camera that are no pair yet, each recording once."""
        held: dict[str, Shot] = {}
        for shot in self.desk.shots:
            if shot.camera == camera and shot.facts.beside is None and shot.facts.apart is None and not shot.facts.files:
                held.setdefault(shot.facts.fingerprint, shot)
        return list(held.values())

    def look(self) -> None:
        shot, camera = self.desk.shot, self.other.currentText()
        if shot is None or self._busy or not camera:
            return
        firsts, seconds = ([s.facts for s in self._lone(c)] for c in (shot.camera, camera))
        self._busy = True
        self.search.setText("Listening, and watching how they move…")

        def then(found: Pairs | None, error: str | None) -> None:
            self._busy, self._found = False, found
            self.search.setText(FIND)
            if found is None:
                self.desk.said.emit(error or "They could not be compared.")
            self._show()

        self.desk.worker.chore("partners", (firsts, seconds), then)

    def _show(self) -> None:
        pairs = self._found.pairs if self._found is not None else []
        self.table.setRowCount(len(pairs))
        for row, pair in enumerate(pairs):
            names = f"{Path(pair.first).name} · {Path(pair.second).name}"
            for column, text in enumerate((names, f"{pair.offset:+.2f} s".replace("-", "−"), f"{pair.confidence:.0%}, by {pair.by}")):
                self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.setVisible(bool(pairs))
        self.accept.setVisible(bool(pairs))
        self.accept.setText(f"Put {len(pairs)} pair{'s' * (len(pairs) != 1)} together, as two eyes")
        if self._found is not None:
            alone = len(self._found.alone)
            self.say(f"{len(pairs)} found; of {alone} recordings nobody can tell a partner, and they stay as they are.")

    def put_together(self) -> None:
        """All that were found, in one step that can be taken back; the second's own rows go, its file stays."""
        if self._found is None or self._busy:
            return
        by_path = {s.facts.path: s for s in self.desk.shots}
        pairs = [p for p in self._found.pairs if p.first in by_path and p.second in by_path]
        whole = [round(p.offset * float(by_path[p.first].facts.rate or 25)) for p in pairs]
        self._busy = True

        def then(made: list[FileFacts] | None, error: str | None) -> None:
            self._busy = False
            if made is None:
                self.desk.said.emit(error or "They could not be put together.")
                return
            self._found = None
            self.desk.record(lambda: self._keep(pairs, whole, made, by_path), None)
            self.desk.said.emit(f"{len(made)} pairs are one recording each now.")
            self._show()

        ways = [(p.first, p.second, (max(n, 0), max(-n, 0))) for p, n in zip(pairs, whole, strict=True)]
        self.desk.worker.chore("pair all", (ways,), then)

    def _keep(self, pairs: list[Paired], whole: list[int], made: list[FileFacts], by_path: dict[str, Shot]) -> None:
        """AdzerError if it cannot be saved."""
        words = f"put {len(pairs)} pairs together"
        with self.desk.job.edit(words) as edit:
            changes = []
            for pair, n, facts in zip(pairs, whole, made, strict=True):
                shot, second = by_path[pair.first], by_path[pair.second]
                slip = round(n / float(shot.facts.rate or 25) - pair.offset, 6)
                route = shot.route.with_("read", eyes="side by side").with_("join", slip=slip)
                parts = (*shot.parts, Part("second", pair.second, second.facts))
                changes.append((shot, {"facts": facts, "kind": "eye pair", "start": 0, "stop": facts.frames, "route": route, "parts": parts}))
            self.desk.job.set_files(changes, words, edit)
            self.desk.job.remove_shots([by_path[p.second] for p in pairs], edit)

    def refresh(self, shot: Shot, walked: Walk, what: str) -> None:
        """``what`` the stage does now, in words."""
        others = sorted({s.camera for s in self.desk.shots if s.camera and s.camera != shot.camera})
        can = bool(others) and bool(shot.camera) and shot in self._lone(shot.camera)
        self.other.setVisible(can)
        self.search.setVisible(can)
        if [self.other.itemText(i) for i in range(self.other.count())] != others:
            self.other.set_answers([(c, c) for c in others], others[0] if others else None)
        self.table.setVisible(bool(self._found and self._found.pairs))
        self.accept.setVisible(bool(self._found and self._found.pairs))
        if self._found is None:
            self.say(what, "Names and clocks of two cameras say little: what both heard, and how both moved, says more." if can else "")

