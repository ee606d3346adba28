"""What the window shows: the open job, the selected shot and stage, walks and drafts. Widgets ask this; it computes
nothing about pictures itself."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ..core import cards
from ..core.compile import freeze
from ..core.errors import AdzerError
from ..core.finding import Finding, Fix
from ..core.intake import kind_of
from ..core.job import Job, Shot, Slip
from ..core.route import Route, Walk, walk
from ..core.stage import STAGES
from .workers import QueueRunner, Worker


class Desk(QObject):
    """Signals: ``changed`` the shots or their answers; ``drafted`` an answer being dragged; ``moved`` selection, stage or
    frame; ``slips_moved`` the queue; ``said`` a sentence for the person."""

    changed = Signal()
    drafted = Signal()
    moved = Signal()
    slips_moved = Signal()
    said = Signal(str)

    def __init__(self, job: Job, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.job = job
        self.worker = Worker(self)
        self.queue = QueueRunner(self)
        self.shots: list[Shot] = []
        self.slips: list[Slip] = []
        self.selected = 0
        self.marked: set[int] = set()  # further rows chosen for filling down
        self.stage: str | None = None  # the unfolded stage
        self.column = 0
        self.frame = 0
        self._draft: Route | None = None
        self._walks: dict[Any, Walk] = {}
        self.problems: dict[int, Finding] = {}
        self.live: dict[int, dict[str, Any]] = {}  # the queue's last word on each slip
        self.queue.moved.connect(self._queue_moved)
        self.queue.ended.connect(self._queue_ended)
        self.reload()
        self.check_sources()
        self._watch = QTimer(self)
        self._watch.timeout.connect(self._look_at_queue)
        self._watch.start(1000)
        if any(s.state == "rendering" for s in self.slips):
            self.queue.start(job.path)  # a render that was cut off goes on

    def _look_at_queue(self) -> None:
        """Another process may be rendering, too."""
        if any(s.state == "rendering" for s in self.slips) and not self.queue.running:
            self.refresh_slips()

    # --- reading ---------------------------------------------------------------------------------------------------
    def reload(self) -> None:
        self.shots = self.job.shots()
        self.slips = self.job.slips()
        self._draft = None
        self._walks.clear()
        self.selected = min(self.selected, max(len(self.shots) - 1, 0))
        if not self.shots:
            self.stage = None
        self._keep_frame()
        self.changed.emit()
        self.slips_moved.emit()

    @property
    def shot(self) -> Shot | None:
        return self.shots[self.selected] if self.shots else None

    def route_of(self, shot: Shot) -> Route:
        """The shot's route, with the answer that is just being dragged."""
        current = self.shot
        return self._draft if self._draft is not None and current is not None and shot.id == current.id else shot.route

    def walk(self, shot: Shot, card: str | None = None) -> Walk:
        route = self.route_of(shot)
        key = (shot.id, route, card, shot.levels is not None)
        if key not in self._walks:
            if len(self._walks) > 2000:
                self._walks.clear()
            delivery = cards.delivery(card) if card else None
            self._walks[key] = walk(route, shot.facts, shot.levels, delivery, self.job.rate, self.problems.get(shot.id))
        return self._walks[key]

    def card_of(self, shot: Shot) -> str:
        """The delivery that the picture is shown for: the first chosen one that exists."""
        known = cards.paths("deliveries")
        return next((c for c in self.route_of(shot).deliver.cards if c in known), "web-wide")

    def findings(self) -> list[tuple[Shot, Finding]]:
        return [(s, f) for s in self.shots for f in self.walk(s).findings]

    def open_slips(self, shot: Shot) -> list[Slip]:
        return [s for s in self.slips if s.shot_id == shot.id and s.state in ("waiting", "rendering")]

    def changed_since_queued(self, shot: Shot) -> bool:
        """Has the shot been touched since it was queued? The slip keeps what it was."""
        now = (self.route_of(shot), shot.start, shot.stop)
        return any((s.order.route, s.order.start, s.order.stop) != now for s in self.open_slips(shot))

    # --- moving ----------------------------------------------------------------------------------------------------
    def select(self, index: int) -> None:
        if self.shots and index != self.selected:
            self.commit()
            self.selected = min(max(index, 0), len(self.shots) - 1)
            self.marked.clear()
            self.frame = self.shots[self.selected].start
            self.moved.emit()

    def unfold(self, stage: str | None) -> None:
        self.commit()
        self.stage = stage if self.shots else None
        if stage is not None:
            self.column = STAGES.index(stage)
        self._keep_frame()
        self.moved.emit()

    def go_to(self, frame: int) -> None:
        shot = self.shot
        if shot is not None and frame != self.frame:
            self.frame = min(max(frame, 0), shot.facts.frames - 1)
            self.moved.emit()

    def _keep_frame(self) -> None:
        shot = self.shot
        if shot is not None:
            self.frame = min(max(self.frame, 0), shot.facts.frames - 1)

    # --- answering -------------------------------------------------------------------------------------------------
    def draft(self, stage: str, **changes: Any) -> bool:
        """Shows an answer without keeping it; False (and a sentence) if it cannot be."""
        shot = self.shot
        if shot is None:
            return False
        try:
            self._draft = self.route_of(shot).with_(stage, **changes)
        except AdzerError as error:
            self.said.emit(str(error))
            return False
        self.drafted.emit()
        return True

    def commit(self, words: str = "") -> None:
        """Keeps what is drafted, as one edit."""
        shot = self.shot
        if shot is None or self._draft is None or self._draft == shot.route:
            self._draft = None
            return
        new, self._draft = self._draft, None
        self._guarded(lambda: self.job.decide(shot, new, words or f"{shot.name}: {self._what(shot.route, new)}"))

    def answer(self, stage: str, **changes: Any) -> bool:
        """Drafts and keeps in one go."""
        done = self.draft(stage, **changes)
        self.commit()
        return done

    @staticmethod
    def _what(old: Route, new: Route) -> str:
        return next((s for s in STAGES if getattr(old, s) != getattr(new, s)), "answers")

    def mend(self, shot: Shot, fix: Fix) -> None:
        self._guarded(lambda: self.job.decide(shot, shot.route.mended(fix), f"{shot.name}: {fix.label}"))

    def fill_down(self) -> None:
        """The stage in hand of the selected rows as in the row above the first of them."""
        rows = sorted(self.marked | {self.selected})
        if not self.shots or rows[0] == 0:
            self.said.emit("There is no row above this one.")
            return
        stage = STAGES[self.column]
        above = self.shots[rows[0] - 1]
        settings = getattr(above.route, stage)
        pairs = [(self.shots[i], self.shots[i].route.with_(stage, **_fields(settings))) for i in rows]
        self._guarded(lambda: self.job.decide_all(pairs, f"{stage} as in {above.name}"))

    def set_range(self, start: int, stop: int) -> None:
        shot = self.shot
        if shot is not None and 0 <= start < stop <= shot.facts.frames and (start, stop) != (shot.start, shot.stop):
            self._guarded(lambda: self.job.set_range(shot, start, stop))

    def undo(self) -> None:
        self._stepped(self.job.undo, "Taken back", "There is nothing to take back.")

    def redo(self) -> None:
        self._stepped(self.job.redo, "Done again", "There is nothing to do again.")

    def _stepped(self, step: Any, done: str, nothing: str) -> None:
        self._draft = None
        try:
            words = step()
        except AdzerError as error:
            self.said.emit(str(error))
            return
        self.said.emit(f"{done}: {words}." if words else nothing)
        self.reload()

    def remove(self) -> None:
        shot = self.shot
        if shot is not None:
            self._guarded(lambda: self.job.remove_shot(shot))
            self.said.emit(f"{shot.name} is out of the job; Ctrl+Z brings it back. Its file was not touched.")

    def _guarded(self, work: Any) -> None:
        try:
            work()
        except AdzerError as error:
            self.said.emit(str(error))
        self.reload()

    # --- chores ----------------------------------------------------------------------------------------------------
    def add(self, paths: Iterable[str | Path]) -> None:
        """Reads files in the service and takes those that can be read into the job."""
        for path in paths:

            def then(value: Any, error: str | None, name: Path = Path(path)) -> None:
                if error:
                    self.said.emit(error)
                    return
                facts, levels = value
                try:
                    shot = self.job.add_shot(facts, kind=kind_of(facts))
                    if levels:
                        self.job.keep_levels(shot.id, levels)
                except AdzerError as fault:
                    self.said.emit(str(fault))
                self.reload()
                self.said.emit(f"{name.name} is on the Board.")

            self.worker.chore("read", (str(path),), then)
        self.said.emit("Reading…")

    def check_sources(self) -> None:
        """Are all files still there and as they were? Asked of the service."""

        def then(value: Any, error: str | None) -> None:
            if error is None:
                found = {k: v for k, v in value.items() if v is not None}
                if found != self.problems:
                    self.problems = found
                    self._walks.clear()
                    self.changed.emit()

        self.worker.chore("sources", ([(s.id, s.facts) for s in self.shots],), then)

    def measure_trial(self, card: str) -> None:
        """Renders one second of the selected shot for a card and keeps what it took."""
        shot = self.shot
        if shot is None:
            return

        def then(value: Any, error: str | None) -> None:
            if error:
                self.said.emit(error)
                return
            self.job.keep_trial(shot.id, value)
            self.reload()

        self.worker.chore("trial", (shot, card, self.job.rate), then)

    # --- queue -----------------------------------------------------------------------------------------------------
    def enqueue(self) -> int:
        """Freezes a slip for each chosen delivery of the selected shot and starts the queue. Returns how many."""
        self.commit()
        shot = self.shot
        count = 0
        if shot is None:
            return 0
        for name in shot.route.deliver.cards:
            try:
                out = self.job.master_path(shot.name, cards.delivery(name))
                order = freeze(
                    shot.name, shot.facts, shot.route, name, out, shot.start, shot.stop, shot.levels, self.job.rate
                )
                self.job.enqueue(shot.id, order)
                count += 1
            except AdzerError as error:
                self.said.emit(str(error))
        if count:
            self.said.emit(
                f"{count} {'slip' if count == 1 else 'slips'} queued as they are now; later changes do not touch them."
            )
            self.queue.start(self.job.path)
        self.refresh_slips()
        return count

    def run_queue(self) -> None:
        self.queue.start(self.job.path)

    def cancel(self, slip: Slip) -> None:
        self.job.set_slip(slip.id, state="cancelled")
        self.refresh_slips()

    def again(self, slip: Slip) -> None:
        """Puts a cancelled or failed slip back; what it had finished is used."""
        self.job.set_slip(slip.id, state="waiting", why=None, report=None)
        self.refresh_slips()
        self.run_queue()

    def refresh_slips(self) -> None:
        self.slips = self.job.slips()
        self.slips_moved.emit()

    def _queue_moved(self, word: dict[str, Any]) -> None:
        if "error" in word:
            self.said.emit(word["error"])
            return
        self.live[int(word["slip"])] = word
        self.refresh_slips()

    def _queue_ended(self) -> None:
        self.refresh_slips()
        if any(s.state == "waiting" for s in self.slips):
            self.queue.start(self.job.path)

    def take_rate(self) -> None:
        """The job runs at the selected shot's rate from now on."""
        shot = self.shot
        if shot is None or not shot.facts.rate or not shot.facts.constant_rate:
            self.said.emit("This shot has no even rate that the job could take.")
            return
        self._guarded(lambda: self.job.set_meta("the job's rate", rate=str(shot.facts.rate)))
        self.said.emit(f"The job runs at {float(shot.facts.rate):g} frames a second.")

    def set_output(self, folder: str) -> None:
        """Where masters go from now on; slips that are queued keep their own."""
        self._guarded(lambda: self.job.set_meta("output folder", out=folder))

    def close(self) -> None:
        self._watch.stop()
        self.commit()
        self.queue.stop()
        self.worker.close()
        self.job.close()


def _fields(settings: Any) -> dict[str, Any]:
    return {name: getattr(settings, name) for name in settings.__struct_fields__ if name != "version"}
