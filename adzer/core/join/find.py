"""Which recordings of two folders belong together: by what they are, then by what they heard or how they moved."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from ..media.probe import FileFacts

LENGTH = 12.0  # seconds that one may have been started before and stopped after the other
LONE = 1.3  # times as sure as the next that a partner must be


@dataclass(frozen=True)
class Found:
    """One of each list by its number; ``offset``: seconds by which the second's start lies after the first's."""

    first: int
    second: int
    offset: float
    confidence: float
    by: str


def could_be(a: FileFacts, b: FileFacts) -> bool:
    """Same mode, and about as long: two cameras that were started and stopped by one hand."""
    if a.raster != b.raster or a.rate != b.rate:
        return False
    lasts = [f.frames / float(f.rate or 25) for f in (a, b)]
    return abs(lasts[0] - lasts[1]) <= LENGTH


def partners(
    firsts: Sequence[FileFacts], seconds: Sequence[FileFacts], compare: Callable[[int, int], tuple[float, float, str]], sure: float
) -> list[Found]:
    """``compare(i, j)`` → (offset, confidence, by what). Two belong together if each is the other's surest, clearly, and surely; what two
    would be as sure of is nobody's."""
    told = {
        (i, j): compare(i, j) for i, a in enumerate(firsts) for j, b in enumerate(seconds) if could_be(a, b)
    }  # fmt: skip
    found = []
    for (i, j), (offset, confidence, by) in told.items():
        rivals = [c for (k, m), (_, c, _) in told.items() if (k == i) != (m == j)]
        if confidence >= sure and confidence >= LONE * max(rivals, default=0.0):
            found.append(Found(i, j, offset, confidence, by))
    return found
