"""The recorded frames behind each delivered one: of every input by its own clock, and prepared with their neighbours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from types import TracebackType

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError
from ..light.samples import Samples
from ..media.decode import Reader
from ..media.rolls import Source
from ..media.still import rgba
from ..plan import Input, Planes, Prepare, Still
from .laying import as_recorded


def numbers(held: Input, reader: Reader, frames: NDArray[np.int64], moments: NDArray[np.float64]) -> NDArray[np.int64]:
    """Frames of an input at ``moments`` of the shot, the nearest by its own clock. Where that is the shot's: ``frames``."""
    if held.by_its_clock:
        return frames
    times = (reader.index.pts - reader.index.pts[0]) * float(reader.time_base)
    wanted = held.moment(moments)
    after = np.clip(np.searchsorted(times, wanted), 1, max(len(times) - 1, 1))
    if len(times) == 1:
        return np.zeros(len(wanted), np.int64)
    return np.asarray(np.where(wanted - times[after - 1] <= times[after] - wanted, after - 1, after))


def still_planes(still: Still, samples: Samples) -> Planes:
    """A person's own picture as codes of a recording. UnreadableError if it has changed since, or cannot be read."""
    picture = rgba(still.file, still.print_)
    signal = as_recorded(picture[..., :3] * picture[..., 3:], still.curve, still.primaries)
    matrix = samples.to_codes()
    codes = np.clip(np.rint(signal @ matrix[:, :3].T + matrix[:, 3]), 0, samples.top).astype(samples.format.dtype)
    return tuple(np.ascontiguousarray(codes[..., c]) for c in range(3))


def prepared(prepares: tuple[Prepare, ...], window: list[Planes], middle: int) -> Planes:
    """One frame of a few neighbours after its prepares, of which the last ones look at no others."""
    for n, each in enumerate(prepares):
        if n + 1 < len(prepares) and any(sum(p.reach) for p in prepares[n + 1 :]):
            window = [each.run(window, k) for k in range(len(window))]
        else:
            window, middle = [each.run(window, middle)], 0
    return window[middle]


class Prepared:
    """Frames of one input after its ``prepares``; keeps those that the next ones need."""

    def __init__(self, held: Input, reader: Reader) -> None:
        self.prepares, self.reader = held.prepares, reader
        self._kept: list[dict[int, Planes]] = [{} for _ in range(len(held.prepares) + 1)]

    def planes(self, number: int, steps: int | None = None) -> Planes:
        steps = len(self.prepares) if steps is None else steps
        kept = self._kept[steps]
        if number not in kept:
            if steps == 0:
                made = self.reader.frame(number).planes
            else:
                prepare = self.prepares[steps - 1]
                first, last = max(0, number - prepare.reach[0]), min(len(self.reader) - 1, number + prepare.reach[1])
                made = prepare.run([self.planes(n, steps - 1) for n in range(first, last + 1)], number - first)
            reach = 1 + sum(sum(p.reach) for p in self.prepares)
            for old in [n for n in kept if abs(n - number) > reach]:
                del kept[old]
            kept[number] = made
        return kept[number]


class Inputs:
    """A plan's inputs opened for decoding. Use as a context manager."""

    def __init__(self, inputs: tuple[Input, ...], source: Source, print_: str | None) -> None:
        self.inputs, self._open = inputs, ExitStack()
        try:
            self._lines = [self._opened(i, source, print_) for i in inputs]
        except BaseException:
            self._open.close()
            raise

    def __enter__(self) -> Inputs:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self._open.close()

    def along(self, frames: NDArray[np.int64], moments: NDArray[np.float64]) -> Iterator[list[Planes]]:
        """The planes of every input for delivered frames in their order, with the recorded ``frames`` and ``moments`` behind them."""
        lines = [
            iter([line] * len(frames)) if isinstance(line, tuple) else self._of(held, line, numbers(held, line, frames, moments).tolist())
            for held, line in zip(self.inputs, self._lines, strict=True)
        ]
        for planes in zip(*lines, strict=True):
            yield list(planes)

    def _opened(self, held: Input, source: Source, print_: str | None) -> Reader | Planes:
        if held.still is not None:
            return still_planes(held.still, held.samples)
        return self._open.enter_context(Reader(source, print_=print_) if held.source is None else Reader(held.source))

    @staticmethod
    def _of(held: Input, reader: Reader, wanted: list[int]) -> Iterator[Planes]:
        """Of rising numbers, one that comes twice given twice."""
        if not wanted:
            return
        if held.prepares:
            prepared = Prepared(held, reader)
            for n in wanted:
                yield prepared.planes(n)
            return
        at = 0
        for frame in reader.frames(wanted[0], wanted[-1] + 1):
            while at < len(wanted) and wanted[at] == frame.number:
                at += 1
                yield frame.planes
        if at < len(wanted):
            raise UnreadableError(f"{reader.path}: frame {wanted[at]} cannot be decoded. Copy the file from the card again.")
