"""The question whether a view follows something: marking it, following it bit by bit, and the path that comes of it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF

from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.look import track
from ....core.media.clock import clock_of
from ....core.media.formats import SUBSAMPLING
from ....core.shape import pursue
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Choice, Number, Numbers, Question, act

Over = Callable[[tuple[int, int]], track.Source | None]
PLACES = (("middle", 0.0), ("left third", -1 / 3), ("right third", 1 / 3))


class Follow(Question):
    """Keeps what was followed, so that slack, lead and place can be changed without following again."""

    def __init__(self, desk: Desk, over: Over, followed: Callable[..., dict[str, object]]) -> None:
        """``over``: chroma subsampling → what it is followed over; ``followed``: points, clock, manner → the answers."""
        self.desk, self._over, self._followed = desk, over, followed
        self.points: list[track.Point] = []
        self.shot_id: int | None = None
        self.marking = False
        self._follower: track.Follower | None = None
        self._running = False
        self.button = act("Follow a thing  Y", self.mark, False)
        self.place = Choice(PLACES, 0.0)
        self.place.chosen.connect(self._place)
        self.slack, self.lead = Number(20, 1, 0, 100, 0), Number(0, 1, 0, 60, 0)
        self._at = 0.0
        super().__init__(
            "Does it follow something?",
            self.button,
            self.place,
            Numbers(("slack, %", self.slack), ("room ahead, %", self.lead)),
        )
        self.trace = Lines("How surely it is seen", "%", 2)
        for field in (self.slack, self.lead):
            field.settled.connect(lambda _: self._apply())
        self.say_state()

    # --- marking ------------------------------------------------------------------------------------------------------
    def mark(self) -> None:
        """Y: the next thing dragged around on the unrolled picture is followed; while it is, Y stops."""
        if self._running:
            self._running = False
            self._done(0)
            return
        self.marking = not self.marking
        self.say_state()

    def begin(self, shot: Shot, a: QPointF, b: QPointF) -> None:
        """A box between two places (0–1 of the picture) was dragged: follows what is in it from the frame in view."""
        self.marking = False
        sub = SUBSAMPLING[shot.facts.chroma]
        over = self._over(sub[::-1] if shot.turn % 180 else sub)
        if over is None:
            return
        w, h = shot.raster
        begun = over.marked(
            min(a.x(), b.x()) * w, min(a.y(), b.y()) * h, abs(a.x() - b.x()) * w, abs(a.y() - b.y()) * h
        )
        if self.shot_id != shot.id:
            self.points = []
        self.shot_id, self._running = shot.id, True
        self.points = [p for p in self.points if p.frame < self.desk.frame]
        self._go_on(shot, begun, self.desk.frame)

    def _go_on(self, shot: Shot, begun: track.Follower | track.Marked, frame: int) -> None:
        def then(answer: tuple[track.Follower, list[track.Point]] | None, error: str | None) -> None:
            if error or answer is None:
                self._running = False
                self.desk.said.emit(error or "It could not be followed.")
                self.say_state()
                return
            follower, points = answer
            self.points += points
            if not self._running:
                return
            reached = points[-1].frame + 1 if points else shot.stop
            if reached >= shot.stop or not points:
                self._running = False
                self._done(follower.hidden)
                return
            self.say_state()
            self._go_on(shot, follower, reached)

        self.say_state()
        self.desk.worker.chore("follow", (shot.facts, begun, frame, shot.stop, shot.turn), then)

    def _done(self, hidden: int) -> None:
        if hidden:
            self.desk.said.emit(
                f"It was not seen on the last {hidden} frames. If it is there, go to where it is clear and box it again; "
                "what is followed already stays."
            )
        self._apply()

    # --- the path ------------------------------------------------------------------------------------------------------
    def _place(self, at: float) -> None:
        self._at = at
        self.place.set_value(at)
        self._apply()

    def _apply(self) -> None:
        """The view that follows, as an edit; nothing where nothing was followed."""
        shot = self.desk.shot
        if shot is not None and self.points and self.shot_id == shot.id and not self._running:
            manner = pursue.Manner(self.slack.value / 100, (self._at, 0.0), self.lead.value / 100)
            try:
                answers = self._followed(self.points, clock_of(shot.facts), manner)
            except AdzerError as error:
                self.desk.said.emit(str(error))
            else:
                self.desk.answer("shape", **answers)
        self.say_state()

    def say_state(self) -> None:
        shot = self.desk.shot
        mine = [p for p in self.points if shot is not None and self.shot_id == shot.id]
        self.trace.setVisible(len(mine) > 1)
        if shot is not None and len(mine) > 1:
            clock = clock_of(shot.facts)
            times = np.array([clock.time(p.frame) for p in mine])
            sure = np.array([100 * p.sure for p in mine])
            self.trace.show_lines(
                times, [("", sure)], (), clock.time(self.desk.frame), [(100 * track.LOST, "lost below")]
            )
        if self._running:
            self.button.setText("Stop  Y")
            self.say(f"Following; frame {mine[-1].frame if mine else self.desk.frame} of {shot.stop if shot else 0}.")
            return
        self.button.setText("Drag a box around it" if self.marking else "Follow a thing  Y")
        if mine:
            seen = [p for p in mine if p.sure > track.LOST]
            worst = min(mine, key=lambda p: p.sure)
            self.say(
                f"Seen on {len(seen)} of {len(mine)} frames, least surely ({worst.sure:.0%}) on frame {worst.frame}. "
                "Boxed again on any frame, it goes on from there.",
                "Others set keyframes by hand: more work, and never as even.",
            )
        else:
            self.say(
                "Box a thing, and the view keeps it in the picture with few keyframes, which can be moved afterwards."
            )
