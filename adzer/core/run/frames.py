"""The recorded frames behind each delivered one: of every input by its own clock, and prepared with their neighbours."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from types import TracebackType

import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError
from ..light.samples import Samples
from ..look.between import AT_ONE, Moves, seen
from ..media.decode import Frame, Reader, opened
from ..media.probe import FileFacts
from ..media.still import rgba
from ..plan import Input, Planes, Prepare, Still
from .laying import as_recorded


def numbers(held: Input, reader: Reader, frames: NDArray[np.int64], moments: NDArray[np.float64]) -> NDArray[np.int64]:
    """Frames of an input at ``moments`` of the shot, the nearest by its own clock. Where that is the shot's: ``frames``."""
    if held.by_its_clock:
        return frames
    before, part = around(held, reader, moments)
    return np.asarray(before + (part > 0.5))


def around(held: Input, reader: Reader, moments: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The frame of an input at ``moments`` of the shot or the last before, and which part, 0 … 1, of the time to the next has passed then."""
    times = (reader.index.pts - reader.index.pts[0]) * float(reader.time_base)
    wanted = held.moment(moments)
    before = np.clip(np.searchsorted(times, wanted, side="right") - 1, 0, max(len(times) - 2, 0))
    if len(times) == 1:
        return np.zeros(len(wanted), np.int64), np.zeros(len(wanted))
    return before, np.clip((wanted - times[before]) / (times[before + 1] - times[before]), 0.0, 1.0)


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
    """Frames of one recording after its ``prepares``, each decoded and prepared once; those before ``forget`` are not kept.

    ``frames``: decoded ones in their order, from where they are asked for on; None: any is sought for.
    """

    def __init__(self, held: Input, reader: Reader, frames: Iterator[Frame] | None = None) -> None:
        self.held, self.prepares, self.reader, self._frames = held, held.prepares, reader, frames
        self._kept: list[dict[int, Planes]] = [{} for _ in range(len(held.prepares) + 1)]
        self._moves: tuple[int, Moves] | None = None
        self._first = 0
        self.damaged = set[int]()  # numbers of the frames that decoded with errors
        self.made = self.again = 0
        self.parts = 0.0  # of pictures, in those that were made

    def planes(self, number: int, steps: int | None = None) -> Planes:
        steps = len(self.prepares) if steps is None else steps
        kept = self._kept[steps]
        if number not in kept:
            if steps == 0:
                kept[number] = self._decoded(number)
                return kept[number]
            prepare = self.prepares[steps - 1]
            first, last = max(0, number - prepare.reach[0]), min(len(self.reader) - 1, number + prepare.reach[1])
            kept[number] = prepare.run([self.planes(n, steps - 1) for n in range(first, last + 1)], number - first)
        return kept[number]

    def forget(self, number: int) -> None:
        """No frame before is asked for again; its neighbours may be."""
        self._first = number - sum(p.reach[0] for p in self.prepares)
        for kept in self._kept:
            for old in [n for n in kept if n < self._first]:
                del kept[old]

    def at(self, number: int, part: float) -> Planes:
        """What was there ``part`` of the time to the next frame later: made between both where their movement agrees, else the nearer one."""
        if part < AT_ONE or part > 1 - AT_ONE or number + 1 >= len(self.reader):
            return self.planes(number + (part > 0.5))
        if self._moves is None or self._moves[0] != number:
            self._moves = number, self.moves(number)
        moves = self._moves[1]
        if not moves.trusted:
            self.again += 1
            return self.planes(number + (part > 0.5))
        self.made += 1
        self.parts += moves.share
        between, samples = moves.at(part), self.held.lying
        sizes = [samples.format.plane_size(self.held.as_recorded[1], i) for i in range(len(self.planes(number)))]
        both = zip(self.planes(number), self.planes(number + 1), sizes, strict=True)
        return tuple(between.made(a[:h, :w], b[:h, :w], samples.top) for a, b, (w, h) in both)

    def moves(self, number: int) -> Moves:
        """From a recorded frame to the next, as they are before anything is done to them."""
        samples, (w, h) = self.held.as_recorded
        return Moves.of(*(seen(self.planes(n, 0)[0][:h, :w], samples.top) for n in (number, number + 1)))

    def _decoded(self, number: int) -> Planes:
        if self._frames is None:
            return self._noted(self.reader.frame(number)).planes
        for frame in self._frames:
            if frame.number == number:
                return self._noted(frame).planes
            if frame.number >= self._first:
                self._kept[0][frame.number] = self._noted(frame).planes
        raise UnreadableError(f"{self.reader.path}: frame {number} cannot be decoded. Copy the file from the card again.")


    def _noted(self, frame: Frame) -> Frame:
        if frame.damaged:
            self.damaged.add(frame.number)
        return frame


class Inputs:
    """A plan's inputs opened for decoding. Use as a context manager. ``made``: frames of its first recording that were made between two so far;
    ``again``: where these do not agree, and the nearer one was given; ``parts``: of pictures among those made, where it was, in all."""

    def __init__(self, inputs: tuple[Input, ...], facts: FileFacts) -> None:
        self.inputs, self._open = inputs, ExitStack()
        self._readers: dict[object, Reader] = {}
        self.made = self.again = 0
        self.parts = 0.0
        self.damaged = set[int]()  # of any recording: numbers of the frames that decoded with errors so far
        try:
            self._lines = [self._opened(i, facts) for i in inputs]
        except BaseException:
            self._open.close()
            raise

    def __enter__(self) -> Inputs:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self._open.close()

    def along(self, frames: NDArray[np.int64], moments: NDArray[np.float64], between: bool = False) -> Iterator[list[Planes]]:
        """The planes of every input for delivered frames in their order, with the recorded ``frames`` and ``moments`` behind them;
        ``between``: are frames made at moments that lie between two recorded ones? Each recording is decoded once, whatever inputs take
        of it."""
        shared: dict[object, list[tuple[int, NDArray[np.int64], NDArray[np.float64]]]] = {}
        for n, (held, line) in enumerate(zip(self.inputs, self._lines, strict=True)):
            if isinstance(line, tuple):
                continue
            if between and held.drift:
                at, part = around(held, line, moments)
            else:
                at, part = numbers(held, line, frames, moments), np.zeros(len(frames))
            shared.setdefault(_recording(held), []).append((n, at, part))
        readers = [self._prepared(each) for each in shared.values() if len(frames)]
        had = self.made, self.again, self.parts
        for k in range(len(frames)):
            planes = [line if isinstance(line, tuple) else () for line in self._lines]
            for each, prepared in zip(shared.values(), readers, strict=True):
                prepared.forget(min(int(at[k]) for _, at, _ in each))
                for n, at, part in sorted(each, key=lambda one: int(one[1][k])):
                    planes[n] = prepared.at(int(at[k]), float(part[k]))
                self.damaged |= prepared.damaged
            if readers:
                self.made, self.again = had[0] + readers[0].made, had[1] + readers[0].again
                self.parts = had[2] + readers[0].parts
            yield planes

    def _prepared(self, taken: list[tuple[int, NDArray[np.int64], NDArray[np.float64]]]) -> Prepared:
        """What several inputs take of one recording, in its order."""
        held, reader = self.inputs[taken[0][0]], self._lines[taken[0][0]]
        assert isinstance(reader, Reader)
        before, after = (sum(p.reach[i] for p in held.prepares) for i in (0, 1))
        first = max(0, min(int(at.min()) for _, at, _ in taken) - before)
        last = min(len(reader), max(int(at.max()) for _, at, _ in taken) + 1 + after + 1)
        return Prepared(held, reader, reader.frames(first, last))

    def _opened(self, held: Input, facts: FileFacts) -> Reader | Planes:
        if held.still is not None:
            return still_planes(held.still, held.samples)
        key = _recording(held)
        if key not in self._readers:
            self._readers[key] = self._open.enter_context(opened(held.sources) if held.sources else opened(facts.sources, facts.fingerprint))
        return self._readers[key]


def _recording(held: Input) -> object:
    """What inputs have in common whose frames are decoded and prepared once for all of them. One that stands at a moment of its own has none with
    others, which would keep all that lies between."""
    return held.sources, held.prepares, None if held.drift else held.offset
