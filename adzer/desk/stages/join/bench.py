"""The Join bench: how two round lenses stand to each other, and how they meet."""

from __future__ import annotations

from ....core.job import Shot
from ....core.join.measure import Matched, answers
from ....core.join.settings import JoinSettings
from ....core.route import Walk
from ....core.shape.view import ROUND_ACROSS
from ...widgets.questions import Number, Numbers, Question, act
from ..base import StageBench


class JoinBench(StageBench):
    stage = "join"
    hint = "Q as recorded · W wipe · [ ] stage · ↑↓ shot · Esc fold"

    def build(self) -> None:
        self._busy: int | None = None
        self.quiet = Question("Does this recording have a partner?")
        self.button = act("Match them by what both see", self.match)
        self.forget = act("Forget what was found", self._forget, False)
        self.stand = Question("How do the two lenses stand?", self.button, self.forget)
        self.across = Number(ROUND_ACROSS, 1.0, 60.0, 280.0, 1)
        self.across.drafted.connect(lambda v: self.desk.draft("shape", across=v))
        self.across.settled.connect(lambda _: self.desk.commit())
        self.sees = Question("How far does each lens see?", Numbers(("degrees across", self.across)))
        self.blend = Number(3.0, 0.5, 1.0, 20.0, 1)
        self.blend.drafted.connect(lambda v: self.desk.draft("join", blend=v))
        self.blend.settled.connect(lambda _: self.desk.commit())
        self.meet = Question("How wide do they pass into each other?", Numbers(("degrees", self.blend)))
        self.questions = [self.quiet, self.sees, self.stand, self.meet]

    def match(self) -> None:
        """Measured in the background; what is found is the answer."""
        shot = self.desk.shot
        if shot is None or self._busy is not None:
            return
        self._busy = shot.id
        self.button.setText("Looking at what both see…")

        def then(found: Matched | None, error: str | None) -> None:
            self._busy = None
            self.button.setText("Match them by what both see")
            if error or found is None:
                self.desk.said.emit(error or "The lenses could not be matched.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer("join", **answers(found))
                self.desk.said.emit(found.saw)

        self.desk.worker.chore("lenses", (shot.facts, self.desk.route_of(shot), self.desk.seen(shot)), then)

    def _forget(self) -> None:
        plain = JoinSettings()
        self.desk.answer("join", turn=list(plain.turn), gain=list(plain.gain), error=None)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        stop, settings = walked["join"], walked.route.join
        two = walked.draft.rig is not None
        self.quiet.setVisible(not two)
        for card in (self.sees, self.stand, self.meet):
            card.setVisible(two)
        says, (w, h) = stop.result.says, stop.after.raster
        self.quiet.say(f"{says[:1].upper()}{says[1:]}. The stage passes the picture through, {w}×{h}.")
        if not two:
            return
        across = walked.route.shape.across or ROUND_ACROSS
        self.across.set_value(across)
        overlap = across - 180
        self.sees.say(
            f"Both see {overlap:.0f}° of the same all round: there they are matched, and meet." if overlap > 0
            else "So they do not overlap, and cannot be matched. Most pairs see 190° to 210°."
        )  # fmt: skip
        self.forget.setVisible(settings.error is not None)
        if settings.error is None:
            self.stand.say("Nobody has measured it: they are taken as exactly back to back, and alike in light. No pair is.")
        else:
            heading, tilt, roll = (f"{v:+.2f}°".replace("-", "−") for v in settings.turn)
            red, green, blue = (f"{g:.2f}" for g in settings.gain)
            self.stand.say(
                f"The second holds things {heading} to the side, {tilt} higher and {roll} rolled from where it would if it stood exactly "
                f"opposite, each ±\u00a0{settings.error:.2f}°; its red, green and blue are taken {red}, {green} and {blue} times."
            )
        self.blend.set_value(settings.blend)
        self.meet.say(
            "Wider hides a difference in light, narrower one in place: what is near stands apart in the two, by the distance of the "
            "lenses over its own."
        )
