"""Deliver: where does it go, how large and how long will that be, and why this codec?"""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ....core import cards
from ....core.deliver import measure
from ....core.deliver.advise import estimate, size_text, time_text
from ....core.deliver.step import RASTERS
from ....core.errors import AdzerError, UnreadableError
from ....core.finding import Level
from ....core.job import Shot
from ....core.media.clock import clock_of
from ....core.read.advise import rate_text
from ....core.read.play import players
from ....core.records import to_plain
from ....core.route import Walk
from ... import choosers
from ...model import Desk
from ...widgets.questions import Choice, Number, Numbers, Pick, Question, act
from ..base import StageBench
from .plots import Frames, Leaving


class Over(Question):
    """A picture laid over all that is delivered of the shot; the last one laid is in hand."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.add = act("Lay a picture over it", self._choose, main=False)
        self.drop = act("Take it off", self._drop, main=False)
        self.across, self.down = Number(50, 0.5, -100, 200, 1, True), Number(85, 0.5, -100, 200, 1, True)
        self.wide, self.nearer = Number(50, 0.5, 0.1, 400, 1), Number(0, 0.05, -5, 5, 2, True)
        self.start, self.stop, self.fade = Number(0, 0.1, 0, 1e6, 2), Number(1, 0.1, 0, 1e6, 2), Number(0.5, 0.1, 0, 60, 2)
        self.place = Numbers(("across, %", self.across), ("down, %", self.down))
        self.spread = Numbers(("wide, %", self.wide), ("comes and goes in, s", self.fade))
        self.apart = Numbers(("nearer than the screen, %", self.nearer))
        self.times = Numbers(("from, s", self.start), ("to, s", self.stop))
        super().__init__("Does anything lie over it?", self.add, self.drop, self.place, self.spread, self.times, self.apart)
        fields = (("x", self.across, 0.01), ("y", self.down, 0.01), ("wide", self.wide, 0.01), ("nearer", self.nearer, 1.0),
                  ("start", self.start, 1.0), ("stop", self.stop, 1.0), ("fade", self.fade, 1.0))  # fmt: skip
        for name, field, unit in fields:
            field.drafted.connect(lambda v, n=name, u=unit: self._set(n, v * u))
            field.settled.connect(lambda _: desk.commit())

    def _choose(self) -> None:
        file = choosers.file(None, "A picture with cover", "Pictures (*.png *.tif *.tiff *.webp)")
        if file:
            self.lay(file)

    def lay(self, file: str) -> None:
        """Over what is there already."""
        shot = self.desk.shot
        if shot is None:
            return
        try:
            clock = clock_of(shot.facts)
            fresh = measure.laid(file, start=round(clock.time(shot.start), 2), stop=round(clock.time(shot.stop - 1), 2))
        except AdzerError as error:
            self.desk.said.emit(str(error))
            return
        self.desk.answer("deliver", over=to_plain((*self.desk.route_of(shot).deliver.over, fresh)))

    def _drop(self) -> None:
        if (shot := self.desk.shot) is not None:
            self.desk.answer("deliver", over=to_plain(self.desk.route_of(shot).deliver.over[:-1]))

    def _set(self, name: str, value: float) -> None:
        shot = self.desk.shot
        if shot is not None and (over := self.desk.route_of(shot).deliver.over):
            changed = to_plain(over[-1]) | {name: value}
            self.desk.draft("deliver", over=[*to_plain(over[:-1]), changed])

    def refresh(self, shot: Shot, walked: Walk) -> None:
        over = walked.route.deliver.over
        for control in (self.drop, self.place, self.spread, self.times, self.apart):
            control.setVisible(bool(over))
        self.add.setText("Lay another over it" if over else "Lay a picture over it")
        if not over:
            self.say("Nothing does. A title or a mark with cover, such as a PNG, is laid over once, after the colour.")
            return
        now, clock = over[-1], clock_of(shot.facts)
        pair = walked["deliver"].before.eyes not in (None, "one")
        for field, value in ((self.across, now.x * 100), (self.down, now.y * 100), (self.wide, now.wide * 100), (self.nearer, now.nearer),
                             (self.start, now.start or 0.0), (self.stop, now.stop if now.stop is not None else clock.time(shot.stop - 1)),
                             (self.fade, now.fade)):  # fmt: skip
            field.set_value(value)
        self.apart.setVisible(pair)
        more = f", over {len(over) - 1} more" if len(over) > 1 else ""
        shows = walked.draft.overlays[-1].strength(clock.time(self.desk.frame)) if walked.draft.overlays else 0.0
        here = "shows on this frame" if shows >= 1 else "does not show on this frame" if shows <= 0 else f"shows at {shows:.0%} on this frame"
        self.say(
            f"{Path(now.file).name}{more}: {here}. Seconds are of the recording."
            + (" Both eyes get it; nearer than the nearest thing under it, or it hurts." if pair else "")
        )


class DeliverBench(StageBench):
    stage = "deliver"
    hint = "^Enter queue it · ^M measure a second · Q as recorded · W wipe"

    def build(self) -> None:
        self.toggles: dict[str, QPushButton] = {}
        holder = QWidget()
        column = QVBoxLayout(holder)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(3)
        for name in cards.paths("deliveries"):
            try:
                card = cards.delivery(name)
            except UnreadableError as error:
                self.desk.said.emit(str(error))
                continue
            button = QPushButton(f"{card.title} · {card.codec}, {card.bits}-bit")
            button.setMinimumWidth(80)
            button.setCheckable(True)
            button.setStyleSheet("text-align: left; padding: 6px 10px;")
            button.clicked.connect(lambda _, n=name: self._toggle(n))
            self.toggles[name] = button
            column.addWidget(button)
        self.where_card = Question("Where does it go?", holder)
        self.measure = act("Measure one second of this shot", self.measure_all, main=False)
        self.size_card = Question("How large, and how long will it take?", self.measure)
        self.why_card = Question("Why this codec?")
        self.queue = act("Queue", self.desk.enqueue)
        self.folder = act("Choose another output folder", self._choose_folder, main=False)
        self.queue_card = Question("Is it ready?", self.queue, self.folder)
        self.raster = Pick([])
        self.raster.chosen.connect(lambda v: self.desk.answer("deliver", raster=v))
        self.exact = Choice([("fitted into it", False), ("exactly so", True)])
        self.exact.chosen.connect(lambda v: self.desk.answer("deliver", exact=v))
        self.raster_card = Question("Which frame size is worth it?", self.raster, self.exact)
        self.over_card = Over(self.desk)
        self.questions = [self.where_card, self.raster_card, self.over_card, self.size_card, self.why_card, self.queue_card]
        self.frames = Frames("What leaves, to scale", 5)
        self.instruments = [self.frames]

    @property
    def small(self) -> Frames:
        return self.frames

    def delivered(self, shot: Shot) -> list[str]:
        return [c for c in self.desk.route_of(shot).deliver.cards if c in self.toggles]

    def moved(self, shot: Shot) -> None:
        self.over_card.refresh(shot, self.desk.walk(shot))

    def _toggle(self, name: str) -> None:
        shot = self.desk.shot
        if shot is None:
            return
        now = self.desk.route_of(shot).deliver.cards
        self.desk.answer("deliver", cards=[c for c in now if c != name] if name in now else [*now, name])

    def _choose_folder(self) -> None:
        folder = choosers.folder(None, "Where masters go", str(self.desk.job.out_folder))
        if folder:
            self.desk.set_output(folder)

    def measure_all(self) -> None:
        """One measured second for each chosen delivery."""
        shot = self.desk.shot
        if shot is not None:
            self.measure.setText("Measuring…")
            for name in self.desk.route_of(shot).deliver.cards:
                self.desk.measure_trial(name)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        chosen = [c for c in walked.route.deliver.cards if c in self.toggles]
        for name, button in self.toggles.items():
            button.setChecked(name in chosen)
        self._say_raster(walked)
        self.over_card.refresh(shot, walked)
        known = {t.card: t for t in shot.trials}
        frames = walked["shape"].after.frames or shot.frames
        frames = round(frames * shot.frames / max(shot.facts.frames, 1))
        lines, leaving = [], []
        for name in chosen:
            card = cards.delivery(name)
            there = self.desk.walk(shot, name)
            after = there["deliver"].after
            words = [f"{after.raster[0]}×{after.raster[1]} · {rate_text(after.rate)} · {card.codec}, {card.bits}-bit {card.chroma}"]
            if name in known:
                trial = known[name]
                size, seconds = estimate(trial, frames)
                lines.append(
                    f"{card.title}: about {size_text(size)}, {time_text(seconds)} ({trial.frames / trial.seconds:.1f} frames a second)."
                )
                lasts = frames / float(after.rate or 25)
                words.append(f"{size * 8 / lasts / 1e6:.2g} Mbit/s · {size_text(size)} · {time_text(seconds)} to make")
            else:
                words.append("not measured yet")
            words.append(f"{there['shape'].after.detail or 1.0:.2f} recorded pixels in each")
            plays, _ = players(shot.facts, card, after)
            words.append(f"plays on: {', '.join(plays)}" if plays else "no usual player decodes it")
            leaving.append(Leaving(card.title, after.raster, there.draft.filled[2:], tuple(words), card.title_safe, card.covered))
        self.frames.show_leaving(leaving, f"{frames} frames each · dotted: title safe · shaded: covered")
        missing = [c for c in chosen if c not in known]
        if not self.desk.worker.busy:
            self.measure.setText("Measure one second of this shot" if missing or not chosen else "Measure again")
        self.measure.setEnabled(bool(chosen))
        self.size_card.say(
            "\n".join(lines)
            or "One second from the middle of this very shot is rendered and measured; nothing is guessed."
        )
        first = cards.delivery(chosen[0]) if chosen else walked.card
        self.why_card.say(f"{first.title}: {first.why}", first.others)
        self._say_queue(shot, walked, chosen)

    def _say_raster(self, walked: Walk) -> None:
        settings, shaped, card = walked.route.deliver, walked["shape"].after, walked.card
        offered = [r for r in dict.fromkeys((*card.rasters, *RASTERS, settings.raster)) if r is not None]
        self.raster.set_answers(
            [("as large as each card allows", None), *((f"{w}×{h}", (w, h)) for w, h in offered)], settings.raster
        )
        self.exact.setVisible(settings.raster is not None)
        self.exact.set_value(settings.exact)
        w, h = shaped.raster
        held = shaped.detail or 1.0
        self.raster_card.say(
            f"{held:.2f} recorded pixels lie behind each of the {w}×{h} in {card.title}."
            + (f" No more than {int(w * held) // 2 * 2}×{int(h * held) // 2 * 2} was recorded." if held < 1 else ""),
            "Some places give a larger frame more bits, so that others deliver more pixels than were recorded.",
        )

    def _say_queue(self, shot: Shot, walked: Walk, chosen: list[str]) -> None:
        stop = next((f for c in chosen for f in self.desk.walk(shot, c).findings if f.level is Level.STOP), None)
        n = len(chosen)
        self.queue.setText(f"Queue {n} {'delivery' if n == 1 else 'deliveries'}")
        self.queue.setEnabled(bool(chosen) and stop is None)
        if stop is not None:
            text = f"Not yet. {stop.text}"
        elif not chosen:
            text = "Choose at least one delivery."
        else:
            text = (
                f"Slips are frozen when queued. Masters go to …/{self.desk.job.out_folder.name}/ "
                "and get their names when they have been read back and checked."
            )
        others = ""
        if self.desk.open_slips(shot):
            others = f"{len(self.desk.open_slips(shot))} already queued as it was."
            if self.desk.changed_since_queued(shot):
                others = "Queued before your last change: that render keeps what it was. Queue again for the new answers."
        self.queue_card.say(text, others)
