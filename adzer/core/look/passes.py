"""Analyses: named, versioned passes over all frames of a recording, done span by span, so that they can be stopped, gone on with and
kept (``docs/job-file.md``, ``measured``)."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import ClassVar, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from ..errors import Cancelled, UnreadableError
from ..media.decode import Frame, opened
from ..media.rolls import Sources

SPAN = 96  # frames that are looked at at once: what is lost when it is stopped
AHEAD = 8  # rows that are worked on beside each other
T = TypeVar("T")
Rows = NDArray[np.float32]


class Pass(Protocol[T]):
    """Says a row of numbers of every frame.

    name, version   under which its rows are kept; another version looks again at everything
    reach           frames before and after that it wants to see
    columns         names of the numbers in a row
    """

    name: ClassVar[str]
    version: ClassVar[int]
    reach: ClassVar[tuple[int, int]]
    columns: ClassVar[tuple[str, ...]]

    def prepared(self, frame: Frame) -> T:
        """What of a frame the window holds; asked once a frame."""
        ...

    def row(self, window: Sequence[T], middle: int) -> Sequence[float]:
        """Of ``window[middle]``; at the ends of a recording there are fewer neighbours. Several are asked for at once, from threads."""
        ...


def spans(frames: int) -> list[tuple[int, int]]:
    """Frames [from, to) of each span of a recording.

    >>> spans(200)
    [(0, 96), (96, 192), (192, 200)]
    """
    return [(a, min(a + SPAN, frames)) for a in range(0, frames, SPAN)]


def key(span: tuple[int, int]) -> str:
    return f"{span[0]}-{span[1]}"


def _held(kind: type[Pass[T]], frames: int, kept: Mapping[str, bytes]) -> list[tuple[int, int]]:
    """Spans that are kept whole, however long they were made, in their order and none over another."""
    found = []
    for name, body in kept.items():
        a, _, b = name.partition("-")
        if a.isdecimal() and b.isdecimal() and int(a) < int(b) <= frames and len(body) == 4 * len(kind.columns) * (int(b) - int(a)):
            found.append((int(a), int(b)))
    apart: list[tuple[int, int]] = []
    for span in sorted(found):
        if not apart or span[0] >= apart[-1][1]:
            apart.append(span)
    return apart


def missing(kind: type[Pass[T]], frames: int, kept: Mapping[str, bytes]) -> list[tuple[int, int]]:
    """Spans of which nothing, or nothing whole, is kept."""
    held = [(0, 0), *_held(kind, frames, kept), (frames, frames)]
    gaps = [(a[1], b[0]) for a, b in zip(held, held[1:], strict=False)]
    return [(gap[0] + a, gap[0] + b) for gap in gaps for a, b in spans(gap[1] - gap[0])]


def rows(kind: type[Pass[T]], frames: int, kept: Mapping[str, bytes]) -> Rows | None:
    """(frames, columns) of what is kept; None unless all of it is."""
    if not frames or missing(kind, frames, kept):
        return None
    parts = [np.frombuffer(kept[key(s)], "<f4").reshape(-1, len(kind.columns)) for s in _held(kind, frames, kept)]
    return np.concatenate(parts)


def run(kind: Pass[T], sources: Sources, print_: str, span: tuple[int, int], cancelled: Callable[[], bool] = lambda: False) -> bytes:
    """One span's rows, to be kept. Frames are decoded once each; no more than the window is held. Cancelled if asked to stop,
    UnreadableError if a frame cannot be decoded."""
    start, stop = span
    before, after = kind.reach
    made: list[Future[Sequence[float]]] = []
    held: deque[tuple[int, T]] = deque()
    with opened(sources, print_) as reader, ThreadPoolExecutor(os.cpu_count() or 2, thread_name_prefix="rows") as pool:
        first, last = max(0, start - before), min(len(reader), stop + after)
        frames = reader.frames(first, last)
        if not 0 <= start < stop <= len(reader):
            raise UnreadableError(f"{reader.path} has {len(reader)} frames now, and had {stop} when it was read. Read it again.")
        for number in range(start, stop):
            while len(held) == 0 or held[-1][0] < min(number + after, last - 1):
                if cancelled():
                    raise Cancelled("The analysis was stopped; what is done is kept.")
                frame = next(frames)
                held.append((frame.number, kind.prepared(frame)))
            while held[0][0] < number - before:
                held.popleft()
            made.append(pool.submit(kind.row, [value for _, value in held], number - held[0][0]))
            if len(made) > AHEAD:
                made[-AHEAD].result()  # so that no more frames are held than are worked on
        return np.asarray([m.result() for m in made], "<f4").tobytes()
