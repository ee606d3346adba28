"""Steady: passes the Picture through, and says so."""

from __future__ import annotations

from ..picture import Picture
from ..stage import Context, StepResult
from .settings import SteadySettings


def step(picture: Picture, settings: SteadySettings, context: Context) -> StepResult:
    return StepResult(picture, "left as it is", idle=True)
