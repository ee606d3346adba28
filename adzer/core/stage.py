"""What every stage gets and gives: the common shape of the seven ``step`` functions."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING, ClassVar

import msgspec

from .cards import DeliveryCard
from .errors import UnreadableError
from .finding import Finding
from .media.probe import FileFacts
from .picture import Picture
from .plan import Draft

if TYPE_CHECKING:
    from .read.seen import Seen
    from .shape.step import Shaped
    from .shape.view import Viewed

STAGES = ("read", "join", "develop", "steady", "shape", "colour", "deliver")


class Settings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the person decides at a stage. Each kind has a ``version``, and may say:

    OWN    fields that stay with a shot when its answers go to another: what was drawn on its pictures, and when
    FROM   for each older version what makes its plain settings ones of the next
    """

    OWN: ClassVar[frozenset[str]] = frozenset()
    FROM: ClassVar[dict[int, Callable[[dict[str, object]], dict[str, object]]]] = {}

    @classmethod
    def upgraded(cls, plain: dict[str, object], what: str) -> dict[str, object]:
        """Plain settings of any older version as ones of this. UnreadableError if they are of a newer one."""
        newest, version = cls().version, plain.get("version", 1)  # type: ignore[attr-defined]
        if not isinstance(version, int) or version < 1:
            return plain  # refused where it is read
        if version > newest:
            raise UnreadableError(f"{what} was made by a newer Adzer. Open it with that.")
        plain = dict(plain)
        for step in range(version, newest):
            plain = cls.FROM[step](plain)
        return plain | {"version": newest}


@dataclass(frozen=True)
class Context:
    """What a step may know beside the Picture: the file, what was measured on it, the card, the job's rate."""

    facts: FileFacts
    seen: Seen | None = None
    card: DeliveryCard | None = None
    job_rate: Fraction | None = None
    problem: Finding | None = None
    usual: str | None = None  # the kind of curve that most shots of the same camera have
    given: str | None = None  # the curve that was declared for others of the same camera
    draft: Draft = Draft()  # what the stages before have given to the render
    measured: Mapping[str, bytes] = field(default_factory=dict)  # what analyses found on the recording, by the finding's name
    across: float | None = None  # degrees that a round lens was said to see, and ``bend``: its polynomial, where they are asked for, at Shape
    bend: tuple[float, ...] = ()
    span: tuple[float, float] | None = None  # seconds of the recording that are delivered, from and up to; None: all of it


@dataclass(frozen=True)
class StepResult:
    """``says``: one line on what the stage does; ``draft``: of the render, None: as it came; ``shaped`` or ``viewed``: how Shape
    came to its panel, for those who show it; ``wants``: an analysis of the recording that would tell it more."""

    picture: Picture
    says: str
    findings: tuple[Finding, ...] = ()
    idle: bool = False
    draft: Draft | None = None
    shaped: Shaped | None = None
    viewed: Viewed | None = None
    evidence: dict[str, str] = field(default_factory=dict)
    wants: str = ""
