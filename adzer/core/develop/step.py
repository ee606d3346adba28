"""Develop: passes the Picture through, and says so."""

from __future__ import annotations

from ..picture import Picture
from ..stage import Context, StepResult
from .settings import DevelopSettings


def step(picture: Picture, settings: DevelopSettings, context: Context) -> StepResult:
    return StepResult(picture, "left as it is", idle=True)
