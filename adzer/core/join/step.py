"""Join: passes the Picture through, and says so."""

from __future__ import annotations

from ..picture import Picture
from ..stage import Context, StepResult
from .settings import JoinSettings


def step(picture: Picture, settings: JoinSettings, context: Context) -> StepResult:
    if context.facts.beside is not None:
        return StepResult(picture, "two lenses side by side, not stitched")
    return StepResult(picture, "one recording, nothing to join", idle=True)
