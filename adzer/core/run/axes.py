"""Panels whose axes stay axes as filters of columns and rows, and how delivered chroma is made of full planes."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples, chroma_offset, cosited
from ..plan import Panel, Size
from ..space.looks import AxisLook
from .filters import AxisFilter, axis_filter, chroma_reduction

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class AxisFilters:
    """Of a panel on plain axes: from recorded ``source`` of size ``raster`` to ``target``; nothing outside its region is read."""

    panel: Panel
    source: Samples
    target: Samples

    def _filter(self, axis: int, at: float, every: float, sub: int, count: int) -> AxisFilter:
        """``count`` samples, the first at the delivered luma place ``at``, ``every`` of them apart, of planes of ``sub``."""
        look, corner = self.panel.look, self.panel.region[axis]
        assert isinstance(look, AxisLook)
        scale, offset = float(look.scale[axis]), float(look.offset[axis])
        first = (scale * at + offset - chroma_offset(self.source.siting, axis, sub)) / sub
        size = -(-self.panel.region[axis + 2] // sub)
        made = axis_filter(count, scale * every / sub, first, size)
        return replace(made, start=made.start + corner // sub) if corner else made

    def _pair(self, chroma: bool) -> tuple[AxisFilter, AxisFilter]:
        x, y = (self._filter(i, 0.5, 1, self.source.format.sub[i] if chroma else 1, self.panel.size[i]) for i in (0, 1))
        return x, y

    @cached_property
    def luma(self) -> tuple[AxisFilter, AxisFilter]:
        """(columns, rows)"""
        return self._pair(False)

    @cached_property
    def chroma(self) -> tuple[AxisFilter, AxisFilter]:
        return self.luma if self.source.format.chroma == "4:0:0" else self._pair(True)

    @cached_property
    def direct(self) -> tuple[AxisFilter, AxisFilter]:
        """Delivered chroma from recorded chroma, where the planes stay apart: (columns, rows)."""
        x, y = (
            self._filter(i, chroma_offset(self.target.siting, i, n), n, self.source.format.sub[i], self.panel.size[i] // n)
            for i, n in enumerate(self.target.format.sub)
        )
        return x, y


def reduction(size: Size, target: Samples) -> tuple[AxisFilter, AxisFilter]:
    """Delivered chroma from every delivered pixel of a picture: (columns, rows)."""
    x, y = (
        chroma_reduction(size[i] // n, n, cosited(target.siting, vertical=i == 1), size[i])
        for i, n in enumerate(target.format.sub)
    )
    return x, y


def places(panel: Panel, target: Samples) -> NDArray[np.int64]:
    """(x, y) of a picture in the delivered luma and chroma planes."""
    (x, y), (sx, sy) = panel.place, target.format.sub
    return np.array([[x, y], [x // sx, y // sy]], dtype=np.int64)


def laid(pair: tuple[AxisFilter, AxisFilter], first: int) -> tuple[object, ...]:
    """Both filters as ``kernels.bands`` takes them; ``first``: the recorded column that its rows begin with."""
    across, down = pair
    return (down.start, down.weights, *columns(across, first))



def columns(filter_: AxisFilter, first: int = 0) -> tuple[NDArray[np.uint64], Floats, tuple[int, int]]:
    """A filter as ``bands.filter_columns`` takes it: starts, weights (taps, columns) padded to threes, and its kind.

    The kind is (−1, 0) for a plain copy, else (lo, hi): between them the filter doubles, its two kernels repeating.
    """
    count, taps = filter_.weights.shape
    padded = np.zeros((-(-taps // 3) * 3, count), np.float32)
    padded[:taps] = filter_.weights.T
    starts = (filter_.start - first).astype(np.uint64)
    return starts, padded, (-1, 0) if taps == 1 else _repeating(filter_, every=2, step=1)


def _repeating(filter_: AxisFilter, every: int, step: int) -> tuple[int, int]:
    """The longest stretch in which column i + ``every`` does what column i does, ``step`` samples on; (0, 0) if short."""
    if len(filter_.start) < 64:
        return 0, 0
    moved = filter_.start[every:] - filter_.start[:-every] == step
    alike = np.all(np.abs(filter_.weights[every:] - filter_.weights[:-every]) < 1e-6, axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], moved & alike, [False]]).astype(np.int8)))
    if len(edges) == 0:
        return 0, 0
    runs = edges.reshape(-1, 2)
    lo, hi = (int(v) for v in runs[np.argmax(runs[:, 1] - runs[:, 0])])
    hi += every
    return (lo, hi - (hi - lo) % every) if hi - lo > 48 else (0, 0)


def halving(half: AxisFilter, taps: int, size: int) -> tuple[int, int]:
    """The columns that ``bands.filter_halving`` can make of a row of ``size``, whose kernel has ``taps`` with its padding."""
    lo, hi = _repeating(half, every=1, step=2)
    while hi > lo and int(half.start[lo]) + 2 * (hi - lo + (taps - 1) // 2) > size:
        hi -= 1
    return lo, hi
