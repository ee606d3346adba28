"""Dots that stay where they are whatever the camera looks at, in footage that is no sensor values any more: found, and taken from around them.

What was one hot value has been spread by the camera's own demosaicing and its codec: a dot is up to seven pixels wide. What the scene shows
stays nowhere while the camera, or the scene, moves; where nothing moves, it cannot be told from a dot, and is left.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..plan import Planes

Floats = NDArray[np.float32]
Dot = tuple[int, int, int]  # the middle, in luma pixels of the recording, and how far it reaches each way

NOISY = 4.0  # times what is usual, by which it has to change at least: noise alone changes by one
STRONG, SURE = 0.05, 6.0  # of the way from black to white that a dot lies above or below all around it, at least; times what is usual there
LEAST, MOST, WIDE = 4, 400, 7  # frames that must show it; dots, beyond which it is something else; pixels
MOVED, ALIKE = 0.008, 0.5  # of the way from black to white by which what lies round it has to change between moments; how alike it may be


def found(frames: Sequence[Floats], span: float) -> tuple[Dot, ...]:
    """In luma (rows, columns) of moments far apart; ``span``: codes from black to white."""
    import cv2

    if len(frames) < LEAST:
        return ()
    above, below = (np.full(frames[0].shape, v, np.float32) for v in (np.inf, -np.inf))
    usuals = []
    for frame in frames:  # one at a time, as they are large
        off = frame - cv2.medianBlur(np.ascontiguousarray(frame), 5)
        np.minimum(above, off, out=above)
        np.maximum(below, off, out=below)
        usuals.append(float(np.median(np.abs(off[::4, ::4]))))
    usual = 1.4826 * float(np.median(usuals))
    strong = max(STRONG * span, SURE * usual)
    mask = ((above > strong) | (below < -strong)).astype(np.uint8)
    count, _, boxes, _ = cv2.connectedComponentsWithStats(cv2.dilate(mask, np.ones((3, 3), np.uint8)))
    if count - 1 > MOST:
        return ()
    made = []
    for left, top, w, h, _ in boxes[1:].tolist():  # one pixel more each way than what is strong
        x, y, reach = left + w // 2, top + h // 2, (max(w, h) + 1) // 2
        changes, alike = _moved(frames, x, y, reach)
        if max(w, h) <= WIDE and changes > max(MOVED * span, NOISY * usual) and alike < ALIKE:
            made.append((x, y, reach))
    return tuple(made)


def _moved(frames: Sequence[Floats], x: int, y: int, reach: int) -> tuple[float, float]:
    """By how much what is drawn round a dot changes from moment to moment, and how alike it is, −1 … 1; both in the middle."""
    far = reach + 8
    top, left, near = max(0, y - far), max(0, x - far), reach + 1
    around = [f[top : y + far + 1, left : x + far + 1] for f in frames]
    ring = np.ones(around[0].shape, bool)
    ring[max(0, y - near - top) : y + near + 1 - top, max(0, x - near - left) : x + near + 1 - left] = False
    drawn = [f[ring] - f[ring].mean() for f in around]
    pairs = list(zip(drawn[:-1], drawn[1:], strict=True))
    alike = [float((a * b).sum() / max(np.linalg.norm(a) * np.linalg.norm(b), 1e-9)) for a, b in pairs]
    return float(np.median([np.abs(a - b).mean() for a, b in pairs])), float(np.median(alike))


@dataclass(frozen=True)
class Healed:
    """A ``Prepare``: dots are drawn straight from one side of them to the other, across and down. ``raster``: of the recorded pictures."""

    held: Samples
    raster: tuple[int, int]
    dots: tuple[Dot, ...]
    reach: ClassVar[tuple[int, int]] = (0, 0)

    @property
    def samples(self) -> Samples:
        return self.held

    def sized(self, raster: tuple[int, int], left: int = 0) -> Healed:
        return Healed(self.held, raster, tuple((x - left, y, r) for x, y, r in self.dots if 0 <= x - left < raster[0]))

    def quick(self) -> Healed:
        return self

    def run(self, window: list[Planes], middle: int) -> Planes:
        made = []
        for i, plane in enumerate(window[middle]):
            w, h = self.held.format.plane_size(self.raster, i)
            sx, sy = self.held.format.sub if i else (1, 1)
            mended = plane.copy()
            for x, y, r in self.dots:
                _mend(mended[:h, :w], x // sx, y // sy, -(-r // sx), -(-r // sy))
            made.append(mended)
        return tuple(made)


def _mend(plane: NDArray[np.generic], x: int, y: int, across: int, down: int) -> None:
    h, w = plane.shape
    left, right, top, bottom = x - across - 1, x + across + 1, y - down - 1, y + down + 1
    rows, columns = np.arange(max(top + 1, 0), min(bottom, h)), np.arange(max(left + 1, 0), min(right, w))
    if not len(rows) or not len(columns):
        return
    sides = [plane[rows, v].astype(np.float64) for v in (left if left >= 0 else min(right, w - 1), right if right < w else max(left, 0))]
    ends = [plane[v, columns].astype(np.float64) for v in (top if top >= 0 else min(bottom, h - 1), bottom if bottom < h else max(top, 0))]
    along, upright = (columns - left) / (right - left), (rows - top) / (bottom - top)
    drawn = np.outer(sides[0], 1 - along) + np.outer(sides[1], along) + np.outer(1 - upright, ends[0]) + np.outer(upright, ends[1])
    plane[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1] = np.round(drawn / 2).astype(plane.dtype)
