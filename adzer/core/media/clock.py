"""When is a recorded frame? By its time stamp, always: a rate is only their mean where they vary."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError
from . import probe
from .probe import FileFacts
from .rolls import Source


class Clock:
    """Frames ↔ seconds from the first frame."""

    def __init__(self, rate: float, times: NDArray[np.float64] | None = None) -> None:
        self.rate, self._times = rate, times

    def time(self, frame: int) -> float:
        if self._times is None or len(self._times) == 0:
            return frame / self.rate
        last = len(self._times) - 1
        return float(self._times[min(max(frame, 0), last)]) + (frame - last) / self.rate * (frame > last)

    def frame(self, time: float) -> int:
        """The frame nearest to a moment, of two as near the earlier one."""
        if self._times is None or len(self._times) == 0:
            return max(0, round(time * self.rate))
        after = int(np.clip(np.searchsorted(self._times, time), 1, max(len(self._times) - 1, 1)))
        if len(self._times) == 1 or time - self._times[after - 1] <= self._times[after] - time:
            return after - 1
        return after


def clock_of(facts: FileFacts) -> Clock:
    """A recording's clock; by its mean rate where its stamps cannot be read any more."""
    rate = float(facts.rate or 25)
    return Clock(rate) if facts.constant_rate else _by_stamps(facts.fingerprint, facts.source, float(facts.time_base), rate)


@lru_cache(maxsize=64)
def _by_stamps(fingerprint: str, source: Source, base: float, rate: float) -> Clock:
    try:
        pts = probe.scan(source, fingerprint).pts
    except (UnreadableError, OSError):
        return Clock(rate)
    return Clock(rate, (pts - pts[0]).astype(np.float64) * base)
