"""Shape: how much does the lens squeeze, and what is delivered of the desqueezed picture?"""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from ....core import cards
from ....core.job import Shot
from ....core.look import track
from ....core.media.clock import Clock
from ....core.records import to_plain
from ....core.route import Walk
from ....core.shape import advise, pursue
from ....core.shape.settings import ShapeSettings
from ....core.shape.step import Shaped
from ....core.space import crop
from ....core.space.crop import CropKey, CropPath
from ....core.space.sphere import Flat, Straight
from ...widgets.lines import Lines
from ...widgets.plots import Table
from ...widgets.questions import Choice, Number, Numbers, Question, act
from ...widgets.shapes import Shapes
from ..base import StageBench
from .follow import Follow
from .keys import Keys
from .offers import Alone, HideCut, Speed
from .plots import Outline, ScaleFigure
from .squeeze import SqueezeCard

AROUND = (
    ("16:9", None),
    ("2:1", Fraction(2)),
    ("4:3", Fraction(4, 3)),
    ("1:1", Fraction(1)),
    ("9:16", Fraction(9, 16)),
)


class ShapeBench(StageBench):
    stage = "shape"
    whole = True
    hint = "drag the frame or type · G keyframe here · Y follow · I what must stay in · B round thing · T guides · Q as recorded"
    keys: Keys

    def build(self) -> None:
        desk = self.desk
        self._shaped: Shaped | None = None
        self._last: QPointF | None = None
        self._box: tuple[QPointF, QPointF] | None = None  # while something is being marked
        self._keeping = False
        self.squeeze_card = SqueezeCard(desk)
        self.school = Choice([("shrink the height", "shrink"), ("stretch the width", "stretch")])
        self.school.chosen.connect(lambda v: desk.answer("shape", school=v))
        self.school_card = Question("Which way is it undone?", self.school)
        self.shape = Choice([*advise.USUAL_SHAPES])
        self.shape.chosen.connect(lambda v: desk.answer("shape", shape=v))
        self.free_shape = Number(1.78, 0.01, 0.25, 6.0, 3)
        self._number(self.free_shape, lambda v: {"shape": Fraction(v).limit_denominator(1000)})
        self.shape_card = Question(
            "What shape is delivered?", self.shape, Numbers(("or width ÷ height", self.free_shape))
        )
        self.hold = Choice([("as the card asks", None), ("natively", "native"), ("in a frame", "frame")])
        self.hold.chosen.connect(lambda v: desk.answer("shape", hold=v))
        self.around = Choice([*AROUND])
        self.around.chosen.connect(lambda v: desk.answer("shape", around=v))
        self.hold_card = Question("How is it held?", self.hold, self.around)
        self.across, self.down = Number(50, 1, 0, 100, 0), Number(50, 1, 0, 100, 0)
        self._number(self.across, lambda v: {"position": (v / 100, self._position()[1])})
        self._number(self.down, lambda v: {"position": (self._position()[0], v / 100)})
        self.place_card = Question(
            "Where does the crop sit?", Numbers(("across, %", self.across), ("down, %", self.down))
        )
        self.matters_x, self.matters_y = Number(50, 1, 0, 100, 0), Number(50, 1, 0, 100, 0)
        self._number(self.matters_x, lambda v: self._about(v / 100, self._centre()[1]))
        self._number(self.matters_y, lambda v: self._about(self._centre()[0], v / 100))
        self.matters_card = Question(
            "Where is what matters?", Numbers(("across, %", self.matters_x), ("down, %", self.matters_y))
        )
        self.closer = Number(100, 1, 100, 800, 0)
        self._number(self.closer, lambda v: self._closer(v / 100))
        self.cut = HideCut(desk)
        self.closer_card = Question("How close is it?", Numbers(("enlarged, %", self.closer)), self.cut.button)
        self.keys = Keys(desk, "moves", self._first_path, crop.key_at, act("Hold it still", self.hold_still, False))
        self.follow = Follow(desk, self._over, self._followed)
        self.keep = act("Box what must stay in  I", self.mark_keep, False)
        self.forget_keep = act("Nothing must", lambda: desk.answer("shape", keep=None), False)
        self.keep_card = Question("What must stay in?", self.keep, self.forget_keep)
        self.alone = Alone(self)
        self.speed_card = Speed(desk)
        self.looping = self.speed_card.looping
        self.questions = [
            self.squeeze_card, self.school_card, self.shape_card, self.hold_card, self.place_card, self.matters_card,
            self.closer_card, self.keep_card, self.keys, self.follow, self.alone, self.speed_card,
        ]  # fmt: skip
        self.figure = ScaleFigure("Recorded → delivered", 3)
        self.numbers = Table("The arithmetic", (0.5, 0.5), 3)
        self.course = Lines("Where the crop goes", "%", 3)
        self.keys.hold_on(self.course)
        self.shapes = Shapes("Every shape of it", 4)
        self.shapes.picked.connect(self.take_in_hand)
        self.instruments = [self.figure, self.numbers, self.course, self.follow.trace, self.shapes]

    def _number(self, field: Number, change: Callable[[float], dict[str, object]]) -> None:
        field.drafted.connect(lambda v: self.desk.draft("shape", **change(v)))
        field.settled.connect(lambda _: self.desk.commit())

    # --- the answers as they are -------------------------------------------------------------------------------------
    def _settings(self) -> ShapeSettings:
        shot = self.desk.shot
        return self.desk.route_of(shot).shape if shot else ShapeSettings()

    def _position(self) -> tuple[float, float]:
        return self._settings().position

    def _centre(self) -> tuple[float, float]:
        """What matters, 0–1 of the recorded picture: the key's place, as said, else the middle of the crop."""
        settings = self._settings()
        if settings.moves is not None:
            return self.keys.now.x, self.keys.now.y
        if settings.centre is not None or self._shaped is None:
            return settings.centre or (0.5, 0.5)
        return self._shaped.framing.middle(self._raster())

    def _raster(self) -> tuple[int, int]:
        shot = self.desk.shot
        return shot.raster if shot else (1, 1)

    # --- changing them -----------------------------------------------------------------------------------------------
    def _about(self, x: float, y: float) -> dict[str, object]:
        """The crop's middle elsewhere: of all shapes at once, or of the keyframe here."""
        x, y = round(min(max(x, 0.0), 1.0), 5), round(min(max(y, 0.0), 1.0), 5)
        return {"moves": to_plain(self.keys.moved(x=x, y=y))} if self.keys.begun else {"centre": (x, y)}

    def _closer(self, enlarged: float) -> dict[str, object]:
        enlarged = round(min(max(enlarged, 1.0), crop.CLOSEST), 4)
        return {"moves": to_plain(self.keys.moved(enlarged=enlarged))} if self.keys.begun else {"enlarged": enlarged}

    def _first_path(self) -> CropPath:
        x, y = self._centre() if self._settings().moves is None else (0.5, 0.5)
        return CropPath((CropKey(round(self.keys.time, 4), round(x, 5), round(y, 5), self._settings().enlarged),))

    def hold_still(self) -> None:
        """The crop stays where it is at this frame."""
        if self.keys.begun:
            now = self.keys.now
            self.desk.answer(
                "shape", moves=None, centre=(now.x, now.y), enlarged=now.enlarged, position=self._still(now)
            )

    def _still(self, now: CropKey) -> tuple[float, float]:
        """The position of the shot's own shape that keeps it about a key's place."""
        if self._shaped is None:
            return (0.5, 0.5)
        framing, raster = self._shaped.framing, self._raster()
        share = framing.shares(raster)
        x, y = framing.position(raster, (now.x - share[0] / 2, now.y - share[1] / 2))
        return round(x, 5), round(y, 5)

    # --- marking -----------------------------------------------------------------------------------------------------
    def mark_round(self) -> None:
        self.squeeze_card.mark_round()

    def mark_keep(self) -> None:
        """I: the next thing dragged around on the whole picture must stay in; pressed again, it is given up."""
        self._keeping, self._box = not self._keeping, None
        self.keep.setText("Drag a box around it" if self._keeping else "Box what must stay in  I")

    def follow_thing(self) -> None:
        self.follow.mark()

    def _over(self, sub: tuple[int, int]) -> track.Source:
        """The flat picture as directions, for following over it."""
        flat = self._flat()
        return track.over_flat(flat.size, sub, flat.aspect)

    def _followed(self, points: list[track.Point], clock: Clock, manner: pursue.Manner) -> dict[str, object]:
        flat, made = self._flat(), self._shaped
        assert made is not None
        lens = Straight(flat.size, flat.aspect)
        enlarged = self.keys.now.enlarged
        widest = min(k.enlarged for k in self.keys.path.keys)
        share = made.framing.shares(self._raster())
        shares = (share[0] * widest, share[1] * widest)
        held = self.desk.walk(self.desk.shot).draft.held if self.desk.shot is not None else None
        return {"moves": to_plain(pursue.follow_crop(points, clock, lens, flat, shares, enlarged, manner, held))}

    # --- showing -----------------------------------------------------------------------------------------------------
    def pegs(self, shot: Shot) -> list[int]:
        return self.keys.pegs(shot)

    def moved(self, shot: Shot) -> None:
        if self._settings().moves is not None:
            self._show_moment(shot)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        settings, self._shaped = walked.route.shape, walked["shape"].result.shaped
        self.school.set_value(settings.school)
        self.shape.set_value(settings.shape)
        self.hold.set_value(settings.hold)
        self.around.set_value(settings.around)
        self.across.set_value(settings.position[0] * 100)
        self.down.set_value(settings.position[1] * 100)
        before = walked["shape"].before
        aspect = before.pixel_aspect * settings.squeeze
        if self._shaped is None:
            return
        framing, fitted = self._shaped.framing, self._shaped.fitted
        whole = framing.desqueezed[0] / framing.desqueezed[1]
        self.free_shape.set_value(float(settings.shape or whole))
        self.squeeze_card.refresh(settings, before, whole)
        others = advise.others_school(settings.school) if aspect != 1 else ""
        self.school_card.say(advise.why_school(settings.school, framing, aspect), others)
        self.shape_card.say(advise.why_shape(framing, settings.shape))
        hold, own = settings.hold or walked.card.hold, walked.card.wanted is not None
        frame = advise.shape_text(settings.around or Fraction(16, 9))
        held = (
            "natively: no bars are stored"
            if hold == "native"
            else f"inside {frame} with black around, so that no player can crop it"
        )
        asks = f"{walked.card.title} asks for it {'natively' if walked.card.hold == 'native' else 'in a frame'}."
        self.hold_card.say(
            f"{fitted.raster[0]}×{fitted.raster[1]}, {held}.", walked.card.others if settings.hold is None else asks
        )
        self.around.setVisible(hold == "frame")
        for card in (self.shape_card, self.hold_card):
            card.setVisible(not own)
        self.place_card.setVisible(not own and settings.moves is None)
        self.matters_card.setVisible(own or settings.moves is not None)
        self.alone.refresh(walked)
        self.speed_card.refresh(walked)
        self.matters_card.say(
            "Upright, square and other crops lie about this place, as large as they can be." + (
                "" if settings.centre or settings.moves else " Nothing is said yet, so it is the middle of the wide crop."
            )
        )  # fmt: skip
        x, y = float(framing.crop[0]), float(framing.crop[1])
        self.place_card.say(f"The crop starts {x:.0f} pixels from the left and {y:.0f} from the top of the recording.")
        self.forget_keep.setVisible(settings.keep is not None)
        self.keep_card.say(
            "It stays in every delivered shape into which it fits, whatever else moves." if settings.keep
            else "Nothing is boxed: every shape lies about what matters."
        )  # fmt: skip
        self.follow.say_state()
        self._draw_numbers(before.raster, self._shaped)
        self._show_moment(shot)

    def _show_moment(self, shot: Shot) -> None:
        """What depends on the frame in view."""
        made, settings = self._shaped, self._settings()
        if made is None:
            return
        cx, cy = self._centre()
        self.matters_x.set_value(cx * 100)
        self.matters_y.set_value(cy * 100)
        now = self.keys.now.enlarged if settings.moves else settings.enlarged
        self.closer.set_value(now * 100)
        sx, sy = (float(v) for v in made.scale)
        if settings.moves:
            k = min(key.enlarged for key in settings.moves.keys) / now
            sx, sy = sx * k, sy * k
        self.closer_card.say(
            f"Filling the shape takes {float(made.framing.enlargement):.3f} times; {sx:.2f} × {sy:.2f} recorded pixels lie "
            f"behind each delivered one.{self.cut.say()}",
            "Others go no closer than the recording has pixels for." if min(sx, sy) < 0.999 else "",
        )
        path = self.keys.path
        self.keys.tell(
            f"{len(path.keys)} keyframes hold where it is and how close." if settings.moves and len(path.keys) > 1
            else "It keeps still. A keyframe here and another later make it move; G sets one at the frame in view.",
            "Few keyframes move smoothly, many jolt." if settings.moves else "",
        )  # fmt: skip
        moving = settings.moves is not None and len(path.keys) > 1
        self.course.setVisible(moving)
        self.numbers.setVisible(not moving)
        if settings.moves is not None:
            times = np.linspace(0, shot.facts.frames / float(shot.facts.rate or 25), 160)
            at = crop.crops_at(path, times)
            lines = [("across", at[:, 0] * 100), ("down", at[:, 1] * 100), ("enlarged", at[:, 2] * 100)]
            pegs = [k.t for k in path.keys]
            self.course.show_lines(times, lines, pegs, self.keys.time, eases=self.keys.easings())

    def _draw_numbers(self, raster: tuple[int, int], shaped: Shaped) -> None:
        framing, fitted = shaped.framing, shaped.fitted
        w, h = float(framing.desqueezed[0]), float(framing.desqueezed[1])
        sx, sy = raster[0] / w, raster[1] / h
        x, y, cw, ch = (float(v) for v in framing.crop)
        px, py = fitted.place
        self.figure.show_groups([
            [Outline(f"recorded\n{raster[0]}×{raster[1]}", raster[0], raster[1])],
            [Outline(f"desqueezed\n{w:.4g}×{h:.4g}", w, h),
             Outline("", cw / sx, ch / sy, x / sx, y / sy, filled=True, accent=True)],
            [Outline(f"delivered\n{fitted.raster[0]}×{fitted.raster[1]}", *fitted.raster),
             Outline("", *fitted.picture, px, py, filled=True, accent=True)],
        ])  # fmt: skip
        self.numbers.show_rows([
            ("enlargement to fill", f"{float(framing.enlargement):.4f} = {_ratio(framing.enlargement)}"),
            ("kept", f"{float(framing.kept):.2%}"),
            ("lost", f"{float(1 - framing.kept):.2%}"),
            ("recorded : delivered", f"{float(shaped.scale[0]):.3f} × {float(shaped.scale[1]):.3f}"),
            ("picture", f"{fitted.picture[0]}×{fitted.picture[1]}, {advise.shape_text(Fraction(*fitted.picture))}"),
            ("file", f"{fitted.raster[0]}×{fitted.raster[1]}"),
        ])  # fmt: skip

    # --- on the picture ----------------------------------------------------------------------------------------------
    def _outline(self, rect: QRectF) -> QPolygonF | None:
        """The crop on the picture in ``rect``, as curved as the lens bends it; None if there is none."""
        made = self._shaped
        if made is None:
            return None
        if made.moving is not None:
            w, h = made.moving.size
            t = np.linspace(0, 1, 25 if made.moving.lens.bend else 2)[:-1]
            x = np.concatenate([t, np.ones_like(t), 1 - t, np.zeros_like(t)]) * w
            y = np.concatenate([np.zeros_like(t), t, np.ones_like(t), 1 - t]) * h
            places = made.panel.recorded(x, y, self.keys.time)
        else:
            x0, y0, wide, high = (float(v) for v in made.framing.crop)
            places = np.array([(x0, y0), (x0 + wide, y0), (x0 + wide, y0 + high), (x0, y0 + high)])
        return QPolygonF([self._on(rect, u / self._raster()[0], v / self._raster()[1]) for u, v in places])

    def _flat(self) -> Flat:
        """The recording as its lens bends it."""
        shot, settings = self.desk.shot, self._settings()
        aspect = float((shot.facts.pixel_aspect or 1) * settings.squeeze) if shot is not None else 1.0
        return Flat(self._raster(), aspect, settings.bent)

    def _recorded(self, rect: QRectF, shares: NDArray[np.float64]) -> list[QPointF]:
        """Places of the straightened picture, 0–1, on the recorded one."""
        at = shares * self._raster()
        places = self._flat().straight(at[:, 0], at[:, 1])[:, :2] / self._raster()
        return [self._on(rect, float(x), float(y)) for x, y in places]

    @staticmethod
    def _on(rect: QRectF, x: float, y: float) -> QPointF:
        return QPointF(rect.left() + x * rect.width(), rect.top() + y * rect.height())

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if self.speed_card.looping.plays:
            self.speed_card.looping.overlay(painter, rect)
            return
        shot = self.desk.shot
        if shot is not None:
            self.squeeze_card.draw(painter, rect, shot)
        edge = self._outline(rect)
        if edge is None:
            return
        outside, inner = QPainterPath(), QPainterPath()
        outside.addRect(rect)
        inner.addPolygon(edge)
        inner.closeSubpath()
        painter.fillPath(outside.subtracted(inner), QColor(0, 0, 0, 120))
        painter.setPen(QPen(QColor("#F2A84A"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(inner)
        painter.setPen(QPen(QColor(255, 255, 255, 210), 1.2, Qt.PenStyle.DashLine))
        keep = self._settings().keep
        if keep is not None:
            corners = np.array([(keep[0], keep[1]), (keep[2], keep[1]), keep[2:], (keep[0], keep[3])])
            painter.drawPolygon(QPolygonF(self._recorded(rect, corners)))
        if self._box is not None:
            a, b = (self._on(rect, p.x(), p.y()) for p in self._box)
            painter.drawRect(QRectF(a, b).normalized())
        moves = self._settings().moves
        if moves is not None and len(moves.keys) > 1:
            way = crop.crops_at(moves, np.linspace(moves.keys[0].t, moves.keys[-1].t, 80))
            painter.setPen(QPen(QColor(255, 255, 255, 220), 1.2))
            painter.drawPolyline(QPolygonF(self._recorded(rect, way[:, :2])))
            painter.setBrush(QColor("#FFFFFF"))
            for point in self._recorded(rect, np.array([(k.x, k.y) for k in moves.keys])):
                painter.drawEllipse(point, 4, 4)

    def dragged(self, place: QPointF, done: bool) -> None:
        if self._shaped is None:
            return
        if self.squeeze_card.marking is not None:
            self.squeeze_card.dragged(place, done)
            return
        if self._keeping or self.follow.marking:
            self._mark_box(place, done)
            return
        if done:
            self._last = None
            self.desk.commit()
            return
        if self._last is not None:
            self._drag(place.x() - self._last.x(), place.y() - self._last.y())
        self._last = place

    def _mark_box(self, place: QPointF, done: bool) -> None:
        self._box = (self._box[0], place) if self._box is not None else (place, place)
        self.desk.drafted.emit()
        if not done:
            return
        (a, b), self._box = self._box, None
        if self.follow.marking:
            if self.desk.shot is not None:
                self.follow.begin(self.desk.shot, a, b)
            return
        self.mark_keep()
        (x0, x1), (y0, y1) = sorted((a.x(), b.x())), sorted((a.y(), b.y()))
        size = np.array(self._raster())
        corners = self._flat().straightened(np.array([(x0, y0), (x1, y1)]) * size) / size
        box = [round(min(max(float(v), 0.0), 1.0), 4) for v in corners.ravel()]
        if box[2] - box[0] < 0.005 or box[3] - box[1] < 0.005:
            self.desk.said.emit("That is no box. Drag from one corner of what must stay in to the other.")
            return
        self.desk.answer("shape", keep=box)

    def _drag(self, dx: float, dy: float) -> None:
        """The crop moved by shares of the recorded picture: its keyframe here, this shape alone, or the shot's own."""
        assert self._shaped is not None
        f, settings, shot = self._shaped.framing, self._settings(), self.desk.shot
        wanted = cards.delivery(self.desk.card_of(shot)).wanted if shot is not None else None
        if settings.moves is not None:
            x, y = self._centre()
            self.desk.draft("shape", **self._about(x + dx, y + dy))
        elif wanted is not None:
            x, y = settings.nudge(wanted)
            wide, high = f.shares(self._raster())
            self.alone.nudge(x + dx / wide, y + dy / high)
        else:
            was, share = settings.position, f.shares(self._raster())  # not from the crop, which falls on whole pixels
            x, y = f.position(self._raster(), (was[0] * (1 - share[0]) + dx, was[1] * (1 - share[1]) + dy))
            self.desk.draft("shape", position=(x, y))


def _ratio(value: Fraction) -> str:
    near = value.limit_denominator(100_000)
    return f"{near.numerator}/{near.denominator}"
