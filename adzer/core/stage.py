"""What every stage gets and gives: the common shape of the seven ``step`` functions."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from .cards import DeliveryCard
from .finding import Finding
from .media.probe import FileFacts
from .picture import Picture

STAGES = ("read", "join", "develop", "steady", "shape", "colour", "deliver")


@dataclass(frozen=True)
class Context:
    """What a step may know beside the Picture: the file, what was measured on it, the card, the job's rate."""

    facts: FileFacts
    seen: Any = None
    card: DeliveryCard | None = None
    job_rate: Fraction | None = None
    problem: Finding | None = None
    usual: str | None = None  # the kind of curve that most shots of the same camera have
    given: str | None = None  # the curve that was declared for others of the same camera


@dataclass(frozen=True)
class StepResult:
    """``says``: one line on what the stage does; ``adds``: what it gives to the RenderPlan, typed by the stage."""

    picture: Picture
    says: str
    findings: tuple[Finding, ...] = ()
    idle: bool = False
    adds: Any = None
    evidence: dict[str, str] = field(default_factory=dict)
