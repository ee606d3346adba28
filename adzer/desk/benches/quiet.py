"""Develop: passes this recording through as it is."""

from __future__ import annotations

from ...core.job import Shot
from ...core.route import Walk
from ..model import Desk
from ..widgets.questions import Question
from .base import StageBench

QUESTIONS = {
    "develop": ("Does it need developing?", "The camera developed it already: there are no sensor values to develop."),
    "steady": ("Does it need steadying?", "It is left as it was held."),
}


class QuietBench(StageBench):
    def __init__(self, desk: Desk, stage: str) -> None:
        self.stage = stage
        self.hint = "[ ] stage · ↑↓ shot · Esc fold"
        super().__init__(desk)

    def build(self) -> None:
        title, _ = QUESTIONS[self.stage]
        self.card = Question(title)
        self.questions = [self.card]

    def refresh(self, shot: Shot, walked: Walk) -> None:
        stop = walked[self.stage]
        self.card.say(
            f"{QUESTIONS[self.stage][1]} The stage passes the picture through, {stop.after.raster[0]}×{stop.after.raster[1]}."
        )
