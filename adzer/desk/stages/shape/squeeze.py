"""The question how much the lens squeezes: by hand, by its card and focus, or measured on what is marked."""

from __future__ import annotations

from fractions import Fraction

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ....core import cards
from ....core.job import Shot
from ....core.picture import Picture
from ....core.records import to_plain
from ....core.shape import advise
from ....core.shape.measure import Ellipse, Lengths, Mark, Squeeze
from ....core.shape.settings import ShapeSettings
from ...model import Desk
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act


class SqueezeCard(Question):
    """``marking``: what the next box that is dragged on the whole picture goes around."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.marking: str | None = None
        self._box: tuple[QPointF, QPointF] | None = None
        self._stamp: object = None
        self.usual = Choice([("none" if s == 1 else f"{float(s):g}×", s) for s in advise.USUAL_SQUEEZES])
        self.usual.chosen.connect(lambda v: desk.answer("shape", squeeze=v, lens=None))
        self.free = Number(1.0, 0.01, 0.25, 4.0, 3)
        self.free.drafted.connect(
            lambda v: desk.draft("shape", squeeze=Fraction(v).limit_denominator(10_000), lens=None)
        )
        self.free.settled.connect(lambda _: desk.commit())
        self.lens = Pick([("no lens card", None)])
        self.lens.chosen.connect(self.take_lens)
        self.focus = Number(3.0, 0.1, 0.1, 1000.0, 2)
        self.focus.drafted.connect(lambda v: desk.draft("shape", **advise.by_lens(self._lens(), v)))
        self.focus.settled.connect(lambda _: desk.commit())
        self.focus_row = Numbers(("focused at, m", self.focus))
        self.mark = act("Outline a round thing  B", self.mark_round)
        self.wide, self.high = Number(1.0, 0.1, 0.001, 1e5, 2), Number(1.0, 0.1, 0.001, 1e5, 2)
        self.lengths = Numbers(("really wide", self.wide), ("really high", self.high))
        self.mark_lengths = act("Outline a thing of this size", lambda: self._mark("lengths"), False)
        self.forget = act("Forget the marks", lambda: desk.answer("shape", marks=[], lengths=[], measured=None), False)
        super().__init__(
            "How much does the lens squeeze?", self.usual, Numbers(("or exactly", self.free)), self.lens, self.focus_row,
            self.mark, self.lengths, self.mark_lengths, self.forget,
        )  # fmt: skip

    # --- the card ---------------------------------------------------------------------------------------------------
    def _lens(self) -> str | None:
        shot = self.desk.shot
        return self.desk.route_of(shot).shape.lens if shot else None

    def take_lens(self, name: str | None) -> None:
        """The card's squeeze, at the focus that is said, and the way in which it bends straight lines."""
        self.desk.answer("shape", **advise.by_lens(name, self.focus.value))

    # --- marks ------------------------------------------------------------------------------------------------------
    def mark_round(self) -> None:
        """B: the next thing dragged around on the whole picture is a round one; pressed again, it is given up."""
        self._mark("round")

    def _mark(self, what: str) -> None:
        self.marking, self._box = None if self.marking == what else what, None
        around = "Drag from one corner around it"
        self.mark.setText(around if self.marking == "round" else "Outline a round thing  B")
        self.mark_lengths.setText(around if self.marking == "lengths" else "Outline a thing of this size")

    def dragged(self, place: QPointF, done: bool) -> None:
        """While something is being marked: the box grows, and what is in it is measured when it is let go."""
        self._box = (self._box[0], place) if self._box is not None else (place, place)
        self.desk.drafted.emit()
        if done:
            self._measure()

    def _measure(self) -> None:
        shot, box, what = self.desk.shot, self._box, self.marking
        assert what is not None
        self._mark(what)
        if shot is None or box is None:
            return
        settings = self.desk.route_of(shot).shape
        w, h = shot.raster
        (x0, x1), (y0, y1) = sorted((box[0].x(), box[1].x())), sorted((box[0].y(), box[1].y()))
        wide, high, frame = (x1 - x0) * w, (y1 - y0) * h, self.desk.frame
        new: Mark = Ellipse((x0 + x1) / 2 * w, (y0 + y1) / 2 * h, wide / 2, high / 2, 0.0, frame)
        lengths = list(settings.lengths)
        if what == "lengths":
            new = Lengths(wide, high, self.wide.value, self.high.value, frame)
            lengths.append(new)

        def then(found: Squeeze | None, error: str | None) -> None:
            if error or found is None:
                self.desk.said.emit(error or "The squeeze could not be measured.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer(
                    "shape", marks=to_plain(found.marks), lengths=to_plain(lengths),
                    measured=[round(found.squeeze, 5), round(found.error, 5)],
                )  # fmt: skip

        self.desk.worker.chore("squeeze", (shot.facts, [*settings.marks, *settings.lengths, new], shot.turn), then)

    # --- showing ----------------------------------------------------------------------------------------------------
    def refresh(self, settings: ShapeSettings, before: Picture, whole: Fraction) -> None:
        """``whole``: the desqueezed picture's width over its height."""
        self.usual.set_value(settings.squeeze)
        self.free.set_value(float(settings.squeeze))
        if (stamp := cards.stamp("lenses")) != self._stamp:
            self._stamp = stamp
            known = [(cards.find("lenses", n, cards.LensCard).title, n) for n in cards.paths("lenses")]
            self.lens.set_answers([("no lens card", None), *known], settings.lens)
        self.lens.set_value(settings.lens)
        self.focus_row.setVisible(settings.focus is not None)
        if settings.focus is not None:
            self.focus.set_value(settings.focus)
        marked = len(settings.marks) + len(settings.lengths)
        self.forget.setVisible(bool(marked))
        seen = "What is round should look round on the picture; outline it, and it is measured."
        if settings.measured is not None:
            value, error = settings.measured
            things = f"{len(settings.marks)} round" if not settings.lengths else f"{marked} outlined"
            seen = f"{things} thing{'s say' if marked > 1 else ' says'} {value:.3f} ± {error:.3f}."
        bent = " Its bent lines are straightened." if settings.bent else ""
        aspect = before.pixel_aspect * settings.squeeze
        self.say(
            f"Recorded {before.raster[0]}×{before.raster[1]} is {float(Fraction(*before.raster)):.3f}:1; × {float(aspect):g} "
            f"makes {float(whole):.3f}:1. {seen}{bent}",
            "Others type what is engraved on the lens; it is rarely exact, and changes as the lens is focused.",
        )

    def draw(self, painter: QPainter, rect: QRectF, shot: Shot) -> None:
        w, h = shot.raster
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
        if self._box is None:
            return
        a, b = (QPointF(rect.left() + p.x() * rect.width(), rect.top() + p.y() * rect.height()) for p in self._box)
        box = QRectF(a, b).normalized()
        (painter.drawEllipse if self.marking == "round" else painter.drawRect)(box)
