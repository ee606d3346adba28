"""How two round lenses stand to each other, at what distance they meet, and what becomes of them."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QWidget

from ....core.cards import RigCard, find, paths
from ....core.errors import AdzerError
from ....core.job import Shot
from ....core.join import rig
from ....core.join.rig import Rigged
from ....core.join.settings import JoinSettings
from ....core.records import to_plain
from ....core.route import Walk
from ....core.shape.view import ROUND_ACROSS
from ...model import Desk
from ...widgets.plots import Plot
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from .measuring import Measuring
from .plots import Ring

FAR = 1000.0  # metres from which on it is far away


class Lenses:
    """Questions and instruments of two round lenses."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        words = ("Measure the lenses by what both see", "Looking at what both see…")
        self.measuring = Measuring(desk, "rig", Rigged, words, self._measured)
        self.button = self.measuring.button
        self.cards = Pick([])
        self.cards.chosen.connect(self._take_card)
        self.forget = act("Forget what was found", self._forget, False)
        self.stand = Question("How do the two lenses stand?", self.button, self.cards, self.forget)
        self.across = Number(ROUND_ACROSS, 1.0, 60.0, 280.0, 1)
        self.across.drafted.connect(lambda v: desk.draft("shape", across=v))
        self.sees = Question("How far does each lens see?", Numbers(("degrees across", self.across)))
        self.distance = Number(FAR, 0.1, 0.1, FAR, 1)
        self.distance.drafted.connect(lambda v: desk.draft("join", distance=None if v >= FAR else v))
        self.base = Number(3.0, 0.1, 0.1, 200.0, 1)
        self.distance.setPlaceholderText("far away")
        self.base.setPlaceholderText("not measured")
        self.base.drafted.connect(lambda v: desk.draft("join", base=v / 100))
        self.far = act("Let them meet far away", lambda: desk.answer("join", distance=None), False)
        self.near = Question("At what distance do they meet?", Numbers(("metres", self.distance), ("lenses apart, cm", self.base)), self.far)
        self.blend = Number(3.0, 0.5, 1.0, 20.0, 1)
        self.blend.drafted.connect(lambda v: desk.draft("join", blend=v))
        self.meet = Question("How wide do they pass into each other?", Numbers(("degrees", self.blend)))
        self.laid = Choice([("as recorded", "recorded"), ("whole sphere", "sphere")])
        self.laid.chosen.connect(lambda v: desk.answer("join", laid=v))
        self.lies = Question("How is it laid out?", self.laid)
        for number in (self.across, self.distance, self.base, self.blend):
            number.settled.connect(lambda _: desk.commit())
        self.ring = Ring()
        self.questions: list[QWidget] = [self.stand, self.sees, self.near, self.meet, self.lies]
        self.instruments: list[Plot] = [self.ring]

    def _measured(self, shot: Shot, found: Rigged) -> None:
        self.desk.answer("join", **rig.answers(found), rig=None)

    def _take_card(self, name: object) -> None:
        try:
            self.desk.answer("join", **rig.by_card(find("rigs", str(name), RigCard), str(name)), met=[])
        except AdzerError as fault:
            self.desk.said.emit(str(fault))

    def _forget(self) -> None:
        plain = JoinSettings()
        kept = {k: to_plain(getattr(plain, k)) for k in ("turn", "gain", "black", "falls", "error", "lenses", "rig", "met")}
        self.desk.answer("join", **kept)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        two, settings = walked.draft.rig is not None, walked.route.join
        for card in (*self.questions, *self.instruments):
            card.setVisible(two)
        if not two:
            return
        found: Rigged | None = self.measuring.found(shot)
        lenses = settings.lenses
        across = lenses[0].across if lenses is not None else walked.route.shape.across or ROUND_ACROSS
        self.sees.setVisible(lenses is None)
        self.across.set_value(across)
        overlap = across - 180
        self.sees.say(
            f"Both see {overlap:.0f}° of the same all round: there they are matched, and meet." if overlap > 0
            else "So they do not overlap. Leave it, and measure: how far they see is tried out then. Most pairs see 190° to 210°."
        )  # fmt: skip
        known = sorted(paths("rigs"))
        self.cards.setVisible(bool(known))
        self.cards.set_answers([(f"use the rig card {n}", n) for n in known], settings.rig)
        self.forget.setVisible(settings.error is not None)
        self._say_stand(settings, found)
        self._say_near(settings, found, walked)
        self.blend.set_value(settings.blend)
        along = ""
        if found is not None and found.along is not None and settings.met:
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
            self.stand.say("Nobody has measured it: they are taken as exactly back to back, and alike in light. No pair is.")
            return
        heading, tilt, roll = (f"{v:+.2f}°".replace("-", "−") for v in settings.turn)
        red, green, blue = (f"{g:.2f}" for g in settings.gain)
        words = (
            f"The second holds things {heading} to the side, {tilt} higher and {roll} rolled from where it would if it stood exactly "
            f"opposite, ±\u00a0{settings.error:.2f}° where both see; its red, green and blue are taken {red}, {green} and {blue} times."
        )
        if settings.rig is not None:
            words = f"By the rig card {settings.rig}. {words}"
        elif found is not None and found.errors and settings.lenses is not None:
            worst = max(found.errors, key=lambda e: e.degrees)
            words += f" Fitted, they agree to {worst.degrees:.3f}°, {worst.pixels:.1f} recorded pixels, where they agree least."
        self.stand.say(words)

    def _say_near(self, settings: JoinSettings, found: Rigged | None, walked: Walk) -> None:
        base = settings.base
        for number, value, usual in ((self.distance, settings.distance, FAR), (self.base, base and base * 100, 3.0)):
            number.set_value(value or usual)
            if value is None and not number.hasFocus():
                number.clear()  # nobody has said it: a drag or a step begins from what is usual
        self.far.setVisible(settings.distance is not None)
        wide = walked["shape"].after.raster[0] if walked.draft.rig is not None and walked.draft.rig.whole else 3840
        apart = float(np.degrees(base / settings.distance)) if base and settings.distance else 0.0
        tears: list[tuple[float, float]] = []
        if found is not None:
            tears = [(n.turned, (n.apart - apart) / 360 * wide) for n in found.near]
        self.ring.show_ring(tears, settings.met[0].seam if settings.met else (), wide)
        words = "They meet far away." if not apart else f"What is {settings.distance:.1f} m away meets."
        if tears:
            worst = float(np.quantile(np.abs([t for _, t in tears]), 0.95))
            words += f" Elsewhere the seam tears by up to {worst:.0f} of {wide} pixels on this shot."
        if found is not None and found.ground and base is None:
            words += f" The ground below stands {found.ground:.2f}° apart: {1.6 * np.radians(found.ground) * 100:.1f} cm, if it lies 1.6 m below."
        self.near.say(words, "Measure the distance of the lenses with a ruler, from front glass to front glass.")
