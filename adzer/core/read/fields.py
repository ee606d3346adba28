"""One field of interlaced frames: the lines of one moment, those of the other one reckoned from them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from ..light.samples import Samples
from ..media.formats import Plane
from ..plan import Planes


@dataclass(frozen=True)
class OneField:
    """A ``Prepare`` that keeps the first, third … line of each plane and makes the others from the two lines above and below each, by the
    cubic through them (weights −1, 9, 9, −1 over 16)."""

    samples: Samples
    raster: tuple[int, int]
    reach: ClassVar[tuple[int, int]] = (0, 0)

    def sized(self, raster: tuple[int, int], left: int = 0) -> OneField:
        return replace(self, raster=raster)

    def quick(self) -> OneField:
        return self

    def run(self, window: list[Planes], middle: int) -> Planes:
        made = []
        for n, plane in enumerate(window[middle]):
            w, h = self.samples.format.plane_size(self.raster, n)
            made.append(_one_field(plane[:h, :w], self.samples.top))
        return tuple(made)


def _one_field(plane: Plane, top: int) -> Plane:
    out = plane.copy()
    kept = plane[0::2].astype(np.int32)
    padded = np.pad(kept, ((1, 2), (0, 0)), mode="edge")
    count = plane.shape[0] // 2
    above, below, far_above, far_below = (padded[k : k + count] for k in (1, 2, 0, 3))
    out[1::2] = np.clip((9 * (above + below) - far_above - far_below + 8) >> 4, 0, top).astype(plane.dtype)
    return out
