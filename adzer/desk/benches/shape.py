"""Shape: how much does the lens squeeze, and what is delivered of the desqueezed picture?"""

from __future__ import annotations

from fractions import Fraction

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...core import cards
from ...core.job import Shot
from ...core.records import to_plain
from ...core.route import Walk
from ...core.shape import advise
from ...core.shape.measure import Ellipse, Squeeze
from ...core.shape.step import Shaped
from ..model import Desk
from ..widgets.framing import Shapes
from ..widgets.plots import Outline, ScaleFigure, Table
from ..widgets.questions import Choice, Number, Numbers, Pick, Question, act
from .base import Alone, StageBench


class ShapeBench(StageBench):
    stage = "shape"
    whole = True
    hint = (
        "drag the frame or type · B mark a round thing · T thirds · Q as recorded · W wipe · ^D same as the row above"
    )

    def build(self) -> None:
        desk = self.desk
        self._shaped: Shaped | None = None
        self._last: QPointF | None = None
        self.squeeze = Choice([("none" if s == 1 else f"{float(s):g}×", s) for s in advise.USUAL_SQUEEZES])
        self.squeeze.chosen.connect(lambda v: desk.answer("shape", squeeze=v, lens=None))
        self.free_squeeze = Number(1.0, 0.01, 0.25, 4.0, 3)
        self._number(self.free_squeeze, lambda v: {"squeeze": Fraction(v).limit_denominator(10_000), "lens": None})
        self._marking = False
        self._lens_stamp: object = None
        self._box: tuple[QPointF, QPointF] | None = None
        self.lens = Pick([("no lens card", None)])
        self.lens.chosen.connect(self._take_lens)
        self.mark = act("Mark a round thing  B", self.mark_round)
        self.forget = act("Forget the marks", lambda: desk.answer("shape", marks=[], measured=None), False)
        self.squeeze_card = Question(
            "How much does the lens squeeze?", self.squeeze, Numbers(("or exactly", self.free_squeeze)), self.lens, self.mark,
            self.forget,
        )  # fmt: skip
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
        self.hold = Choice([("as the card asks", None), ("natively", "native"), ("inside 16:9", "frame")])
        self.hold.chosen.connect(lambda v: desk.answer("shape", hold=v))
        self.hold_card = Question("How is it held?", self.hold)
        self.across = Number(50, 1, 0, 100, 0)
        self.down = Number(50, 1, 0, 100, 0)
        self._number(self.across, lambda v: {"position": (v / 100, self._position()[1])})
        self._number(self.down, lambda v: {"position": (self._position()[0], v / 100)})
        self.place_card = Question(
            "Where does the crop sit?", Numbers(("across, %", self.across), ("down, %", self.down))
        )
        self.matters_x, self.matters_y = Number(50, 1, 0, 100, 0), Number(50, 1, 0, 100, 0)
        self._number(self.matters_x, lambda v: {"centre": (v / 100, self._centre()[1])})
        self._number(self.matters_y, lambda v: {"centre": (self._centre()[0], v / 100)})
        self.matters_card = Question(
            "Where is what matters?", Numbers(("across, %", self.matters_x), ("down, %", self.matters_y))
        )
        self.alone = Alone(self)
        self.questions = [
            self.squeeze_card, self.school_card, self.shape_card, self.hold_card, self.place_card, self.matters_card, self.alone,
        ]  # fmt: skip
        self.figure = ScaleFigure("Recorded, desqueezed, delivered", 3)
        self.numbers = Table("The arithmetic", (0.5, 0.5, 0.0), 3)
        self.shapes = Shapes("Every shape of it", 4)
        self.shapes.picked.connect(self.take_in_hand)
        self.instruments = [self.figure, self.numbers, self.shapes]

    def _number(self, field: Number, change: object) -> None:
        field.drafted.connect(lambda v: self.desk.draft("shape", **change(v)))  # type: ignore[operator]
        field.settled.connect(lambda _: self.desk.commit())

    def _centre(self) -> tuple[float, float]:
        """What matters, 0–1 of the recorded picture: as said, else the middle of the crop."""
        shot = self.desk.shot
        if shot is None:
            return (0.5, 0.5)
        said = self.desk.route_of(shot).shape.centre
        if said is not None or self._shaped is None:
            return said or (0.5, 0.5)
        x, y, w, h = (float(v) for v in self._shaped.framing.crop)
        return ((x + w / 2) / self._raster()[0], (y + h / 2) / self._raster()[1])

    def _position(self) -> tuple[float, float]:
        shot = self.desk.shot
        return self.desk.route_of(shot).shape.position if shot else (0.5, 0.5)

    # --- round things -----------------------------------------------------------------------------------------------
    def _take_lens(self, name: str | None) -> None:
        changes: dict[str, object] = {"lens": name}
        if name is not None:
            changes["squeeze"] = Fraction(cards.find("lenses", name, cards.LensCard).squeeze).limit_denominator(1000)
        self.desk.answer("shape", **changes)

    def mark_round(self) -> None:
        """B: the next thing dragged around on the whole picture is a round one; pressed again, it is given up."""
        self._marking, self._box = not self._marking, None
        self.mark.setText("Drag from one corner around it" if self._marking else "Mark a round thing  B")

    def _marked(self) -> None:
        """A box was dragged: its round thing is looked for in the footage, and all marks together say the squeeze."""
        shot, box = self.desk.shot, self._box
        self.mark_round()
        if shot is None or box is None:
            return
        w, h = self._raster()
        (x0, x1), (y0, y1) = sorted((box[0].x(), box[1].x())), sorted((box[0].y(), box[1].y()))
        new = Ellipse((x0 + x1) / 2 * w, (y0 + y1) / 2 * h, (x1 - x0) / 2 * w, (y1 - y0) / 2 * h, 0.0, self.desk.frame)

        def then(found: Squeeze | None, error: str | None) -> None:
            if error or found is None:
                self.desk.said.emit(error or "The squeeze could not be measured.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer(
                    "shape", marks=to_plain(found.marks), measured=[round(found.squeeze, 5), round(found.error, 5)]
                )

        held = self.desk.route_of(shot).shape.marks
        self.desk.worker.chore("squeeze", (shot.facts, [*held, new]), then)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        settings, shaped = walked.route.shape, walked["shape"].result.adds
        self._shaped = shaped if isinstance(shaped, Shaped) else None
        self.squeeze.set_value(settings.squeeze)
        self.free_squeeze.set_value(float(settings.squeeze))
        self.school.set_value(settings.school)
        self.shape.set_value(settings.shape)
        self.hold.set_value(settings.hold)
        self.across.set_value(settings.position[0] * 100)
        self.down.set_value(settings.position[1] * 100)
        before = walked["shape"].before
        aspect = before.pixel_aspect * settings.squeeze
        if self._shaped is None:
            return
        framing, fitted = self._shaped.framing, self._shaped.fitted
        self.free_shape.set_value(float(settings.shape or framing.desqueezed[0] / framing.desqueezed[1]))
        recorded = Fraction(*before.raster)
        whole = framing.desqueezed[0] / framing.desqueezed[1]
        if (stamp := cards.stamp("lenses")) != self._lens_stamp:
            self._lens_stamp = stamp
            known = [(cards.find("lenses", n, cards.LensCard).title, n) for n in cards.paths("lenses")]
            self.lens.set_answers([("no lens card", None), *known], settings.lens)
        self.lens.set_value(settings.lens)
        self.forget.setVisible(bool(settings.marks))
        seen = "What is round should look round on the picture; mark it, and it is measured."
        if settings.measured is not None:
            value, error = settings.measured
            n = len(settings.marks)
            seen = f"{n} round thing{'s say' if n > 1 else ' says'} {value:.3f} ± {error:.3f}."
        self.squeeze_card.say(
            f"Recorded {before.raster[0]}×{before.raster[1]} is {float(recorded):.3f}:1; × {float(aspect):g} makes {float(whole):.3f}:1. "
            + seen,
            "Others type what is engraved on the lens; it is rarely exact, and changes as the lens is focused.",
        )
        others = advise.others_school(settings.school) if aspect != 1 else ""
        self.school_card.say(advise.why_school(settings.school, framing, aspect), others)
        self.shape_card.say(advise.why_shape(framing, settings.shape))
        hold = settings.hold or walked.card.hold
        held = (
            "natively wide: no bars are stored"
            if hold == "native"
            else "inside 16:9 with black around, so that no player can crop it"
        )
        others = (
            walked.card.others
            if settings.hold is None
            else f"{walked.card.title} asks for it {'natively' if walked.card.hold == 'native' else 'inside 16:9'}."
        )
        self.hold_card.say(f"{fitted.raster[0]}×{fitted.raster[1]}, {held}.", others)
        own = walked.card.wanted is not None
        for card in (self.shape_card, self.hold_card, self.place_card):
            card.setVisible(not own)
        self.matters_card.setVisible(own)
        self.alone.refresh(walked)
        cx, cy = self._centre()
        self.matters_x.set_value(cx * 100)
        self.matters_y.set_value(cy * 100)
        self.matters_card.say(
            "Upright, square and other crops lie about this place, as large as they can be." + (
                "" if settings.centre else " Nothing is said yet, so it is the middle of the wide crop."
            )
        )  # fmt: skip
        x, y = float(framing.crop[0]), float(framing.crop[1])
        self.place_card.say(f"The crop starts {x:.0f} pixels from the left and {y:.0f} from the top of the recording.")
        self._draw_numbers(before.raster, self._shaped)

    def _draw_numbers(self, raster: tuple[int, int], shaped: Shaped) -> None:
        framing, fitted = shaped.framing, shaped.fitted
        w, h = float(framing.desqueezed[0]), float(framing.desqueezed[1])
        sx, sy = float(framing.scale[0]), float(framing.scale[1])
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
            ("enlargement to fill", f"{float(framing.enlargement):.4f} = {_ratio(framing.enlargement)}", ""),
            ("kept", f"{float(framing.kept):.2%}", ""),
            ("lost", f"{float(1 - framing.kept):.2%}", ""),
            ("recorded : delivered", f"{float(shaped.scale[0]):.3f} × {float(shaped.scale[1]):.3f}", ""),
            ("picture", f"{fitted.picture[0]}×{fitted.picture[1]}, {advise.shape_text(Fraction(*fitted.picture))}", ""),
            ("file", f"{fitted.raster[0]}×{fitted.raster[1]}", ""),
        ])  # fmt: skip

    def _crop(self, rect: QRectF) -> QRectF | None:
        """Where the crop lies on the picture in ``rect``; None if there is none."""
        if self._shaped is None:
            return None
        whole_w, whole_h = self._raster()
        x, y, w, h = (float(v) for v in self._shaped.framing.crop)
        return QRectF(
            rect.left() + x / whole_w * rect.width(), rect.top() + y / whole_h * rect.height(),
            w / whole_w * rect.width(), h / whole_h * rect.height(),
        )  # fmt: skip

    def _draw_marks(self, painter: QPainter, rect: QRectF) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        w, h = self._raster()
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(QColor("#FFFFFF"), 1.6))
        for m in self.desk.route_of(shot).shape.marks:
            painter.save()
            painter.translate(rect.left(), rect.top())
            painter.scale(rect.width() / w, rect.height() / h)
            painter.translate(m.x, m.y)
            painter.rotate(m.angle)
            pen = painter.pen()
            pen.setCosmetic(True)
            painter.setPen(pen)
            painter.drawEllipse(QPointF(0, 0), m.a, m.b)
            painter.restore()
        if self._marking and self._box is not None:
            a, b = (QPointF(rect.left() + p.x() * rect.width(), rect.top() + p.y() * rect.height()) for p in self._box)
            painter.drawEllipse(QRectF(a, b).normalized())

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        self._draw_marks(painter, rect)
        crop = self._crop(rect)
        if crop is None:
            return
        shade = QColor(0, 0, 0, 120)
        painter.fillRect(QRectF(rect.left(), rect.top(), rect.width(), crop.top() - rect.top()), shade)
        painter.fillRect(QRectF(rect.left(), crop.bottom(), rect.width(), rect.bottom() - crop.bottom()), shade)
        painter.fillRect(QRectF(rect.left(), crop.top(), crop.left() - rect.left(), crop.height()), shade)
        painter.fillRect(QRectF(crop.right(), crop.top(), rect.right() - crop.right(), crop.height()), shade)
        painter.setPen(QPen(QColor("#F2A84A"), 2))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(crop)

    def dragged(self, place: QPointF, done: bool) -> None:
        if self._shaped is None:
            return
        if self._marking:
            self._box = (self._box[0], place) if self._box is not None else (place, place)
            self.desk.drafted.emit()
            if done:
                self._marked()
            return
        if done:
            self._last = None
            self.desk.commit()
            return
        if self._last is not None:
            f, (x, y) = self._shaped.framing, self._position()
            if walked_card(self.desk).wanted is not None:
                x0, y0 = self._nudge()
                self.alone.nudge(
                    x0 + (place.x() - self._last.x()) * self._raster()[0] / float(f.crop[2]),
                    y0 + (place.y() - self._last.y()) * self._raster()[1] / float(f.crop[3]),
                )
                self._last = place
                return
            spare = (1 - float(f.crop[2]) / self._raster()[0], 1 - float(f.crop[3]) / self._raster()[1])
            moved = (place.x() - self._last.x(), place.y() - self._last.y())
            x, y = (
                min(max(v + (d / s if s > 1e-6 else 0.0), 0.0), 1.0)
                for v, d, s in zip((x, y), moved, spare, strict=True)
            )
            self.desk.draft("shape", position=(x, y))
        self._last = place

    def _nudge(self) -> tuple[float, float]:
        shot = self.desk.shot
        return self.desk.route_of(shot).shape.nudge(walked_card(self.desk).wanted) if shot else (0.0, 0.0)

    def _raster(self) -> tuple[int, int]:
        shot = self.desk.shot
        return shot.facts.raster if shot else (1, 1)


def _ratio(value: Fraction) -> str:
    near = value.limit_denominator(100_000)
    return f"{near.numerator}/{near.denominator}"


def walked_card(desk: Desk) -> cards.DeliveryCard:
    """The delivery in view."""
    assert desk.shot is not None
    return cards.delivery(desk.card_of(desk.shot))
