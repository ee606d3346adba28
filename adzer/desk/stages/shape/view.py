"""Shape for recordings of directions: where the view looks, how wide, how it moves, and what resolution is left."""

from __future__ import annotations

from dataclasses import replace
from fractions import Fraction

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.look import track
from ....core.media.clock import Clock, clock_of
from ....core.records import to_plain
from ....core.route import Walk
from ....core.shape import pursue
from ....core.shape import view as views
from ....core.shape.view import Viewed
from ....core.space import path as paths
from ....core.space.level import level_through
from ....core.space.path import ViewPath
from ....core.space.sphere import PROJECTIONS, ROUND_ACROSS, Round, angles, direction, heading_tilt
from ...widgets.lines import Lines
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ...widgets.shapes import Shapes
from ..base import StageBench
from .follow import Follow
from .keys import Keys
from .offers import Alone, HideCut, Speed
from .plots import Field

SHAPES = (
    ("16:9", Fraction(16, 9)),
    ("2.39", Fraction(239, 100)),
    ("4:5", Fraction(4, 5)),
    ("1:1", Fraction(1)),
    ("9:16", Fraction(9, 16)),
)
UHD = 3840  # pixels across
AMBER = QColor("#F2A84A")
FIRST = ViewPath(shape=Fraction(16, 9))


class ViewBench(StageBench):
    stage = "shape"
    whole = True
    side_share = 2.1
    whole_words = "everything recorded, with the view in it"
    hint = "drag the view · G keyframe here · ⇧G take it off · , . keyframe before, after · Y follow · H horizon · T guides · Q as recorded"

    keys: Keys

    def build(self) -> None:
        desk = self.desk
        self._viewed: Viewed | None = None
        self._last: QPointF | None = None
        self._marking: list[QPointF] | None = None  # marks on the horizon so far, while it is being marked
        self.what = Choice([("a flat view", True), ("as it is recorded", False)])
        self.what.chosen.connect(lambda v: self._answer(FIRST if v else None))
        self.what_card = Question("What is delivered of it?", self.what)
        self.heading, self.tilt = Number(0, 0.5, -180, 180, 1, True), Number(0, 0.5, -90, 90, 1, True)
        self.roll, self.fov = Number(0, 0.5, -180, 180, 1, True), Number(90, 0.5, 1, 340, 1)
        for name, field in (("heading", self.heading), ("tilt", self.tilt), ("roll", self.roll), ("fov", self.fov)):
            self._number(field, name)
        self.where_card = Question(
            "Where does it look?", Numbers(("heading, °", self.heading), ("tilt, °", self.tilt), ("roll, °", self.roll))
        )
        self.cut = HideCut(desk)
        self.wide_card = Question("How wide is it?", Numbers(("degrees across", self.fov)), self.cut.button)
        self.flat = Pick([(p.title, name) for name, p in PROJECTIONS.items()])
        self.flat.chosen.connect(lambda v: self._answer(self._changed(projection=v)))
        self.amount = Number(1, 0.01, 0, 1, 2)
        self.amount.drafted.connect(lambda v: self.keys.draft(self._changed(amount=v)))
        self.amount.settled.connect(lambda _: desk.commit())
        self.amount_row = Numbers(("how much of a compromise, 0–1", self.amount))
        self.flat_card = Question("How is it laid flat?", self.flat, self.amount_row)
        self.keys = Keys(desk, "view", lambda: FIRST, paths.key_at, act("Make smooth", self.make_smooth, False))
        self.follow = Follow(desk, self._over, self._followed)
        self._box: QPointF | None = None
        self.shape = Choice(SHAPES)
        self.shape.chosen.connect(lambda v: desk.answer("shape", shape=v))
        self.shape_card = Question("What shape is delivered?", self.shape)
        self.alone = Alone(self)
        self.speed_card = Speed(desk)
        self.looping = self.speed_card.looping
        self.level = act("Show the horizon  H", self.mark_horizon, False)
        self.level_card = Question("Is the horizon level?", self.level)
        self.across = Number(180, 0.5, 60, 280, 1)
        self.across.drafted.connect(lambda v: desk.draft("shape", across=v))
        self.across.settled.connect(lambda _: desk.commit())
        self.across_card = Question("How far does the lens see?", Numbers(("degrees across its disc", self.across)))
        self.beyond = Choice([("black, and warned of", False), ("never", True)])
        self.beyond.chosen.connect(lambda v: desk.answer("shape", inside=v))
        self.beyond_card = Question("And where the lens saw nothing?", self.beyond)
        self.eye = Choice([("left", "left"), ("right", "right")])
        self.eye.chosen.connect(lambda v: desk.answer("shape", eye=v))
        self.eye_card = Question("Which eye is it taken of?", self.eye)
        self.questions = [
            self.what_card, self.where_card, self.wide_card, self.flat_card, self.keys, self.follow, self.shape_card,
            self.alone, self.speed_card,
            self.level_card, self.across_card, self.beyond_card, self.eye_card,
        ]  # fmt: skip
        self.turns = Lines("Heading, tilt, width", "°", 2)
        self.speed = Lines("How fast it turns", "°/s", 2)
        self.left = Field("Resolution left", 2)
        self.shapes = Shapes("Every shape of it", 4)
        self.shapes.picked.connect(self.take_in_hand)
        self.keys.hold_on(self.turns)
        self.instruments = [self.turns, self.speed, self.follow.trace, self.left, self.shapes]

    # --- the path ---------------------------------------------------------------------------------------------------
    def _changed(self, **changes: object) -> ViewPath:
        made: ViewPath = msgspec.structs.replace(self.keys.path, **changes)
        return made

    def _answer(self, path: ViewPath | None) -> None:
        self.desk.answer("shape", view=to_plain(path))

    def _number(self, field: Number, name: str) -> None:
        field.drafted.connect(lambda v: self._turn(**{name: v}))
        field.settled.connect(lambda _: self.desk.commit())

    def _turn(self, **changes: float) -> None:
        """Drafts the view changed here; not beyond what was recorded where that is a hard stop."""
        path, shot, viewed = self.keys.moved(**changes), self.desk.shot, self._viewed
        if shot is not None and viewed is not None and self.desk.route_of(shot).shape.inside:
            before = views.left(viewed.panel, self.keys.time, self.keys.time, 1).bare
            after = views.left(replace(viewed.panel, look=replace(viewed.look, path=path)), self.keys.time, self.keys.time, 1).bare
            if after > before:
                return
        self.keys.draft(path)

    def make_smooth(self) -> None:
        if self.keys.begun:
            path = self.keys.path
            made = paths.smooth(path)
            self._answer(made)
            self.desk.said.emit(f"{len(path.keys)} keyframes became {len(made.keys)}, within half a degree of the way.")

    def pegs(self, shot: Shot) -> list[int]:
        return self.keys.pegs(shot)

    def moved(self, shot: Shot) -> None:
        walked = self.desk.walk(shot)
        if self._viewed is not None and walked.route.shape.view is not None:
            self._show_moment(shot, walked.route.shape.view, self._viewed)

    # --- following --------------------------------------------------------------------------------------------------
    def follow_thing(self) -> None:
        self.follow.mark()

    def _over(self, sub: tuple[int, int]) -> track.Source | None:
        return track.Source(self._viewed.lens, self._viewed.panel.region, sub) if self._viewed is not None else None

    def _followed(self, points: list[track.Point], clock: Clock, manner: pursue.Manner) -> dict[str, object]:
        assert self._viewed is not None
        return {"view": to_plain(pursue.follow(points, clock, replace(self._viewed.look, path=self.keys.path), self.keys.now.fov, manner))}

    # --- the horizon --------------------------------------------------------------------------------------------------
    def mark_horizon(self) -> None:
        """H: the next two places clicked on the unrolled picture lie on the horizon; pressed again, it is given up."""
        self._marking = None if self._marking is not None else []
        self.level.setText("Click two places on it" if self._marking is not None else "Show the horizon  H")
        self.desk.drafted.emit()

    def _mark(self, place: QPointF) -> None:
        assert self._marking is not None
        self._marking.append(place)
        if len(self._marking) < 2:
            self.desk.drafted.emit()
            return
        marks, self._marking = self._marking, None
        self.level.setText("Show the horizon  H")
        viewed = self._viewed
        if viewed is None:
            return
        x, y, _, _ = viewed.panel.region
        w, h = self._raster()
        held = viewed.look.held
        turn = np.eye(3) if held is None else held.at(np.asarray(self.keys.time))
        found = [viewed.lens.direction(np.array([m.x() * w - x, m.y() * h - y])) @ turn for m in marks]
        try:
            self.desk.answer("shape", level=[round(v, 3) for v in level_through(*found)])
        except AdzerError as error:
            self.desk.said.emit(str(error))

    # --- showing --------------------------------------------------------------------------------------------------------
    def refresh(self, shot: Shot, walked: Walk) -> None:
        settings, self._viewed = walked.route.shape, walked["shape"].result.viewed
        before = walked["shape"].before
        self.what.set_value(settings.view is not None)
        kind = "The sphere" if before.projection == "equirectangular" else "The lens"
        self.what_card.say(
            f"{kind} it is, as Read was told. A flat view goes anywhere; the whole needs a place that shows spheres."
        )
        for card in self.questions[1:]:
            card.setVisible(self._viewed is not None)
        self.alone.refresh(walked)
        self.speed_card.refresh(walked)
        self.across_card.setVisible(self._viewed is not None and before.projection == "fisheye")
        sphere = before.projection == "equirectangular" and before.coverage != "180"
        self.beyond_card.setVisible(self._viewed is not None and not sphere)
        self.beyond.set_value(settings.inside)
        self.beyond_card.say(
            "The line on the picture is where it ends. Where the view never goes beyond, dragging stops there."
        )
        self.eye_card.setVisible(self._viewed is not None and before.eyes not in (None, "one"))
        if self._viewed is None or settings.view is None:
            for plot in self.instruments:
                plot.setVisible(False)
            return
        for plot in self.instruments:
            plot.setVisible(plot is not self.follow.trace or bool(self.follow.points))
        self.follow.say_state()
        self._show(shot, walked, settings.view, self._viewed)

    def _show(self, shot: Shot, walked: Walk, path: ViewPath, viewed: Viewed) -> None:
        clock, settings = clock_of(shot.facts), walked.route.shape
        kept = views.left(viewed.panel, clock.time(shot.start), clock.time(shot.stop))
        w, h = viewed.fitted.picture
        before = walked["shape"].before
        eyes = ""
        if before.eyes not in (None, "one"):
            other = msgspec.structs.replace(settings, eye="right" if settings.eye == "left" else "left")
            seen = views.viewed(before, other, walked.card, self.desk.seen(shot))
            them = views.left(seen.panel, clock.time(shot.start), clock.time(shot.stop))
            eyes = f" The {other.eye} eye has {them.middle:.2f} and {them.edge:.2f}."
        self.wide_card.say(
            f"{kept.middle:.2f} recorded pixels lie behind each delivered one in the middle, {kept.edge:.2f} at the edges; "
            f"{kept.worth[0]}×{kept.worth[1]} is the largest raster worth delivering. "
            f"{w}×{h} is filled {self._filled_from(viewed, w)}, UHD {self._filled_from(viewed, UHD)}.{eyes}{self.cut.say()}"
        )
        self.left.note = f"least {kept.least:.2f}" + (f", {kept.bare:.0%} bare" if kept.bare else "")
        self.flat.set_value(path.projection)
        self.amount.set_value(path.amount)
        self.amount_row.setVisible(path.projection == "compromise")
        self.flat_card.say(PROJECTIONS[path.projection].bends)
        self.shape.set_value(settings.shape or Fraction(16, 9))
        self.shape_card.setVisible(walked.card.wanted is None)
        self.shape_card.say(
            "A narrower shape keeps the height of the view, a wider one its width: nothing is framed anew."
        )
        lean = settings.level
        self.level_card.say(
            f"Its up leans {abs(lean[0]):.1f}° and {abs(lean[1]):.1f}° and is put upright." if any(lean)
            else "Nothing is levelled. Click two places on the horizon, far apart."
        )  # fmt: skip
        self.across.set_value(settings.across or ROUND_ACROSS)
        self.across_card.say(
            "Its disc was measured; how many degrees it spans is the lens's own. 180 stands until you say."
        )
        self.eye.set_value(settings.eye)
        self._show_moment(shot, path, viewed)

    def _show_moment(self, shot: Shot, path: ViewPath, viewed: Viewed) -> None:
        """What depends on the frame in view."""
        key = self.keys.now
        for field, value in (
            (self.heading, key.heading),
            (self.tilt, key.tilt),
            (self.roll, key.roll),
            (self.fov, key.fov),
        ):
            field.set_value(value)
        here = len(path.keys) > 1 and self.keys.here
        held = "Still: dragging moves the view of the whole shot." if len(path.keys) == 1 else (
            "A keyframe lies here." if here else "Between keyframes: changing the view sets one here."
        )  # fmt: skip
        self.where_card.say(held, "Others turn the camera only between cuts, and let a cut do the move.")
        self._show_move(shot, path, float(shot.facts.rate or 25))
        self.left.show_field(views.density(viewed.panel, self.keys.time), self.left.note)

    def _filled_from(self, viewed: Viewed, width: int) -> str:
        """From which width on a picture so many pixels wide is filled, in words."""
        fov = views.filled_from(viewed.panel, self.keys.now, width)
        return "at no width" if fov is None else f"from {fov:.0f}° across"

    def _show_move(self, shot: Shot, path: ViewPath, rate: float) -> None:
        seconds = shot.facts.frames / rate
        found = paths.check_moves(path, seconds, rate, float(self.desk.route_of(shot).shape.speed))
        if len(path.keys) == 1:
            say = "One keyframe: the view is still. Two or three make a move; G sets one at the frame in view."
        elif found:
            say = found[0].text
        else:
            say = f"{len(path.keys)} keyframes; no move turns fast enough to be seen to jump or to make people ill."
        self.keys.tell(say, "Few keyframes move smoothly, many jolt. Many prefer a cut to any move.")
        times = np.linspace(0, seconds, 160)
        turns, fovs = paths.views_at(path, times)
        heading, tilt, _ = angles(turns)
        pegs = [k.t for k in path.keys]
        self.turns.show_lines(
            times,
            [("heading", np.unwrap(heading, period=360)), ("tilt", tilt), ("width", fovs)],
            pegs,
            self.keys.time,
            eases=self.keys.easings(),
        )
        pace = views.pace(path, 0.0, seconds, rate)
        limits = [(paths.ILL, "ill"), (float(fovs.min()) / (paths.STROBES * 25 / rate), "jumps")]
        self.speed.show_lines(pace.times, [("", pace.speed)], pegs, self.keys.time, limits)

    # --- on the picture ---------------------------------------------------------------------------------------------------
    def _raster(self) -> tuple[int, int]:
        shot = self.desk.shot
        return shot.raster if shot else (1, 1)

    def _points(self, rect: QRectF, d: NDArray[np.float64]) -> list[list[QPointF]]:
        """Directions as lines on the unrolled picture, broken where they leave it on one side and come back on the other."""
        viewed = self._viewed
        assert viewed is not None
        x, y, w, h = viewed.panel.region
        place = viewed.lens.place(d)
        whole = self._raster()
        px = rect.left() + (place[:, 0] + x) / whole[0] * rect.width()
        py = rect.top() + (place[:, 1] + y) / whole[1] * rect.height()
        jumps = np.flatnonzero(np.hypot(np.diff(place[:, 0]) / w, np.diff(place[:, 1]) / h) > 0.3) + 1
        parts = np.split(np.arange(len(px)), jumps)
        return [[QPointF(px[i], py[i]) for i in part] for part in parts if len(part)]

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if self.speed_card.looping.plays:
            self.speed_card.looping.overlay(painter, rect)
            return
        viewed = self._viewed
        if viewed is None:
            return
        look = viewed.look
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if not look.path.still:
            seconds = max(k.t for k in look.path.keys)
            turns, _ = paths.views_at(look.path, np.linspace(look.path.keys[0].t, seconds, 120))
            way = (look.standing(self.keys.time) @ turns)[:, :, 1]
            painter.setPen(QPen(QColor(255, 255, 255, 190), 1.4, Qt.PenStyle.DashLine))
            for line in self._points(rect, way):
                painter.drawPolyline(QPolygonF(line))
            pegs = look.standing(self.keys.time) @ paths.views_at(look.path, [k.t for k in look.path.keys])[0]
            painter.setPen(QPen(QColor(0, 0, 0, 160), 1))
            painter.setBrush(QColor("#FFFFFF"))
            for line in self._points(rect, pegs[:, :, 1]):
                for point in line:
                    painter.drawEllipse(point, 4, 4)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if isinstance(viewed.lens, Round):
            x, y, _, _ = viewed.panel.region
            k = rect.width() / self._raster()[0]
            painter.setPen(QPen(QColor(255, 255, 255, 150), 1, Qt.PenStyle.DotLine))
            for lens in viewed.lens.lenses:
                middle = QPointF(rect.left() + (x + lens.x) * k, rect.top() + (y + lens.y) * k)
                painter.drawEllipse(middle, lens.radius * k, lens.radius * k)
        edge = views.outline(viewed.panel, self.keys.time)
        for width, colour in ((4.0, QColor(0, 0, 0, 90)), (2.0, AMBER)):
            painter.setPen(QPen(colour, width))
            for line in self._points(rect, np.concatenate([edge, edge[:1]])):
                painter.drawPolyline(QPolygonF(line))
        turn, _ = paths.views_at(look.path, [self.keys.time])
        centre = (look.standing(self.keys.time) @ turn)[:, :, 1]
        for line in self._points(rect, centre):
            painter.drawLine(line[0] + QPointF(-7, 0), line[0] + QPointF(7, 0))
            painter.drawLine(line[0] + QPointF(0, -7), line[0] + QPointF(0, 7))
        shown = [
            p for p in self.follow.points if self.desk.shot is not None and self.follow.shot_id == self.desk.shot.id
        ]
        if shown:
            painter.setPen(QPen(QColor(255, 255, 255, 220), 1.2))
            for line in self._points(rect, direction([p.heading for p in shown], [p.tilt for p in shown])):
                painter.drawPolyline(QPolygonF(line))
        for mark in self._marking or ():
            point = QPointF(rect.left() + mark.x() * rect.width(), rect.top() + mark.y() * rect.height())
            painter.drawEllipse(point, 6, 6)

    def dragged(self, place: QPointF, done: bool) -> None:
        viewed = self._viewed
        if viewed is None:
            return
        if self._marking is not None:
            if done:
                self._mark(place)
            return
        if self.follow.marking:
            self._box = self._box or place
            if done and self.desk.shot is not None:
                begun, self._box = self._box, None
                self.follow.begin(self.desk.shot, begun, place)
            return
        if done:
            self._last = None
            self.desk.commit()
            return
        if self._last is not None:
            x, y, _, _ = viewed.panel.region
            w, h = self._raster()
            stands = viewed.look.standing(self.keys.time)
            ends = [viewed.lens.direction(np.array([p.x() * w - x, p.y() * h - y])) @ stands for p in (self._last, place)]
            (h0, t0), (h1, t1) = (tuple(float(v) for v in heading_tilt(e)) for e in ends)
            key = self.keys.now
            heading = (key.heading + h1 - h0 + 180) % 360 - 180
            self._turn(heading=round(heading, 3), tilt=round(min(max(key.tilt + t1 - t0, -90), 90), 3))
        else:
            self._take_peg(place)
        self._last = place

    def _take_peg(self, place: QPointF) -> None:
        """A keyframe's peg that is taken hold of comes into view, so that dragging moves it."""
        viewed, shot, path = self._viewed, self.desk.shot, self.keys.path
        if viewed is None or shot is None or len(path.keys) < 2:
            return
        turns = viewed.look.standing(self.keys.time) @ paths.views_at(path, [k.t for k in path.keys])[0]
        x, y, _, _ = viewed.panel.region
        at = (viewed.lens.place(turns[:, :, 1]) + (x, y)) / np.array(self._raster())
        near = np.hypot(*((at - (place.x(), place.y())) * (1.0, self._raster()[1] / self._raster()[0])).T)
        n = int(near.argmin())
        if near[n] < 0.014 and abs(path.keys[n].t - self.keys.time) >= self.keys.near:
            self.desk.go_to(clock_of(shot.facts).frame(path.keys[n].t))
