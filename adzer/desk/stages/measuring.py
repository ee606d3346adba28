"""A measurement that a button starts: made in the background, kept with the recording, and then an answer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, Protocol, TypeVar

from ...core.errors import AdzerError
from ...core.job import Shot
from ...core.records import from_json, to_json
from ..model import Desk
from ..widgets.questions import act


class Measured(Protocol):
    """What can be found: in a sentence, what was seen."""

    @property
    def saw(self) -> str: ...


T = TypeVar("T", bound=Measured)


class Measuring(Generic[T]):
    """``chore`` of the service, kept under its own name; ``words`` on the button, others while it works. ``then`` gets what was found, if
    that shot is still the one in hand."""

    def __init__(self, desk: Desk, chore: str, kind: type[T], words: tuple[str, str], then: Callable[[Shot, T], None]) -> None:
        self.desk, self.chore, self.kind, self.words, self.then = desk, chore, kind, words, then
        self._busy = False
        self.button = act(words[0], self.start)

    def start(self) -> None:
        shot = self.desk.shot
        if shot is None or self._busy:
            return
        self._busy = True
        self.button.setText(self.words[1])

        def over(found: T | None, error: str | None) -> None:
            self._busy = False
            self.button.setText(self.words[0])
            if error or found is None:
                self.desk.said.emit(error or "It could not be measured.")
                return
            try:
                self.desk.job.keep_measured(shot.facts.fingerprint, self.chore, to_json(found).encode())
                self.desk.learn_found(shot.facts.fingerprint)
            except AdzerError as fault:
                self.desk.said.emit(str(fault))
            if self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.then(shot, found)
                self.desk.said.emit(found.saw)

        self.desk.worker.chore(self.chore, (shot.facts, self.desk.route_of(shot), self.desk.seen(shot)), over)

    def found(self, shot: Shot) -> T | None:
        """What was kept; None if nothing was, or it cannot be read any more."""
        body = self.desk.found(shot).get(self.chore)
        try:
            return None if body is None else from_json(body, self.kind, "What was measured")
        except AdzerError:
            return None
