"""The Steady bench: how a shot shakes, and what is done about it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen

from ....core.job import Shot
from ....core.media.clock import clock_of
from ....core.route import Route, Walk
from ....core.run.steadied import Drawn
from ....core.run.steadying import TRAVELS
from ....core.space.looks import RoundLook
from ....core.space.sphere import Directions, Equirect, heading_tilt
from ....core.steady.lamp import TELLS
from ....core.steady.measure import Shake, Turned
from ....core.steady.slow import SLOW
from ....core.steady.step import SHAKEN, found_of, lens_of
from ... import choosers
from ...analysing import Analysing
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Choice, Number, Numbers, Question, act
from ..base import StageBench
from .plots import Thirds
from .recorded import Recorded
from .ways import Ways

OFF = "Off where a slow hand would hold it"
MOST = 1500  # places along the trace that are drawn


CAREFUL = "On a vehicle, a pole or a drone: what is mounted must hold in the wind and at the speed that come; local rules and a licence come first."


class SteadyBench(StageBench):
    stage = "steady"
    hint = "Q as recorded · [ ] stage · ↑↓ shot · Esc fold"

    def __init__(self, desk: Desk, analysing: Analysing) -> None:
        self.analysing = analysing
        super().__init__(desk)
        analysing.moved.connect(self._moved)

    def build(self) -> None:
        self._drawn: tuple[NDArray[np.float32], tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]] | None = None
        self._lens: Directions | None = None
        self.button = act("Measure how it shakes", self._measure)
        self.file = act("Take a motion file", self._motion_file, False)
        self.recorded = Recorded(self.desk, self._followed)
        self.look = Choice([("as delivered", False), ("what was followed", True)], False)
        self.look.chosen.connect(self._look)
        self.card = Question("How does it shake?", self.button, self.file, self.look)
        self.method = Choice([("as held", "off"), ("hold", "hold"), ("no jitter", "drift"), ("even way", "path"), ("a thing stays", "lock")])
        self.stands = Choice([("as turned", "off"), ("no jitter", "drift"), ("stand level", "level"), ("a thing stays", "lock")])
        for choice in (self.method, self.stands):
            choice.chosen.connect(lambda v: self._solve(method=v))
        self._from: QPointF | None = None
        self._boxing, self._keeps = "", False  # what the next box is around: a ``mark``, or what stands ``still``
        self.box = act("Draw a box around it", self.mark_thing, False)
        self.grows = Choice([("grows as it did", False), ("keeps its size", True)])
        self.grows.chosen.connect(lambda v: self._solve(grows=v))
        self.what = Question("What should it do?", self.method, self.stands, self.grows, self.box)
        self.stays = Choice([("what most agrees on", False), ("only what I box in", True)])
        self.stays.chosen.connect(self._stays)
        self.still = Question("What stands still in it?", self.stays)
        self.speed = Question("How fast does it play?", act("Say it on Shape", lambda: self.desk.unfold("shape"), False))
        self.budget = Number(8, 0.5, 0, 50, 1)
        self.budget.settled.connect(lambda v: self._solve(budget=v / 100))
        self.level = Choice([("kept level", True), ("rolls as it did", False)])
        self.level.chosen.connect(lambda v: self._solve(roll=v))
        self.eases = Choice([("of every frame", False), ("where it needs it", True)])
        self.eases.chosen.connect(lambda v: self._solve(eases=v))
        self.cost = Question("How much picture may it cost?", Numbers(("of width and height, %", self.budget)), self.eases, self.level)
        self.evens = Choice([("as recorded", False), ("made even", True)])
        self.evens.chosen.connect(lambda v: self._solve(evens=v))
        self.light = Question("Is its light steady?", self.evens)
        self.readout = Number(0, 0.1, -100, 100, 1)
        self.readout.settled.connect(lambda v: self._solve(readout=v))
        self.sees = Number(0, 0.5, 0, 150, 1)
        self.sees.settled.connect(lambda v: self._solve(view=v if v >= 5 else None))
        self.wide = Numbers(("sees across, °", self.sees))
        self.rows = Question("What of its camera?", Numbers(("read out in, ms", self.readout)), self.wide)
        self.leaning = Number(100, 1, 0, 100, 0)
        self.leaning.settled.connect(lambda v: self._solve(level=v / 100))
        self._marks: list[QPointF] | None = None
        self.horizon = act("Show the horizon", self.mark_horizon, False)
        self.upright = Question("Is the world level?", Numbers(("of its leaning taken away, %", self.leaning)), self.horizon)
        self.heading = Choice([("stays", "world"), ("as it rides", "vehicle"), ("ahead", "travel"), ("as turned", "free")])
        self.heading.chosen.connect(lambda v: self._solve(heading=v))
        self.opens = Number(0, 1, -180, 180, 1)
        self.opens.settled.connect(lambda v: self._open(v))
        self.kept = act("Keep what was looked at", self.mark_kept, False)
        self.headed = Question("Where is it headed?", self.heading, Numbers(("ahead lies, ° to the right", self.opens)), self.kept)
        self._busy = False
        self.ways = Ways(self.desk, self._ask, self._moved)
        self.looping = self.ways.looping
        self.lines = Lines(OFF, "px", 3)
        self.thirds = Thirds("How fast it shakes", 2)
        self.spent = Lines("What it spends", "%", 2)
        self.lit = Lines("Its light", "stops", 2)
        self._drawn_now: tuple[tuple[object, ...], Drawn | None] = ((), None)
        self.questions = [self.card, self.still, self.what, self.upright, self.headed, self.cost, self.rows, self.light, self.speed, self.ways]
        self.instruments = [self.lines, self.thirds, self.spent, self.lit, self.ways.table]

    def _measure(self) -> None:
        """Starts it, or stops it while it runs."""
        shot = self.desk.shot
        if shot is not None and self.analysing.waits(shot):
            self.analysing.stop()
        elif shot is not None and (wants := self.desk.walk(shot)["steady"].result.wants):
            self.analysing.want(shot, wants)

    def _found(self, shot: Shot) -> Shake | Turned | None:
        walked = self.desk.walk(shot)
        return found_of(walked["steady"].before, walked.draft, walked.route.steady, self.desk.found(shot))

    def _motion_file(self) -> None:
        """The camera's own record; taken again, it is given back."""
        shot = self.desk.shot
        if shot is None:
            return
        if self.desk.route_of(shot).steady.sidecar is not None:
            self._solve(sidecar=None)
            return
        file = choosers.file(None, "How the camera turned", "Motion files (*.csv *.json)")
        if file:
            self._solve(sidecar=file)

    def _solve(self, **changes: object) -> None:
        """Solves it anew with one answer changed; nothing of a picture moves before that is done."""
        shot = self.desk.shot
        if shot is None or self._busy:
            return
        s, rows = self.desk.route_of(shot).steady, self.desk.moved_rows(shot)
        wanted: dict[str, object] = {n: getattr(s, n) for n in s.__struct_fields__ if n not in ("version", "moves", "goes", "light")} | changes
        if wanted["method"] == "off" and not wanted["evens"]:
            self.desk.answer("steady", **wanted | {"moves": "", "goes": "", "light": ""})
            return
        if wanted["method"] != "lock" and len(chosen := self.desk.rows()) > 1:  # each by its own measure, this one with them
            answers = {n: v for n, v in wanted.items() if n not in s.OWN}
            self.desk.alike_wanted.emit(chosen, "steady", answers, f"steady of {len(chosen)} shots")
            return
        if rows is None:
            self.desk.said.emit("How it moves has to be measured first.")
            self.method.set_value(s.method)
            self.stands.set_value(s.method)
            return
        if wanted["method"] == "lock" and wanted["mark"] is None:
            self.box.setVisible(True)
            self.mark_thing()
            return
        args = (rows, shot.facts, self.desk.route_of(shot).with_("steady", **wanted), self.desk.seen(shot))

        def use(found: tuple[dict[str, object], bytes]) -> None:
            self.desk.keep_laid(shot, str(found[0]["moves"]), found[1])
            self.desk.answer("steady", **found[0])

        self._ask("steady", args, use, "It could not be held.")

    def _ask(self, what: str, args: tuple[object, ...], use: Callable[[Any], object], fails: str) -> bool:
        """One thing at a time beside the window, else it is not done; what comes for a shot that is no longer in view is not used."""
        if self._busy:
            return False
        self._busy, asked = True, self.desk.shot

        def then(found: Any, error: str | None) -> None:
            self._busy = False
            if found is None:
                self.desk.said.emit(error or fails)
            elif self.desk.shot is not None and asked is not None and self.desk.shot.id == asked.id:
                use(found)
            self.ways.done()

        self.desk.worker.chore(what, args, then)
        return True

    def mark_horizon(self) -> None:
        """The next two places clicked on the picture lie on the horizon; pressed again, it is given up."""
        self._marks = None if self._marks is not None else []
        self.horizon.setText("Click two places on it" if self._marks is not None else "Show the horizon")

    def _open(self, heading: float) -> None:
        """Ahead lies there in the levelled sphere: nothing of how it stands is solved anew."""
        self.desk.answer("steady", opens=round((heading + 180) % 360 - 180, 1))

    def _looked(self) -> float | None:
        """Degrees to the right that viewers look as this shot opens: by its own view, else by that of the shot above on the Board as it ends, else
        ahead. None: no sphere is above it."""
        shot, shots = self.desk.shot, self.desk.shots
        at = next((n for n, s in enumerate(shots) if shot is not None and s.id == shot.id), 0)
        if shot is None or not at:
            return None
        above, own = self.desk.route_of(shots[at - 1]).shape.view, self.desk.route_of(shot).shape.view
        walked = self.desk.walk(shots[at - 1])
        if lens_of(walked["steady"].before, walked.draft) is None:
            return None
        return own.keys[0].heading if own is not None else above.keys[-1].heading if above is not None else 0.0

    def mark_kept(self) -> None:
        """The next place clicked on the picture is what is looked at as the shot before ends; pressed again, it is given up."""
        self._keeps = not self._keeps
        self.kept.setText("Click it on the picture" if self._keeps else "Keep what was looked at")

    def _kept_at(self, place: QPointF) -> None:
        """It opens so that what was clicked lies where its viewers look then."""
        shot, looked = self.desk.shot, self._looked()
        self.mark_kept()
        draft = self.desk.walk(shot).draft if shot is not None else None
        if shot is None or looked is None or draft is None or not draft.panels:
            return
        panel, (w, h), time = draft.panels[0], draft.raster, clock_of(shot.facts).time(self.desk.frame)
        x, y = np.array([place.x() * w - panel.place[0]]), np.array([place.y() * h - panel.place[1]])
        if isinstance(panel.look, RoundLook):
            stands = panel.look.directions(x, y, time) @ panel.look.standing(time)
            self._open(self.desk.route_of(shot).steady.opens + float(heading_tilt(stands)[0][0]) - looked)

    def mark_thing(self) -> None:
        """The next box that is drawn on the picture is around what keeps its place; pressed again, it is given up."""
        self._boxing, self._from = "" if self._boxing else "mark", None
        self.box.setText("Draw it on the picture" if self._boxing else "Draw a box around it")

    def _stays(self, boxed: bool) -> None:
        """By the next box that is drawn on the recorded picture; or by what most of it agrees on. Either way it is measured anew, unless it was."""
        if not boxed:
            self._boxing = ""
            self._stand(None)
            return
        self._look(True)
        self._boxing, self._from = "still", None
        self.still.say("Draw a box around what stands still, on the recorded picture.")

    def _stand(self, box: tuple[float, ...] | None) -> None:
        self.desk.answer("steady", still=box, method="off", moves="", goes="", evens=False, light="")
        if (shot := self.desk.shot) is not None and (wants := self.desk.walk(shot)["steady"].result.wants):
            self.analysing.want(shot, wants)

    def _recorded(self, shot: Shot, at: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """(n, 2) shares of the recorded picture of places (n, 2), 0–1, in the delivered one as it is now."""
        draft = self.desk.walk(shot).draft
        if not draft.panels:
            return None
        panel, (w, h), (x, y) = draft.panels[0], draft.raster, draft.panels[0].place
        return panel.recorded(at[:, 0] * w - x, at[:, 1] * h - y, clock_of(shot.facts).time(self.desk.frame)) / np.array(shot.raster)

    def _boxed(self, place: QPointF, done: bool) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        self._from = self._from or place
        if not done:
            return
        a, b = self._from, place
        if self._boxing == "still":
            (left, top), (right, under) = ((f(p.x() for p in (a, b)), f(p.y() for p in (a, b))) for f in (min, max))
            self._boxing = ""
            self._stand(tuple(round(v, 4) for v in (left, top, right - left, under - top)))
            return
        self.mark_thing()
        corners = np.array([(a.x(), a.y()), (b.x(), a.y()), (a.x(), b.y()), (b.x(), b.y())])
        found = self._recorded(shot, corners)
        if found is None:
            return
        low, high = np.clip(found.min(axis=0), 0, 1), np.clip(found.max(axis=0), 0, 1)
        self._solve(method="lock", mark=(self.desk.frame, *(float(v) for v in low), *(float(v) for v in high - low)))

    def dragged(self, place: QPointF, done: bool) -> None:
        if self._boxing:
            self._boxed(place, done)
            return
        if self._keeps:
            if done:
                self._kept_at(place)
            return
        if self._marks is None or not done or self.desk.shot is None:
            return
        self._marks.append(place)
        if len(self._marks) < 2:
            self.desk.drafted.emit()
            return
        marks, shot = self._marks, self.desk.shot
        self.mark_horizon()
        draft, rows, frame = self.desk.walk(shot).draft, self.desk.moved_rows(shot), self.desk.frame
        if not draft.panels or rows is None or self._busy:
            return
        panel, (w, h), time = draft.panels[0], draft.raster, clock_of(shot.facts).time(frame)
        (x, y), at = panel.place, np.array([(m.x(), m.y()) for m in marks])
        if isinstance(panel.look, RoundLook):
            seen = panel.look.directions(at[:, 0] * w - x, at[:, 1] * h - y, time)
        else:
            seen = panel.lens.direction(panel.recorded(at[:, 0] * w - x, at[:, 1] * h - y, time) - np.array(panel.region[:2]))
        self._ask("lean", (rows, frame, seen), lambda lean: self._solve(method="level", lean=lean), "The horizon could not be found by that.")

    def _look(self, recorded: bool) -> None:
        """At the whole recorded picture, with what was followed in it, or at what is delivered."""
        self.whole = bool(recorded)
        self.relaid.emit()
        self._moved()

    def shown_as(self, route: Route) -> Route:
        return route.with_("steady", method="off")

    def _followed(self) -> None:
        self.whole_words = self.recorded.words()
        self.desk.drafted.emit()

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if self.looping is not None and self.looping.plays:
            self.looping.overlay(painter, rect)
            return
        if self.whole and self.desk.shot is not None:
            self.recorded.draw(painter, rect, self.desk.shot)
        painter.setPen(QPen(QColor(255, 255, 255, 220), 1.4))
        if self.whole and self.desk.shot is not None and (box := self.desk.route_of(self.desk.shot).steady.still) is not None:
            x, y, w, h = box
            painter.drawRect(QRectF(rect.left() + x * rect.width(), rect.top() + y * rect.height(), w * rect.width(), h * rect.height()))
        for mark in self._marks or ():
            painter.drawEllipse(QPointF(rect.left() + mark.x() * rect.width(), rect.top() + mark.y() * rect.height()), 6, 6)

    def _show_answers(self, shot: Shot, walked: Walk) -> None:
        s, found = walked.route.steady, self._found(shot)
        round_ = self._lens is not None
        self.what.setVisible(found is not None)
        self.ways.show_ways(shot, found)
        self.cost.setVisible(found is not None and not round_)
        self.rows.setVisible(found is not None and s.method != "off" and not isinstance(self._lens, Equirect))
        self.wide.setVisible(not round_)
        self.light.setVisible(found is not None and not round_)
        self.evens.set_value(s.evens)
        self.readout.set_value(s.readout or 0.0)
        self.sees.set_value(s.view or 0.0)
        if found is not None and found.readout is not None:
            says = f"The footage says {found.readout[0]:.1f} ± {found.readout[1]:.1f} ms from the first row to the last"
            says += "" if found.leans is not None else ", which may as well be none"
        else:
            says = "Nothing in it tells how long its rows are read out: it gathers too little speed"
        wide = "nothing in it tells how wide its lens sees"
        if isinstance(found, Shake) and found.view is not None:
            wide = f"how its edges move says that its lens sees {found.view[0]:.1f}° ± {found.view[1]:.1f}° across"
        puts = f"{says}. Each row is put where it belongs, within the one warp; 0 takes its rows as one moment."
        if not round_:
            puts = f"{says}; {wide}. Each row is put where it belongs and the picture turned as the camera was, within the one warp; 0 takes its "
            puts += "rows as one moment, and shifts it."
        self.rows.say(puts.replace("-", "−"))
        self.upright.setVisible(found is not None and round_ and s.method == "level")
        self.headed.setVisible(found is not None and round_ and s.method == "level")
        self.method.setVisible(not round_)
        self.still.setVisible(not round_ and (found is not None or s.still is not None))
        self.stays.set_value(s.still is not None or self._boxing == "still")
        if self._boxing != "still":
            self.still.say(
                "Only what lies in the box: all else may move as it likes." if s.still is not None else
                "What most corners agree on, all over the picture. Where a crowd, water or a vehicle around the camera fills it, box in what stands."
            )  # fmt: skip
        pace = walked.draft.pace
        self.speed.setVisible(found is not None and pace is not None)
        if pace is not None:
            self.speed.say(f"At {float(pace.speed):.0%}, {float(pace.rate):.5g} frames a second. It is steadied at the recorded rate, then paced.")
        self.box.setVisible(s.method == "lock" or self._boxing == "mark")
        self.stands.setVisible(round_)
        self.method.set_value(s.method)
        self.stands.set_value("level" if s.method == "hold" else s.method)
        self.budget.set_value(s.budget * 100)
        self.leaning.set_value(s.level * 100)
        self.heading.set_value(s.heading)
        self.opens.set_value(s.opens)
        self.kept.setVisible(self._looked() is not None)
        self.eases.set_value(s.eases)
        self.grows.set_value(s.grows)
        self.grows.setVisible(s.method == "lock" and not round_)
        self.level.set_value(s.roll)
        self.what.say(
            "It stands level whatever carries it, and the view's keyframes lie on top; or only its jitter goes. Nothing of it is lost."
            if round_ else
            "Held as on a tripod; a hand's slow movement without its jitter; or a way of still, even and evenly faster parts. Part of the one warp: "
            "every delivered pixel is still interpolated once.",
            "Others leave it: some shake belongs to the shot.",
        )  # fmt: skip
        drawn = self._reckoned(shot, walked) if found is not None and not round_ else None
        if drawn is not None:
            flickers = f"It goes up and down by {drawn.flickers:.2f} stops (rms) faster than a light that is meant to change"
            self.light.say(
                f"{flickers}. Made even, each frame is brightened or darkened in light; what is slow stays." if drawn.flickers > TELLS else
                f"{flickers}, which nobody sees."
            )  # fmt: skip
        needs = "" if drawn is None or drawn.needed is None else _needs(drawn.needed, s.budget)
        most = "At most " if s.eases else ""
        self.cost.say(f"{most}{1 - (1 - s.budget) ** 2:.0%} of the picture.{needs} What would need more is held less far: nothing bare ever enters.")
        if isinstance(found, Turned):
            self._show_round(found, s.lean)

    def _show_round(self, found: Turned, lean: tuple[float, float]) -> None:
        if found.lean is not None and abs(found.lean[0] - lean[0]) + abs(found.lean[1] - lean[1]) < 0.01:
            said = f"Its horizon or uprights say that it begins {abs(lean[0]):.1f}° and {abs(lean[1]):.1f}° off, ± {found.lean[2]:.1f}°."
        elif any(lean):
            said = f"It begins {abs(lean[0]):.1f}° and {abs(lean[1]):.1f}° off, as you showed."
        else:
            said = "No horizon shows in it, and no uprights: it is taken to begin level. Show the horizon with two clicks, far apart."
        self.upright.say(said, "Others keep some of a ride's leaning: 70% taken away still feels like riding.")
        self.headed.say(
            "Where it stays, only the view turns. As it rides, it goes round corners with what carries it"
            + (f", here by up to {found.fastest:.0f}° a second" if found.fastest >= 1 else "")
            + ". " + (f"On {found.travels:.0%} of the frames what passes by says where it goes. " if found.travels > TRAVELS else "")
            + "In headsets, what turns viewers by itself makes many of them ill.",
        )  # fmt: skip

    def _moved(self) -> None:
        shot = self.desk.shot
        if shot is not None and self.desk.stage == self.stage:
            self.refresh(shot, self.desk.walk(shot))

    def refresh(self, shot: Shot, walked: Walk) -> None:
        self._lens = lens_of(walked["steady"].before, walked.draft)
        self._show_answers(shot, walked)
        result, found, runs = walked["steady"].result, self._found(shot), self.analysing.waits(shot)
        self.button.setVisible(bool(result.wants) or runs)
        told = walked.route.steady.sidecar
        self.file.setVisible(found is not None)
        self.file.setText("Take a motion file" if told is None else f"Without {Path(told).name}")
        self.button.setText("Stop" if runs else "Measure how it shakes")
        trace = self.desk.trace(shot) if found is not None else None
        self.look.setVisible(found is not None)
        if self.whole and found is None:
            self._look(False)
        if self.whole and found is not None:
            self.recorded.ask()
        self._show_drawn(shot, walked, trace)
        if found is not None and trace is not None:
            self.card.say(_shaking(found, shot.facts.raster[0]), CAREFUL if isinstance(found, Turned) else "")
        elif runs:
            self.card.say(f"Following its corners: {self.analysing.says() or 'others are measured first'}. What is done is kept.")
        elif result.wants:
            self.card.say("It was not measured yet. Every frame is decoded once; it can be stopped, and goes on from there.")
        else:
            self.card.say(
                "It is of two round lenses that were not matched yet (Join does), a sphere on its side, or what Read cannot name: say there what "
                "it is. It is left as it was."
            )  # fmt: skip

    def _show_drawn(self, shot: Shot, walked: Walk, trace: NDArray[np.float32] | None) -> None:
        """The way before and after, how much of it is how fast, and what each frame spends; until that is reckoned, how far it is off."""
        unit, now = "px" if self._lens is None else "°", clock_of(shot.facts).time(self.desk.frame)
        drawn = self._reckoned(shot, walked) if trace is not None else None
        self.lines.setVisible(trace is not None)
        self.lit.setVisible(drawn is not None and drawn.lit is not None and drawn.flickers > TELLS)
        self.thirds.setVisible(drawn is not None)
        self.spent.setVisible(drawn is not None and drawn.spent is not None)
        self.lines.unit = unit
        if drawn is not None:
            self.thirds.show_thirds(drawn.hz, drawn.shakes, drawn.left, unit)
            if drawn.spent is not None:
                few, times = _few(shot, np.abs(drawn.spent))
                budget = walked.route.steady.budget * 100
                self.spent.show_lines(times, [("", drawn.spent[few] * 100)], (), now, ((budget, "may be spent"),))
        if drawn is not None and drawn.lit is not None:
            few, times = _few(shot, np.abs(drawn.lit - drawn.lit.mean()))
            lines = [("as recorded", drawn.lit[few])] + ([("made even", drawn.evened[few])] if drawn.evened is not None else [])
            self.lit.show_lines(times, lines, (), now)
        if drawn is not None and drawn.laid is not None:
            axis = int(np.ptp(drawn.way, axis=0).argmax())
            side = (("right", "down") if self._lens is None else ("heading", "tilt"))[axis]
            few, times = _few(shot, np.abs(drawn.way[:, axis] - drawn.laid[:, axis]))
            self.lines.title = f"Its way: {side}"
            self.lines.show_lines(times, [("as held", drawn.way[few, axis]), ("as laid", drawn.laid[few, axis])], (), now)
        elif trace is not None:
            self.lines.title = OFF
            times, lines = self._drawn_of(shot, trace)
            self.lines.show_lines(times, lines, (), now)

    def _reckoned(self, shot: Shot, walked: Walk) -> Drawn | None:
        """Asked for beside the window, once for each way; None until it comes."""
        key = (shot.facts.fingerprint, walked.route.read, walked.route.join, walked.route.steady)
        if self._drawn_now[0] == key:
            return self._drawn_now[1]
        rows = self.desk.moved_rows(shot)
        if rows is None:
            return None
        self._drawn_now = key, None

        def come(found: Drawn | None, error: str | None) -> None:
            if self._drawn_now[0] == key:
                self._drawn_now = key, found
                self._moved()

        self.desk.worker.chore("drawn", (rows, shot.facts, walked.route, self.desk.seen(shot)), come)
        return None

    def _drawn_of(self, shot: Shot, trace: NDArray[np.float32]) -> tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]:
        """Seconds, and both lines; of a long shot what is farthest off in each stretch. Made once a trace."""
        if self._drawn is None or self._drawn[0] is not trace:
            far, times = _few(shot, np.abs(trace[:, :2]).max(axis=1))
            off = trace[far].astype(np.float64)
            self._drawn = trace, (times, [("right", off[:, 0]), ("down", off[:, 1])])
        return self._drawn[1]

    def moved(self, shot: Shot) -> None:
        self.refresh(shot, self.desk.walk(shot))


def _needs(needed: float, budget: float) -> str:
    if needed >= 0.5:
        return " All of it could not be done with half."
    return f" All of it {'takes' if needed <= budget else 'would take'} {needed:.1%} of width and height."


def _few(shot: Shot, far: NDArray[np.float64]) -> tuple[list[int], NDArray[np.float64]]:
    """Frames that are drawn of a long shot, the one that is farthest of each stretch, and their seconds."""
    each, clock = max(1, len(far) // MOST), clock_of(shot.facts)
    frames = [start + int(far[start : start + each].argmax()) for start in range(0, len(far), each)]
    return frames, np.array([clock.time(n) for n in frames])


def _shaking(found: Shake | Turned, wide: int) -> str:
    gait = f", mostly at {found.hz:.1f} Hz" if found.hz else ", at no one frequency"
    lost = f" On {1 - found.known:.0%} of the frames the motion is not known." if found.known < 0.995 else ""
    if found.cuts:
        lost += f" {'A cut lies' if found.cuts == 1 else f'{found.cuts} cuts lie'} in it."
    if found.frozen:
        lost += f" {'A frame stands' if found.frozen == 1 else f'{found.frozen} frames stand'} frozen while it moved on."
    meant = f" What is slower than {SLOW:g} Hz is taken as meant.{lost}"
    if isinstance(found, Turned):
        off = f"It is turned {found.degrees:.1f}° (rms) off where a slow hand would hold it{gait}; {found.roll:.1f}° of that to the side."
        return f"{off} It shakes its viewers by up to {found.jerks:.0f}° a second; from {SHAKEN:.0f}° on that makes most of them ill.{meant}"
    seen = f", {found.pixels * found.view[0] / wide:.2f}° as its lens sees" if found.view is not None else ""
    return (
        f"Its picture lies {found.pixels:.1f} recorded pixels (rms{seen}) off where a slow hand would hold it, at most "
        f"{found.widest:.0f}{gait}; it rolls by {found.roll:.2f}°.{meant}"
    )
