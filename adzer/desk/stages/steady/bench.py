"""The Steady bench: how a shot shakes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ....core.job import Shot
from ....core.media.clock import clock_of
from ....core.route import Walk
from ....core.steady.measure import SLOW
from ....core.steady.step import shaken
from ...analysing import Analysing
from ...model import Desk
from ...widgets.lines import Lines
from ...widgets.questions import Question, act
from ..base import StageBench

MOST = 1500  # places along the trace that are drawn


class SteadyBench(StageBench):
    stage = "steady"
    hint = "Q as recorded · [ ] stage · ↑↓ shot · Esc fold"

    def __init__(self, desk: Desk, analysing: Analysing) -> None:
        self.analysing = analysing
        super().__init__(desk)
        analysing.moved.connect(self._moved)

    def build(self) -> None:
        self._drawn: tuple[NDArray[np.float32], tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]] | None = None
        self.button = act("Measure how it shakes", self._measure)
        self.card = Question("How does it shake?", self.button)
        self.lines = Lines("Off where a slow hand would hold it", "px", 3)
        self.questions, self.instruments = [self.card], [self.lines]

    def _measure(self) -> None:
        """Starts it, or stops it while it runs."""
        shot = self.desk.shot
        if shot is not None and self.analysing.waits(shot):
            self.analysing.stop()
        elif shot is not None and (wants := self.desk.walk(shot)["steady"].result.wants):
            self.analysing.want(shot, wants)

    def _moved(self) -> None:
        shot = self.desk.shot
        if shot is not None and self.desk.stage == self.stage:
            self.refresh(shot, self.desk.walk(shot))

    def refresh(self, shot: Shot, walked: Walk) -> None:
        result, measured = walked["steady"].result, self.desk.found(shot)
        found, runs = shaken(measured), self.analysing.waits(shot)
        self.button.setVisible(bool(result.wants) or runs)
        self.button.setText("Stop" if runs else "Measure how it shakes")
        trace = self.desk.trace(shot) if found is not None else None
        self.lines.setVisible(trace is not None)
        if found is not None and trace is not None:
            times, lines = self._drawn_of(shot, trace)
            self.lines.show_lines(times, lines, (), clock_of(shot.facts).time(self.desk.frame))
            gait = f", mostly at {found.hz:.1f} Hz" if found.hz else ", at no one frequency"
            lost = f" On {1 - found.known:.0%} of the frames the motion is not known." if found.known < 0.995 else ""
            self.card.say(
                f"Its picture lies {found.pixels:.1f} recorded pixels (rms) off where a slow hand would hold it, at most "
                f"{found.widest:.0f}{gait}; it rolls by {found.roll:.2f}°. What is slower than {SLOW:g} Hz is taken as meant.{lost} "
                "It is left as it was held."
            )
        elif runs:
            self.card.say(f"Following its corners: {self.analysing.says() or 'others are measured first'}. What is done is kept.")
        elif result.wants:
            self.card.say("Nobody has measured it. Every frame is decoded once; it can be stopped, and goes on from there.")
        else:
            self.card.say("Only a flat picture's motion can be measured so far. It is left as it was held.")

    def _drawn_of(self, shot: Shot, trace: NDArray[np.float32]) -> tuple[NDArray[np.float64], list[tuple[str, NDArray[np.float64]]]]:
        """Seconds, and both lines; of a long shot what is farthest off in each stretch. Made once a trace."""
        if self._drawn is None or self._drawn[0] is not trace:
            each = max(1, len(trace) // MOST)
            starts = np.arange(0, len(trace), each)
            far = [s + int(np.abs(trace[s : s + each, :2]).max(axis=1).argmax()) for s in starts]
            clock = clock_of(shot.facts)
            off = trace[far].astype(np.float64)
            self._drawn = trace, (np.array([clock.time(int(n)) for n in far]), [("right", off[:, 0]), ("down", off[:, 1])])
        return self._drawn[1]

    def moved(self, shot: Shot) -> None:
        self.refresh(shot, self.desk.walk(shot))
