"""Is it flat, a whole or half sphere, or a round lens? From poles, seam and the dark around a disc.

In an equirectangular picture the outermost rows are single points of the sphere, so that they hardly vary; and where it
is a whole turn, the last column continues in the first. A round lens leaves the corners dark and its rim is a circle.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .seen import Wrap

Array = NDArray[np.float32]
PLOT = 64


def wrap(views: list[Array]) -> Wrap:
    """Pole and seam check of one eye's pictures, (rows, columns) of luma each."""
    spread, seam = [], []
    for view in views:
        blocks = np.array_split(view, 24, axis=1)
        means = np.stack([b.mean(axis=1) for b in blocks], axis=1)
        spread.append(means.std(axis=1))
        steps = np.abs(np.diff(view.astype(np.float64), axis=1))
        seam.append((np.abs(view[:, 0] - view[:, -1]).astype(np.float64).mean(), steps.mean()))
    rows = np.mean(spread, axis=0)
    h = len(rows)
    # A clear sky varies as little as the pole above it, and mown grass hardly less at a pole: both ends are weighed.
    ends = []
    for outer, inner in ((rows[0], rows[h // 10 : h // 3]), (rows[-1], rows[-(h // 3) : -(h // 10)])):
        usual = float(np.median(inner))
        ends.append((max(float(outer) / max(usual, 1e-4), 0.04), usual))
    strong = [ratio for ratio, usual in ends if usual > 0.006] or [r for r, _ in ends]
    poles = float(np.exp(np.mean(np.log(strong))))
    jump = float(np.mean([s[0] for s in seam]) / max(np.mean([s[1] for s in seam]), 1e-5))
    left, right = np.mean([v[:, 0] for v in views], axis=0), np.mean([v[:, -1] for v in views], axis=0)
    return Wrap(round(poles, 4), round(jump, 4), _few(rows), _few(left), _few(right))


def _few(values: NDArray[np.floating]) -> tuple[float, ...]:
    at = np.linspace(0, len(values) - 1, PLOT)
    return tuple(np.round(np.interp(at, np.arange(len(values)), values), 4).tolist())


PLAIN = 0.02  # luma by which an outer column must vary, for the step over the seam to say anything
POLE, SEAM = 0.19, 2.4  # spheres lie below, flat pictures above: see the suite's table in docs/numbers.md
