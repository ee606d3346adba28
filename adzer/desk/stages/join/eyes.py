"""Which eye is which, how they lie against each other, how deep they see, and how both are laid out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from ....core.job import Shot
from ....core.join import comfort
from ....core.join.eyes import EYES, Seen, answers
from ....core.join.settings import JoinSettings
from ....core.join.step import aside, covering, deep
from ....core.media.clock import clock_of
from ....core.records import to_plain
from ....core.route import Walk
from ....core.space.sphere import Flat
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.plots import Plot
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ..measuring import Measuring
from .looking import OVER, WIPE, Looking

LONGER = 10  # times, by which what is left is drawn
NEAR_KEY = 0.02  # seconds within which a key is the same one
LAID = {
    "recorded": "as recorded", "beside": "side by side", "over": "one over the other", "left": "left eye alone", "right": "right eye alone",
    "files": "each eye in a file of its own",
}  # fmt: skip
LOOKS = [
    ("by turns", "by turns", "both eyes brought in line"), ("wipe", WIPE, "both eyes brought in line"),
    ("red–cyan", "coloured", "both eyes brought in line · for red and cyan glasses"),
    ("apart", "apart", "what differs, about grey · thin: how far things lay too high or low · thick: what is left, ten times as long"),
]  # fmt: skip


class Pair:
    """Questions and instruments of two eyes."""

    def __init__(self, desk: Desk, repaint: Callable[[], None]) -> None:
        self.desk = desk
        self._pinning = False
        self.looking = Looking(desk, "eyes look", LOOKS, ("left eye", "right eye"), "delivered", repaint)
        self.measuring = Measuring(desk, EYES, Seen, ("Measure both eyes", "Comparing both eyes…"), self._measured)
        self.button = self.measuring.button
        self.first = Choice([("left first", "left"), ("right first", "right")])
        self.first.chosen.connect(lambda v: desk.answer("read", first=v))
        self.which = Question("Which eye is which?", self.button, self.first)
        self.seen = Question("How are they looked at here?", self.looking.choice)
        self.forget = act("Leave them as they lie", self._forget, False)
        self.line = Question("Do they lie in line?", self.forget)
        self.screen = Pick([(s.title, k) for k, s in comfort.SCREENS.items()], "room")
        self.screen.chosen.connect(lambda v: desk.answer("join", screen=v))
        self.children = Choice([("grown people", False), ("children, too", True)], False)
        self.children.chosen.connect(lambda v: desk.answer("join", children=v))
        self.deep = Question("How deep may it be?", self.screen, self.children)
        self.pin = Number(0.0, 0.05, -20.0, 20.0, 2, sign=True)
        self.pin.drafted.connect(lambda v: desk.draft("join", **self._pinned_at(v)))
        self.pin.settled.connect(lambda _: desk.commit())
        self.pinned = act("Click what is to lie on the screen", self._begin_pin, False)
        self.keyed = act("Let it change: a key on this frame", self._key, False)
        self.unkeyed = act("Hold it still", self._unkey, False)
        self.hold = Question("What lies on the screen?", Numbers(("% farther away", self.pin)), self.pinned, self.keyed, self.unkeyed)
        self.covered = act("Cover the edges that cut near things", self._cover, False)
        self.uncovered = act("Cover no edge", lambda: desk.answer("join", edges=[0.0, 0.0]), False)
        self.frame = Question("Do the edges cut what is near?", self.covered, self.uncovered)
        self.laid = Pick([(words, value) for value, words in LAID.items()])
        self.laid.chosen.connect(lambda v: desk.answer("join", laid=v))
        self.half = Choice([("each at full size", False), ("squeezed into half", True)])
        self.half.chosen.connect(lambda v: desk.answer("join", half=v))
        self.leading = Choice([("left first", "left"), ("right first", "right")])
        self.leading.chosen.connect(lambda v: desk.answer("join", leading=v))
        self.lies = Question("How is it laid out?", self.laid, self.half, self.leading)
        self.depth = Lines("Depth", "% of the width", 3)
        self.questions: list[QWidget] = [self.which, self.seen, self.line, self.deep, self.hold, self.frame, self.lies]
        self.instruments: list[Plot] = [self.depth]

    def _measured(self, shot: Shot, found: Seen) -> None:
        """How they lie is the answer, and which is left where that is sure."""
        left = {"first": "left", "second": "right"}.get(found.which.left or "")
        if left is not None and self.desk.route_of(shot).read.first is None:
            self.desk.answer("read", first=left)
        self.desk.answer("join", **answers(found))

    def _forget(self) -> None:
        plain = JoinSettings()
        self.desk.answer("join", **{k: to_plain(getattr(plain, k)) for k in ("align", "aligns", "colours", "pin", "pins")})

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        """By how much each thing lay too high or low, and, ten times as long, what is left of it."""
        shot = self.desk.shot
        if self.looking.how != "apart" or not self.looking.pictures or shot is None or (found := self.measuring.found(shot)) is None:
            return
        painter.setBrush(Qt.BrushStyle.NoBrush)
        times = LONGER * rect.width() / 1920
        for colour, which in ((QColor(255, 255, 255, 150), 2), (QColor(OVER), 3)):
            painter.setPen(QPen(colour, 1.2 if which == 2 else 2.4))
            for arrow in found.arrows:
                at = QPointF(rect.left() + arrow[0] * rect.width(), rect.top() + arrow[1] * rect.height())
                painter.drawLine(at, at + QPointF(0, arrow[which] * (times / LONGER if which == 2 else times)))

    # --- over time, and edges ---------------------------------------------------------------------------------------------
    def _now(self) -> float:
        return round(clock_of(self.desk.shot.facts).time(self.desk.frame), 3) if self.desk.shot is not None else 0.0

    def _pinned_at(self, value: float) -> dict[str, object]:
        """Answers by which it is pinned so: for all of the shot, or, once there are keys, on this frame."""
        pins = self.desk.route_of(self.desk.shot).join.pins if self.desk.shot is not None else ()
        if not pins:
            return {"pin": value}
        kept = [list(p) for p in pins if abs(p[0] - self._now()) > NEAR_KEY]
        return {"pins": sorted([*kept, [self._now(), value]])}

    def _key(self) -> None:
        if self.desk.shot is not None:
            join = self.desk.route_of(self.desk.shot).join
            kept = [list(p) for p in join.pins if abs(p[0] - self._now()) > NEAR_KEY]
            self.desk.answer("join", pins=sorted([*kept, [self._now(), round(join.pinned(self._now()), 3)]]))

    def _unkey(self) -> None:
        if self.desk.shot is not None:
            held = self.desk.route_of(self.desk.shot).join.pinned(self._now())
            self.desk.answer("join", pins=[], pin=round(held, 3))

    def pegs(self, shot: Shot) -> list[float]:
        return [t for t, _ in self.desk.route_of(shot).join.pins]

    def _cover(self) -> None:
        shot = self.desk.shot
        found = self.measuring.found(shot) if shot is not None else None
        if shot is not None and found is not None:
            self.desk.answer("join", edges=covering(found.depth, self.desk.route_of(shot).join))

    # --- pinning -------------------------------------------------------------------------------------------------------
    def _begin_pin(self) -> None:
        if self.looking.how is not None:
            self.looking.choice.choose(None)  # which shows the first eye as it lies
        self._pinning = True
        self.pinned.setText("Click it in the first eye's picture")

    def dragged(self, place: QPointF, done: bool) -> None:
        shot = self.desk.shot
        if not (self._pinning and done) or shot is None:
            return
        walked = self.desk.walk(shot)
        at = _in_first(walked, place)
        if at is None or not (0 <= at[0] < 1 and 0 <= at[1] < 1):
            self.desk.said.emit(f"Click it in the {walked['read'].after.first or 'first'} eye's picture.")
            return
        x, y = at
        self._pinning = False
        self.pinned.setText("Click what is to lie on the screen")

        def then(found: float | None, error: str | None) -> None:
            if found is None:
                self.desk.said.emit(error or "It cannot be found in the other eye.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer("join", **self._pinned_at(round(-found, 3)))

        self.desk.worker.chore("depth", (shot.facts, self.desk.route_of(shot), self.desk.seen(shot), x, y, self.desk.frame), then)

    # --- what is said --------------------------------------------------------------------------------------------------
    def refresh(self, shot: Shot, walked: Walk) -> None:
        two = walked["read"].after.eyes not in (None, "one")
        for card in (*self.questions, *self.instruments):
            card.setVisible(two)
        flat = walked["read"].after.projection in (None, "flat")
        self.frame.setVisible(two and flat)  # spheres have no edge
        if not two:
            self.looking.put_away()
            return
        settings, picture, found = walked.route.join, walked["read"].after, self.measuring.found(shot)
        self.looking.ask()
        self.first.set_value(picture.first)
        if found is None:
            self.which.say("They were not measured yet." if picture.first is None else f"The {picture.first} one is first, as was said or tagged.")
        else:
            measured = {"first": "left", "second": "right"}.get(found.which.left or "")
            other = " That is not what was said!" if measured and picture.first and measured != picture.first else ""
            sure = f"{found.which.confidence:.0%} sure." if measured else "Look, and say it."
            self.which.say(f"{found.which.saw} {sure}{other}", "Crossed eyes hurt, and few can say why.")
        self.seen.say("By turns: what jumps sideways has depth, what jumps up or down strains. Red–cyan is for glasses of these colours.")
        self._say_line(settings, found)
        self._say_depth(shot, settings, found)
        self.pin.set_value(settings.pinned(self._now()))
        cost = max((abs(v) for _, v in settings.pins), default=abs(settings.pin))
        self.unkeyed.setVisible(bool(settings.pins))
        keys = f" It changes over {len(settings.pins)} keys." if settings.pins else ""
        moved = f"It costs {cost:.1f} % of the width." if flat else f"Each eye is turned aside by {np.degrees(aside(cost)) / 2:.1f}°."
        words = moved if cost else "Nothing is moved."
        self.hold.say(f"What lies on the screen is seen without strain. {words}{keys}")
        self._say_edges(settings, found)
        self.laid.set_value(settings.laid)
        self.half.setVisible(settings.laid in ("beside", "over"))
        self.leading.setVisible(settings.laid in ("beside", "over"))
        self.half.set_value(settings.half)
        self.leading.set_value(settings.leading)
        stop = walked["shape"].after
        self.lies.say(
            "As both were recorded; neither is brought in line." if settings.laid == "recorded"
            else f"{stop.raster[0]}×{stop.raster[1]}. Crops, views, speed, in and out act on both alike."
            + (" Half: each eye keeps half of its pixels that way; places that take full size deserve it." if settings.half else "")
        )  # fmt: skip

    def _say_line(self, settings: JoinSettings, found: Seen | None) -> None:
        self.forget.setVisible(settings.align is not None)
        if settings.align is None:
            self.line.say("They are laid out as they lie. What one eye holds higher than the other strains, however little.")
            return
        a = settings.align
        drifts = f" That drifts over the take, and is followed at {len(settings.aligns)} moments." if settings.aligns else ""
        words = f"The second lay {a.shift:+.2f} % lower, {a.roll:+.2f}° rolled and {a.size:+.2f} % larger; half of it is taken from each eye."
        if found is not None:
            words += f" Things lay {found.before:.1f} pixels of 1920 too high or low, and now {a.rest or 0:.1f}."
            if found.colours is not None and settings.colours is not None:
                words += f" Their colours differed by {found.differ[0]:.1f} %, and now {found.differ[1]:.1f} %."
        self.line.say((words + drifts).replace("-", "−"))

    def _say_edges(self, settings: JoinSettings, found: Seen | None) -> None:
        left, right = settings.edges
        self.uncovered.setVisible(any(settings.edges))
        self.covered.setVisible(found is not None)
        if any(settings.edges):
            self.frame.say(
                f"{left:.1f} % of the left eye's left edge and {right:.1f} % of the right eye's right edge are black: the window stands before "
                "the screen there."
            )
            return
        wanted = covering(found.depth, settings) if found is not None else [0.0, 0.0]
        if found is None:
            self.frame.say("Measured with the eyes.")
        elif any(wanted):
            self.frame.say(f"What stands before the screen is cut by up to {max(wanted):.1f} %, which no window can do: it hurts a little.")
        else:
            self.frame.say("Nothing that stands before the screen is cut by its sides.")

    def _say_depth(self, shot: Shot, settings: JoinSettings, found: Seen | None) -> None:
        screen = comfort.SCREENS[settings.screen]
        self.screen.set_value(settings.screen)
        self.children.set_value(settings.children)
        self.depth.setVisible(found is not None and len(found.depth.over) > 1)
        if found is None:
            self.deep.say("Measured with the eyes.")
            return
        near, far = deep(found.depth, settings)
        verdict = comfort.judged(near, far, screen, settings.children)
        turned = [comfort.degrees(v, screen) for v in (near, far)]
        words = f"From {near:+.1f} to {far:+.1f} % of the width, {turned[0]:+.1f}° to {turned[1]:+.1f}°, on a {screen.title}: "
        words += f"{'; '.join(verdict.faults)}." if verdict.faults else "within what can be looked at with ease."
        if near < verdict.near:  # what lies apart goes with how far the cameras do
            words += f" Next time take the cameras {verdict.near / near:.0%} as far apart for things so near."
        self.deep.say(words.replace("-", "−"), "Less than 0 stands before the screen. Who feels ill looks away, and rests.")
        times, low, high = (np.array([o[i] for o in found.depth.over]) for i in range(3))
        pins = np.array([settings.pinned(t) for t in times])
        self.depth.show_lines(
            times, [("nearest", low + pins), ("farthest", high + pins)], self.pegs(shot), clock_of(shot.facts).time(self.desk.frame),
            ((verdict.near, "near"), (verdict.far, "far")),
        )  # fmt: skip


def _in_first(walked: Walk, place: QPointF) -> tuple[float, float] | None:
    """Shares of the width and height of the eye that was recorded first, of a place in the picture as it is shown; None: it lies in another."""
    picture, draft = walked["read"].after, walked.draft
    if draft.pair is None:
        wide, high = (0.5, 1.0) if picture.eyes == "side by side" else (1.0, 0.5)
        return place.x() / wide, place.y() / high
    x, y = place.x() * draft.raster[0], place.y() * draft.raster[1]
    order = (draft.pair.first, "right" if draft.pair.first == "left" else "left")
    for eye, panel in zip(order, draft.panels, strict=False):
        left, top = x - panel.place[0], y - panel.place[1]
        if eye == picture.first and 0 <= left < panel.size[0] and 0 <= top < panel.size[1]:
            patch, found = panel.patches[0], panel.look.directions(np.array(left), np.array(top), 0.0)
            if not isinstance(patch.lens, Flat):
                found = patch.lens.place(patch.held(found, 0.0))
            return float(found[0]) / panel.region[2], float(found[1]) / panel.region[3]
    return None
