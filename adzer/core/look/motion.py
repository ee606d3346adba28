"""How a recorded picture moves from frame to frame: one shift, turn and size for what stands still in the world.

Corners are followed to the next frame and back again (Lucas and Kanade 1981, in pyramids); those that come back to where they
began vote for one similarity (Fischler and Bolles 1981, RANSAC), so that what moves by itself does not count while more stands still.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..media.decode import Frame
from .passes import Rows
from .sampling import cell, small

WIDE = 640  # columns that are looked at
CORNERS, LEAST = 400, 12
TILES = 6, 4  # parts across and down, each with as many corners as another
WEAKEST = 5e-4  # of the strongest corner's strength, below which one is no corner
AROUND = (21, 21)  # pixels about a corner that are looked for
BACK = 0.5  # pixels off, there and back, from which on a corner is not believed
AGREES = 0.7  # pixels from the common motion within which a corner votes for it
X, Y, ROLL, SIZE, SURE = range(5)

Picture = NDArray[np.uint8]


@dataclass(frozen=True)
class Motion:
    """An analysis (``passes.Pass``). A row says how the picture lies against the one before: ``x``, ``y``: recorded pixels by which
    its middle moved right and down; ``roll``: degrees clockwise; ``size``: per cent larger; ``sure``: share of corners that agree,
    0 where it is not known (then the rest is 0, too)."""

    samples: Samples
    name: ClassVar[str] = "motion"
    version: ClassVar[int] = 1
    reach: ClassVar[tuple[int, int]] = (1, 0)
    columns: ClassVar[tuple[str, ...]] = ("x", "y", "roll", "size", "sure")

    def prepared(self, frame: Frame) -> tuple[Picture, int]:
        """The picture in eight bits, and recorded pixels a side of each of its pixels."""
        seen = small(frame, self.samples, WIDE)
        return np.clip(seen * 255.0 + 0.5, 0, 255).astype(np.uint8), cell(frame.raster[0], WIDE)

    def row(self, window: Sequence[tuple[Picture, int]], middle: int) -> Sequence[float]:
        if middle == 0:
            return (0.0, 0.0, 0.0, 0.0, 1.0)
        (before, side), (now, _) = window[middle - 1], window[middle]
        return moved(before, now, side)


def moved(before: Picture, now: Picture, side: int = 1) -> tuple[float, float, float, float, float]:
    """A row of ``Motion`` from one picture to the next; ``side``: recorded pixels a side of each of theirs."""
    import cv2  # here, as it loads slowly and the window opens without it

    unknown = (0.0, 0.0, 0.0, 0.0, 0.0)
    corners = _corners(before)
    if len(corners) < LEAST:
        return unknown
    there, found, _ = cv2.calcOpticalFlowPyrLK(before, now, corners, np.empty_like(corners), winSize=AROUND, maxLevel=4)
    back, again, _ = cv2.calcOpticalFlowPyrLK(now, before, there, np.empty_like(corners), winSize=AROUND, maxLevel=4)
    off = np.linalg.norm((back - corners).reshape(-1, 2), axis=1)
    good = (found.ravel() == 1) & (again.ravel() == 1) & (off < BACK)
    if good.sum() < LEAST:
        return unknown
    middle = np.array([before.shape[1] - 1, before.shape[0] - 1]) / 2
    a, b = (np.ascontiguousarray(p.reshape(-1, 2)[good] - middle, np.float64) for p in (corners, there))
    cv2.setRNGSeed(1)
    matrix, agreed = cv2.estimateAffinePartial2D(a, b, method=cv2.RANSAC, ransacReprojThreshold=AGREES, maxIters=2000, refineIters=20)
    if matrix is None or agreed is None or agreed.sum() < LEAST:
        return unknown
    # Of all corners that were looked for: where most of the picture is gone, as at a cut, few agree however well.
    share = float(agreed.sum()) / len(corners)
    size = float(np.hypot(matrix[0, 0], matrix[1, 0]))
    roll = float(np.degrees(np.arctan2(matrix[1, 0], matrix[0, 0])))
    return float(matrix[0, 2]) * side, float(matrix[1, 2]) * side, roll, 100 * (size - 1), share if share > 0.2 else 0.0


def _corners(picture: Picture) -> NDArray[np.float32]:
    """(n, 1, 2) of each part of the picture its own best ones, so that no bright title or near thing has them all."""
    import cv2

    strength = cv2.cornerMinEigenVal(picture, 3)
    h, w = picture.shape
    apart, least = max(4, w // 60), WEAKEST * float(strength.max())
    found = []
    for y in range(TILES[1]):
        for x in range(TILES[0]):
            top, left = y * h // TILES[1], x * w // TILES[0]
            part = picture[top : (y + 1) * h // TILES[1], left : (x + 1) * w // TILES[0]]
            best = cv2.goodFeaturesToTrack(part, CORNERS // (TILES[0] * TILES[1]), 0.05, apart)
            if best is not None:
                at = best.reshape(-1, 2) + (left, top)
                found.append(at[strength[at[:, 1].astype(int), at[:, 0].astype(int)] > least])
    return np.concatenate([np.zeros((0, 2)), *found])[:, None].astype(np.float32)


def path(rows: Rows) -> NDArray[np.float64]:
    """(frames, 4) how the picture lies against the first: ``x``, ``y``, ``roll``, ``size`` summed up. Over frames whose motion is
    not known it goes on as before and after; where a picture is wholly another, it stays."""
    steps = np.array(rows[:, :SURE], np.float64)
    unknown = rows[:, SURE] <= 0
    if unknown.any() and not unknown.all():
        at = np.arange(len(steps))
        near = np.abs(at[unknown][:, None] - at[~unknown][None]).min(axis=1)
        for c in range(SURE):
            steps[unknown, c] = np.where(near <= 2, np.interp(at[unknown], at[~unknown], steps[~unknown, c]), 0.0)
    return np.asarray(np.cumsum(steps, axis=0))
