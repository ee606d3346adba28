"""What a stage has to say: a level, a sentence, and a fix that can be applied."""

from __future__ import annotations

from enum import StrEnum

import msgspec


class Level(StrEnum):
    STOP = "stop"
    WARN = "warn"
    NOTE = "note"

    @property
    def weight(self) -> int:
        return ("note", "warn", "stop").index(self.value)


class Fix(msgspec.Struct, frozen=True):
    """A fix that can be applied: ``answers`` to ``stage``'s settings, each by its name."""

    label: str
    stage: str
    answers: dict[str, object]


class Finding(msgspec.Struct, frozen=True):
    """``code`` is stable and machine-readable; ``text`` is for the person."""

    level: Level
    code: str
    text: str
    stage: str = ""
    fix: Fix | None = None


def worst(findings: list[Finding] | tuple[Finding, ...]) -> Finding | None:
    """The first of the most severe findings, or None."""
    return max(findings, key=lambda f: f.level.weight, default=None)
