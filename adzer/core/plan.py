"""What the stages give to the render: a draft that travels beside the Picture, and that ``compile`` freezes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from .light.chain import ColourChain
from .light.samples import Samples
from .space.warps import AxisWarp, MapWarp


@dataclass(frozen=True)
class Draft:
    """Filled from Read to Deliver; what is None was not said yet.

    source   how the recorded codes are to be read, and ``raster``: of the recorded picture, both as it stands upright
    turn     degrees clockwise by which it is turned for that
    warp     where the recording holds each delivered pixel
    chain    from the recorded to the delivered signal; None: the pixels are left as they are
    target   how the delivered codes are to be written
    """

    source: Samples | None = None
    raster: tuple[int, int] = (0, 0)
    turn: int = 0
    warp: AxisWarp | MapWarp | None = None
    chain: ColourChain | None = None
    target: Samples | None = None

    def with_(self, **changes: Any) -> Draft:
        return replace(self, **changes)
