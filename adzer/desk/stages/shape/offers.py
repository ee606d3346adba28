"""Questions that both of Shape's benches ask: one shape alone, a cut that would be seen, how fast it plays."""

from __future__ import annotations

from fractions import Fraction

from ....core import cards, shutter
from ....core.job import Shot, take_before
from ....core.look.chosen import LEAST
from ....core.media.clock import clock_of
from ....core.read.advise import rate_text
from ....core.records import to_plain
from ....core.route import Walk
from ....core.shape import cuts
from ....core.shape.advise import USUAL_RATES, even_paces, invented, pace_text, shown
from ...looping import FIT, SECONDS, Looping
from ...model import Desk
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ..base import StageBench


class Alone(Question):
    """Where one delivered shape lies, the others left as they are; only for cards that have a shape of their own."""

    def __init__(self, bench: StageBench) -> None:
        self.desk = bench.desk
        self.right, self.down = Number(0, 0.5, -200, 200, 1, True), Number(0, 0.5, -200, 200, 1, True)
        self.fill = Choice([("fill it", False), ("fit all of it inside", True)])
        self.fill.chosen.connect(self._fit)
        self.numbers = Numbers(("right, %", self.right), ("down, %", self.down))
        super().__init__("And this shape alone?", self.fill, self.numbers)
        for field in (self.right, self.down):
            field.drafted.connect(lambda _: self._draft())
            field.settled.connect(lambda _: self.desk.commit())

    def _fit(self, inside: bool) -> None:
        """All that is framed inside this shape, black around it; or this shape filled."""
        shot = self.desk.shot
        wanted = cards.delivery(self.desk.card_of(shot)).wanted if shot else None
        if shot is not None and wanted is not None:
            rest = [f for f in self.desk.route_of(shot).shape.fits if f != wanted]
            self.desk.answer("shape", fits=to_plain([*rest, wanted] if inside else rest))

    def _draft(self) -> None:
        self.nudge(self.right.value / 100, self.down.value / 100)

    def nudge(self, x: float, y: float) -> None:
        """Drafts this shape's place."""
        shot = self.desk.shot
        wanted = cards.delivery(self.desk.card_of(shot)).wanted if shot else None
        if shot is not None and wanted is not None:
            moved = self.desk.route_of(shot).shape.nudged(wanted, x, y)
            self.desk.draft("shape", nudges=to_plain(moved))

    def refresh(self, walked: Walk) -> None:
        wanted = walked.card.wanted
        self.setVisible(wanted is not None)
        self.fill.set_value(wanted in walked.route.shape.fits)
        self.numbers.setVisible(wanted not in walked.route.shape.fits)
        x, y = walked.route.shape.nudge(wanted)
        self.right.set_value(x * 100)
        self.down.set_value(y * 100)
        self.say(f"In hand is {walked.card.title}. It follows what is framed for all; what is set here moves it alone.")


class HideCut:
    """Offers to show a take larger or smaller where the cut to it, from the take before, would be seen to jump."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.button = act("Hide the cut", self.hide, False)

    def _found(self) -> tuple[Shot, float, float] | None:
        """The take before, the factor that is needed, and the moment of the cut in seconds of the recording."""
        shot = self.desk.shot
        before = take_before(shot, self.desk.all.values()) if shot else None
        if shot is None or before is None:
            return None
        time = clock_of(shot.facts).time(shot.start)
        factor = cuts.step(self.desk.route_of(before).shape, self.desk.route_of(shot).shape, time)
        return None if factor is None else (before, factor, time)

    def hide(self) -> None:
        """The whole take by the smallest step that is seen as a cut."""
        found, shot = self._found(), self.desk.shot
        if found is not None and shot is not None:
            self.desk.answer("shape", **cuts.enlarged(self.desk.route_of(shot).shape, found[1]))

    def say(self) -> str:
        """Shows the button where it is of use; the sentence that says why, or nothing."""
        found, shot = self._found(), self.desk.shot
        self.button.setVisible(found is not None)
        if found is None or shot is None:
            return ""
        before, factor, time = found
        told = cuts.told(self.desk.route_of(shot).shape, factor, time)
        self.button.setText(f"Hide the cut: {told}")
        return f" {before.name} ends where this begins, nearly as large: the cut would be seen to jump. {told} reads as a cut."


class Speed(Question):
    """How fast the shot is played: a factor, or whatever fits it to a length. View and footage go alike."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.looping = desk, Looping(desk)
        self.shutter = Pick([])
        self.shutter.chosen.connect(lambda v: desk.answer("shape", shutter=v))
        self.between = Choice([("shown again", False), ("made between", True)])
        self.between.chosen.connect(lambda v: desk.answer("shape", between=v))
        self.opened = Numbers(("of the frames that pass meanwhile it shows", self.shutter))
        self.filled = Numbers(("where one stands for several it is", self.between))
        self.choose = act("Choose frames for an even way", self._choose, False)
        self.play = act("Play it from here", self._play, False)
        self.percent, self.seconds = Number(100, 1, 6.25, 1600, 2), Number(1, 0.1, 0.02, 1e5, 2)
        self.rate, self.even = Pick([("as recorded", None)]), Pick([])
        self.rate.chosen.connect(
            lambda r: desk.answer("read", timing="recorded" if r is None else "even", even_rate=r and str(r))
        )
        self.even.chosen.connect(lambda v: desk.answer("shape", speed=str(v)))
        super().__init__(
            "How fast does it play?", Numbers(("speed, %", self.percent), ("or seconds long", self.seconds)),
            Numbers(("delivered a second", self.rate)), Numbers(("an even speed", self.even)), self.opened, self.filled, self.choose, self.play,
        )  # fmt: skip
        self.percent.drafted.connect(lambda v: self._draft(Fraction(v).limit_denominator(10_000) / 100))
        self.seconds.drafted.connect(lambda v: self._draft(self._length() / Fraction(v).limit_denominator(1000)))
        for field in (self.percent, self.seconds):
            field.settled.connect(lambda _: desk.commit())

    def _length(self) -> Fraction:
        """Seconds from in to out as they were recorded."""
        shot = self.desk.shot
        return (shot.stop - shot.start) / (shot.facts.rate or Fraction(25)) if shot else Fraction(1)

    def _draft(self, speed: Fraction) -> None:
        self.desk.draft("shape", speed=str(min(max(speed, Fraction(1, 16)), Fraction(16))))

    def refresh(self, walked: Walk) -> None:
        speed, rate = walked.route.shape.speed, walked["shape"].before.rate
        self.percent.set_value(float(speed) * 100)
        self.seconds.set_value(float(self._length() / speed))
        shot = self.desk.shot
        if shot is None or not shot.facts.rate or not rate:
            return
        read = walked.route.read
        chosen = read.even_rate if read.timing == "even" else None
        rates = sorted({*USUAL_RATES, self.desk.job_rate, *([chosen] if chosen else [])})
        self.rate.set_answers([("as recorded", None), *((f"{rate_text(r)} frames", r) for r in rates)], chosen)
        paces = even_paces(shot.facts.rate, rate)
        self.even.set_answers([(f"{float(s):.4%} · {says} · {float(self._length() / s):.1f} s", s) for s, says in paces], speed)
        each = shot.facts.rate * speed / rate
        self.choose.setVisible(each >= LEAST)
        self.choose.setText("Frames at even times again" if walked.route.shape.chosen else "Choose frames for an even way")
        self.opened.setVisible(each >= Fraction(3, 2))
        self.filled.setVisible(each < 1)
        self.play.setVisible(each != 1)
        half = [("the light of half of them", 180.0)] if each >= 3 else []
        self.shutter.set_answers([("one of them", 0.0), *half, ("the light of all of them", 360.0)], walked.route.shape.shutter)
        self.between.set_value(walked.route.shape.between)
        opens = len(shutter.moments(shot.facts.rate, speed, rate, walked.route.shape.shutter))
        if walked.route.shape.between and each < 1:
            passes = f"{invented(each):.0%} of them are made between two recorded ones; where these do not agree, the nearer is shown again."
        elif opens > 1:
            passes = f"the light of {opens} recorded frames is in each, as a camera would have had it that took fewer."
        else:
            passes = pace_text(shot.facts.rate, speed, rate) or f"{shown(each)}{', evenly' if each != 1 else ''}."
        self.say(
            f"Recorded at {float(shot.facts.rate):.4g}, delivered at {float(rate):.4g} frames a second: {passes[:1].lower() + passes[1:]}"
            + ("" if speed == 1 else " The sound keeps its pitch."),
            f"Every frame once would be {float(rate / shot.facts.rate):.0%} of the speed." if rate != shot.facts.rate else "",
        )  # fmt: skip

    def _choose(self) -> None:
        """Of the frames near each moment those that lie where the picture was going; pressed again, those at even times."""
        shot = self.desk.shot
        if shot is None:
            return
        route, rows = self.desk.route_of(shot), self.desk.moved_rows(shot)
        if route.shape.chosen:
            self.desk.answer("shape", chosen="")
            return
        if rows is None:
            self.desk.said.emit("How its picture moves has to be measured first, on Steady.")
            return

        def come(found: tuple[dict[str, object], tuple[float, float]] | None, error: str | None) -> None:
            if found is None:
                self.desk.said.emit(error or "None could be chosen.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer("shape", **found[0])
                plain, even = found[1]
                self.desk.said.emit(f"Its way jolts by {even:.3g} from frame to frame, where frames at even times would by {plain:.3g}.")

        self.desk.worker.chore("evenly", (rows, shot.facts, route, self.desk.seen(shot)), come)

    def _play(self) -> None:
        """What is delivered from the playhead on, round and round; pressed again, it is put away."""
        shot = self.desk.shot
        if self.looping.plays or shot is None:
            self.looping.put_away()
            self._show_play()
            return
        facts, route, seen = self.desk.shown(shot)
        args = (facts, seen, route, self.desk.card_of(shot), self.desk.frame, SECONDS, FIT[1])
        self.looping.ask("loop", args, ["as delivered"], self._show_play)
        self.play.setText("Making it…")

    def _show_play(self) -> None:
        """What the button does, and of what plays how much was made."""
        self.play.setText("Put it away" if self.looping.plays else "Play it from here")
        if self.looping.plays and (loop := self.looping.loops[0]).made + loop.again:
            told = f"as delivered · {loop.made} of {len(loop.frames)} made between"
            self.looping.names = [told + (f", {loop.again} shown again: they do not agree" if loop.again else "")]
