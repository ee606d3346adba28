"""Whether two recordings of one moment are in step, and putting them together once they are."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ....core.errors import AdzerError
from ....core.job import Part, Shot
from ....core.media.probe import FileFacts
from ....core.records import from_json, to_json
from ....core.route import Walk
from ....core.run.syncing import InStep
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Question, act

IN_STEP = "in step"  # under which it is kept, by the other's path
LISTEN = "Listen to both, and watch how they move"


def partner(shot: Shot) -> Part | None:
    """The other eye's recording, or a sound of its own, that belongs to a shot and was recorded by another clock."""
    if shot.facts.beside is not None:
        return None
    return next((p for p in shot.parts if p.role in ("second", "sound")), None)


class StepCard(Question):
    """The question, its answer and what can be done about it."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._busy: int | None = None
        self.listen = act(LISTEN, self.measure)
        self.together = act("Put them together, as two eyes", self.put_together, False)
        self.curve = Lines("Together", "", 2)
        super().__init__("Are they in step?", self.listen, self.together)

    def _over(self) -> None:
        self._busy = None
        if (now := self.desk.shot) is not None and self.desk.stage == "join":
            self.refresh(now, self.desk.walk(now))
            self.desk.changed.emit()  # the shelf has one more, or one less

    def measure(self) -> None:
        """In the background; what is found is kept with the recording."""
        shot = self.desk.shot
        part = partner(shot) if shot is not None else None
        if shot is None or part is None or self._busy is not None:
            return
        self._busy = shot.id

        def then(found: InStep | None, error: str | None) -> None:
            if found is None:
                self.desk.said.emit(error or "They could not be compared.")
            else:
                try:
                    self.desk.job.keep_measured(shot.facts.fingerprint, IN_STEP, to_json(found).encode(), part.path)
                except AdzerError as fault:
                    self.desk.said.emit(str(fault))
            self._over()

        self.desk.worker.chore("sync", (Path(shot.facts.path), Path(part.path)), then)
        self.say_of(shot)

    def found(self, shot: Shot, part: Part) -> InStep | None:
        """What was measured. AdzerError if it cannot be read any more."""
        body = self.desk.job.measured(shot.facts.fingerprint, IN_STEP).get(part.path)
        return None if body is None else from_json(body, InStep, f"What was measured of {Path(part.path).name}")

    def put_together(self) -> None:
        """Both become one recording, from the first moment that both have; it can be undone."""
        shot = self.desk.shot
        part = partner(shot) if shot is not None else None
        if shot is None or part is None or self._busy is not None:
            return
        found = self.found(shot, part)
        if found is None or found.offset is None:
            return
        rate = float(shot.facts.rate or 25)
        whole, _ = found.left_over(rate)
        starts = (max(whole, 0), max(-whole, 0))
        drift = found.drift_ppm if abs(found.drift_ppm or 0.0) > (found.drift_uncertainty or 0.0) else 0.0
        slip = round(whole / rate - found.offset, 6)
        self._busy = shot.id

        def then(facts: FileFacts | None, error: str | None) -> None:
            if facts is None:
                self.desk.said.emit(error or "They could not be put together.")
            else:
                route = self.desk.route_of(shot).with_("read", eyes="side by side").with_("join", slip=slip, drift=drift or 0.0)
                values = {"facts": facts, "kind": "eye pair", "start": 0, "stop": facts.frames, "route": route}
                self.desk.record(lambda: self.desk.job.set_files([(shot, values)], "two eyes put together"), [shot.id])
                self.desk.said.emit("Both eyes are one recording now.")
            self._over()

        self.desk.worker.chore("pair", (shot.facts.path, part.path, starts), then)
        self.say_of(shot)

    def refresh(self, shot: Shot, walked: Walk) -> None:
        self.setVisible(partner(shot) is not None)
        self.curve.setVisible(False)
        self.say_of(shot)

    def _draw(self, found: InStep) -> None:
        """How alike the two are, the one moved against the other."""
        by, curve = next(iter(found.curves.items()), (None, ()))
        self.curve.setVisible(len(curve) > 1)
        if len(curve) > 1 and found.offset is not None:
            offsets, heights = np.array(curve).T
            words = "how alike they sound" if by == "sound" else "how alike they move"
            self.curve.note = f"{offsets[0]:+.2f} to {offsets[-1]:+.2f} s".replace("-", "−")
            self.curve.show_lines(offsets, [(words, heights)], (), found.offset)

    def say_of(self, shot: Shot) -> None:
        part = partner(shot)
        if part is None:
            return
        busy, name = self._busy is not None, Path(part.path).name
        self.listen.setEnabled(not busy)
        self.listen.setText("Listening…" if busy else LISTEN)
        self.together.setVisible(False)
        try:
            found = self.found(shot, part)
        except AdzerError:
            self.say(f"What was measured of {name} cannot be read any more. Measure it again.")
            return
        if found is None:
            self.say(f"It was not measured how {name} lies against this one.")
            return
        if found.offset is None or found.uncertainty is None:
            self.say(f"It cannot be told of {name}. {' '.join(found.says.values())}", "A clap that both see and hear settles it.")
            return
        self._draw(found)
        start = f"{abs(found.offset):.4f} s {'after' if found.offset >= 0 else 'before'} this one (±\u00a0{found.uncertainty:.4f} s)"
        words = f"{name} starts {start}, by {found.by}, {found.confidence:.0%} sure."
        if part.role == "second" and shot.facts.rate:
            whole, rest = found.left_over(float(shot.facts.rate))
            words += f" {abs(whole)} whole frames leave {rest:.2f} of one: "
            words += f"what crosses by 10 pixels a frame looks {10 * rest:.1f} pixels too near or far."
            self.together.setVisible(True)
            self.together.setEnabled(not busy)
        if found.drift_ppm is not None and found.drift_uncertainty is not None and abs(found.drift_ppm) > found.drift_uncertainty:
            words += f" Its clock runs {found.drift_ppm:+.1f} millionths fast: {abs(found.drift_ppm) * 3.6:.0f} ms an hour.".replace("-", "−")
        self.say(f"{words} {found.says.get('timecode', '')}".strip(), "Sound needs 3 ms a metre: who stands nearer hears it earlier.")
