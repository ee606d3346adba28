"""The Steady bench: how a shot shakes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ....core.job import Shot
from ....core.look import passes
from ....core.look.motion import Motion
from ....core.look.passes import Rows
from ....core.media.clock import clock_of
from ....core.route import Walk
from ....core.run import analysing as analyses
from ....core.run.steadying import Way, best
from ....core.steady.measure import Shake
from ....core.steady.slow import SLOW
from ....core.steady.step import shaken
from ...analysing import Analysing
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.plots import Table
from ...widgets.questions import Choice, Number, Numbers, Question, act
from ..base import StageBench

MOST = 1500  # places along the trace that are drawn


class SteadyBench(StageBench):
    stage = "steady"
    hint = "Q as recorded · [ ] stage · ↑↓ shot · Esc fold"

    def __init__(self, desk: Desk, analysing: Analysing) -> None:
        self.analysing = analysing
        super().__init__(desk)
        analysing.moved.connect(self._moved)

    def build(self) -> None:
        self._drawn: tuple[NDArray[np.float32], tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]] | None = None
        self.button = act("Measure how it shakes", self._measure)
        self.card = Question("How does it shake?", self.button)
        self.method = Choice([("as held", "off"), ("hold", "hold"), ("no jitter", "drift"), ("even way", "path")])
        self.method.chosen.connect(lambda v: self._solve(method=v))
        self.what = Question("What should it do?", self.method)
        self.budget = Number(8, 0.5, 0, 50, 1)
        self.budget.settled.connect(lambda v: self._solve(budget=v / 100))
        self.level = Choice([("kept level", True), ("rolls as it did", False)])
        self.level.chosen.connect(lambda v: self._solve(roll=v))
        self.cost = Question("How much picture may it cost?", Numbers(("of each side, %", self.budget)), self.level)
        self.compare = act("Try every way", self._compare)
        self.ways_card = Question("Which way is best here?", self.compare)
        self._ways: dict[str, tuple[Way, ...]] = {}
        self._busy = False
        self.table = Table("Left of it, as delivered", (0.18, 0.3, 0.22, 0.3), 3, rest="and")
        self.lines = Lines("Off where a slow hand would hold it", "px", 3)
        self.questions, self.instruments = [self.card, self.what, self.cost, self.ways_card], [self.lines, self.table]

    def _measure(self) -> None:
        """Starts it, or stops it while it runs."""
        shot = self.desk.shot
        if shot is not None and self.analysing.waits(shot):
            self.analysing.stop()
        elif shot is not None and (wants := self.desk.walk(shot)["steady"].result.wants):
            self.analysing.want(shot, wants)

    def _rows(self, shot: Shot) -> Rows | None:
        """How its picture moves, frame by frame, as it was measured."""
        return passes.rows(Motion, shot.facts.frames, analyses.kept(self.desk.job, "motion", shot.facts))

    def _solve(self, **changes: object) -> None:
        """Solves it anew with one answer changed; nothing of a picture moves before that is done."""
        shot = self.desk.shot
        if shot is None or self._busy:
            return
        s, rows = self.desk.route_of(shot).steady, self._rows(shot)
        wanted = {"method": s.method, "budget": s.budget, "roll": s.roll} | changes
        if wanted["method"] == "off":
            self.desk.answer("steady", **wanted, moves="")
            return
        if rows is None:
            self.desk.said.emit("How it moves has to be measured first.")
            self.method.set_value(s.method)
            return
        self._busy = True

        def then(found: dict[str, object] | None, error: str | None) -> None:
            self._busy = False
            if found is None:
                self.desk.said.emit(error or "It could not be held.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer("steady", **found)

        args = (rows, shot.facts, self.desk.route_of(shot).with_("steady", **wanted), self.desk.seen(shot))
        self.desk.worker.chore("steady", args, then)

    def _compare(self) -> None:
        """Every way is made and looked at again, as delivered."""
        shot = self.desk.shot
        rows = self._rows(shot) if shot is not None else None
        if shot is None or rows is None or self._busy:
            return
        self._busy = True
        self.compare.setText("Trying every way…")

        def then(found: tuple[Shake, tuple[Way, ...]] | None, error: str | None) -> None:
            self._busy = False
            self.compare.setText("Try every way")
            if found is None:
                self.desk.said.emit(error or "They could not be compared.")
                return
            self._ways[shot.facts.fingerprint] = found[1]
            self._moved()

        route, card = self.desk.route_of(shot), self.desk.card_of(shot)
        self.desk.worker.chore("ways", (shot.facts, self.desk.seen(shot), route, card, route.steady.budget or 0.08, rows), then)

    def _show_ways(self, shot: Shot, walked: Walk) -> None:
        s, ways = walked.route.steady, self._ways.get(shot.facts.fingerprint, ())
        measured = shaken(self.desk.found(shot)) is not None
        for card in (self.what, self.cost, self.ways_card):
            card.setVisible(measured)
        self.table.setVisible(bool(ways))
        self.method.set_value(s.method)
        self.budget.set_value(s.budget * 100)
        self.level.set_value(s.roll)
        self.what.say(
            "Held as on a tripod; a hand's slow movement without its jitter; or a way of still, even and evenly faster parts. Part of the one warp: "
            "every delivered pixel is still interpolated once.",
            "Others leave it: some shake belongs to the shot.",
        )
        self.cost.say(f"{1 - (1 - s.budget) ** 2:.0%} of the picture. What would need more is held less far: nothing bare ever enters.")
        names = {"off": "as held", "hold": "hold", "drift": "no jitter", "path": "even way"}
        rows = [("", "0.5–3 · above 3 Hz", "roll", "keeps")]
        for way in ways:
            row = (f"{way.left[1]:.1f} · {way.left[2]:.1f} px", f"{way.roll:.2f}°", f"{way.kept:.0%}") if not way.why else (way.why, "", "")
            rows.append((names[way.method], *row))
        self.table.show_rows(rows)
        if not ways:
            self.ways_card.say("Each is made, and the delivered picture followed again: nothing that was reckoned is believed.")
            return
        found = shaken(self.desk.found(shot))
        chosen = best(ways, found is not None and found.widest < 0.05 * shot.facts.raster[0])
        left = {w.method: w.left[1] + w.left[2] for w in ways}
        self.ways_card.say(f"{names[chosen][:1].upper() + names[chosen][1:]}: it leaves {left[chosen]:.1f} of {left['off']:.1f} pixels.")

    def _moved(self) -> None:
        shot = self.desk.shot
        if shot is not None and self.desk.stage == self.stage:
            self.refresh(shot, self.desk.walk(shot))

    def refresh(self, shot: Shot, walked: Walk) -> None:
        self._show_ways(shot, walked)
        result, measured = walked["steady"].result, self.desk.found(shot)
        found, runs = shaken(measured), self.analysing.waits(shot)
        self.button.setVisible(bool(result.wants) or runs)
        self.button.setText("Stop" if runs else "Measure how it shakes")
        trace = self.desk.trace(shot) if found is not None else None
        self.lines.setVisible(trace is not None)
        if found is not None and trace is not None:
            times, lines = self._drawn_of(shot, trace)
            self.lines.show_lines(times, lines, (), clock_of(shot.facts).time(self.desk.frame))
            gait = f", mostly at {found.hz:.1f} Hz" if found.hz else ", at no one frequency"
            lost = f" On {1 - found.known:.0%} of the frames the motion is not known." if found.known < 0.995 else ""
            self.card.say(
                f"Its picture lies {found.pixels:.1f} recorded pixels (rms) off where a slow hand would hold it, at most "
                f"{found.widest:.0f}{gait}; it rolls by {found.roll:.2f}°. What is slower than {SLOW:g} Hz is taken as meant.{lost}"
            )
        elif runs:
            self.card.say(f"Following its corners: {self.analysing.says() or 'others are measured first'}. What is done is kept.")
        elif result.wants:
            self.card.say("Nobody has measured it. Every frame is decoded once; it can be stopped, and goes on from there.")
        else:
            self.card.say("Only a flat picture's motion can be measured so far. It is left as it was held.")

    def _drawn_of(self, shot: Shot, trace: NDArray[np.float32]) -> tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]:
        """Seconds, and both lines; of a long shot what is farthest off in each stretch. Made once a trace."""
        if self._drawn is None or self._drawn[0] is not trace:
            each = max(1, len(trace) // MOST)
            starts = np.arange(0, len(trace), each)
            far = [s + int(np.abs(trace[s : s + each, :2]).max(axis=1).argmax()) for s in starts]
            clock = clock_of(shot.facts)
            off = trace[far].astype(np.float64)
            self._drawn = trace, (np.array([clock.time(int(n)) for n in far]), [("right", off[:, 0]), ("down", off[:, 1])])
        return self._drawn[1]

    def moved(self, shot: Shot) -> None:
        self.refresh(shot, self.desk.walk(shot))
