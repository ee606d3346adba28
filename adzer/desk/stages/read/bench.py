"""Read: what is this picture? What the file says, what the footage says, what the person declares."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QHBoxLayout, QWidget

from ....core import cards
from ....core.cards import DeliveryCard, PlayerCard
from ....core.deliver.advise import estimate, size_text, time_text
from ....core.errors import UnreadableError
from ....core.intake.proxies import stand_in
from ....core.job import Shot
from ....core.light import names as colour_cards
from ....core.picture import Picture
from ....core.plan import Panel
from ....core.read import advise, play
from ....core.read.advise import rate_text
from ....core.read.check import DAMAGE
from ....core.read.measure import DOMAIN
from ....core.read.seen import Seen
from ....core.read.settings import ReadSettings
from ....core.route import Walk
from ....core.run.service import Reply
from ....core.space.looks import AxisLook
from ...model import Desk
from ...reading import Reading
from ...theme import font
from ...widgets.plots import Histogram, Table
from ...widgets.questions import Choice, Pick, Question, act
from ...words import curve_answers
from ..base import StageBench
from .plots import FormPlot, Trace

FIELDS = (
    "curve", "primaries", "range", "projection", "coverage", "eyes", "packing", "first", "raster", "bits", "chroma", "rate",
    "timecode", "frames", "matrix", "mosaic", "turn", "siting",
)  # fmt: skip
SITINGS = (
    ("left, between lines", "left"), ("in the middle of four", "center"), ("on the first of four", "topleft"),
    ("on the first line, between", "top"), ("left, on the second line", "bottomleft"), ("on the second line, between", "bottom"),
)  # fmt: skip


def _surely(evidence: str) -> int:
    """How sure a field is, by its evidence: the weakest come first."""
    for n, word in enumerate(("not tagged", "not known", "guessed", "seen", "nothing says", "tagged", "stated", "declared")):
        if evidence.startswith(word):
            return n
    return 9


# Which question a finding leaves open; of others it is the field that their mend would answer.
ASKED = {
    "curve-unknown": "curve", "log-tagged-display": "curve", "already-transformed": "applied", "variable-rate": "timing", "no-rate": "timing",
    "rate-differs": "timing", "rate-out-of-range": "timing", "first-eye-unknown": "first", "range-contradicts": "range",
    "range-untagged": "range", "turn-unsure": "turn", "projection-asked": "projection", "eyes-asked": "eyes",
    "projection-unsure": "projection", "eyes-unsure": "eyes", "proxy-asked": "master", "master-to-come": "master",
}  # fmt: skip


class ReadBench(StageBench):
    stage = "read"
    marks = True
    hint = "Q as recorded · W wipe · { in · } out · J mark · C same for this camera · P proxy · M proxies or masters"

    def __init__(self, desk: Desk, reading: Reading) -> None:
        self.reading = reading
        self._marks: NDArray[np.int8] | None = None
        self._panel: Panel | None = None  # where places of the recording lie is only drawn while axes stay axes
        self._delivered = self._raster = (1, 1)
        super().__init__(desk)

    def build(self) -> None:
        desk = self.desk

        def ask(title: str, control: Choice | Pick, field: str) -> Question:
            control.chosen.connect(lambda v: desk.answer("read", **{field: v}))
            return Question(title, control)

        self.together = Question(
            "Do these files belong together?",
            _row(
                act("They are one", lambda: self._doubt(True)),
                act("Keep apart", lambda: self._doubt(False), main=False),
            ),
        )
        self.curve, self.primaries = Pick([]), Pick([])
        self.curve_card = ask("What did the camera encode?", self.curve, "curve")
        self.applied = Choice([("as found", None), ("nothing", "nothing"), ("yes, display", "display")])
        self.applied_card = ask("Is anything already applied?", self.applied, "applied")
        self.primaries_card = ask("Which primaries did it use?", self.primaries, "primaries")
        self.range = Choice([("as found", None), ("limited", "limited"), ("full", "full")])
        self.range_card = ask("Where do black and white lie?", self.range, "range")
        self.form = Pick([
            ("as found", None), ("a flat picture", "flat"), ("a sphere, unrolled", "equirectangular"), ("round lenses", "fisheye"),
        ])  # fmt: skip
        self.cover = Choice([("as found", None), ("360°", "360"), ("180°", "180")])
        self.cover.chosen.connect(lambda v: desk.answer("read", coverage=v))
        self.form_card = Question("What does one picture show?", self.form, self.cover)
        self.form.chosen.connect(lambda v: desk.answer("read", projection=v))
        self.eyes = Pick(
            [
                ("as found", None),
                ("one eye", "one"),
                ("two, side by side", "side by side"),
                ("two, over under", "over under"),
            ]
        )
        self.packing = Choice([("as found", None), ("full", "full"), ("half", "half")])
        self.packing.chosen.connect(lambda v: desk.answer("read", packing=v))
        self.eyes_card = Question("How many eyes are in it?", self.eyes, self.packing)
        self.eyes.chosen.connect(lambda v: desk.answer("read", eyes=v))
        self.first = Choice([("as found", None), ("left", "left"), ("right", "right")])
        self.first_card = ask("Which eye is first?", self.first, "first")
        self.turn = Choice([("as found", None), ("0°", 0), ("90°", 90), ("180°", 180), ("270°", 270)])
        self.turn_card = ask("Which way up was it held?", self.turn, "turn")
        self.siting = Pick([("as found", None), *SITINGS])
        self.siting_card = ask("Where does chroma lie?", self.siting, "siting")
        self.timing = Choice([("as recorded", "recorded"), ("even, job's rate", "even")])
        self.timing.chosen.connect(self._retime)
        self.timing_card = Question("What rhythm shall it have?", self.timing)
        self.master = Choice([("the recording itself", "here"), ("a proxy, its master is to come", "to come")])
        self.master_card = ask("Is it what is delivered?", self.master, "master")
        self.damage = Choice([("stop there", "stop"), ("use as decoded", "use")])
        self.damage_card = ask("What about damaged frames?", self.damage, "damage")
        self.fields = Choice([("ask", None), ("one field", "one"), ("both, combed", "both")])
        self.fields_card = ask("Which lines of interlaced frames?", self.fields, "fields")
        self.measure = act("Measure each", self._measure_copies, main=False)
        self.play_card = Question(
            "Will this machine play it?",
            _row(
                act("Proxy, half", lambda: self._copy("proxy", "half")),
                act("quarter", lambda: self._copy("proxy", "quarter"), False),
            ),
            _row(act("Intermediate", lambda: self._copy("intermediate", "full"), False), self.measure),
        )
        self.questions = [
            self.together, self.master_card, self.damage_card, self.fields_card, self.curve_card, self.applied_card, self.form_card, self.eyes_card,
            self.first_card, self.play_card,
            self.turn_card, self.timing_card, self.primaries_card, self.range_card, self.siting_card,
        ]  # fmt: skip
        self.facts = Table("What this picture is, and how it is known", (0.14, 0.16, 0.7), 6)
        self.levels = Histogram("Levels", 2)
        self.forms = FormPlot()
        self.gaps = Trace("Between frames, ms", 2)
        self._gaps_of = ""
        self.instruments = [self.facts, self.levels, self.forms, self.gaps]

    def _doubt(self, together: bool) -> None:
        if self.desk.shot is not None:
            self.reading.answer_doubt(self.desk.shot, together)

    def _copy(self, card: str, size: str) -> None:
        self.reading.make_copies(card, size)

    def _measure_copies(self) -> None:
        for card, size in (("proxy", "half"), ("proxy", "quarter"), ("intermediate", "full")):
            self.reading.measure_copy(card, size)

    def _retime(self, how: str) -> None:
        rate = str(self.desk.job_rate) if how == "even" else None
        self.desk.answer("read", timing=how, even_rate=rate)

    # --- answers ---------------------------------------------------------------------------------------------------
    def refresh(self, shot: Shot, walked: Walk) -> None:
        route, facts, stop = walked.route, shot.facts, walked["read"]
        seen, evidence = self.desk.seen(shot), stop.result.evidence
        self.together.setVisible(bool(shot.doubts))
        if shot.doubts:
            self.together.say(shot.doubts[0].ask)
        look = advise.look(seen) if seen else None
        self.curve.set_answers(curve_answers(facts.curve), route.read.curve)
        self.curve_card.say(_sentence(evidence.get("curve", "")))
        self.applied.set_value(route.read.applied)
        self.applied_card.say(_applied(stop.after.curve, facts.bits, look))
        tag = colour_cards.primaries_title(facts.primaries) if facts.primaries else None
        answers: list[tuple[str, str | None]] = [(f"as tagged: {tag}" if tag else "not declared", None)]
        answers += [(colour_cards.primaries_title(n), n) for n in colour_cards.primaries_names()]
        self.primaries.set_answers(answers, route.read.primaries)
        found = colour_cards.primaries_title(stop.after.primaries)
        self.primaries_card.say(f"Taken as {found}: {evidence.get('primaries', '')}.")
        self.range.set_value(route.read.range)
        self.range_card.say(f"Read as {stop.after.range}: {evidence.get('range', '')}.")
        self._say_form(stop.after, route.read, evidence)
        self.turn.set_value(route.read.turn)
        turned = f"turned by {stop.after.turn}° clockwise" if stop.after.turn else "as it was recorded"
        self.turn_card.say(f"It is shown {turned}: {evidence.get('turn', '')}.")
        self.siting.set_value(route.read.siting)
        self.siting_card.setVisible(stop.after.siting is not None)
        named = {v: k for k, v in SITINGS}.get(stop.after.siting or "", "?")
        self.siting_card.say(
            f"Taken as {named}: {evidence.get('siting', '')}.", "Half a pixel off, colours leave a fringe at every edge."
        )
        self.master.set_value(route.read.master)
        waits = route.read.master == "to come"
        self.master_card.say(
            "Until its master is linked nothing is delivered of it; relink the job from the master's folder, and all answers stay."
            if waits else "Taken as the recording itself."
        )
        self.timing.set_value(route.read.timing)
        self._say_timing(shot, walked)
        self._say_frames(shot, route.read, seen)
        self._say_play(shot, seen)
        self._settle(shot, walked)
        self._show_plots(shot, walked, seen)
        self._panel = next((p for p in walked.draft.panels if p.on_axes), None)
        self._delivered, self._raster = walked.draft.raster, facts.raster
        if seen is not None and seen.play is None and not facts.mosaic:
            self.reading.measure_playing(shot)

    def _settle(self, shot: Shot, walked: Walk) -> None:
        """Folds every question that nothing speaks against to a line with its answer."""
        picture, read = walked["read"].after, walked.route.read
        speaking = [f for f in walked["read"].findings if f.level.weight or f.code in ASKED]
        offered = [f.fix.answers if f.fix and f.fix.stage == "read" else {} for f in speaking]
        asked = {name for f, answers in zip(speaking, offered, strict=True) for name in ([ASKED[f.code]] if f.code in ASKED else answers)}
        how = {name: "declared" if getattr(read, name) is not None else "" for name in ("curve", "primaries", "range", "turn", "siting")}
        sited = {v: k for k, v in SITINGS}.get(picture.siting or "", "?")
        shows = {"flat": "a flat picture", "equirectangular": "a sphere", "fisheye": "round lenses"}
        answers = (
            (self.master_card, "master", {"to come": "a proxy"}.get(read.master or "", "yes"), ""),
            (self.curve_card, "curve", colour_cards.title(picture.curve) if picture.curve else "", how["curve"]),
            (self.applied_card, "applied", {"nothing": "no", "display": "yes, display"}.get(read.applied or "", "no"), ""),
            (self.primaries_card, "primaries", colour_cards.primaries_title(picture.primaries), how["primaries"]),
            (self.range_card, "range", picture.range or "", how["range"]),
            (self.form_card, "projection", shows.get(picture.projection or "", ""), ""),
            (self.eyes_card, "eyes", {"one": "one"}.get(picture.eyes or "", picture.eyes or ""), ""),
            (self.first_card, "first", f"the {picture.first}" if picture.first else "", ""),
            (self.turn_card, "turn", f"{picture.turn}°", how["turn"]),
            (self.siting_card, "siting", sited, how["siting"]),
            (self.timing_card, "timing", rate_text(picture.rate) if shot.facts.constant_rate or read.timing == "even" else "", ""),
        )
        for card, field, answer, by in answers:
            card.settle("" if field in asked or not answer else ", ".join(v for v in (answer, by) if v))

    def _say_form(self, picture: Picture, settings: ReadSettings, evidence: dict[str, str]) -> None:
        self.form.set_value(settings.projection)
        self.cover.set_value(settings.coverage)
        self.cover.setVisible(picture.projection != "flat")
        name = {"flat": "a flat picture", "equirectangular": "an unrolled sphere", "fisheye": "round lenses"}.get(
            picture.projection or "", "?"
        )
        covers = f", {picture.coverage}°" if picture.coverage else ""
        self.form_card.say(f"Taken as {name}{covers}: {evidence.get('projection', '')}.")
        self.eyes.set_value(settings.eyes)
        two = picture.eyes not in (None, "one")
        self.packing.setVisible(two)
        self.packing.set_value(settings.packing)
        packed = f", {picture.packing}" if picture.packing else ""
        self.eyes_card.say(f"Taken as {picture.eyes}{packed}: {evidence.get('eyes', '')}.")
        self.first_card.setVisible(two)
        self.first.set_value(settings.first)
        where = "on the left" if picture.eyes == "side by side" else "above"
        self.first_card.say(
            f"The {picture.first or '?'} eye is taken to be {where}: {evidence.get('first', '')}.",
            "Check by hand: near things lie further right in the left eye's picture.",
        )

    def _say_timing(self, shot: Shot, walked: Walk) -> None:
        facts, job_rate = shot.facts, self.desk.job_rate
        text = _sentence(walked["read"].result.evidence.get("constant_rate", ""))
        ratio = job_rate / facts.rate if facts.rate else None
        if ratio and facts.constant_rate:
            text += f" It runs at {rate_text(facts.rate)}, the job at {rate_text(job_rate)}"
            text += "." if ratio == 1 else f": {advise.conform_text(facts.rate or job_rate, job_rate, facts.duration)}."
        others = (
            "Others keep each frame's own time, for places that play any rhythm."
            if walked.route.read.timing == "even"
            else ""
        )
        if not facts.constant_rate and walked.route.read.timing == "recorded":
            others = "Others make it even, so that it stays in sync in any editing program."
        self.timing_card.say(text, others)

    def _say_frames(self, shot: Shot, settings: ReadSettings, seen: Seen | None) -> None:
        """Of frames that decode with errors, and of interlaced ones; hidden where there are none."""
        hurt = DAMAGE in self.desk.found(shot)
        self.damage_card.setVisible(hurt or settings.damage != "stop")
        self.damage.set_value(settings.damage)
        self.damage_card.say(
            "A copy of the file from the card may be whole.", "Others use what the decoder makes of them, and say so with the master."
        )
        combed = seen is not None and seen.rhythm is not None and seen.rhythm.interlaced and not shot.facts.mosaic
        self.fields_card.setVisible(shot.facts.interlaced or combed or settings.fields is not None)
        self.fields.set_value(settings.fields)
        self.fields_card.say("The lines of a frame belong to two moments. One field has half the lines, and no combs.",
                             "Others keep both, for places that play interlaced pictures.")  # fmt: skip

    def _say_play(self, shot: Shot, seen: Seen | None) -> None:
        facts, words = shot.facts, []
        if seen and seen.play:
            verdict = "It keeps up" if seen.play.keeps_up(facts.rate) else "It does not keep up"
            words.append(
                f"{verdict}: {seen.play.rate:.0f} frames a second decoded against {rate_text(facts.rate)}; "
                f"a jump takes {seen.play.seek_ms:.0f} ms."
            )
        else:
            words.append("Measuring…")
        for name in cards.paths("players"):
            try:
                card = cards.find("players", name, PlayerCard)
            except UnreadableError:
                continue
            why = play.judge(facts, card)
            words.append(
                f"{card.title[:1].upper()}{card.title[1:]}: " + (f"not in hardware, {why}." if why else "in hardware.")
            )
        if (part := stand_in(shot)) is not None and part.facts is not None:
            look = {"look": "it carries a look", "same": "it looks like its master"}.get(
                part.look or "", "not compared yet"
            )
            words.append(f"Linked: {part.facts.name}, {part.facts.raster[0]}×{part.facts.raster[1]}, {look}.")
        costs = []
        for trial in shot.trials:
            if ", " in trial.card:
                size, time = estimate(trial, shot.facts.frames)
                costs.append(f"{trial.card}: {size_text(size)} in {time_text(time)}")
        why = cards.find("copies", "proxy", DeliveryCard).others
        self.play_card.say("\n".join(words), "; ".join(costs) + "." if costs else why)

    # --- plots -----------------------------------------------------------------------------------------------------
    def _show_plots(self, shot: Shot, walked: Walk, seen: Seen | None) -> None:
        evidence, after = walked["read"].result.evidence, walked["read"].after
        picture, rows = after.as_json(), []
        for field in FIELDS:
            value = picture[field]
            if field in ("coverage", "packing", "first", "mosaic") and value in (None, "none"):
                continue
            words = "unknown" if value is None else str(value)
            if field == "raster":
                words = f"{value[0]}×{value[1]}"
            elif field == "rate":
                words = rate_text(after.rate)
            elif field == "curve":
                words = colour_cards.title(value)
            rows.append((field, words, evidence.get(field, "")))
        rows.sort(key=lambda row: _surely(row[2]))
        self.facts.show_rows(rows, shot.facts.path.rsplit("/", 1)[-1])
        if seen is not None:
            marks: list[tuple[float, str]] = []
            name = after.curve
            if name and not shot.facts.mosaic:
                try:
                    held = colour_cards.facts(colour_cards.curve(name, shot.facts.bits))
                    marks = [
                        (held.black, "black"),
                        (held.grey, "grey"),
                        (held.white, "white"),
                    ]
                except UnreadableError:
                    marks = []
            note = f"{len(seen.levels.sampled)} frames"
            self.levels.show_shares(np.array(seen.levels.luma), *DOMAIN, marks, note)
        self.forms.show_seen(seen, after)
        self.forms.setVisible(self.forms.has_something)
        self._show_gaps(shot)

    def _show_gaps(self, shot: Shot) -> None:
        """Asks for the file's time stamps once a shot."""
        if self._gaps_of == shot.facts.fingerprint:
            return
        self._gaps_of = shot.facts.fingerprint
        self.gaps.show_values(np.zeros(0))

        def then(value: object, error: str | None) -> None:
            if error is None and self._gaps_of == shot.facts.fingerprint:
                self.gaps.show_values(np.asarray(value), "even" if shot.facts.constant_rate else "varies")

        self.desk.worker.chore("gaps", (shot.facts,), then)

    # --- on the picture --------------------------------------------------------------------------------------------
    def pictured(self, reply: Reply) -> None:
        self._marks = reply.marks

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        """Hatching where the recording is at the end of its levels; the discs of round lenses; which half is which eye."""
        shot, panel = self.desk.shot, self._panel
        if shot is None or panel is None or not isinstance(look := panel.look, AxisLook):
            return
        sx, sy = rect.width() / self._delivered[0], rect.height() / self._delivered[1]

        def place(x: float, y: float) -> QPointF:
            """Where a recorded pixel lies in the widget."""
            px = (x - float(look.offset[0])) / float(look.scale[0]) + panel.place[0]
            py = (y - float(look.offset[1])) / float(look.scale[1]) + panel.place[1]
            return QPointF(rect.left() + px * sx, rect.top() + py * sy)

        painter.setClipRect(rect)
        if self._marks is not None:
            rows, columns = self._marks.shape
            cell_w, cell_h = self._raster[0] / columns, self._raster[1] / rows
            for end, colour in ((1, QColor(180, 112, 30)), (-1, QColor(79, 100, 120))):
                painter.setPen(QPen(colour, 1.2))
                for y, x in np.argwhere(self._marks == end).tolist():
                    painter.drawLine(place(x * cell_w, (y + 1) * cell_h), place((x + 1) * cell_w, y * cell_h))
        seen, after = self.desk.seen(shot), self.desk.walk(shot)["read"].after
        painter.setPen(QPen(QColor(255, 255, 255, 200), 1.2))
        if seen is not None and after.projection == "fisheye":
            for disc in seen.discs:
                a, b = (
                    place(disc.x - disc.radius, disc.y - disc.radius),
                    place(disc.x + disc.radius, disc.y + disc.radius),
                )
                painter.drawEllipse(QRectF(a, b))
        if after.eyes not in (None, "one"):
            w, h = float(self._raster[0]), float(self._raster[1])
            beside = after.eyes == "side by side"
            middle = (w / 2, 0.0, w / 2, float(h)) if beside else (0.0, h / 2, float(w), h / 2)
            painter.drawLine(place(middle[0], middle[1]), place(middle[2], middle[3]))
            painter.setFont(font(10, bold=True))
            second = {"left": "right", "right": "left"}.get(after.first or "", "?")
            other = place(w / 2, 0.0) if beside else place(0.0, h / 2)
            for words, corner in ((after.first or "?", place(0.0, 0.0)), (second, other)):
                painter.drawText(corner + QPointF(12, 22), f"{words} eye")


def _row(*widgets: QWidget) -> QWidget:
    held = QWidget()
    row = QHBoxLayout(held)
    row.setContentsMargins(0, 0, 0, 0)
    row.setSpacing(5)
    for widget in widgets:
        row.addWidget(widget)
    return held


def _applied(curve: str | None, bits: int, look: advise.Look | None) -> str:
    """What the footage says about a transform that was applied before it came here."""
    if look is None or look.kind is None:
        return "The footage does not tell."
    held = advise.kind_of(curve, bits)
    sure = "" if look.sure else ", though not for sure"
    if held == "log" and look.kind == "display":
        return f"It seems so{sure}: {curve} is held to be log, but it looks finished."
    if look.kind == "display":
        return f"It looks like a finished display picture{sure}; nothing more is to be undone."
    return f"It looks untouched{sure}: still {look.kind}."


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + ("." if text and not text.endswith(".") else "")
