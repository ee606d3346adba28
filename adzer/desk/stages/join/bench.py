"""The Join bench: whether two recordings are in step; how two round lenses, or two eyes, stand to each other, and what becomes of them."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from ....core.cards import delivery
from ....core.job import Shot
from ....core.media.clock import clock_of
from ....core.route import Route, Walk, walk
from ....core.run.service import wholly
from ....core.shape.seam import way
from ..base import StageBench
from .eyes import Pair
from .footcard import FootCard
from .lenses import Lenses
from .looking import OVER, Looking
from .partners import PartnersCard
from .step import StepCard, partner


class JoinBench(StageBench):
    stage = "join"
    whole_words = "the whole sphere · the line: where the lenses pass into each other"
    hint = "Q as recorded · W wipe · ⇧E the other eye or lens · [ ] stage · ↑↓ shot · Esc fold"

    def build(self) -> None:
        self.quiet = PartnersCard(self.desk)
        self.step = StepCard(self.desk)
        self.lenses, self.pair = Lenses(self.desk, self.repaint.emit), Pair(self.desk, self.repaint.emit)
        self.foot = FootCard(self.desk)
        self.lenses.looking.choice.chosen.connect(lambda _: self._lay())
        self._sphere: tuple[object, Walk] | None = None  # of what, and how it is shown
        self.questions = [self.quiet, self.step, *self.pair.questions, *self.lenses.questions, self.foot]
        self.instruments = [self.step.curve, *self.pair.instruments, *self.lenses.instruments]

    def refresh(self, shot: Shot, walked: Walk) -> None:
        stop = walked["join"]
        self.quiet.setVisible(self._two() is None)
        self._lay()
        self.step.refresh(shot, walked)
        self.lenses.refresh(shot, walked)
        self.pair.refresh(shot, walked)
        self.foot.refresh(shot, walked)
        says, (w, h) = stop.result.says, stop.after.raster
        other = partner(shot)
        what = f"{says[:1].upper()}{says[1:]}" if other is None else f"{other.path.rsplit('/', 1)[-1]}, which is not put together with it yet"
        self.quiet.refresh(shot, walked, f"{what}. The stage passes the picture through, {w}×{h}.")

    def _two(self) -> Looking | None:
        """How the two that are to become one picture are looked at; None if there are no two."""
        walked = self.desk.walk(self.desk.shot) if self.desk.shot is not None else None
        if walked is not None and walked.draft.rig is not None:
            return self.lenses.looking
        return self.pair.looking if walked is not None and walked["read"].after.eyes not in (None, "one") else None

    def compare(self, way: str) -> bool:
        looking = self._two()
        return looking is not None and looking.compare(way)

    def flip(self) -> None:
        looking = self._two()
        if looking is None:
            super().flip()
        else:
            looking.flip()

    def moved(self, shot: Shot) -> None:
        walked = self.desk.walk(shot)
        self.pair.refresh(shot, walked)
        self.lenses.refresh(shot, walked)

    def pegs(self, shot: Shot) -> list[int]:
        clock = clock_of(shot.facts)
        return [clock.frame(t) for t in self.pair.pegs(shot)]

    def shown_as(self, route: Route) -> Route:
        return route.with_("join", laid="sphere")

    def _lay(self) -> None:
        """Two lenses are shown as the sphere that they make, beside what is delivered of it; what both see has all the room."""
        walked = self.desk.walk(self.desk.shot) if self.desk.shot is not None else None
        rig = walked.draft.rig if walked is not None else None
        as_delivered = rig is not None and rig.whole and walked is not None and walked.stopped is None
        whole = rig is not None and not as_delivered and self.lenses.looking.how is None
        if whole != self.whole:
            self.whole = self.heavy = whole
            self.relaid.emit()

    def _draw_seam(self, painter: QPainter, rect: QRectF) -> None:
        """Where the lenses pass into each other in the picture that is shown."""
        shot = self.desk.shot
        walked = self._shown_walk(shot) if shot is not None else None
        if shot is None or walked is None or (walked.stopped is not None and not (self.whole and walked.stopped.stage == "deliver")):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(OVER), 1.6))
        x, y, wide, high = walked.draft.filled
        inner = QRectF(rect.left() + x * rect.width(), rect.top() + y * rect.height(), wide * rect.width(), high * rect.height())
        for panel in walked.draft.panels[:1]:
            for a, b in way(panel, clock_of(shot.facts).time(self.desk.frame)):
                painter.drawLine(*(QPointF(inner.left() + x * inner.width(), inner.top() + y * inner.height()) for x, y in (a, b)))

    def _shown_walk(self, shot: Shot) -> Walk | None:
        """Of the picture that is shown of two lenses; None if there are no two."""
        walked = self.desk.walk(shot)
        if walked.draft.rig is None or not self.whole:
            return walked if walked.draft.rig is not None else None
        key = (shot.id, self.desk.route_of(shot), self.desk.card_of(shot), self.desk.seen(shot))
        if self._sphere is None or self._sphere[0] != key:
            route, card = wholly(self.shown_as(key[1]), delivery(key[2]))
            self._sphere = key, walk(route, shot.facts, key[3], card, measured=self.desk.found(shot))
        return self._sphere[1]

    def instead(self) -> QImage | None:
        return self.pair.looking.instead() or self.lenses.looking.instead()

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        if self.instead() is None:
            self._draw_seam(painter, rect)
        self.pair.looking.overlay(painter, rect)
        self.pair.overlay(painter, rect)
        self.lenses.looking.overlay(painter, rect)
        self.lenses.reach.draw(painter, rect)

    def dragged(self, place: QPointF, done: bool) -> None:
        looking = self._two()
        if looking is not None and not self.lenses.pointing and looking.dragged(place, done):
            return
        self.pair.dragged(place, done)
        self.lenses.dragged(place, done)
