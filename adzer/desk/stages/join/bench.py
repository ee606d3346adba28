"""The Join bench: whether two recordings are in step; how two round lenses stand to each other, and how they meet."""

from __future__ import annotations

from pathlib import Path

from ....core.errors import AdzerError
from ....core.job import Part, Shot
from ....core.join.measure import Matched, answers
from ....core.join.settings import JoinSettings
from ....core.records import from_json, to_json
from ....core.route import Walk
from ....core.run.syncing import InStep
from ....core.shape.view import ROUND_ACROSS
from ...widgets.questions import Number, Numbers, Question, act
from ..base import StageBench

IN_STEP = "in step"  # under which it is kept, by the other's path


def partner(shot: Shot) -> Part | None:
    """The other eye's recording, or a sound of its own, that belongs to a shot and was recorded by another clock."""
    if shot.facts.beside is not None:
        return None
    return next((p for p in shot.parts if p.role in ("second", "sound")), None)


class JoinBench(StageBench):
    stage = "join"
    hint = "Q as recorded · W wipe · [ ] stage · ↑↓ shot · Esc fold"

    def build(self) -> None:
        self._busy: int | None = None
        self._listening: int | None = None
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
        self.listen = act("Listen to both, and watch how they move", self.put_in_step)
        self.step = Question("Are they in step?", self.listen)
        self.questions = [self.quiet, self.step, self.sees, self.stand, self.meet]

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

    def put_in_step(self) -> None:
        """Measured in the background; what is found is kept with the recording."""
        shot = self.desk.shot
        part = partner(shot) if shot is not None else None
        if shot is None or part is None or self._listening is not None:
            return
        self._listening = shot.id

        def then(found: InStep | None, error: str | None) -> None:
            self._listening = None
            if found is None:
                self.desk.said.emit(error or "They could not be compared.")
            else:
                try:
                    self.desk.job.keep_measured(shot.facts.fingerprint, IN_STEP, to_json(found).encode(), part.path)
                except AdzerError as fault:
                    self.desk.said.emit(str(fault))
            if (now := self.desk.shot) is not None and self.desk.stage == self.stage:
                self.refresh(now, self.desk.walk(now))

        self.desk.worker.chore("sync", (Path(shot.facts.path), Path(part.path)), then)
        self.refresh(shot, self.desk.walk(shot))

    def _say_step(self, shot: Shot) -> None:
        part = partner(shot)
        self.step.setVisible(part is not None)
        if part is None:
            return
        busy, name = self._listening is not None, Path(part.path).name
        self.listen.setEnabled(not busy)
        self.listen.setText("Listening…" if busy else "Listen to both, and watch how they move")
        body = self.desk.job.measured(shot.facts.fingerprint, IN_STEP).get(part.path)
        if body is None:
            self.step.say(f"Nobody has measured how {name} lies against this one.")
            return
        try:
            found = from_json(body, InStep, f"What was measured of {name}")
        except AdzerError:
            self.step.say(f"What was measured of {name} cannot be read any more. Measure it again.")
            return
        if found.offset is None or found.uncertainty is None:
            self.step.say(f"It cannot be told of {name}. {' '.join(found.says.values())}", "A clap that both see and hear settles it.")
            return
        start = f"{abs(found.offset):.4f} s {'after' if found.offset >= 0 else 'before'} this one (±\u00a0{found.uncertainty:.4f} s)"
        words = f"{name} starts {start}, by {found.by}, {found.confidence:.0%} sure."
        if part.role == "second" and shot.facts.rate:
            whole, rest = found.left_over(float(shot.facts.rate))
            words += f" {abs(whole)} whole frames leave {rest:.2f} of one: "
            words += f"what crosses by 10 pixels a frame looks {10 * rest:.1f} pixels too near or far."
        if found.drift_ppm is not None and found.drift_uncertainty is not None and abs(found.drift_ppm) > found.drift_uncertainty:
            words += f" Its clock runs {found.drift_ppm:+.1f} millionths fast: {abs(found.drift_ppm) * 3.6:.0f} ms an hour.".replace("-", "−")
        self.step.say(f"{words} {found.says.get('timecode', '')}".strip(), "Sound needs 3 ms a metre: who stands nearer hears it earlier.")

    def _forget(self) -> None:
        plain = JoinSettings()
        self.desk.answer("join", turn=list(plain.turn), gain=list(plain.gain), error=None)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        stop, settings = walked["join"], walked.route.join
        two = walked.draft.rig is not None
        self.quiet.setVisible(not two)
        self._say_step(shot)
        for card in (self.sees, self.stand, self.meet):
            card.setVisible(two)
        says, (w, h) = stop.result.says, stop.after.raster
        other = partner(shot)
        what = f"{says[:1].upper()}{says[1:]}" if other is None else f"{Path(other.path).name}, which is not put together with it yet"
        self.quiet.say(f"{what}. The stage passes the picture through, {w}×{h}.")
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
