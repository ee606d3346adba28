"""How numbers become codes in a stream, and back."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..media.formats import PixelFormat
from .primaries import code_scale, rgb_to_ycbcr

Array = NDArray[np.float64]

# Where chroma lies between the first luma sample (0) and the next (1), sideways and upright: H.273, Chroma420SampleLocType 0 … 5,
# and what becomes of those in a picture that is turned.
SITINGS = {
    "left": (0.0, 0.5), "center": (0.5, 0.5), "topleft": (0.0, 0.0), "top": (0.5, 0.0), "bottomleft": (0.0, 1.0),
    "bottom": (0.5, 1.0), "right": (1.0, 0.5), "topright": (1.0, 0.0), "bottomright": (1.0, 1.0),
}  # fmt: skip


def chroma_offset(siting: str, axis: int, sub: int) -> float:
    """Where chroma sample 0 lies along an axis (0 sideways), in luma samples from the picture's edge.

    >>> chroma_offset("left", 0, 2), chroma_offset("left", 1, 2)
    (0.5, 1.0)
    """
    return 0.5 + SITINGS[siting][axis] * (sub - 1)


def cosited(siting: str, vertical: bool) -> bool:
    """Is chroma on the first luma sample along this axis?

    >>> cosited("left", vertical=False), cosited("left", vertical=True)
    (True, False)
    """
    return SITINGS[siting][vertical] == 0.0


def turned_siting(siting: str, turn: int) -> str:
    """The siting in a picture that was turned clockwise by 90, 180 or 270 degrees (its sides being even).

    >>> turned_siting("left", 90)
    'top'
    """
    x, y = SITINGS[siting]
    place = {0: (x, y), 90: (1 - y, x), 180: (1 - x, 1 - y), 270: (y, 1 - x)}[turn]
    return next(name for name, at in SITINGS.items() if at == place)


@dataclass(frozen=True)
class Samples:
    """How numbers become codes in a stream: format, matrix, range, siting. ``ceiling``: of luma, a share of white that nothing written
    passes; None: what the range has room for."""

    format: PixelFormat
    matrix: str
    limited: bool
    siting: str = "left"
    ceiling: float | None = None

    @property
    def top(self) -> int:
        return (1 << self.format.bits) - 1

    @property
    def ends(self) -> tuple[int, int]:
        """The lowest and highest code that may be written: BT.709-6, item 4.5, and BT.2100-2, table 9, keep the outermost
        ones of limited range for timing."""
        step = 1 << (self.format.bits - 8)
        return (step, 255 * step - 1) if self.limited else (0, self.top)

    @property
    def most(self) -> tuple[int, int, int]:
        """The highest code that may be written of each plane."""
        high = self.ends[1]
        if self.ceiling is None or not self.limited or self.matrix == "rgb":
            return (high, high, high)
        scale, offset = code_scale(self.format.bits, self.limited, self.matrix)
        return (min(high, int(np.floor(offset[0] + self.ceiling * scale[0] + 1e-9))), high, high)

    def to_signal(self) -> Array:
        """3×4 matrix: codes of the three planes, and 1 → R′G′B′."""
        scale, offset = code_scale(self.format.bits, self.limited, self.matrix)
        back = np.linalg.inv(rgb_to_ycbcr(self.matrix))
        if self.format.chroma == "4:0:0":
            back = np.column_stack([np.ones(3), np.zeros(3), np.zeros(3)])
        return np.column_stack([back / scale, -(back / scale) @ offset])

    def to_codes(self, saturation: float = 1.0) -> Array:
        """3×4 matrix: R′G′B′, and 1 → codes of the three planes."""
        scale, offset = code_scale(self.format.bits, self.limited, self.matrix)
        forward = rgb_to_ycbcr(self.matrix).copy()
        if self.matrix != "rgb":
            forward[1:] *= saturation
        else:
            luma = np.array([0.2126, 0.7152, 0.0722])
            forward = saturation * forward + (1 - saturation) * np.broadcast_to(luma, (3, 3))
        return np.column_stack([forward * scale[:, None], offset])

    def turned(self, turn: int) -> Samples:
        """Of the same picture turned clockwise by ``turn`` degrees."""
        if not turn:
            return self
        form = self.format
        if turn % 180 and form.chroma in ("4:2:2", "4:4:0"):
            form = replace(form, chroma="4:4:0" if form.chroma == "4:2:2" else "4:2:2")
        siting = self.siting if form.chroma in ("4:4:4", "4:0:0") else turned_siting(self.siting, turn)
        return replace(self, format=form, siting=siting)

    def black(self) -> tuple[int, int, int]:
        """Codes of black in each plane."""
        offset = code_scale(self.format.bits, self.limited, self.matrix)[1]
        return int(offset[0]), int(offset[1]), int(offset[2])
