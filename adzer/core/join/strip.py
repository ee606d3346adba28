"""What two lenses both see, laid out flat to be looked at, and to be pointed at."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..media.formats import Plane
from ..space.meeting import Around
from ..space.sphere import Array
from .along import Overlap

ROWS = 3  # of which each goes a third of the way round, from straight down over the left, up and the right
GAP = 6  # pixels
PIECE = 6.0  # degrees
STRONG = 4.0  # times, as which what differs is shown


def looked(overlap: Overlap, planes: tuple[Plane, ...], apart: Around | None, time: float, how: str, wide: int) -> tuple[NDArray[np.uint8], ...]:
    """Pictures (rows, columns, 3), ``wide`` pixels across: ``by turns`` (two: the first lens, the second), brought together by ``apart`` (degrees),
    ``in pieces`` (a piece of the one beside a piece of the other, so that what does not meet breaks), or ``apart``: what differs about grey,
    in each row as it is, and under that brought together."""
    turned, heights = _places(overlap.half, wide)
    near = 0.0 if apart is None else apart.at((turned % 360) / 360, time)
    both = overlap.at(planes, turned, heights, near)
    if how == "by turns":
        return tuple(_eight(_stacked([[row] for row in v])) for v in both)
    if how == "in pieces":
        first = (turned // PIECE % 2 == 0)[..., None]
        return (_eight(_stacked([[row] for row in np.where(first, *both)])),)
    plain = overlap.at(planes, turned, heights)
    off = [0.5 + STRONG * (one - two) / 2 for one, two in (plain, both)]
    return (_eight(_stacked(list(zip(*off, strict=True)))),)


def place_in(half: float, how: str, x: float, y: float) -> tuple[float, float]:
    """Degrees round the axis, and over the plane between the lenses, of a place 0 … 1 in such a picture."""
    each = 2 if how == "apart" else 1
    row = min(int(y * ROWS), ROWS - 1)
    down = (y * ROWS - row) * each % 1.0
    return (180 + (row + x) * 360 / ROWS) % 360, half * (1 - 2 * down)


def _places(half: float, wide: int) -> tuple[Array, Array]:
    """(ROWS, rows, columns) degrees round and high."""
    high = max(2, round(wide * ROWS * 2 * half / 360))
    x, y = (np.arange(wide) + 0.5) / wide, (np.arange(high) + 0.5) / high
    row, down, across = np.meshgrid(np.arange(ROWS), half * (1 - 2 * y), x, indexing="ij")
    return 180 + (row + across) * 360 / ROWS, down


def _stacked(rows: Sequence[Sequence[Array]]) -> Array:
    """Rows of strips under each other, gaps between them."""
    parts = []
    for strips in rows:
        for strip in strips:
            parts += [strip, np.full((GAP // 3, strip.shape[1], 3), 0.1)]
        parts.append(np.full((GAP, strips[0].shape[1], 3), 0.1))
    return np.concatenate(parts[:-2])


def _eight(rgb: Array) -> NDArray[np.uint8]:
    return np.asarray(np.clip(rgb * 255 + 0.5, 0, 255), np.uint8)
