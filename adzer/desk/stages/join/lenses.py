"""How two round lenses stand to each other, at what distance they meet, and what becomes of them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QWidget

from ....core.cards import RigCard, find, paths
from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.join import rig
from ....core.join.met import Along
from ....core.join.rig import Rigged
from ....core.join.selfcalibration import LAWS, bend_of, law_of
from ....core.join.settings import JoinSettings
from ....core.media.clock import clock_of
from ....core.records import to_plain
from ....core.route import Walk
from ....core.space.sphere import ROUND_ACROSS
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.plots import Plot
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ..measuring import Measuring
from .looking import WIPE, Looking
from .plots import Disagreement, Ring
from .reach import Reach

FAR = 1000.0  # metres from which on it is far away
POINT = "Click what is to meet"
LOOKS = [
    ("by turns", "by turns", "what both see, brought together"),
    ("wipe", WIPE, "what both see, brought together"),
    ("in pieces", "in pieces", "the first lens and the second by turns, every 6°, brought together"),
    ("apart", "apart", "four times what differs: as they stand, and under it brought together"),
]


class Lenses:
    """Questions and instruments of two round lenses."""

    def __init__(self, desk: Desk, repaint: Callable[[], None]) -> None:
        self.desk = desk
        words = ("Measure the lenses by what both see", "Looking at what both see…")
        self.measuring = Measuring(desk, "rig", Rigged, words, self._measured)
        self.button = self.measuring.button
        words = ("Look where they meet on this shot", "Looking where they meet…")
        self.along = Measuring(desk, "along", Along, words, self._looked_along)
        self.cards = Pick([])
        self.cards.chosen.connect(self._take_card)
        self.forget = act("Forget what was found", self._forget, False)
        self.variant = Pick([(v or "as it is used mostly", v) for v in rig.VARIANTS], "")
        self.keep = act("Keep it as a card for all jobs", self._keep, False)
        self.stand = Question("How do the two lenses stand?", self.button, self.cards, self.along.button, self.forget, self.variant, self.keep)
        self.looking = Looking(desk, "lenses look", LOOKS, ("first lens", "second lens"), "sphere", repaint)
        self.seen = Question("How are they looked at here?", self.looking.choice)
        self.pointing, self.reach = False, Reach()
        self.pointed = act(POINT, self._begin_point, False)
        self.across = Number(ROUND_ACROSS, 1.0, 60.0, 280.0, 1)
        self.across.drafted.connect(self._declare_across)
        self.sees = Question("How far does each lens see?", Numbers(("degrees across", self.across)))
        self.law = Pick([("not known: measured where the camera turns", None), *((law, law) for law in LAWS)])
        self.law.chosen.connect(self._declare_law)
        self.built = Question("By which law is each lens built?", self.law)
        self.distance = Number(FAR, 0.1, 0.1, FAR, 1)
        self.distance.drafted.connect(lambda v: desk.draft("join", distance=None if v >= FAR else v))
        self.base = Number(3.0, 0.1, 0.1, 200.0, 1)
        self.distance.setPlaceholderText("far away")
        self.base.setPlaceholderText("not measured")
        self.base.drafted.connect(lambda v: desk.draft("join", base=v / 100))
        self.far = act("Let them meet far away", lambda: desk.answer("join", distance=None), False)
        numbers = Numbers(("metres", self.distance), ("lenses apart, cm", self.base))
        self.near = Question("At what distance do they meet?", numbers, self.pointed, self.far)
        self.blend = Number(3.0, 0.5, 1.0, 20.0, 1)
        self.blend.drafted.connect(lambda v: desk.draft("join", blend=v))
        self.meet = Question("How wide do they pass into each other?", Numbers(("degrees", self.blend)))
        self.close = Choice([("brought together", True), ("left as it is", False)], True)
        self.close.chosen.connect(lambda v: desk.answer("join", close=v))
        self.tears = Question("What becomes of what tears?", self.close)
        self.laid = Choice([("as recorded", "recorded"), ("whole sphere", "sphere")])
        self.laid.chosen.connect(lambda v: desk.answer("join", laid=v))
        self.lies = Question("How is it laid out?", self.laid)
        for number in (self.across, self.distance, self.base, self.blend):
            number.settled.connect(lambda _: desk.commit())
        self.ring, self.agree, self.over = Ring(), Disagreement(), Lines("Tears over the take", "px", 2)
        self.questions: list[QWidget] = [self.stand, self.sees, self.built, self.seen, self.near, self.tears, self.meet, self.lies]
        self.instruments: list[Plot] = [self.ring, self.agree, self.over]

    def _declared_law(self) -> str | None:
        shape = self.desk.route_of(self.desk.shot).shape if self.desk.shot is not None else None
        return law_of(shape.bend, shape.across or ROUND_ACROSS) if shape is not None else None

    def _declare_across(self, across: float) -> None:
        law = self._declared_law()
        if law is None:
            self.desk.draft("shape", across=across)
        else:
            self.desk.draft("shape", across=across, bend=list(bend_of(law, across)))

    def _declare_law(self, law: str | None) -> None:
        self.desk.answer("shape", bend=list(bend_of(law, self.across.value)) if law is not None else [])

    def _measured(self, shot: Shot, found: Rigged) -> None:
        self.desk.answer("join", **rig.answers(found), rig=None)

    def _looked_along(self, shot: Shot, found: Along) -> None:
        self.desk.answer("join", met=to_plain(found.met))

    def _take_card(self, name: object) -> None:
        try:
            self.desk.answer("join", **rig.by_card(find("rigs", str(name), RigCard), str(name)), met=[])
        except AdzerError as fault:
            self.desk.said.emit(str(fault))

    def _keep(self) -> None:
        if (shot := self.desk.shot) is None:
            return
        route, variant = self.desk.route_of(shot), str(self.variant.value)
        if route.join.lenses is None or route.join.error is None:
            return
        try:
            name = rig.keep(rig.card_of(route.join, shot.camera or shot.name, variant, readout=route.steady.readout))
        except AdzerError as fault:
            self.desk.said.emit(str(fault))
            return
        self.desk.answer("join", rig=name)
        self.desk.said.emit(f"It is kept as the rig card {name}, for every shot of that camera, in all jobs.")

    # --- pointing at what is to meet -----------------------------------------------------------------------------------
    def _begin_point(self) -> None:
        self.pointing = True
        self.pointed.setText("Click it in what both see")
        if self.looking.how is None:
            self.looking.choice.choose("by turns")

    def dragged(self, place: QPointF, done: bool) -> None:
        shot = self.desk.shot
        if shot is not None and not self.pointing and self.reach.pressed(place):
            self.desk.draft("join", distance=self.reach.moved(place))
            if done:
                self.reach.held = False
                self.desk.commit()
            return
        if not (self.pointing and done) or shot is None or not self.looking.pictures:
            return
        self.pointing = False
        self.pointed.setText(POINT)

        def then(apart: float | None, error: str | None) -> None:
            if self.desk.shot is None or self.desk.shot.id != shot.id:
                return
            base = self.desk.route_of(shot).join.base
            if error or apart is None:
                self.desk.said.emit(error or "It is too plain to be found in the other lens. Click where there is more to see.")
            elif apart < rig.NEAR:
                self.desk.said.emit("It does not stand apart: it is far away, where the lenses meet already without a distance.")
            elif base is None:
                text = f"It stands {apart:.2f}° apart. Say how far the lenses are from each other, and its distance is known."
                self.desk.said.emit(text)
            else:
                self.desk.answer("join", distance=round(float(base / np.radians(apart)), 2))

        route, seen = self.desk.route_of(shot), self.desk.seen(shot)
        self.desk.worker.chore("apart", (shot.facts, route, seen, self.desk.frame, self.looking.made_as, place.x(), place.y()), then)

    def _forget(self) -> None:
        plain = JoinSettings()
        kept = {k: to_plain(getattr(plain, k)) for k in ("turn", "gain", "black", "falls", "error", "lenses", "rig", "met")}
        self.desk.answer("join", **kept)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        two, settings = walked.draft.rig is not None, walked.route.join
        for card in (*self.questions, *self.instruments):
            card.setVisible(two)
        brought = settings.close and any(m.apart for m in settings.met)  # then all that stands there is, however far it is
        self.reach.shown, self.reach.distance = two and settings.base is not None and not brought, settings.distance
        if not two:
            self.looking.put_away()
            return
        self.looking.ask()
        found: Rigged | None = self.measuring.found(shot)
        lenses = settings.lenses
        across = lenses[0].across if lenses is not None else walked.route.shape.across or ROUND_ACROSS
        self.sees.setVisible(lenses is None)
        self.across.set_value(across)
        self.built.setVisible(lenses is None)
        law = self._declared_law()
        self.law.set_value(law)
        said = f"Directions in each lens go by the {law} law. Measuring keeps to it, unless the camera turns and shows another."
        self.built.say(said if law is not None else "Taken as equidistant until it is measured. A lens's data sheet may name it.")
        overlap = across - 180
        self.sees.say(
            f"Both see {overlap:.0f}° of the same all round: there they are matched, and meet." if overlap > 0
            else "So they do not overlap. Leave it, and measure: how far they see is tried out then. Most pairs see 190° to 210°."
        )  # fmt: skip
        known = sorted(paths("rigs"))
        self.cards.setVisible(bool(known))
        self.cards.set_answers([(f"use the rig card {n}", n) for n in known], settings.rig)
        self.forget.setVisible(settings.error is not None)
        fresh = settings.error is not None and settings.lenses is not None and settings.rig is None
        self.keep.setVisible(fresh)
        self.along.button.setVisible(settings.rig is not None)  # a card knows the lenses, and nothing of this shot
        self.variant.setVisible(fresh)
        self.seen.say("What both lenses see, unrolled: from straight down over the left, up, and the right, down again. The first faces up.")
        self._say_stand(settings, found)
        self._show_errors(settings, found)
        self._say_near(settings, found, walked)
        self._say_tears(shot, settings, found, walked)
        self.blend.set_value(settings.blend)
        along = ""
        if settings.rig is None and found is not None and found.along is not None and settings.met:
            along = f" They do so where they differ least, by {found.along.differs[0]:.1%} instead of {found.along.differs[1]:.1%}."
        self.meet.say(
            "Wider hides a difference in light, narrower one in place: what is near stands apart in the two, by the distance of the "
            f"lenses over its own.{along}"
        )
        self.laid.set_value("sphere" if settings.laid == "sphere" else "recorded")
        self.lies.say(
            "A whole sphere, twice as wide as high, for places that show spheres; a view of it is taken on Shape, from both lenses at once."
            if settings.laid == "sphere"
            else "Cards that show spheres get the whole sphere all the same. A view is taken on Shape, from both lenses at once."
        )  # fmt: skip

    def _say_stand(self, settings: JoinSettings, found: Rigged | None) -> None:
        if settings.error is None:
            self.stand.say("It was not measured: they are taken as exactly back to back, and alike in light. No pair is.")
            return
        heading, tilt, roll = (f"{v:+.2f}°".replace("-", "−") for v in settings.turn)
        red, green, blue = (f"{g:.2f}" for g in settings.gain)
        words = (
            f"The second holds things {heading} to the side, {tilt} higher and {roll} rolled from where it would if it stood exactly "
            f"opposite, ±\u00a0{settings.error:.2f}° where both see; its red, green and blue are taken {red}, {green} and {blue} times."
        )
        if settings.falls:
            words += f" Towards the rims {1 - np.exp(-settings.falls):.0%} of the light is lost, which is undone."
        if settings.rig is not None:
            words = f"By the rig card {settings.rig}. {words}"
        elif found is not None and found.errors and settings.lenses is not None:
            worst = max(found.errors, key=lambda e: e.degrees)
            words += f" Fitted, they agree to {worst.degrees:.3f}°, {worst.pixels:.1f} recorded pixels, where they agree least."
        self.stand.say(words)

    def _show_errors(self, settings: JoinSettings, found: Rigged | None) -> None:
        errors = found.errors if found is not None and settings.rig is None and settings.error is not None else ()
        self.agree.setVisible(bool(errors))
        self.agree.show_errors(errors)

    def _say_tears(self, shot: Shot, settings: JoinSettings, found: Rigged | None, walked: Walk) -> None:
        self.close.set_value(settings.close)
        along: Along | None = self.along.found(shot) if settings.rig is not None else None
        along = along or (found.along if found is not None else None)
        self.over.setVisible(along is not None and len(along.tears) > 1)
        if along is None or not any(m.apart for m in settings.met):
            self.tears.say("Measured with the lenses. What is near stands apart in both, and is seen twice or cut where they meet.")
            return
        words = "What stands apart where they meet is bent together" if settings.close else "It tears where it does"
        if settings.close:
            words += f": {along.bent:.0%} of the sphere is bent by a tenth of a degree or more."
        else:
            words += f". Brought together, {along.bent:.0%} of the sphere would be bent by a tenth of a degree or more."
        self.tears.say(words, "Straight edges close to the meeting bend a little with it; at a distance that matters, let them meet instead.")
        wide = _wide(walked) / 360
        times, before, after = (np.array([t[i] for t in along.tears]) for i in range(3))
        now = clock_of(shot.facts).time(self.desk.frame)
        self.over.show_lines(times, [("as they stand", before * wide), ("brought together", after * wide)], (), now)

    def _say_near(self, settings: JoinSettings, found: Rigged | None, walked: Walk) -> None:
        base = settings.base
        for number, value, usual in ((self.distance, settings.distance, FAR), (self.base, base and base * 100, 3.0)):
            number.set_value(value or usual)
            if value is None and not number.hasFocus():
                number.clear()  # nobody has said it: a drag or a step begins from what is usual
        self.far.setVisible(settings.distance is not None)
        wide = _wide(walked)
        apart = float(np.degrees(base / settings.distance)) if base and settings.distance else 0.0
        tears: list[tuple[float, float]] = []
        if found is not None:
            tears = [(n.turned, (n.apart - apart) / 360 * wide) for n in found.near]
        self.ring.show_ring(tears, settings.met[0].seam if settings.met else (), wide)
        words = "They meet far away." if not apart else f"What is {settings.distance:.1f} m away meets."
        if tears:
            worst = float(np.quantile(np.abs([t for _, t in tears]), 0.95))
            bent = settings.close and any(m.apart for m in settings.met)
            words += f" Elsewhere things {'would tear' if bent else 'tear'} by up to {worst:.0f} of {wide} pixels on this shot."
        if found is not None and found.ground and base is None:
            words += f" The ground below stands {found.ground:.2f}° apart: {1.6 * np.radians(found.ground) * 100:.1f} cm, if it lies 1.6 m below."
        self.near.say(words, "Measure the distance of the lenses with a ruler, from front glass to front glass.")


def _wide(walked: Walk) -> int:
    """Pixels of a sphere's whole width, in which tears are said."""
    rig_ = walked.draft.rig
    return walked["shape"].after.raster[0] if rig_ is not None and rig_.whole else 3840
