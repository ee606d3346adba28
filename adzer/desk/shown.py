"""What the window shows of an open job: its shots in order, the selected one and its stage, walks, findings, and the answer that is
just being given. Widgets ask this; it computes nothing about pictures itself."""

from __future__ import annotations

import contextlib
import gc
import hashlib
import time
from collections import Counter, deque
from collections.abc import Callable, Iterable, Iterator

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from ..core import cards, habits, journal
from ..core.errors import AdzerError
from ..core.finding import Finding, Level
from ..core.intake.proxies import shown_with
from ..core.job import Job, Shot, Slip, difference
from ..core.media.probe import FileFacts
from ..core.read.seen import Seen
from ..core.route import Route, Walk, span_of, walk
from ..core.run import analysing
from ..core.stage import STAGES
from ..core.steady.step import names_of
from .ordering import ORDERS, Words
from .workers import Worker

SLICE = 0.008  # seconds of counting findings at a time, so that the window never waits for it


def _hash(text: str) -> bytes:
    return hashlib.sha256(text.encode()).digest()[:8]


class Shown(QObject):
    """Signals: ``changed`` the shots or their answers; ``drafted`` an answer being dragged; ``moved`` selection, stage or
    frame; ``slips_moved`` the queue; ``counted`` all findings; ``relook`` a shot whose master must be looked at; ``said`` a sentence."""

    changed = Signal()
    drafted = Signal()
    moved = Signal()
    slips_moved = Signal()
    counted = Signal()
    relook = Signal(int)
    said = Signal(str)

    def __init__(self, job: Job, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.job = job
        self.job_rate, self.on_proxies = job.rate, False
        self.worker = Worker(self)
        self.all: dict[int, Shot] = {}
        self.shots: list[Shot] = []  # what the Board shows: filtered and in order
        self.filter, self.order = "", "as added"
        self.slips: list[Slip] = []
        self.selected = 0
        self.marked: set[int] = set()  # further rows chosen: what is done to one is done to all of them
        self.stage: str | None = None  # the unfolded stage
        self.column = 0
        self.frame = 0
        self.hand: str | None = None  # the delivery in hand on the bench, if it is not the first one
        self._draft: Route | None = None
        self._walks: dict[int, tuple[object, Walk]] = {}
        self._seen: dict[int, Seen | None] = {}
        self._found: dict[str, dict[str, bytes]] = {}  # fingerprint → what analyses found
        self._traces: dict[str, tuple[str, NDArray[np.float32]]] = {}  # by the recording: the finding's name, and its trace
        self._laid: dict[str, tuple[str, NDArray[np.float32] | None]] = {}  # the same by the moves that leave it
        self._usual: dict[str, str] = {}
        self._given: dict[str, str] = {}  # camera → the curve that was declared for most of its shots
        self._words = Words()
        self._said: dict[int, tuple[Finding, ...]] = {}  # each shot's findings, counted bit by bit
        self.counts: Counter[Level] = Counter()
        self._to_count: deque[int] = deque()
        self._counting = QTimer(self)
        self._counting.timeout.connect(self._count_some)
        self.problems: dict[int, Finding] = {}
        self.closed = False  # then nothing asks the job any more
        self._edited = (0, 0, 0.0)

    def reload(self, only: Iterable[int] | None = None) -> None:
        """Reads shots again: all of them, or those that an edit touched."""
        self._draft = None
        self.job_rate, self.on_proxies = self.job.rate, self.job.meta("use") == "proxies"
        if only is None:
            self.all = {s.id: s for s in self.job.shots()}
            gc.freeze()
            self._seen.clear()
            self._found.clear()
            self._traces.clear()
            self._words.forget()
            self._walks.clear()
            self._said.clear()
            self.counts.clear()
            touched = list(self.all)
        else:
            touched = list(only)
            fresh = {s.id: s for s in self.job.shots(touched)}
            for shot_id in touched:
                self._seen.pop(shot_id, None)
                self._words.forget(shot_id)
                if shot_id in fresh:
                    self.all[shot_id] = fresh[shot_id]
                else:
                    self.all.pop(shot_id, None)
        self._edited = self.job.edited
        self._recount(touched + self._learn_given())
        self.arrange()
        self.refresh_slips()

    def see_others(self) -> None:
        """Reads the job again where another process edited it."""
        if self._draft is None and self.job.edited != self._edited:
            self.reload()

    def _learn_given(self) -> list[int]:
        """What was declared for most shots of each camera; the shots for which that has changed."""
        given = habits.given((s.camera, s.route.read.curve) for s in self.all.values())
        changed = habits.changed(self._given, given)
        self._given = given
        return [s.id for s in self.all.values() if s.camera in changed]

    def arrange(self, filter_: str | None = None, order: str | None = None) -> None:
        """Filters and sorts the Board; the selected shot stays selected if it is still shown."""
        current, marked = self.shot, {self.shots[i].id for i in self.marked if i < len(self.shots)}
        self.filter = self.filter if filter_ is None else filter_
        self.order = self.order if order is None else order
        shown = self._words.found(self.all.values(), self.filter, self._said)
        self.shots = sorted(shown, key=ORDERS[self.order])
        at = {s.id: i for i, s in enumerate(self.shots)}
        self.marked = {at[i] for i in marked if i in at}
        self.selected = at.get(current.id, min(self.selected, max(len(self.shots) - 1, 0))) if current else 0
        if not self.shots:
            self.stage = None
        self._keep_frame()
        self.changed.emit()

    # --- findings, counted in the background -----------------------------------------------------------------------------
    def _recount(self, ids: Iterable[int]) -> None:
        for shot_id in ids:
            self._walks.pop(shot_id, None)
            for f in self._said.pop(shot_id, ()):
                self.counts[f.level] -= 1
        self._to_count = deque(dict.fromkeys([*ids, *self._to_count]))
        self._count_some()
        if self._to_count:
            self._counting.start(0)

    def _count_some(self) -> None:
        if self.closed:
            self._to_count.clear()
            self._counting.stop()
            return
        end = time.monotonic() + SLICE
        while self._to_count and time.monotonic() < end:
            shot = self.all.get(self._to_count.popleft())
            if shot is None or shot.id in self._said:
                continue
            self._said[shot.id] = tuple(self.walk(shot).findings)
            self.counts.update(f.level for f in self._said[shot.id])
        if not self._to_count:
            self._counting.stop()
            gc.freeze()  # thousands of walks that live as long as the window: no collection need look at them again
            self.counted.emit()

    @property
    def shot(self) -> Shot | None:
        return self.shots[self.selected] if 0 <= self.selected < len(self.shots) else None

    def route_of(self, shot: Shot) -> Route:
        """The shot's route, with the answer that is just being dragged."""
        current = self.shot
        return self._draft if self._draft is not None and current is not None and shot.id == current.id else shot.route

    def seen(self, shot: Shot) -> Seen | None:
        """What its footage says, if it has been looked at as it is now."""
        if shot.id not in self._seen:
            try:
                self._seen[shot.id] = self.job.seen(shot.id)
            except AdzerError:
                self._seen[shot.id] = None
        return self._seen[shot.id]

    def found(self, shot: Shot) -> dict[str, bytes]:
        """What analyses found on its recording, by the finding's name."""
        print_ = shot.facts.fingerprint
        if print_ not in self._found:
            try:
                self._found[print_] = self.job.found(print_)
            except AdzerError:
                self._found[print_] = {}
        return self._found[print_]

    def trace(self, shot: Shot) -> NDArray[np.float32] | None:
        """(frames, 3) how it shakes: recorded pixels right and down, degrees, or of a sphere all in degrees; None if that was not measured."""
        print_, walked = shot.facts.fingerprint, self.walk(shot)
        _, name = names_of(walked["steady"].before, walked.draft, walked.route.steady)
        if name not in self.found(shot):
            return None
        if print_ not in self._traces or self._traces[print_][0] != name:
            self._traces.pop(print_, None)
            body = self.job.measured(print_, name).get("trace", b"")
            if body and not len(body) % 12:
                made = np.frombuffer(body, "<f4").reshape(-1, 3)
                if len(made) == shot.facts.frames and np.isfinite(made).all():
                    self._traces[print_] = name, made
        held = self._traces.get(print_)
        return held[1] if held else None

    def moved_rows(self, shot: Shot) -> NDArray[np.float32] | None:
        """How its picture moves or its camera turns, frame by frame; None if that was not measured, or not to the end."""
        walked = self.walk(shot)
        return analysing.kept_rows(self.job, names_of(walked["steady"].before, walked.draft, walked.route.steady)[0], shot.facts)

    def laid(self, shot: Shot) -> NDArray[np.float32] | None:
        """The trace that is left as it is held now; None if it is left as it was, or that is not known."""
        moves, print_ = self.route_of(shot).steady.moves, shot.facts.fingerprint
        if not moves:
            return None
        if print_ not in self._laid or self._laid[print_][0] != moves:
            body = self.job.measured(print_, "laid").get("", b"")
            made = np.frombuffer(body[8:], "<f4").reshape(-1, 3) if body[:8] == _hash(moves) and not (len(body) - 8) % 12 else None
            self._laid[print_] = moves, made
        return self._laid[print_][1]

    def keep_laid(self, shot: Shot, moves: str, trace: bytes) -> None:
        """The last of a recording is kept."""
        with contextlib.suppress(AdzerError):  # it is only drawn
            self.job.keep_measured(shot.facts.fingerprint, "laid", _hash(moves) + trace)
        self._laid.pop(shot.facts.fingerprint, None)

    def learn_found(self, print_: str) -> None:
        """An analysis of a recording has come to its end."""
        self._found.pop(print_, None)
        self._traces.pop(print_, None)
        self._recount([s.id for s in self.all.values() if s.facts.fingerprint == print_])
        self.changed.emit()

    def walk(self, shot: Shot, card: str | None = None) -> Walk:
        route = self.route_of(shot)
        if card is None and self.hand is not None and self.stage == "shape" and shot is self.shot:
            card = self.hand
        key = (route, card, shot.start, shot.stop)
        held = self._walks.get(shot.id)
        if held is None or held[0] != key:
            delivery = cards.delivery(card) if card else None
            problem, usual = self.problems.get(shot.id), self._usual.get(shot.camera)
            given = self._given.get(shot.camera)
            made = walk(route, shot.facts, self.seen(shot), delivery, self.job_rate, problem, usual, given, self.found(shot),
                        span_of(shot.facts, shot.start, shot.stop))  # fmt: skip
            held = self._walks[shot.id] = (key, made)
        return held[1]

    def shown(self, shot: Shot) -> tuple[FileFacts, Route, Seen | None]:
        """What pictures are decoded from, the route they are shown with, and what is seen in them."""
        facts, route = shown_with(shot, self.walk(shot), self.route_of(shot), self.on_proxies)
        seen = self.seen(shot)
        return facts, route, seen.on(shot.facts.raster, facts.raster) if seen else None

    def walk_as(self, shot: Shot, card: str) -> Walk:
        """The walk for a delivery that is not the one in view; not kept."""
        return walk(self.route_of(shot), shot.facts, self.seen(shot), cards.delivery(card), self.job_rate, measured=self.found(shot),
                    span=span_of(shot.facts, shot.start, shot.stop))  # fmt: skip

    def take_card(self, name: str) -> None:
        """The delivery in hand on the bench, until it is folded or another shot is selected."""
        self.commit()
        self.hand = name
        self.drafted.emit()

    def card_of(self, shot: Shot) -> str:
        """The delivery that the picture is shown for: the one in hand, else the first chosen one that exists."""
        known = cards.paths("deliveries")
        if self.hand in known and self.stage == "shape" and shot is self.shot:
            return str(self.hand)
        return next((c for c in self.route_of(shot).deliver.cards if c in known), "web-wide")

    def findings(self) -> Iterator[tuple[Shot, Finding]]:
        """What has been counted so far, of the shots that are shown; the selected shot's come first."""
        current = self.shot
        if current is not None:
            yield from ((current, f) for f in self.walk(current).findings)
        for shot in self.shots:
            if shot is not current:
                yield from ((shot, f) for f in self._said.get(shot.id, ()))

    def open_slips(self, shot: Shot) -> list[Slip]:
        return [s for s in self.slips if s.shot_id == shot.id and s.state in ("waiting", "rendering")]

    def changed_since_queued(self, shot: Shot) -> bool:
        """Has the shot been touched since it was queued? The queued render keeps what it was."""
        now = (self.route_of(shot), shot.start, shot.stop)
        return any((s.order.route, s.order.start, s.order.stop) != now for s in self.open_slips(shot))

    # --- moving ----------------------------------------------------------------------------------------------------------
    def select(self, index: int) -> None:
        if self.shots and index != self.selected:
            self.commit()
            self.selected = min(max(index, 0), len(self.shots) - 1)
            self.hand = None
            self.marked.clear()
            self.frame = self.shots[self.selected].start
            self.moved.emit()

    def unfold(self, stage: str | None) -> None:
        self.commit()
        self.stage = stage if self.shots else None
        self.hand = None
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

    # --- the answer that is being given ----------------------------------------------------------------------------------
    @property
    def drafting(self) -> bool:  # an answer is being dragged
        return self._draft is not None

    def draft(self, stage: str, **changes: object) -> bool:
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
        """Keeps what is drafted, as one edit, and gives it to the other chosen rows."""
        shot = self.shot
        if shot is None or self._draft is None or self._draft == shot.route:
            self._draft = None
            return
        new, self._draft = self._draft, None
        what = words or f"{shot.name}: {self._what(shot.route, new)}"
        pairs = [(shot, new), *self.given_to_others(shot, new, what)]
        words = what if len(pairs) == 1 else f"{what}, and {len(pairs) - 1} more"
        self.record(lambda: self.job.decide_all(pairs, words), [s.id for s, _ in pairs])

    def rows(self) -> list[Shot]:
        """The chosen rows: the marked ones, and the selected one."""
        return [self.shots[i] for i in sorted(self.marked | {self.selected}) if i < len(self.shots)]

    def given_to_others(self, shot: Shot, new: Route, words: str) -> list[tuple[Shot, Route]]:
        """The other chosen rows with what a person has just answered for ``shot``; none where a measurement answered."""
        return []

    def answer(self, stage: str, **changes: object) -> bool:
        """Drafts and keeps in one go."""
        done = self.draft(stage, **changes)
        self.commit()
        return done

    @staticmethod
    def _what(old: Route, new: Route) -> str:
        """The answers that changed, by what they are called; the stage, if they are many."""
        changed = list(difference(old, new))
        if 0 < len(changed) <= 3:
            return ", ".join(map(journal.field_words, changed))
        return next((s for s in STAGES if getattr(old, s) != getattr(new, s)), "answers")

    def record(self, work: Callable[[], object], only: Iterable[int] | None = None) -> None:
        """Does an edit, says why if it cannot be, and reads again what it touched."""
        if self.closed:
            return
        try:
            work()
        except AdzerError as error:
            self.said.emit(str(error))
        self.reload(only)

    def refresh_slips(self) -> None:
        if self.closed:
            return
        self.slips = self.job.slips()
        self.slips_moved.emit()
