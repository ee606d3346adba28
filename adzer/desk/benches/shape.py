"""Shape: how much does the lens squeeze, and what is delivered of the desqueezed picture?"""

from __future__ import annotations

from fractions import Fraction

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...core.job import Shot
from ...core.route import Walk
from ...core.shape import advise
from ...core.shape.step import Shaped
from ..widgets.plots import Outline, ScaleFigure, Table
from ..widgets.questions import Choice, Number, Numbers, Question
from .base import StageBench


class ShapeBench(StageBench):
    stage = "shape"
    whole = True
    hint = "drag the frame or type · T thirds · Q as recorded · W wipe · ^D same as the row above"

    def build(self) -> None:
        desk = self.desk
        self._shaped: Shaped | None = None
        self._last: QPointF | None = None
        self.squeeze = Choice([("none" if s == 1 else f"{float(s):g}×", s) for s in advise.USUAL_SQUEEZES])
        self.squeeze.chosen.connect(lambda v: desk.answer("shape", squeeze=v))
        self.free_squeeze = Number(1.0, 0.01, 0.25, 4.0, 3)
        self._number(self.free_squeeze, lambda v: {"squeeze": Fraction(v).limit_denominator(10_000)})
        self.squeeze_card = Question(
            "How much does the lens squeeze?", self.squeeze, Numbers(("or exactly", self.free_squeeze))
        )
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
        self.questions = [self.squeeze_card, self.school_card, self.shape_card, self.hold_card, self.place_card]
        self.figure = ScaleFigure("Recorded, desqueezed, delivered, to one scale", 3)
        self.numbers = Table("The arithmetic", (0.42, 0.58, 0.0), 2)
        self.instruments = [self.figure, self.numbers]

    def _number(self, field: Number, change: object) -> None:
        field.drafted.connect(lambda v: self.desk.draft("shape", **change(v)))  # type: ignore[operator]
        field.settled.connect(lambda _: self.desk.commit())

    def _position(self) -> tuple[float, float]:
        shot = self.desk.shot
        return self.desk.route_of(shot).shape.position if shot else (0.5, 0.5)

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
        self.squeeze_card.say(
            f"Recorded {before.raster[0]}×{before.raster[1]} is {float(recorded):.3f}:1; × {float(aspect):g} makes {float(whole):.3f}:1. "
            "What is round should look round on the picture."
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
            ("recorded per delivered", f"{float(shaped.scale[0]):.3f} × {float(shaped.scale[1]):.3f}", ""),
            ("picture", f"{fitted.picture[0]}×{fitted.picture[1]}, {advise.shape_text(Fraction(*fitted.picture))}", ""),
            ("file", f"{fitted.raster[0]}×{fitted.raster[1]}, even both ways", ""),
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

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
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
        if done:
            self._last = None
            self.desk.commit()
            return
        if self._last is not None:
            f, (x, y) = self._shaped.framing, self._position()
            spare = (1 - float(f.crop[2]) / self._raster()[0], 1 - float(f.crop[3]) / self._raster()[1])
            moved = (place.x() - self._last.x(), place.y() - self._last.y())
            x, y = (
                min(max(v + (d / s if s > 1e-6 else 0.0), 0.0), 1.0)
                for v, d, s in zip((x, y), moved, spare, strict=True)
            )
            self.desk.draft("shape", position=(x, y))
        self._last = place

    def _raster(self) -> tuple[int, int]:
        shot = self.desk.shot
        return shot.facts.raster if shot else (1, 1)


def _ratio(value: Fraction) -> str:
    near = value.limit_denominator(100_000)
    return f"{near.numerator}/{near.denominator}"
