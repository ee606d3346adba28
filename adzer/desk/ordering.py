"""How the Board is put in order, and which shots a word finds."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from ..core.finding import Finding
from ..core.job import Shot

ORDERS: dict[str, Callable[[Shot], tuple[float | str, ...] | float | str]] = {
    "as added": lambda s: (s.position, s.id),
    "by name": lambda s: (s.name.lower(), s.position),
    "by camera": lambda s: (s.camera.lower(), s.position),
    "by scene": lambda s: (s.scene.lower(), s.position),
    "by time": lambda s: (s.facts.created or 0.0, s.position),
    "longest first": lambda s: (-s.frames / float(s.facts.rate or 25), s.position),
}


class Words:
    """What the filter looks through: each shot's words, gathered once."""

    def __init__(self) -> None:
        self._held: dict[int, str] = {}

    def forget(self, shot_id: int | None = None) -> None:
        """A shot's words, or all of them, are gathered anew."""
        if shot_id is None:
            self._held.clear()
        else:
            self._held.pop(shot_id, None)

    def found(self, shots: Iterable[Shot], filter_: str, said: Mapping[int, tuple[Finding, ...]]) -> list[Shot]:
        """The shots that all words of a filter fit; ``said``: what has been found of each so far."""
        words = filter_.lower().split()
        return [s for s in shots if all(self.fits(s, w, said.get(s.id, ())) for w in words)]

    def fits(self, shot: Shot, word: str, said: Iterable[Finding]) -> bool:
        """``keep``, ``drop``, ``stop``, ``warn`` and ``undecided`` are asked of the shot; all else is looked for in its words."""
        if word in ("keep", "drop"):
            return shot.verdict == word
        if word == "undecided":
            return not shot.verdict
        if word in ("stop", "warn"):
            return any(f.level.value == word for f in said)
        if shot.id not in self._held:
            words = (shot.name, shot.scene, shot.camera, shot.kind, shot.notes, shot.facts.path.rpartition("/")[2])
            self._held[shot.id] = " ".join(words).lower()
        return word in self._held[shot.id]
