"""Pictures between two recorded ones, made of what moved from one to the other; and how far one may trust them.

The flow is looked for both ways (Kroeger et al. 2016, dense inverse search). At a moment between, each place gets the flow of what passes
through it then, and both pictures are brought there and mixed. How unlike the two are that were brought there says how wrong the made one may
be: there is nothing else that either can be checked against. Where that is little, a burnt-in figure or a lamp that blinks, the nearer picture
is shown there, and the rest is made; where it is much, none is made. What only one of them shows is mixed, too: taking it of that one was tried, and
neither films nor what slides over a photograph were any the better for it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..media.formats import Plane

WIDE = 640  # columns on which the flow is looked for
AT_ONE = 1 / 64  # of the time between two frames, nearer to which than this a moment is a frame's own
TRUSTED = 30.0  # dB between both sides, below which none is made
BLOCK, UNLIKE = 8, 20.0  # pixels a side of what is judged by itself; dB between both sides, below which it is not made
MOST_APART, BEYOND = 0.12, 36.0  # share of a picture that may be so, if the rest agrees to as many dB

Seen = NDArray[np.uint8]
Floats = NDArray[np.float32]


def seen(luma: Plane, top: int) -> Seen:
    """A recorded plane (rows, columns), its highest code ``top``, as the flow is looked for on it."""
    import cv2  # here, as it loads slowly and the window opens without it

    h, w = luma.shape
    k = min(1.0, WIDE / w)
    size = (max(16, round(w * k)), max(16, round(h * k)))
    small = cv2.resize(luma, size, interpolation=cv2.INTER_AREA).astype(np.float32)
    return np.asarray(np.clip(small * np.float32(255 / top) + np.float32(0.5), 0, 255).astype(np.uint8))


@dataclass(frozen=True)
class Moves:
    """From a picture to the next. ``there`` and ``back`` (rows, columns, 2): pixels right and down by which what lies at a place of the one lies
    elsewhere in the other; ``lost`` and ``new`` (rows, columns): pixels off, there and back, of each place of the first and of the second."""

    first: Seen
    second: Seen
    there: Floats
    back: Floats
    lost: Floats
    new: Floats

    @staticmethod
    def of(first: Seen, second: Seen) -> Moves:
        import cv2

        flow: Any = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
        none: Any = None
        there, back = flow.calc(first, second, none), flow.calc(second, first, none)
        return Moves(first, second, there, back, _astray(there, back), _astray(back, there))

    def at(self, part: float) -> Between:
        """At a moment between, 0 … 1."""
        return Between(_through(self, part), part, self.apart if self.share else None)

    @cached_property
    def _off(self) -> Floats:
        """Squared difference between both sides halfway, as a share of full, (rows, columns)."""
        import cv2

        size, stays, flow = self.first.shape[1::-1], cv2.BORDER_REPLICATE, _through(self, 0.5)
        a, b = (
            cv2.remap(p, *_places(flow, 0.5, size, k), cv2.INTER_LINEAR, borderMode=stays).astype(np.float32)
            for k, p in enumerate((self.first, self.second))
        )
        return np.asarray(((a - b) / np.float32(255)) ** 2)

    @cached_property
    def apart(self) -> Floats:
        """(rows, columns) 1 where a block and those beside it do not agree, as where a figure changes or a lamp blinks: nothing moved there; 0
        elsewhere, and over a block from the one to the other."""
        import cv2

        h, w = self._off.shape
        blocks = cv2.resize(self._off, (max(1, w // BLOCK), max(1, h // BLOCK)), interpolation=cv2.INTER_AREA)
        unlike = cv2.dilate((blocks > 10 ** (-UNLIKE / 10)).astype(np.float32), np.ones((3, 3), np.uint8))
        wide: Any = cv2.resize(unlike, (w, h), interpolation=cv2.INTER_LINEAR)
        return np.asarray(wide, np.float32)

    @cached_property
    def agree(self) -> float:
        """dB between both sides halfway; 99 where they are the same."""
        return _decibels(float(self._off.mean()))

    @cached_property
    def share(self) -> float:
        """Of the picture that is shown as in the nearer one, because all the rest agrees beyond doubt; 0: nothing is."""
        share = float(self.apart.mean())
        if self.agree >= TRUSTED or not 0 < share <= MOST_APART or _decibels(float(self._off[self.apart == 0].mean())) < BEYOND:
            return 0.0
        return share

    @property
    def trusted(self) -> bool:
        """Do the two agree well enough for optical flow?"""
        return self.agree >= TRUSTED or self.share > 0


@dataclass(frozen=True)
class Between:
    """A moment ``part`` of the way between two pictures, and the ``flow`` from the one to the other of what passes through each place then.
    ``apart``: where the nearer picture is shown as it is, 0 … 1; None: nowhere."""

    flow: Floats
    part: float
    apart: Floats | None = None

    def places(self, size: tuple[int, int], second: int) -> tuple[Floats, Floats]:
        """Columns and rows of the first picture, or of the second, ``size`` wide and high, behind each place."""
        return _places(self.flow, self.part, size, second)

    def made(self, first: Plane, second: Plane, top: int) -> Plane:
        """A plane (rows, columns) of codes up to ``top`` at that moment, of both pictures'."""
        import cv2

        size = first.shape[1::-1]
        a, b = (
            cv2.remap(plane, *self.places(size, k), cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE).astype(np.float32)
            for plane, k in ((first, 0), (second, 1))
        )
        mixed = b + (a - b) * np.float32(1 - self.part)
        if self.apart is not None:
            nearer = (second if self.part > 0.5 else first).astype(np.float32)
            shown: Any = cv2.resize(self.apart, size)
            mixed = mixed + (nearer - mixed) * shown
        return np.asarray(np.clip(np.rint(mixed), 0, top).astype(first.dtype))


def _decibels(off: float) -> float:
    return 99.0 if off < 1e-9 else min(99.0, -10 * float(np.log10(off)))


def _places(flow: Floats, part: float, size: tuple[int, int], second: int) -> tuple[Floats, Floats]:
    import cv2

    (w, h), (rows, columns) = size, flow.shape[:2]
    sized: Any = flow if size == (columns, rows) else cv2.resize(flow, size)
    flow = sized
    x, y = _grid((h, w))
    by = (1 - part) if second else -part
    return x + flow[..., 0] * np.float32(by * w / columns), y + flow[..., 1] * np.float32(by * h / rows)


def _grid(shape: tuple[int, ...]) -> tuple[Floats, Floats]:
    y, x = np.indices(shape, np.float32)
    return x, y


def _astray(there: Floats, back: Floats) -> Floats:
    """Pixels by which one does not come back to each place."""
    import cv2

    x, y = _grid(there.shape[:2])
    again = cv2.remap(back, x + there[..., 0], y + there[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    return np.asarray(np.linalg.norm(there + again, axis=-1).astype(np.float32))


def _through(moves: Moves, part: float) -> Floats:
    """(rows, columns, 2) from the first to the second, of what passes through each place on the way: where several do, what finds its way back
    best; where nothing does, as round about."""
    import cv2

    h, w = moves.first.shape
    x, y = (v.ravel() for v in _grid((h, w)))
    to, flows, worse = [], [], []
    for flow, way, off, sign in ((moves.there, part, moves.lost, 1), (moves.back, 1 - part, moves.new, -1)):
        d = flow.reshape(-1, 2)
        at_x, at_y = np.rint(x + np.float32(way) * d[:, 0]).astype(np.int64), np.rint(y + np.float32(way) * d[:, 1]).astype(np.int64)
        inside = (at_x >= 0) & (at_x < w) & (at_y >= 0) & (at_y < h)
        to.append((at_y * w + at_x)[inside])
        flows.append((sign * d)[inside])
        worse.append(off.ravel()[inside])
    order = np.argsort(255 - np.minimum(np.concatenate(worse) * 32, 255).astype(np.uint8), kind="stable")  # of bytes: sorted at once
    made, there = np.zeros((h * w, 2), np.float32), np.zeros(h * w, np.float32)
    places = np.concatenate(to)[order]
    made[places] = np.concatenate(flows)[order]  # of several the last, the best, stays
    there[places] = 1.0
    made, there = made.reshape(h, w, 2), there.reshape(h, w)
    side = 3
    while not there.all():
        near = cv2.blur(there, (side, side))
        filled = cv2.blur(made * there[..., None], (side, side)) / np.maximum(near, 1e-6)[..., None]
        gaps = (there == 0) & (near > 0)
        made[gaps], there[gaps] = filled[gaps], 1.0
        side = 2 * side + 1
    return np.stack([cv2.medianBlur(np.ascontiguousarray(made[..., c]), 5) for c in (0, 1)], axis=-1)
