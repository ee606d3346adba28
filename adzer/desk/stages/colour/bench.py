"""Colour: from what the camera encoded to what people watch, judged on the delivered pixels."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ....core.colour import advise, measure
from ....core.colour.settings import NEUTRAL_KELVIN
from ....core.job import Shot
from ....core.light import names as colour_cards
from ....core.light.chain import ColourChain, Whites
from ....core.read.measure import bin_centres
from ....core.read.seen import Seen
from ....core.route import Walk
from ....core.run.service import Reply
from ...widgets.plots import Histogram
from ...widgets.questions import Choice, Number, Numbers, Pick, Question
from ...words import curve_answers
from ..base import StageBench
from .plots import Bars, CurvePlot, Waveform

WHITES: tuple[Whites, ...] = ("let go", "roll off", "keep hue", "keep all")


class ColourBench(StageBench):
    stage = "colour"
    scopes = True
    hint = "drag a number sideways · Q as recorded · W wipe · L lights · ^D same as the row above"

    def build(self) -> None:
        desk = self.desk
        self.curve = Pick([])
        self.curve.chosen.connect(lambda v: desk.answer("read", curve=v))
        self.curve_card = Question("What did the camera encode?", self.curve)
        self.exposure = self._number("exposure", Number(0, 0.02, -8, 8, 2, sign=True))
        self.kelvin = self._number("kelvin", Number(NEUTRAL_KELVIN, 25, 1700, 25000, 0))
        self.tint = self._number("tint", Number(0, 0.2, -50, 50, 1, sign=True))
        self.adaptation = Choice([("adapt by CAT02", "cat02"), ("by Bradford", "bradford")])
        self.adaptation.chosen.connect(lambda v: desk.answer("colour", adaptation=v))
        self.light_card = Question(
            "How bright, and what was white?",
            Numbers(("exposure", self.exposure), ("light, K", self.kelvin), ("tint", self.tint)),
            self.adaptation,
        )
        self.black = Number(0, 0.1, -20, 20, 1, sign=True)
        self.black.drafted.connect(lambda v: desk.draft("colour", black=v / 100))
        self.black.settled.connect(lambda _: desk.commit())
        self.contrast = self._number("contrast", Number(1, 0.01, 0.3, 3, 2))
        self.saturation = self._number("saturation", Number(1, 0.01, 0, 3, 2))
        self.tone_card = Question(
            "Where do blacks and middle tones go?",
            Numbers(("black, %", self.black), ("contrast", self.contrast), ("saturation", self.saturation)),
        )
        self.whites = Choice([(w, w) for w in WHITES])
        self.whites.chosen.connect(lambda v: self.desk.answer("colour", whites=v, peak=None))
        self.ceiling = Choice([("100 %", 100), ("105 %", 105), ("109 %", 109)])
        self.ceiling.chosen.connect(lambda v: self.desk.answer("colour", ceiling=v))
        self.whites_card = Question("What happens above white?", self.whites, Numbers(("nothing passes", self.ceiling)))
        self.beyond = Choice([("cut", "cut"), ("draw in", "draw in")])
        self.beyond.chosen.connect(lambda v: desk.answer("colour", beyond=v))
        self.beyond_card = Question("And to colours the display lacks?", self.beyond)
        self.done_card = Question("What has been done to it?")
        self.questions = [
            self.curve_card, self.light_card, self.tone_card, self.whites_card, self.beyond_card, self.done_card,
        ]  # fmt: skip
        self.wave = Waveform()
        self.luma = Histogram("Luma", 2, dark=True)
        self.stops = Bars("Stops from grey", 2, dark=True)
        self.plot = CurvePlot()
        self.instruments = [self.wave, self.luma, self.stops, self.plot]

    def _number(self, name: str, field: Number) -> Number:
        field.drafted.connect(lambda v: self.desk.draft("colour", **{name: v}))
        field.settled.connect(lambda _: self.desk.commit())
        return field

    def refresh(self, shot: Shot, walked: Walk) -> None:
        s = walked.route.colour
        self.curve.set_answers(curve_answers(shot.facts.curve), walked.route.read.curve)
        read = walked["read"].result
        text = read.evidence.get("curve", "")
        self.curve_card.say(text[:1].upper() + text[1:] + ".")
        self.exposure.set_value(s.exposure)
        self.kelvin.set_value(s.kelvin)
        self.adaptation.set_value(s.adaptation)
        self.tint.set_value(s.tint)
        self.black.set_value(s.black * 100)
        self.contrast.set_value(s.contrast)
        self.saturation.set_value(s.saturation)
        self.whites.set_value(s.whites)
        self.ceiling.set_value(s.ceiling)
        self.beyond.set_value(s.beyond)
        self.light_card.say(
            "Corrected in light, before the conversion: everything the camera recorded can still be moved. "
            "A lower K says the light was warmer, so the picture turns bluer.",
            "Others correct after the conversion: simpler, but what was clipped stays clipped.",
        )
        self.tone_card.say(
            "Blacks first, down to the 0 line; contrast turns about middle grey, which it leaves; saturation last."
        )
        chain = walked.draft.chain
        if isinstance(chain, ColourChain):
            self._show_chain(shot, walked, chain)
        else:
            self.whites_card.say("Nothing is changed, so nothing is bent.")
            self.plot.note = self.stops.note = ""
            self._show_curve(shot, walked, None)
        beyond = "is cut off channel by channel" if s.beyond == "cut" else "is mixed towards its own grey until it fits"
        self.beyond_card.say(
            f"What lies outside BT.709 {beyond}.",
            "Others draw them in: hues hold, at some cost in time."
            if s.beyond == "cut"
            else "Others cut: colours inside stay untouched.",
        )
        self.done_card.say(_done(walked))

    def _show_chain(self, shot: Shot, walked: Walk, chain: ColourChain) -> None:
        seen = self._levels(shot, walked)
        if seen is None:
            developed = "Of sensor values it is told on Develop how much is full, and what is made of it."
            self.whites_card.say(developed if walked.draft.top is not None else "Its levels were not measured yet.")
            self.stops.show_bars([])
        else:
            signals, shares = bin_centres(), np.array(seen.levels.brightest)
            lines = []
            for whites in WHITES:
                way = replace(chain, whites=whites)
                text = advise.whites_text(whites, measure.cost(way, signals, shares), way.hue_turn())
                lines.append(f"{whites}: {text}")
            self.whites_card.say("\n".join(lines), advise.OTHERS_WHITES[chain.whites])
            gain = chain.gain
            stops, amounts = measure.stops_from_grey(chain.source, gain, signals, shares)
            used = [int(s) for s, a in zip(stops, amounts, strict=True) if a > 1e-5]
            bars = [
                (f"{s:+d}" if s % 3 == 0 and s else "0" if s == 0 else "", float(a))
                for s, a in zip(stops, amounts, strict=True)
            ]
            self.stops.show_bars(bars, f"{len(used)} in use")
        self._show_curve(shot, walked, chain)

    def _levels(self, shot: Shot, walked: Walk) -> Seen | None:
        """What was seen of its levels, where these are levels of the picture that comes here, and not of sensor values."""
        return self.desk.seen(shot) if walked.draft.top is None else None

    def _show_curve(self, shot: Shot, walked: Walk, chain: ColourChain | None) -> None:
        name = walked["develop"].after.curve
        if name is None:
            return
        curve = chain.source if chain else colour_cards.curve(name, shot.facts.bits)
        facts = colour_cards.facts(curve)
        stops = np.linspace(-9, 9, 120)
        light = 0.18 * 2.0**stops
        signal = np.clip(curve.encode(light), 0, 1.02)
        out = None
        if chain is not None:
            out = chain.tone(light * chain.gain)
        used = None
        seen = self._levels(shot, walked)
        if seen is not None:
            low, high = measure.reach(curve, seen.levels.low, seen.levels.top())
            used = (max(low, -9.0), min(high, 9.0))
        note = f"+{facts.stops_above:.1f} −{facts.stops_below:.1f} stops"
        self.plot.show_curve(stops, signal, out, used, note)

    def pictured(self, reply: Reply) -> None:
        if reply.scopes is None:
            return
        codes = len(reply.scopes.histogram)
        black, white = (64 / 1024, 940 / 1024)
        self.wave.show_scopes(reply.scopes, black, white)
        shares = reply.scopes.histogram / max(float(reply.scopes.histogram.sum()), 1.0)
        cumulative = np.cumsum(shares)
        median = (float(np.searchsorted(cumulative, 0.5)) / codes - black) / (white - black)
        self.luma.show_shares(shares, 0.0, 1.0, [(black, "0"), (white, "100 %")], f"median {median:.0%}")


def _done(walked: Walk) -> str:
    s, read = walked.route.colour, walked["read"].after
    parts = [f"{colour_cards.title(read.curve)}, {colour_cards.primaries_title(read.primaries)} primaries"]
    if walked.draft.chain is None:
        return parts[0] + ": handed on unchanged, not transformed twice."
    parts.append("linear light")
    if s.exposure:
        parts.append(f"{s.exposure:+.2f} stops")
    if (s.kelvin, s.tint) != (NEUTRAL_KELVIN, 0.0):
        parts.append(f"{s.kelvin:.0f} K, tint {s.tint:+.1f}")
    if s.contrast != 1:
        parts.append(f"contrast {s.contrast:.2f}")
    parts += [s.whites, f"{walked.card.title}: {colour_cards.title(walked.card.curve)}"]
    return " → ".join(parts) + ". One transform, evaluated once."
