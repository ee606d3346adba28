"""How a view or a crop moves: keyframes set, taken off, moved and eased. The same for both Shape benches."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import msgspec

from ....core.job import Shot
from ....core.media.clock import Clock, clock_of
from ....core.records import to_plain
from ....core.space import path as paths
from ....core.space.path import Sides
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Number, Numbers, Pick, Question, act

EASES = (
    ("hold, then cut", "hold"),
    ("even speed", "linear"),
    ("eased", "ease"),
    ("on without a stop", "through"),
    ("eased by hand", "sides"),
)


class Keys(Question):
    """``field``: the shape setting that holds the path; ``first``: one to begin with; ``at``: a key that says where the path
    is at a time anyway."""

    def __init__(
        self, desk: Desk, field: str, first: Callable[[], Any], at: Callable[[Any, float], Any], *more: Any
    ) -> None:
        self.desk, self._field, self._first, self._at = desk, field, first, at
        self.ease = Pick(EASES)
        self.ease.chosen.connect(self.set_ease)
        self.start, self.end = Number(40, 1, 0, 100, 0), Number(40, 1, 0, 100, 0)
        for field_ in (self.start, self.end):
            field_.drafted.connect(lambda _: self.draft(self.with_ease(self._sides())))
            field_.settled.connect(lambda _: desk.commit())
        self.sides = Numbers(("gathers speed, %", self.start), ("loses it, %", self.end))
        super().__init__(
            "How does it move from here?", self.ease, self.sides, act("Keyframe here  G", self.set_key), *more
        )

    # --- where it is ------------------------------------------------------------------------------------------------
    @property
    def begun(self) -> bool:
        """Is there a path at all?"""
        shot = self.desk.shot
        return shot is not None and getattr(self.desk.route_of(shot).shape, self._field) is not None

    @property
    def path(self) -> Any:
        """As it is answered, or the one that would begin."""
        shot = self.desk.shot
        held = getattr(self.desk.route_of(shot).shape, self._field) if shot else None
        return held or self._first()

    def _rate(self) -> float:
        shot = self.desk.shot
        return float(shot.facts.rate or 25) if shot else 25.0

    def _clock(self) -> Clock:
        shot = self.desk.shot
        return clock_of(shot.facts) if shot else Clock(25.0)

    @property
    def time(self) -> float:
        return self._clock().time(self.desk.frame)

    @property
    def near(self) -> float:
        """Within half a frame a keyframe is at this frame."""
        return 0.5 / self._rate()

    @property
    def here(self) -> bool:
        """Does a keyframe lie at this frame?"""
        return any(abs(k.t - self.time) < self.near for k in self.path.keys)

    @property
    def now(self) -> Any:
        """Where the path is at this frame, as a keyframe."""
        path = self.path
        return next((k for k in path.keys if abs(k.t - self.time) < self.near), None) or self._at(path, self.time)

    @property
    def segment(self) -> int:
        """The keyframe from which it goes on at this moment."""
        return max((n for n, k in enumerate(self.path.keys) if k.t <= self.time + self.near), default=0)

    def pegs(self, shot: Shot) -> list[int]:
        path = getattr(self.desk.route_of(shot).shape, self._field)
        clock = clock_of(shot.facts)
        return [clock.frame(k.t) for k in path.keys] if path and len(path.keys) > 1 else []

    # --- changing it ------------------------------------------------------------------------------------------------
    def draft(self, path: object) -> None:
        self.desk.draft("shape", **{self._field: to_plain(path)})

    def answer(self, path: object) -> None:
        self.desk.answer("shape", **{self._field: to_plain(path)})

    def moved(self, **changes: float) -> Any:
        """The path changed here: a still one altogether, a moving one by a keyframe at this frame."""
        path = self.path
        if len(path.keys) == 1:
            return msgspec.structs.replace(path, keys=(msgspec.structs.replace(path.keys[0], **changes),))
        return paths.with_key(path, msgspec.structs.replace(self.now, **changes), self.near)

    def set_key(self) -> None:
        """G: where it is now becomes a keyframe at this frame."""
        if not self.begun:
            self.answer(self._first())
            return
        key = msgspec.structs.replace(self.now, t=round(self.time, 4))
        self.answer(paths.with_key(self.path, key, self.near))

    def drop_key(self) -> None:
        """Shift+G: takes the keyframe of this frame off."""
        if not self.begun or len(self.path.keys) == 1 or not self.here:
            self.desk.said.emit("There is no keyframe here that could be taken off.")
            return
        self.answer(paths.without_key(self.path, self.time, self.near))

    def next_key(self, step: int) -> None:
        """Comma and full stop: to the keyframe before or after."""
        ahead = [self._clock().frame(k.t) for k in self.path.keys if (k.t - self.time) * step > self.near]
        if self.begun and ahead:
            self.desk.go_to(min(ahead) if step > 0 else max(ahead))

    def _sides(self) -> Sides:
        return Sides(self.start.value / 100, self.end.value / 100)

    def with_ease(self, ease: object, n: int | None = None) -> object:
        """The path with one key, the one before this moment, going on otherwise."""
        keys, n = list(self.path.keys), self.segment if n is None else n
        keys[n] = msgspec.structs.replace(keys[n], ease=ease)
        return msgspec.structs.replace(self.path, keys=tuple(keys))

    def set_ease(self, ease: str) -> None:
        self.answer(self.with_ease(self._sides() if ease == "sides" else ease))

    # --- on an instrument -------------------------------------------------------------------------------------------
    def hold_on(self, lines: Lines) -> None:
        """Lets pegs be dragged along an instrument, and the handles between them bend the easing."""
        lines.pegged.connect(self._retime)
        lines.eased.connect(lambda n, start, end: self.draft(self.with_ease(Sides(round(start, 3), round(end, 3)), n)))
        lines.let_go.connect(self.desk.commit)

    def _retime(self, n: int, time: float) -> None:
        shot = self.desk.shot
        if shot is not None:
            clock = self._clock()
            at = clock.time(min(clock.frame(max(time, 0.0)), shot.facts.frames - 1))
            self.draft(paths.retimed(self.path, n, at, 1 / self._rate()))

    def easings(self) -> list[tuple[float, float] | None]:
        """Shares of each way in which it gathers and loses speed; None where nothing eases."""
        known = {"linear": (0.0, 0.0), "ease": (Sides().start, Sides().end)}
        return [
            (k.ease.start, k.ease.end) if isinstance(k.ease, Sides) else known.get(k.ease) for k in self.path.keys[:-1]
        ]

    def tell(self, say: str, others: str = "") -> None:
        ease = self.path.keys[self.segment].ease
        self.ease.set_value("sides" if isinstance(ease, Sides) else ease)
        self.sides.setVisible(isinstance(ease, Sides))
        if isinstance(ease, Sides):
            self.start.set_value(ease.start * 100)
            self.end.set_value(ease.end * 100)
        self.say(say, others)
