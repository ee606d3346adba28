"""Where a recording was cut, found by looking at few of its frames."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

UNLIKE = 0.5  # correlation of two small pictures, below which neighbours show two shots
PERHAPS = 0.9  # the same of two moments far apart, above which nobody looks between them
SMALL = (18, 32)  # rows and columns


def small(plane: NDArray[np.generic]) -> Array:
    """A plane (rows, columns) as means of ``SMALL`` areas, less their mean, of length 1; no length where it is all one."""
    rows, columns = (np.linspace(0, n, k + 1).astype(int)[:-1] for n, k in zip(plane.shape, SMALL, strict=True))
    sums = np.add.reduceat(np.add.reduceat(plane.astype(np.float64), rows, axis=0), columns, axis=1)
    counts = np.outer(np.diff([*rows, plane.shape[0]]), np.diff([*columns, plane.shape[1]]))
    even = sums / counts - sums.sum() / plane.size
    return np.asarray(even / max(float(np.linalg.norm(even)), 1e-9))


def between(look: Callable[[int], Array], moments: list[int], most: int = 40) -> list[int]:
    """First frames of shots that begin between ``moments`` (frames, rising): the surest first looked for, ``most`` frames looked at besides
    those. ``look``: what ``small`` makes of a frame. Of shots shorter than the time between two moments not all are found."""
    seen = {n: look(n) for n in moments}
    open_, found = list(zip(moments[:-1], moments[1:], strict=True)), []

    def alike(span: tuple[int, int]) -> float:
        return float((seen[span[0]] * seen[span[1]]).sum())

    while open_:
        span = min(open_, key=alike)
        open_.remove(span)
        first, last = span
        if alike(span) > (UNLIKE if last - first == 1 else PERHAPS):
            continue
        if last - first == 1:
            found.append(last)
            continue
        if len(seen) - len(moments) >= most:
            break
        middle = (first + last) // 2
        seen[middle] = look(middle)
        open_ += [(first, middle), (middle, last)]
    return sorted(found)
