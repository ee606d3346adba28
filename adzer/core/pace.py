"""Which moments of a recording are delivered, and when: the one place where frames, moments and stamps meet."""

from __future__ import annotations

from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from .errors import AdzerError
from .media import timecode
from .media.probe import FileFacts, FrameIndex

MOST = 2_000_000  # frames, a day's at 25 a second, beyond which a few recorded ones are not drawn out


def too_long(frames: int, recorded: int) -> bool:
    """Would so many delivered frames be made of a few recorded ones, as a jump of the clock asks for?"""
    return frames > MOST and frames > 4 * recorded


@dataclass(frozen=True)
class Paced:
    """A span of a recording as it is delivered.

    frames     the recorded frame behind each delivered one, and ``moments``: seconds of the recording from its first frame, where
               what moves is then
    stamps     of each, in ``time_base`` units from 0; ``last``: how long the last of them stands
    between    are frames made at moments between recorded ones? Else ``frames`` are shown
    start, stop   container times between which the recording's sound belongs to it, heard ``speed`` times as fast
    """

    frames: NDArray[np.int64]
    stamps: NDArray[np.int64]
    moments: NDArray[np.float64]
    time_base: Fraction
    rate: Fraction
    speed: Fraction
    start: Fraction
    stop: Fraction
    between: bool = False

    def __len__(self) -> int:
        return len(self.frames)

    @property
    def last(self) -> int:
        if len(self.stamps) > 1:
            return int(np.median(np.diff(self.stamps)))
        return max(1, round(1 / self.rate / self.time_base))

    def segments(self, length: int) -> list[tuple[int, int]]:
        """Delivered frames [from, to) of pieces of ``length``."""
        return [(a, min(a + length, len(self))) for a in range(0, len(self), length)]


@dataclass(frozen=True)
class Pace:
    """How a recording's time becomes a delivery's: every recorded frame once at its own time; or, made ``even`` at a rate or
    played at another ``speed``, at each tick the frame nearest in recorded time, of two as near the earlier one; or, ``between``, one that is made
    of both; or those that were ``chosen``, one a tick."""

    facts: FileFacts
    even: Fraction | None = None
    speed: Fraction = Fraction(1)
    between: bool = False
    chosen: tuple[int, ...] = ()

    def at(self, speed: Fraction, between: bool = False, chosen: tuple[int, ...] = ()) -> Pace:
        return replace(self, speed=speed, between=between, chosen=chosen)

    @property
    def rate(self) -> Fraction:
        """Delivered frames a second, on average where stamps vary."""
        return self.even or self.facts.rate or Fraction(25)

    @property
    def each_once(self) -> bool:
        return self.even is None and self.speed == 1

    @property
    def constant(self) -> bool:
        return self.facts.constant_rate or not self.each_once

    @property
    def seconds(self) -> Fraction:
        """How long the whole of it is delivered."""
        if self.chosen:
            return Fraction(len(self.chosen)) / self.rate
        return Fraction(self.frames) / self.rate if self.even else self.facts.duration / self.speed

    @property
    def frames(self) -> int:
        """How many of the whole recording are delivered."""
        if self.chosen:
            return len(self.chosen)
        if self.each_once:
            return self.facts.frames
        if self.even is None:
            return max(1, round(self.facts.frames / self.speed))
        return max(1, round(self.facts.duration * self.rate / self.speed))

    def over(self, index: FrameIndex, start: int, stop: int) -> Paced:
        """Of recorded frames ``start`` … ``stop`` − 1."""
        base, pts = self.facts.time_base, index.pts
        numbers, first = np.arange(start, stop), int(pts[start])
        times = pts[start:stop] - first
        moments = (pts[start:stop] - pts[0]).astype(np.float64) * float(base)
        begins = first * base
        if self.chosen:
            inside = np.array([n for n in self.chosen if start <= n < stop] or [start])
            moments, begins = (pts[inside] - pts[0]).astype(np.float64) * float(base), int(pts[inside[0]]) * base
            return self._paced(inside, np.arange(len(inside)), moments, 1 / self.rate, begins)
        if not self.each_once:
            ends = int(pts[stop]) * base if stop < len(pts) else int(pts[0]) * base + self.facts.duration
            count = max(1, round((ends - begins) * self.rate / self.speed))
            if too_long(count, stop - start):
                raise AdzerError(
                    f"{self.facts.path}: its time stamps jump, so that {stop - start} recorded frames would become {count}. "
                    "Deliver it at its recorded times, or cut it at the jump."
                )
            tick = self.speed / (self.rate * base)  # in units of the time base, exact
            ticks = np.arange(count) * tick.numerator
            after = np.clip(np.searchsorted(times * tick.denominator, ticks), 1, len(times) - 1) if len(times) > 1 else 0
            before = np.maximum(after - 1, 0)
            earlier = 2 * ticks <= (times[before] + times[after]) * tick.denominator
            chosen = np.broadcast_to(np.where(earlier, before, after), (count,))
            moments = moments[0] + np.arange(count) * float(self.speed / self.rate)
            return self._paced(numbers[chosen], np.arange(count), moments, 1 / self.rate, begins)
        if self.facts.constant_rate:
            return self._paced(numbers, np.arange(len(numbers)), moments, 1 / self.rate, begins)
        return self._paced(numbers, times.astype(np.int64), moments, base, begins)

    def _paced(
        self, frames: NDArray[np.int64], stamps: NDArray[np.int64], moments: NDArray[np.float64], base: Fraction, begins: Fraction
    ) -> Paced:
        made = Paced(frames, stamps, moments, base, self.rate, self.speed, begins, begins, self.between)
        if base * self.rate == 1:
            return replace(made, stop=begins + len(frames) / self.rate * self.speed)
        tail = made.last if len(stamps) > 1 else 0
        return replace(made, stop=begins + (int(stamps[-1]) + tail) * base)

    def timecode(self, start: int) -> str | None:
        """The recorded timecode carried on to a first delivered frame; only where rates agree can it be."""
        facts = self.facts
        if not facts.timecode or not facts.rate or self.rate != facts.rate or self.speed != 1:
            return None
        try:
            first = timecode.to_frames(facts.timecode, facts.rate) + start
        except AdzerError:
            return None
        return timecode.to_label(first, facts.rate, timecode.is_drop(facts.timecode))
