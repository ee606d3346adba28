"""What a stage gives to the Board, its cell; and to the Bench view: questions, instruments, what is drawn on the picture."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Protocol

from PySide6.QtCore import QObject, QPointF, QRectF, Signal
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import QWidget

from ...core import cards
from ...core.job import Shot
from ...core.route import Route, Walk
from ...core.run.service import Reply
from ...core.shape.advise import shape_text
from ..looping import Looping
from ..model import Desk
from ..widgets.plots import Plot
from ..widgets.shapes import Framed, Shapes


@dataclass(frozen=True)
class Cell:
    """What a Board cell says: two short lines, each of which may be empty. ``quiet``: one line, in the middle."""

    first: str
    second: str = ""
    quiet: bool = False


class Small(Protocol):
    """Takes small pictures as they come, by their number."""

    def show_picture(self, index: int, picture: QImage) -> None: ...


class StageBench(QObject):
    """One stage's bench. ``whole``: the main picture is the whole desqueezed frame, with the delivered one beside it."""

    stage = ""
    whole = False
    heavy = False  # its picture takes long: a smaller one is shown while something is dragged, or it plays
    scopes = False
    marks = False
    side_share = 0.6  # of the main picture's width, for the delivered one beside it
    whole_words = "the whole picture, desqueezed"
    hint = ""
    repaint = Signal()  # what is shown in place of the main picture has changed
    relaid = Signal()  # ``whole`` has changed

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.shapes: Shapes | None = None
        self.questions: list[QWidget] = []
        self.instruments: list[Plot] = []
        self.looping: Looping | None = None
        self.build()
        if self.looping is not None:
            self.looping.stepped.connect(self.repaint)

    @property
    def small(self) -> Small | None:
        """The instrument that shows ``delivered`` small."""
        return self.shapes

    def build(self) -> None:
        """Makes ``questions`` and ``instruments``, once."""

    def refresh(self, shot: Shot, walked: Walk) -> None:
        """Shows the answers, reasons and plots of a shot; called after every change."""

    def delivered(self, shot: Shot) -> list[str]:
        """Cards whose pictures are wanted small, beside the ones in view."""
        if self.shapes is None:
            return []
        chosen = self.desk.route_of(shot).deliver.cards
        known = {name: cards.delivery(name) for name in cards.paths("deliveries")}
        first = [n for n in chosen if n in known]
        own = [n for n, card in known.items() if card.wanted is not None and n not in first]
        seen: list[Fraction | None] = []
        result = []
        for name in [*first, *own]:  # one of each shape: those that are chosen, then those that could be
            if known[name].wanted not in seen:
                seen.append(known[name].wanted)
                result.append(name)
        return result[:5]

    def show_shapes(self, shot: Shot) -> None:
        """Fills ``shapes`` anew; pictures that it has are kept until newer ones come."""
        if self.shapes is None:
            return
        old = [f.picture for f in self.shapes.frames]
        frames = []
        in_hand = self.desk.card_of(shot)
        for i, name in enumerate(self.delivered(shot)):
            card = cards.delivery(name)
            shape = card.wanted
            if shape is None:  # it takes the shot's own shape
                walked = self.desk.walk(shot) if name == in_hand else self.desk.walk_as(shot, name)
                shape = Fraction(*walked["deliver"].after.raster)
            picture = old[i] if i < len(old) else None
            frames.append(
                Framed(shape_text(shape), float(shape), picture, card.title_safe, card.covered, name == in_hand)
            )
        self.shapes.show_frames(frames, "dotted: title safe · shaded: covered")

    def take_in_hand(self, index: int) -> None:
        """The shape that was clicked is shown large, and answers may be given for it alone."""
        shot = self.desk.shot
        if shot is not None:
            self.desk.take_card(self.delivered(shot)[index])

    def compare(self, way: str) -> bool:
        """A key of comparing (``wipe``, ``turn``, ``beside``, ``apart``) was pressed; True if the bench compares something of its own."""
        return False

    def flip(self) -> None:
        """The other of two that are looked at by turns."""
        self.desk.said.emit("There is one picture here: nothing to be seen by turns. Two eyes or two lenses are, on Join.")

    def shown_as(self, route: Route) -> Route:
        """By which the whole picture is shown, where it is."""
        return route

    def moved(self, shot: Shot) -> None:
        """Only the frame in view has changed."""

    def pegs(self, shot: Shot) -> list[int]:
        """Frames with a keyframe."""
        return []

    def pictured(self, reply: Reply) -> None:
        """A delivered picture has come, with its scopes."""

    def instead(self) -> QImage | None:
        """What is shown in place of the main picture."""
        return self.looping.picture() if self.looping is not None else None

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        """Draws on the main picture, which lies in ``rect``."""

    def dragged(self, place: QPointF, done: bool) -> None:
        """The person drags on the main picture; ``place`` 0–1 in it."""

