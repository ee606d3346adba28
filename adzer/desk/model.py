"""What is done to an open job from the window: answers of one shot or several, chores of the service, the queue."""

from __future__ import annotations

import contextlib
import sqlite3
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from ..core import cards, habits
from ..core.compile import freeze
from ..core.errors import AdzerError
from ..core.finding import Finding, Fix
from ..core.intake.proxies import stand_in
from ..core.job import Job, Mark, Shot, Slip
from ..core.read.seen import Seen
from ..core.read.settings import ReadSettings
from ..core.records import to_plain
from ..core.route import Route, carried
from ..core.stage import STAGES, Settings
from .shown import Shown
from .workers import QueueRunner


def _by_measure(stage: str, settings: Any) -> bool:
    """Do these answers go by what was measured on their very shot?"""
    if stage == "steady":
        return bool(settings.method != "lock" and (settings.method != "off" or settings.evens))
    return stage == "develop" and bool(settings.clean or settings.colour)


def _answered(old: Settings, new: Settings) -> dict[str, object]:
    """What a person has answered between the two, as it goes to other chosen shots: how they were held, too, but nothing that was marked on
    pictures."""
    kept = carried(new) | ({"turn": new.turn} if isinstance(new, ReadSettings) else {})
    return {name: to_plain(value) for name, value in kept.items() if getattr(old, name) != value}


class Desk(Shown):
    """An open job in the window; see ``Shown`` for what of it is seen. ``alike_wanted``: shots, a stage, the answers that they are to
    have, and how the edit is called: what goes by a measurement has to be measured on each."""

    alike_wanted = Signal(object, str, object, str)
    queue_done = Signal()

    def __init__(self, job: Job, parent: QObject | None = None) -> None:
        super().__init__(job, parent)
        self.queue = QueueRunner(self)
        self.live: dict[int, dict[str, object]] = {}  # the queue's last word on each queued render
        self._went: set[int] = set()  # queued renders that were worked on since the queue last came to its end
        self._to_check: deque[int] = deque()
        self.queue.moved.connect(self._queue_moved)
        self.queue.ended.connect(self._queue_ended)
        self.reload()
        self.check_sources()
        self._watch = QTimer(self)
        self._watch.timeout.connect(self._look_at_queue)
        self._watch.start(1000)
        if any(s.state == "rendering" for s in self.slips):
            self.queue.start(job.path)  # a render that was cut off goes on
        if job.locked:
            words = f"{job.path.name} can be looked at but not changed: {job.locked}. Nothing of it is lost."
            QTimer.singleShot(0, lambda: self.said.emit(words))

    def _look_at_queue(self) -> None:
        """Another process may be rendering or editing, too."""
        with contextlib.suppress(AdzerError, sqlite3.Error):
            self.see_others()
        if any(s.state == "rendering" for s in self.slips) and not self.queue.running:
            self.refresh_slips()

    def switch_proxies(self) -> None:
        """The whole job from masters to proxies, or back."""
        to = "masters" if self.on_proxies else "proxies"
        lacking = sum(stand_in(s) is None for s in self.all.values())
        self.record(lambda: self.job.set_meta(f"work on {to}", use=to), ())
        short = lacking and to == "proxies"
        tail = f" {lacking} of {len(self.all)} have none and are shown from their masters." if short else ""
        self.said.emit(f"The job is shown from {to} now; what is delivered always comes from the masters.{tail}")

    # --- answers, of one shot or several ---------------------------------------------------------------------------------
    def mend(self, shot: Shot, fix: Fix) -> None:
        self.record(lambda: self.job.decide(shot, shot.route.mended(fix), f"{shot.name}: {fix.label}"), (shot.id,))

    def alike(self, shot: Shot, finding: Finding) -> list[Shot]:
        """Other shots that have the same finding, whose fix is the same."""
        fix = finding.fix
        if fix is None:
            return []

        def same(f: Finding) -> bool:
            return f.code == finding.code and f.fix is not None and (f.fix.stage, f.fix.answers) == (fix.stage, fix.answers)

        return [s for s in self.shots if s.id != shot.id and any(same(f) for f in self._said.get(s.id, ()))]

    def mend_all(self, shot: Shot, finding: Finding) -> None:
        """A fix for a shot and for all that have the same finding, as one edit."""
        if (fix := finding.fix) is not None:
            pairs = [(s, s.route.mended(fix)) for s in (shot, *self.alike(shot, finding))]
            words = f"{fix.label}, {len(pairs)} shots"
            self.record(lambda: self.job.decide_all(pairs, words), [s.id for s, _ in pairs])

    def given_to_others(self, shot: Shot, new: Route, words: str) -> list[tuple[Shot, Route]]:
        others = [s for s in self.rows() if s.id != shot.id]
        if not others or self.worker.answering:
            return []
        given = {stage: _answered(getattr(shot.route, stage), getattr(new, stage)) for stage in STAGES}
        made = []
        for stage in [s for s in STAGES if given[s] and _by_measure(s, getattr(new, s))]:
            self.alike_wanted.emit(others, stage, carried(getattr(new, stage)), words)
            given[stage] = {}
        for other in others:
            route = other.route
            with contextlib.suppress(AdzerError):  # what another's recording cannot be answered stays as it is there
                for stage, fields in given.items():
                    route = route.with_(stage, **fields) if fields else route
            if route != other.route:
                made.append((other, route))
        return made

    def fill_down(self) -> None:
        """The stage in hand of the selected rows as in the row above the first of them, or as in the first, if none is above it."""
        rows = sorted(self.marked | {self.selected})
        above, *rest = rows if rows[0] == 0 else [rows[0] - 1, *rows]
        if not self.shots or not rest:
            self.said.emit("There is no row above this one.")
            return
        stage, model = STAGES[self.column], self.shots[above]
        self._alike([self.shots[i] for i in rest], stage, model, f"{stage} as in {model.name}")

    def _alike(self, shots: list[Shot], stage: str, model: Shot, words: str) -> None:
        """A stage's answers as another shot has them, as one edit."""
        settings = getattr(model.route, stage)
        if _by_measure(stage, settings):
            self.alike_wanted.emit(shots, stage, carried(settings), words)
            return
        pairs = [(s, s.route.with_(stage, **carried(settings))) for s in shots]
        self.record(lambda: self.job.decide_all(pairs, words), [s.id for s in shots])

    def same_for_camera(self) -> None:
        """The unfolded stage's answers (else Read's) for every shot of the same camera, as one edit."""
        shot, stage = self.shot, self.stage or "read"
        self.commit()
        if shot is None or not shot.camera:
            self.said.emit("This shot has no camera's name yet; press E and give it one.")
            return
        shot = self.all[shot.id]
        settings = getattr(shot.route, stage)
        others = [
            s
            for s in self.all.values()
            if s.camera == shot.camera and s.id != shot.id and getattr(s.route, stage) != settings
        ]
        if not others:
            self.said.emit(f"All shots of {shot.camera} have these answers already.")
            return
        self._alike(others, stage, shot, f"{stage} of all {shot.camera} shots")
        if _by_measure(stage, settings):
            return
        self.said.emit(f"{len(others)} more shots of {shot.camera} have the same answers now; Ctrl+Z takes that back.")

    def describe(self, changes: dict[int, dict[str, str]], words: str) -> None:
        """Names, scenes, cameras, notes, verdicts: one edit."""
        self.record(lambda: self.job.describe(changes, words), list(changes))

    def judge(self, verdict: str) -> None:
        """keep or drop, for the chosen rows; a second time takes it back."""
        chosen = self.rows()
        if chosen:
            new = "" if all(s.verdict == verdict for s in chosen) else verdict
            label = f"{verdict} {chosen[0].name}" if len(chosen) == 1 else f"{verdict} {len(chosen)} shots"
            self.describe({s.id: {"verdict": new} for s in chosen}, label)

    def add_take(self, cut: bool) -> None:
        """Another range of the shot with its own view; ``cut``: it begins at this frame, where the take in hand then ends."""
        self.commit()
        shot = self.shot
        if shot is not None:
            made: list[Shot] = []
            start = self.frame if cut else shot.start
            self.record(lambda: made.append(self.job.add_take(self.all[shot.id], start, shot.stop, cut)), ())
            if made:
                self.reload((shot.id, made[0].id))
                self.select(next(i for i, s in enumerate(self.shots) if s.id == made[0].id))
                self.said.emit(f"{made[0].name} is a take of its own now; set its in, out and view.")

    def toggle_mark(self) -> None:
        """A mark on the current frame, or none any more."""
        shot = self.shot
        if shot is not None:
            rest = [m for m in shot.marks if m.frame != self.frame]
            marks = rest if len(rest) < len(shot.marks) else [*rest, Mark(self.frame)]
            self.record(lambda: self.job.set_marks(shot, marks), (shot.id,))

    def set_range(self, start: int, stop: int) -> None:
        shot = self.shot
        if shot is not None and 0 <= start < stop <= shot.facts.frames and (start, stop) != (shot.start, shot.stop):
            self.record(lambda: self.job.set_range(shot, start, stop), (shot.id,))

    def undo(self) -> None:
        self._stepped(self.job.undo, "Taken back", "There is nothing to take back.")

    def redo(self) -> None:
        self._stepped(self.job.redo, "Done again", "There is nothing to do again.")

    def _stepped(self, step: Callable[[], str | None], done: str, nothing: str) -> None:
        self._draft = None
        try:
            words = step()
        except AdzerError as error:
            self.said.emit(str(error))
            return
        self.said.emit(f"{done}: {words}." if words else nothing)
        self.reload(self.job.touched if words else ())

    def remove(self) -> None:
        chosen = self.rows()
        if chosen:
            self.record(lambda: self.job.remove_shots(chosen), [s.id for s in chosen])
            what = f"{chosen[0].name} is" if len(chosen) == 1 else f"{len(chosen)} shots are"
            self.said.emit(f"{what} out of the job; Ctrl+Z brings that back. No file was touched.")

    # --- chores ----------------------------------------------------------------------------------------------------------
    def keep_seen(self, shot_id: int, seen: Seen) -> None:
        """What a look at the footage found."""
        if shot_id in self.all:
            if not self.job.locked:  # it is shown all the same, and measured again another time
                self.record(lambda: self.job.keep_seen(shot_id, seen), ())
            self._seen[shot_id] = seen
            self._recount((shot_id,))
            self.changed.emit()

    def learn_usual(self) -> None:
        """What kind of curve each camera usually records, from its shots that were looked at."""
        looks = ((s.camera, seen.sure_kind) for s in self.all.values() if (seen := self._seen.get(s.id)) is not None)
        usual = habits.usual(looks)
        if changed := habits.changed(self._usual, usual):
            self._usual = usual
            self._recount([s.id for s in self.all.values() if s.camera in changed])

    def check_sources(self) -> None:
        """Are all files still there and as they were? Asked of the service, some at a time, those in view first."""
        busy = bool(self._to_check)
        self._to_check = deque(dict.fromkeys([*(s.id for s in self.shots), *self.all]))
        if not busy:
            self._check_some()

    def _check_some(self) -> None:
        some = [
            self.all[i]
            for i in (self._to_check.popleft() for _ in range(min(40, len(self._to_check))))
            if i in self.all
        ]

        def then(value: dict[int, Finding | None] | None, error: str | None) -> None:
            found = {k: v for k, v in (value or {}).items() if v != self.problems.get(k)}
            for shot_id, problem in found.items():
                self.problems.pop(shot_id, None)
                if problem is not None:
                    self.problems[shot_id] = problem
            if found:
                self._recount(found)
                self.changed.emit()
            if self._to_check:
                self._check_some()

        if some:
            self.worker.chore("sources", ([(s.id, s.facts) for s in some],), then)

    def measure_trials(self) -> None:
        """Renders one second of each chosen row for each of its deliveries, and keeps what it took."""
        for shot in self.rows():
            for name in shot.route.deliver.cards:
                self.measure_trial(name, shot)

    def measure_trial(self, card: str, shot: Shot | None = None) -> None:
        """The same of one, the selected one if none is given."""
        shot = shot or self.shot
        if shot is None:
            return
        measured = shot

        def then(value: Any, error: str | None) -> None:
            if error:
                self.said.emit(error)
                return
            self.job.keep_trial(measured.id, value)
            self.reload((measured.id,))

        self.worker.chore("trial", (shot, self.seen(shot), card, self.job_rate), then)

    # --- queue -----------------------------------------------------------------------------------------------------------
    def enqueue(self) -> int:
        """Freezes a queued render for each chosen delivery of each chosen row and starts the queue; says which could not be, and why. Returns
        how many."""
        self.commit()
        rows, said, count = self.rows(), list[str](), 0
        for shot in rows:
            made, words = self._enqueue(shot)
            count += made
            said += [w if len(rows) == 1 else f"{shot.name}: {w}" for w in words]
        if count:
            of = f" of {len(rows)} shots" if len(rows) > 1 else ""
            said.insert(0, f"{count} {'render' if count == 1 else 'renders'}{of} {'is' if count == 1 else 'are'} queued as they are now; later "
                        "changes do not touch them.")  # fmt: skip
            self.queue.start(self.job.path)
        if len(said) > 5:
            said = [*said[:5], f"And {len(said) - 5} more; each row says what is queued."]
        self.said.emit(" ".join(said))
        self.refresh_slips()
        return count

    def _enqueue(self, shot: Shot) -> tuple[int, list[str]]:
        """One shot's; how many were queued, and why the others were not."""
        if (seen := self.seen(shot)) is not None and seen.fingerprint != shot.facts.fingerprint:
            self.relook.emit(shot.id)
            return 0, [f"{shot.name} was measured on its proxy; its master is looked at first. Queue it again in a moment."]
        said, count = list[str](), 0
        made = {s.order.digest: s.order.out for s in self.slips if s.state == "done" and Path(s.order.out).exists()}
        waiting = {s.order.digest for s in self.slips if s.state in ("waiting", "rendering")}
        for name in shot.route.deliver.cards:
            for added, route in shot.route.masters:
                try:
                    card = cards.delivery(name)
                    out = self.job.master_path(shot.name + added, card)
                    order = freeze(shot.name, shot.facts, route, name, out, shot.start, shot.stop, self.seen(shot), self.job_rate)
                    if order.digest in waiting:
                        said.append(f"{card.title} is in the queue already.")
                        continue
                    if order.digest in made:
                        said.append(f"{card.title} is there already, as it is now: {Path(made[order.digest]).name}.")
                        continue
                    if self.job.resumed(shot.id, order) is None:
                        self.job.enqueue(shot.id, order)
                    count += 1
                except AdzerError as error:
                    said.append(f"NOT queued: {name}. {error}")
        return count, said

    def run_queue(self) -> None:
        self.queue.start(self.job.path)

    def cancel(self, slip: Slip) -> None:
        self.job.set_slip(slip.id, state="cancelled")
        self.refresh_slips()

    def again(self, slip: Slip) -> None:
        """Puts a cancelled or failed queued render back; what it had finished is used."""
        self.job.set_slip(slip.id, state="waiting", why=None, report=None, ends=0)
        self.refresh_slips()
        self.run_queue()

    def _queue_moved(self, word: dict[str, Any]) -> None:
        if "error" in word:
            self.said.emit(word["error"])
            return
        self.live[int(word["slip"])] = word
        self._went.add(int(word["slip"]))
        self.refresh_slips()

    def _queue_ended(self) -> None:
        if self.closed:
            return
        made = {s.shot_id for s in self.job.slips() if s.state == "done" and s.order.copy_scale is not None}
        if made:
            self.reload(made & set(self.all))  # proxies were linked
        self.refresh_slips()
        strange, left = {s.id for s in self.job.untrusted()}, self.job.abandoned()  # what its process ended at goes on, or is given up
        if any((s.state == "waiting" or s.id in left) and s.id not in strange for s in self.slips):
            self.queue.start(self.job.path)
        elif self._went:
            self._say_done()

    def _say_done(self) -> None:
        """What became of all that was worked on."""
        went, self._went = [s for s in self.slips if s.id in self._went], set()
        done, failed = (sum(s.state == state for s in went) for state in ("done", "failed"))
        words = f"{done} {'file is' if done == 1 else 'files are'} rendered and checked" if done else ""
        if failed:
            first = next(s for s in went if s.state == "failed")
            words += f"{', ' if words else ''}{failed} failed. {first.order.shot}: {first.why or 'see the Queue'}"
        if words:
            self.said.emit(f"The queue is done: {words.rstrip('.')}.")
            self.queue_done.emit()

    def trust(self) -> None:
        """Renders that somebody else queued may run from now on."""
        if not self.job.untrusted():
            self.said.emit("Nothing that waits in the queue was queued by someone else.")
            return
        self.record(self.job.trust, ())
        self.said.emit("The job may render now; what waits in its queue runs.")
        self.queue.start(self.job.path)

    def take_rate(self) -> None:
        """The job runs at the selected shot's rate from now on."""
        shot = self.shot
        if shot is None or not shot.facts.rate or not shot.facts.constant_rate:
            self.said.emit("This shot has no even rate that the job could take.")
            return
        self.record(lambda: self.job.set_meta("the job's rate", rate=str(shot.facts.rate)))
        self.said.emit(f"The job runs at {float(shot.facts.rate):g} frames a second.")

    def set_output(self, folder: str) -> None:
        """Where masters go from now on; renders that are queued keep their own."""
        self.record(lambda: self.job.set_meta("output folder", out=folder), ())

    def close(self, keep_queue: bool = False) -> None:
        """Once; a window may be told to close again."""
        if self.closed:
            return
        self._watch.stop()
        self.commit()
        self._counting.stop()
        self.queue.stop()
        with contextlib.suppress(AdzerError):  # what was stopped on purpose has not ended by itself
            for slip_id in self.job.abandoned():
                self.job.set_slip(slip_id, state="waiting")
        if keep_queue:
            self.queue.leave(self.job.path)
        self.closed = True
        self.worker.close()
        self.job.close()
