"""The Develop bench: passes this recording through as it is."""

from __future__ import annotations

from ....core.job import Shot
from ....core.route import Walk
from ...widgets.questions import Question
from ..base import StageBench


class DevelopBench(StageBench):
    stage = "develop"
    hint = "[ ] stage · ↑↓ shot · Esc fold"

    def build(self) -> None:
        self.card = Question("Does it need developing?")
        self.questions = [self.card]

    def refresh(self, shot: Shot, walked: Walk) -> None:
        w, h = walked["develop"].after.raster
        self.card.say(
            f"The camera developed it already: there are no sensor values to develop. The stage passes the picture through, {w}×{h}."
        )
