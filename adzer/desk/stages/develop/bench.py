"""The Develop bench: what was white, how bright, what is gone; and noise, before and after, close to."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ....core.develop import camera, measure, noise, values
from ....core.develop.measure import Held
from ....core.develop.noise import Noise, Seen
from ....core.develop.step import BLOCKED, STEPPED
from ....core.job import Shot
from ....core.light import names as colour_cards
from ....core.media.clock import clock_of
from ....core.records import to_plain
from ....core.route import Walk
from ....core.run.developing import Close, Range, Taken, best, either
from ....core.run.service import Reply
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ..base import StageBench
from ..measuring import Measuring
from .plots import ByLevel, Levels, Lights, Loupe, Off

LESS, MORE = 0.7, 1.3  # times what was measured


PINNED = 2  # places that are kept beside the one in hand


class DevelopBench(StageBench):
    stage = "develop"
    marks = True
    hint = "drag on the picture: where to look close to · Q as recorded · W wipe · ^D same as the row above"

    def __init__(self, desk: Desk) -> None:
        self._tried: dict[str, tuple[Taken, ...]] = {}
        self._trying: set[str] = set()
        self._seen: tuple[object, Seen | None] = (None, None)
        self._asked: object = None
        self._busy = self._picking = False
        self._toning: int | None = None  # the shot on which a tone is to be clicked
        self._at: dict[int, tuple[float, float]] = {}  # where it is looked close to, in shares of the recorded picture
        self._pins: dict[int, list[tuple[float, float]]] = {}  # and where else, at the same time
        self._gone: np.ndarray[tuple[int, ...], np.dtype[np.int8]] | None = None
        super().__init__(desk)

    def build(self) -> None:
        desk = self.desk
        self.measuring = Measuring(desk, "noise", Noise, ("Measure its noise", "Comparing its frames…"), self._measured)
        self.much = Choice([("no", None), ("less", LESS), ("as measured", "best"), ("more", MORE)])
        self.much.chosen.connect(self._clean)
        self.luma, self.colour = Number(1, 0.01, 0, 4), Number(1, 0.01, 0, 4)
        self.detail = Number(0, 0.01, 0, 1)
        for name, field in (("clean", self.luma), ("colour", self.colour), ("detail", self.detail)):
            field.settled.connect(lambda v, n=name: self._amount(n, v))
        self.even = Choice([("as they are", False), ("made even", True)])
        self.even.chosen.connect(lambda v: desk.answer("develop", even=v))
        self.even_card = Question("Steps of its codes, in smooth parts?", self.even)
        self.amounts = Numbers(("luma", self.luma), ("colour", self.colour), ("detail back", self.detail))
        self.smoother = Choice([("all alike", None), ("a tone smoother", "tone")])
        self.smoother.chosen.connect(self._smoothed)
        self.noise_card = Question("Does it need cleaning?", self.measuring.button, self.much, self.amounts, self.smoother)
        self.zoom = Choice([(f"{k}:1", k) for k in (1, 2, 4, 8)], 2)
        self.zoom.chosen.connect(self._zoomed)
        self.worst = Choice([("worst", 0), ("second", 1), ("third", 2)])
        self.worst.chosen.connect(self._to_worst)
        self.pin, self.unpin = act("Keep this place beside others", self._pin, False), act("Let go of what is kept", self._unpin, False)
        self.loupe_card = Question("Where to look, and how close?", self.zoom, self.worst, self.pin, self.unpin)
        self.white = Choice([("as shot", "as shot"), ("a light", "light"), ("a patch", "patch")])
        self.white.chosen.connect(self._whitened)
        self.kelvin, self.tint = Number(5600, 25, *camera.KELVIN, 0), Number(0, 0.2, *camera.TINT, 1, sign=True)
        for name, field in (("kelvin", self.kelvin), ("tint", self.tint)):
            field.drafted.connect(lambda v, n=name: self._lit(n, v))
            field.settled.connect(lambda _: desk.commit())
        self.lights = Lights()
        self.lights.picked.connect(self._picked)
        self.white_card = Question("What was white?", self.white, self.lights, Numbers(("light, K", self.kelvin), ("tint", self.tint)))
        self.exposure = Number(0, 0.02, -8, 8, 2, sign=True)
        self.exposure.drafted.connect(lambda v: desk.draft("develop", exposure=v))
        self.exposure.settled.connect(lambda _: desk.commit())
        self.bright_card = Question("How bright?", self.exposure)
        self.looking = Measuring(desk, "values", Held, ("Look at its values", "Looking at its values…"), lambda *_: None)
        self.gone = Choice([("white", "neutral"), ("rebuild", "rebuild"), ("as it is", "as is")])
        self.gone.chosen.connect(lambda v: desk.answer("develop", highlights=v))
        self.gone_card = Question("What is gone, and what then?", self.looking.button, self.gone)
        self.into = Pick([])
        self.into.chosen.connect(self._into)
        self.into_card = Question("Light, or a log curve?", self.into)
        self.order = Choice([("as said", None), *((name.upper(), name) for name in ("rggb", "bggr", "grbg", "gbrg"))], None)
        self.order.chosen.connect(lambda v: desk.answer("develop", order=v))
        self.order_card = Question("Under which colour filter?", self.order)
        self.ranging = Measuring(desk, "range", Range, ("Measure its range", "Measuring its range…"), lambda *_: None)
        self.either_card = Question("RAW or log?", self.ranging.button)
        self.of_values = [self.white_card, self.bright_card, self.gone_card, self.into_card]
        self.questions = [self.noise_card, *self.of_values, self.order_card, self.even_card, self.either_card, self.loupe_card]
        self.loupe, self.levels, self.by_level, self.off = Loupe(), Levels(), ByLevel(), Off()
        self.over = Lines("Gone over the take", "%", 2)
        self.instruments = [self.loupe, self.by_level, self.off, self.levels, self.over]

    # --- answers --------------------------------------------------------------------------------------------------
    def _measured(self, shot: Shot, found: Noise) -> None:
        """Tries how much may be taken off."""
        self._trying.add(shot.facts.fingerprint)
        route = self.desk.route_of(shot).with_("develop", noise=to_plain(found.grain), clean=1.0)

        def tried(made: tuple[Taken, ...] | None, error: str | None) -> None:
            if made is None:
                self.desk.said.emit(error or "It could not be tried.")
                return
            self._tried[shot.facts.fingerprint] = made
            self.desk.moved.emit()
            self._again(shot)

        self.desk.worker.chore("taken", (shot.facts, route), tried)

    def _clean(self, amount: object) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        if amount is None:
            self.desk.answer("develop", clean=None, colour=None)
            return
        found = noise.found(self.desk.found(shot))
        if found is None:
            self.desk.said.emit("Its noise has to be measured first: one amount never fits two clips.")
            self.much.set_value(None)
            return
        wanted = self._best(shot) * (1.0 if amount == "best" else float(str(amount)))
        self.desk.answer("develop", noise=to_plain(found.grain), clean=round(wanted, 3), colour=None)

    def _smoothed(self, how: object) -> None:
        shot = self.desk.shot
        self._toning = shot.id if shot is not None and how == "tone" else None
        if shot is not None and how is None:
            self._smooth(shot, None)
        else:
            self.desk.said.emit("Click what is to be smooth on the picture: skin, in even light.")

    def _amount(self, name: str, value: float) -> None:
        """A number of its own, by the noise that was measured on this very shot."""
        shot = self.desk.shot
        found = noise.found(self.desk.found(shot)) if shot is not None else None
        if found is not None:
            self.desk.answer("develop", noise=to_plain(found.grain), **{name: value})

    def _best(self, shot: Shot) -> float:
        tried = self._tried.get(shot.facts.fingerprint)
        return best(tried) if tried else 1.0

    def _whitened(self, how: object) -> None:
        shot = self.desk.shot
        if shot is None or (sensor := values.sensor_of(shot.facts, self.desk.route_of(shot).develop)) is None:
            return
        self._picking = how == "patch"
        if how == "patch":
            self.desk.said.emit("Click something neutral on the picture: a grey card, white paint, a road.")
            return
        changes: dict[str, object] = {"white": how}
        if how == "light":
            neutral = values.neutral_of(sensor, self.desk.route_of(shot).develop)
            kelvin, tint = camera.correlated(camera.white_of(sensor, neutral))
            changes |= {"kelvin": round(kelvin), "tint": round(tint, 1)}
        self.desk.answer("develop", **changes)

    def _lit(self, name: str, value: float) -> None:
        other = {"kelvin": self.kelvin.value, "tint": self.tint.value} | {name: value}
        self.desk.draft("develop", white="light", **other)

    def _picked(self, kelvin: float, tint: float, done: bool) -> None:
        self.desk.draft("develop", white="light", kelvin=kelvin, tint=tint)
        if done:
            self.desk.commit()

    def _into(self, name: object) -> None:
        curve = str(name)
        primaries = "ap1" if curve == "light" else colour_cards.paired_primaries(curve) or "ap1"
        self.desk.answer("develop", into=curve, primaries=primaries)

    @property
    def tried(self) -> tuple[Taken, ...]:
        """What several amounts would take off the shot in hand."""
        shot = self.desk.shot
        return self._tried.get(shot.facts.fingerprint, ()) if shot is not None else ()

    def look_at(self, x: float, y: float) -> None:
        """Close to, about a place in shares of the recorded picture."""
        if self.desk.shot is not None:
            self._at[self.desk.shot.id] = x, y
            self._ask()
            self.desk.moved.emit()

    # --- the loupe ------------------------------------------------------------------------------------------------
    def _zoomed(self, zoom: object) -> None:
        self.loupe.zoom = int(str(zoom))
        self._ask()

    def _pin(self) -> None:
        if (shot := self.desk.shot) is not None:
            kept = self._pins.setdefault(shot.id, [])
            kept[:] = [*kept, self._at.get(shot.id, (0.5, 0.5))][-PINNED:]
            self.refresh(shot, self.desk.walk(shot))

    def _unpin(self) -> None:
        if (shot := self.desk.shot) is not None:
            self._pins.pop(shot.id, None)
            self.refresh(shot, self.desk.walk(shot))

    def _to_worst(self, which: object) -> None:
        shot = self.desk.shot
        held = noise.found(self.desk.found(shot)) if shot is not None else None
        n = int(str(which))
        if shot is None or held is None or n >= len(held.worst):
            self.desk.said.emit("Where its noise is worst is known once it was measured.")
            return
        frame, (x, y, w, h) = held.worst[n]
        self.desk.go_to(frame)
        self.look_at((x + w / 2) / shot.facts.raster[0], (y + h / 2) / shot.facts.raster[1])

    def dragged(self, place: QPointF, done: bool) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        walked = self.desk.walk(shot)
        panels, draft = walked.draft.panels, walked.draft
        if not panels:
            return
        panel, (w, h) = panels[0], draft.raster
        x, y = place.x() * w - panel.place[0], place.y() * h - panel.place[1]
        recorded = panel.recorded(np.array(x), np.array(y), 0.0)
        width, height = draft.inputs[0].raster
        at = float(np.clip(recorded[..., 0], 0, width)), float(np.clip(recorded[..., 1], 0, height))
        if self._toning == shot.id and done:
            self._toning = None
            self._tone(shot, at)
            return
        if self._picking and done:
            self._picking = False
            self._neutral(shot, at)
            return
        self.look_at(at[0] / width, at[1] / height)

    def _smooth(self, shot: Shot, tone: tuple[float, float, float] | None) -> None:
        """What it costs is tried anew."""
        self._tried.pop(shot.facts.fingerprint, None)
        self._trying.discard(shot.facts.fingerprint)
        self.desk.answer("develop", smooth=None if tone is None else list(tone))

    def _tone(self, shot: Shot, at: tuple[float, float]) -> None:
        def then(found: tuple[float, float, float] | None, error: str | None) -> None:
            if found is None:
                self.desk.said.emit(error or "It could not be looked at.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self._smooth(shot, found)

        self.desk.worker.chore("tone", (shot.facts, self.desk.route_of(shot), self.desk.frame, at), then)

    def _neutral(self, shot: Shot, at: tuple[float, float]) -> None:
        def then(found: tuple[float, float, float] | None, error: str | None) -> None:
            if found is None:
                self.desk.said.emit(error or "It could not be looked at.")
            elif self.desk.shot is not None and self.desk.shot.id == shot.id:
                self.desk.answer("develop", white="patch", neutral=list(found))

        self.desk.worker.chore("neutral", (shot.facts, self.desk.route_of(shot), self.desk.seen(shot), self.desk.frame, at), then)

    def _boxes(self, shot: Shot, pieces: int) -> tuple[tuple[int, int, int, int], ...]:
        """Where it is looked close to, and what is kept beside that."""
        width, height = self.desk.walk(shot).draft.inputs[0].raster
        places = [self._at.get(shot.id, (0.5, 0.5)), *self._pins.get(shot.id, [])]
        w, h = (min(v // 2 * 2, m // 2 * 2) for v, m in zip(self.loupe.each(pieces, len(places)), (width, height), strict=True))
        return tuple((max(0, min(round(x * width - w / 2), width - w)), max(0, min(round(y * height - h / 2), height - h)), w, h) for x, y in places)

    def _ask(self) -> None:
        """Has the pieces made anew, if anything about them has changed."""
        shot = self.desk.shot
        if shot is None or self.desk.stage != self.stage or not self.loupe.isVisible():
            return
        route = self.desk.route_of(shot)
        pieces = 3 if route.develop.clean or route.develop.colour else 1
        asked = (shot.facts.fingerprint, route, self.desk.frame, self._boxes(shot, pieces), self.desk.card_of(shot))
        if asked == self._asked or self._busy:
            return
        self._asked, self._busy = asked, True

        def then(made: list[Close] | None, error: str | None) -> None:
            self._busy = False
            if made:
                self.loupe.show_close(made)
            elif error:
                self.desk.said.emit(error)
            self._ask()

        self.desk.worker.chore("close", (shot.facts, route, self.desk.seen(shot), asked[2], asked[3], asked[4]), then)

    # --- shown ----------------------------------------------------------------------------------------------------
    def moved(self, shot: Shot) -> None:
        self._ask()

    def pictured(self, reply: Reply) -> None:
        self._gone = reply.marks
        self._ask()

    def refresh(self, shot: Shot, walked: Walk) -> None:
        self._show_noise(shot, walked)
        sensor = values.sensor_of(shot.facts, walked.route.develop)
        for card in self.of_values:
            card.setVisible(sensor is not None)
        held = measure.found(self.desk.found(shot)) if sensor is not None else None
        self.levels.show_held(held)
        self.over.setVisible(held is not None and any(held.over) and len(held.over) > 1)
        held_noise = noise.found(self.desk.found(shot))
        self.even_card.setVisible(sensor is None and held_noise is not None)
        if held_noise is not None:
            self.even.set_value(walked.route.develop.even)
            bare = f"{held_noise.stepped:.0%} of it lies in bare steps; on a codec's grid steps are {held_noise.blocks:.1f} times as large as others."
            self.even_card.say(f"{bare} Made even, nothing goes further than half a code from what was recorded.")
            open_ = held_noise.stepped > STEPPED or held_noise.blocks > BLOCKED
            self.even_card.settle("" if open_ else "made even" if walked.route.develop.even else "as they are")
        self.order_card.setVisible(shot.facts.chroma == "4:0:0")
        self.order.set_value(walked.route.develop.order)
        said = (shot.facts.mosaic or "").upper()
        self.order_card.say(f"The file says {said}." if said else "Nothing says that these are sensor values: a grey picture, else.")
        self.order_card.settle(said if said and walked.route.develop.order is None and not (held and held.diagonal) else "")
        if sensor is not None:
            self._show_values(shot, walked, held)
        self._show_either(shot)
        kept = len(self._pins.get(shot.id, []))
        self.pin.setEnabled(kept < PINNED)
        self.unpin.setVisible(kept > 0)
        self.loupe_card.say("Drag on the picture to look elsewhere. Pieces are shown at whole multiples of their recorded pixels, as delivered.")
        self.loupe.note = f"{self.loupe.zoom}:1"
        self._ask()

    def _show_either(self, shot: Shot) -> None:
        """What test recordings of the same camera hold, as its baseline."""
        of_camera = [s for s in self.desk.shots if s.id == shot.id or (shot.camera and s.camera == shot.camera)]
        kept = [(s.name, found) for s in of_camera if (found := self.ranging.found(s)) is not None]
        self.ranging.button.setVisible(self.ranging.found(shot) is None)
        short, verdict = either([found for _, found in kept])
        self.either_card.settle(short)
        lines = [f"{name}: {found.saw}." for name, found in sorted(kept, key=lambda held: -held[1].stops)[:4]]
        ask = "Record one scene both ways, from black to burnt out, and have both measured: what each holds is kept for this camera."
        self.either_card.say(" ".join([verdict or ask, *lines]))

    def _show_noise(self, shot: Shot, walked: Walk) -> None:
        s, held = walked.route.develop, noise.found(self.desk.found(shot))
        self.measuring.button.setVisible(held is None)
        for widget in (self.much, self.amounts):
            widget.setVisible(held is not None)
        self.worst.setVisible(held is not None and bool(held.worst))
        self.smoother.setVisible(held is not None and bool(s.clean))
        self.smoother.set_value("tone" if s.smooth is not None or self._toning == shot.id else None)
        if held is None:
            self.noise_card.say("It was not measured yet. Some frames are laid over their neighbours, where they differ by noise alone.")
            self.by_level.show_seen(None, None, 0.0)
            self.off.show_taken((), None)
            return
        key = (shot.facts.fingerprint, _hangs_on(walked), walked.card)
        if self._seen[0] != key:
            self._seen = key, None
            self._judge(shot, held, key)
        seen = self._seen[1]
        tried = self._tried.get(shot.facts.fingerprint, ())
        if not tried and shot.facts.fingerprint not in self._trying:  # measured at another time: what it would take off is tried anew
            self._measured(shot, held)
        base = self._best(shot)
        now = None if not s.clean else "best" if abs(s.clean - base) < 1e-3 else next(
            (k for k in (LESS, MORE) if abs(s.clean - k * base) < 1e-3), s.clean)  # fmt: skip
        self.much.set_value(now)
        self.luma.set_value(s.clean or 0.0)
        self.colour.set_value((s.clean or 0.0) if s.colour is None else s.colour)
        self.detail.set_value(s.detail)
        text = noise.verdict(seen, held.within) if seen is not None else held.saw + "."
        if held.grain.keep < 1:
            text += f" The camera or its codec has smoothed it over time: neighbouring frames differ by {held.grain.keep:.0%} of it."
        if max(held.beside) > 0.15:
            text += f" It was smoothed in the camera: neighbours agree to {max(held.beside):.0%}, which leaves blotches."
        if held.stops:
            text += f" {held.stops:.1f} stops of this shot can be used."
        mine = next((t for t in tried if s.clean and abs(t.amount - s.clean) < 1e-3), None)
        if tried:
            text += f" The most that shows no structure is ×{base:g}; it costs {(mine or tried[0]).seconds * shot.facts.frames:.0f} s of a render."
        self.noise_card.say(text, "Others make skin smoother than the rest, or leave grain because they like it.")
        left = float(np.sqrt(max(0.0, 1 - mine.sigma**2))) if mine is not None and mine.sigma < 1 else 0.0
        self.by_level.show_seen(held, seen, left)
        self.off.show_taken(tried, s.clean)

    def _again(self, asked: Shot) -> None:
        """Shows it anew, with the answers as they are by now, if it is still the shot that something was asked of."""
        now = self.desk.shot
        if now is not None and now.id == asked.id and self.desk.stage == self.stage:
            self.refresh(now, self.desk.walk(now))

    def _judge(self, shot: Shot, held: Noise, key: object) -> None:
        """What of it is seen as delivered is tried beside the window: sensor values are developed for it."""

        def then(found: Seen | None, error: str | None) -> None:
            if self._seen[0] == key and found is not None:
                self._seen = key, found
                self._again(shot)

        asked = (held, shot.facts, self.desk.seen(shot), self.desk.route_of(shot), self.desk.card_of(shot))
        self.desk.worker.chore("seen", asked, then)

    def _show_values(self, shot: Shot, walked: Walk, held: Held | None) -> None:
        s = walked.route.develop
        sensor = values.sensor_of(shot.facts, s)
        assert sensor is not None
        neutral = values.neutral_of(sensor, s)
        each = (camera.correlated(camera.white_of(sensor, n)) for n in (neutral, values.as_shot(sensor)))
        (kelvin, tint), (shot_kelvin, shot_tint) = ((k, round(v, 1) + 0.0) for k, v in each)
        said = bool(sensor.neutral or sensor.white_xy)
        self.lights.show_lights((shot_kelvin, shot_tint) if said else None, (kelvin, tint))
        self.white.set_value(s.white)
        self.kelvin.set_value(kelvin)
        self.tint.set_value(tint)
        told = f"The camera said {shot_kelvin:.0f} K, tint {shot_tint:+.1f}" if said else "The camera did not say"
        self.white_card.say(f"{told}. Undone on the sensor's own values, before anything else.".replace("-", "−"))
        self.exposure.set_value(s.exposure)
        self.bright_card.say("In stops, on the sensor's values: as a longer exposure would have been, but with the noise of this one.")
        self.gone.set_value(s.highlights or "neutral")
        self.looking.button.setVisible(held is None)
        if held is None:
            self.gone_card.say("Its values were not measured yet.")
        else:
            what = measure.words(held)
            what = f"{what[:1].upper()}{what[1:]}. {measure.next_time(held)}"
            self.gone_card.say(what, "Others leave it as it is: bright edges then turn magenta.")
            clock = clock_of(shot.facts)
            over = np.array(held.over) * 100
            self.over.show_lines(np.array([clock.time(n) for n in held.sampled]), [("", over)], (), clock.time(self.desk.frame))
        curves = [("light, wide primaries", "light")] + [(colour_cards.title(n), n) for n in colour_cards.names() if n not in ("linear",)]
        self.into.set_answers(curves, s.into)
        self.white_card.settle(f"as shot, {kelvin:.0f} K" if s.white == "as shot" and sensor.neutral else "")
        self.bright_card.settle("" if s.exposure else "+0.0 stops")
        done = {"neutral": "white", "rebuild": "rebuilt", "as is": "as it is"}.get(s.highlights or "", "")
        nothing = held is not None and not any(held.gone)
        self.gone_card.settle("" if held is None else "nothing" if nothing else done)
        self.into_card.settle("light, wide primaries" if s.into == "light" else "")
        self.into_card.say("Sensor values have no curve. For a table that expects a log curve they are put into that one; else they stay light.")

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        walked = self.desk.walk(shot)
        if values.sensor_of(shot.facts, walked.route.develop) is not None:
            self._hatch(painter, rect, shot)
        held = noise.found(self.desk.found(shot))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if held is not None:
            painter.setPen(QPen(QColor(255, 255, 255, 150), 1))
            for _, box in held.worst:
                painter.drawRect(self._delivered(walked, box, rect))
        pieces = 3 if walked.route.develop.clean or walked.route.develop.colour else 1
        painter.setPen(QPen(QColor("#F2A65A"), 1.6))
        for n, box in enumerate(self._boxes(shot, pieces)):
            where = self._delivered(walked, box, rect)
            painter.drawRect(where)
            if n:
                painter.drawText(where.topLeft() + QPointF(4, 13), str(n))

    @staticmethod
    def _delivered(walked: Walk, box: tuple[int, int, int, int], rect: QRectF) -> QRectF:
        """A recorded box as it lies in the delivered picture, where that lies straight."""
        from ....core.space.looks import AxisLook

        draft = walked.draft
        look = draft.panels[0].look if draft.panels else None
        if not isinstance(look, AxisLook):
            return QRectF()
        (px, py), (w, h) = draft.panels[0].place, draft.raster
        x, y = ((box[i] - float(look.offset[i])) / float(look.scale[i]) + (px, py)[i] for i in (0, 1))
        wide, high = (box[2 + i] / float(look.scale[i]) for i in (0, 1))
        return QRectF(rect.left() + x / w * rect.width(), rect.top() + y / h * rect.height(), wide / w * rect.width(), high / h * rect.height())

    def _hatch(self, painter: QPainter, rect: QRectF, shot: Shot) -> None:
        """Strokes where channels are full: one stroke a channel."""
        if self._gone is None or not self._gone.any():
            return
        rows, columns = self._gone.shape
        width, height = shot.facts.raster
        walked = self.desk.walk(shot)
        painter.setPen(QPen(QColor(255, 255, 255, 230), 1))
        for y, x in np.argwhere(self._gone > 0).tolist():
            box = (round(x * width / columns), round(y * height / rows), max(1, width // columns), max(1, height // rows))
            cell = self._delivered(walked, box, rect)
            for k in range(int(self._gone[y, x])):
                off = (k + 1) * cell.width() / 4
                painter.drawLine(QPointF(cell.left() + off, cell.bottom()), QPointF(cell.left() + off + 2, cell.top()))


def _hangs_on(walked: Walk) -> object:
    """What noise as delivered hangs on."""
    return walked.route.develop, walked.route.colour, walked.draft.raster
