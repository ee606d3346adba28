"""Read: what is this picture? What the file says, what the footage says, what the person declares."""

from __future__ import annotations

import numpy as np

from ...core.colour import cards as colour_cards
from ...core.errors import UnreadableError
from ...core.job import Shot
from ...core.read import advise
from ...core.read.advise import rate_text
from ...core.read.measure import DOMAIN
from ...core.route import Walk
from ..widgets.plots import Histogram, Table, Trace
from ..widgets.questions import Choice, Pick, Question
from .base import StageBench


def curve_answers(tagged: str | None) -> list[tuple[str, str | None]]:
    """Every curve that can be declared, and leaving it to the tag."""
    tag = f"as tagged: {colour_cards.title(tagged)}" if tagged else "not declared"
    return [(tag, None), *((colour_cards.title(n), n) for n in colour_cards.names())]


class ReadBench(StageBench):
    stage = "read"
    hint = "Q as recorded · W wipe · { in here · } out here · Space play · [ ] stage"

    def build(self) -> None:
        desk = self.desk
        self.curve = Pick([])
        self.curve.chosen.connect(lambda v: desk.answer("read", curve=v))
        self.curve_card = Question("What did the camera encode?", self.curve)
        self.primaries = Pick([])
        self.primaries.chosen.connect(lambda v: desk.answer("read", primaries=v))
        self.primaries_card = Question("Which primaries did it use?", self.primaries)
        self.range = Choice([("as found", None), ("limited", "limited"), ("full", "full")])
        self.range.chosen.connect(lambda v: desk.answer("read", range=v))
        self.range_card = Question("Where do black and white lie?", self.range)
        self.timing = Choice([("as recorded", "recorded"), ("even, job's rate", "even")])
        self.timing.chosen.connect(self._retime)
        self.timing_card = Question("What rhythm shall it have?", self.timing)
        self.questions = [self.curve_card, self.primaries_card, self.range_card, self.timing_card]
        self.facts = Table("What this picture is, and how it is known", (0.17, 0.2, 0.63), 4)
        self.levels = Histogram("Levels, as recorded", 3)
        self.gaps = Trace("Time between frames, ms", 2)
        self._gaps_of = ""
        self.instruments = [self.facts, self.levels, self.gaps]

    def _retime(self, how: str) -> None:
        rate = str(self.desk.job.rate) if how == "even" else None
        self.desk.answer("read", timing=how, even_rate=rate)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        route, facts, stop = walked.route, shot.facts, walked["read"]
        evidence = stop.result.evidence
        self.curve.set_answers(curve_answers(facts.curve), route.read.curve)
        fits = advise.look(shot.levels) if shot.levels else None
        others = ""
        if fits and fits.is_log and route.read.curve != fits.fits and fits.fits:
            others = f"The levels fit {colour_cards.title(fits.fits)} best."
        self.curve_card.say(_sentence(evidence.get("curve", "")), others)
        tag = colour_cards.primaries_title(facts.primaries) if facts.primaries else None
        answers: list[tuple[str, str | None]] = [(f"as tagged: {tag}" if tag else "not declared", None)]
        answers += [(colour_cards.primaries_title(n), n) for n in colour_cards.primaries_names()]
        self.primaries.set_answers(answers, route.read.primaries)
        found = colour_cards.primaries_title(stop.after.primaries)
        self.primaries_card.say(f"Taken as {found}: {evidence.get('primaries', '')}.")
        self.range.set_value(route.read.range)
        self.range_card.say(f"Read as {stop.after.range}: {evidence.get('range', '')}.")
        self.timing.set_value(route.read.timing)
        self._say_timing(shot, walked)
        self._show_plots(shot, walked)

    def _say_timing(self, shot: Shot, walked: Walk) -> None:
        facts, job_rate = shot.facts, self.desk.job.rate
        text = _sentence(walked["read"].result.evidence.get("constant_rate", ""))
        ratio = job_rate / facts.rate if facts.rate else None
        if ratio and facts.constant_rate:
            text += f" It runs at {rate_text(facts.rate)}, the job at {rate_text(job_rate)}: {ratio.numerator}/{ratio.denominator}."
        others = (
            "Others keep each frame's own time, for places that play any rhythm."
            if walked.route.read.timing == "even"
            else ""
        )
        if not facts.constant_rate and walked.route.read.timing == "recorded":
            others = "Others make it even, so that it stays in sync in any editing program."
        self.timing_card.say(text, others)

    def _show_plots(self, shot: Shot, walked: Walk) -> None:
        evidence, picture = walked["read"].result.evidence, walked["read"].after.as_json()
        rows = []
        for field in (
            "curve",
            "primaries",
            "range",
            "matrix",
            "raster",
            "bits",
            "chroma",
            "rate",
            "timecode",
            "frames",
        ):
            value = picture[field]
            if field == "raster":
                words = f"{value[0]}×{value[1]}"
            elif field == "rate":
                words = rate_text(walked["read"].after.rate)
            elif field == "curve":
                words = colour_cards.title(value)
            else:
                words = "unknown" if value is None else str(value)
            rows.append((field, words, evidence.get(field, "")))
        self.facts.show_rows(rows, shot.facts.path.rsplit("/", 1)[-1])
        if shot.levels is not None:
            marks: list[tuple[float, str]] = []
            curve = walked["read"].after.curve
            if curve:
                try:
                    seen = colour_cards.facts(colour_cards.curve(curve, shot.facts.bits))
                    marks = [(seen.black, "black"), (seen.grey, "grey"), (seen.white, "white 90 %")]
                except UnreadableError:
                    marks = []
            note = f"{len(shot.levels.sampled)} frames sampled"
            self.levels.show_shares(np.array(shot.levels.luma), *DOMAIN, marks, note)
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


def _sentence(text: str) -> str:
    return text[:1].upper() + text[1:] + ("." if text and not text.endswith(".") else "")
