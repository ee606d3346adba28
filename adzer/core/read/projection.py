"""Is it flat, a whole or half sphere, or a round lens? From poles, seam and the dark around a disc.

In an equirectangular picture the outermost rows are single points of the sphere, so that they hardly vary; and where it
is a whole turn, the last column continues in the first. A round lens leaves the corners dark and its rim is a circle.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .seen import Disc, Wrap

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


def discs(mean: Array, scale: float) -> tuple[Disc, ...]:
    """The round pictures in a mean luma picture: none, one in all, or one in each half. ``scale``: recorded pixels per
    pixel of ``mean``. Only circles whose rim is seen over most of its turn, and dark corners outside, count."""
    h, w = mean.shape
    whole = _disc(mean)
    if whole is not None:
        return (Disc(round(whole[0] * scale, 2), round(whole[1] * scale, 2), round(whole[2] * scale, 2)),)
    if w < 1.5 * h:
        return ()
    found = []
    for left in (0, w // 2):
        one = _disc(mean[:, left : left + w // 2])
        if one is None:
            return ()
        found.append(Disc(round((one[0] + left) * scale, 2), round(one[1] * scale, 2), round(one[2] * scale, 2)))
    return tuple(found)


def _disc(picture: Array) -> tuple[float, float, float] | None:
    h, w = picture.shape
    padded = np.pad(picture, 1, mode="edge")
    nine = [padded[y : y + h, x : x + w] for y in range(3) for x in range(3)]
    mean: Array = np.mean(nine, axis=0, dtype=np.float32)
    k = max(3, min(h, w) // 24)
    corners = np.concatenate([mean[y, x].ravel() for y in (np.s_[:k], np.s_[-k:]) for x in (np.s_[:k], np.s_[-k:])])
    dark, noise = float(np.median(corners)), float(np.percentile(np.abs(corners - np.median(corners)), 90))
    floor = float(np.percentile(mean, 1))
    if dark - floor > 0.02 + 3 * noise or noise > 0.05 or float(np.percentile(mean, 90)) - dark < 0.08:
        return None
    lit = mean > dark + max(4 * noise, 0.012)
    if not 0.2 < lit.mean() < 0.95:
        return None
    columns, rows = np.flatnonzero(lit.mean(axis=0) > 0.02), np.flatnonzero(lit.mean(axis=1) > 0.02)
    if len(columns) < 8 or len(rows) < 8:
        return None
    cx, cy = (columns[0] + columns[-1] + 1) / 2, (rows[0] + rows[-1] + 1) / 2
    turn = np.linspace(0, 2 * np.pi, 240, endpoint=False)
    reach = np.arange(min(h, w) * 0.72, 4, -0.5)
    xs, ys = cx + np.outer(np.cos(turn), reach), cy + np.outer(np.sin(turn), reach)
    inside = (xs >= 1) & (xs < w - 1) & (ys >= 1) & (ys < h - 1)
    on = inside & lit[np.clip(ys, 0, h - 1).astype(int), np.clip(xs, 0, w - 1).astype(int)]
    first = on.argmax(axis=1)
    edge = on[np.arange(len(turn)), first]
    rim_out = inside[np.arange(len(turn)), np.maximum(first - 4, 0)]  # there is picture beyond, and it is dark
    good = edge & rim_out
    if good.sum() < 120:
        return None
    x, y = xs[np.arange(len(turn)), first][good], ys[np.arange(len(turn)), first][good]
    kept = np.ones(len(x), bool)
    for _ in range(6):
        a = np.column_stack([x[kept], y[kept], np.ones(kept.sum())])
        fit, *_ = np.linalg.lstsq(a, (x[kept] ** 2 + y[kept] ** 2), rcond=None)
        centre = fit[:2] / 2
        radius = float(np.sqrt(max(fit[2] + centre @ centre, 1e-6)))
        off = np.hypot(x - centre[0], y - centre[1]) - radius
        kept = (off > -0.015 * radius) & (off < 0.03 * radius)  # dark scenery at the rim pulls inwards only
        if kept.sum() < 90:
            return None
    spread = float(np.abs(off[kept]).mean()) / radius
    if spread > 0.012 or kept.sum() < 0.6 * 240 or radius < 0.25 * min(h, w):
        return None
    return float(centre[0]), float(centre[1]), radius


def inside(found: tuple[Disc, ...], x: NDArray[np.int64], y: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Which pixels lie well inside one of the discs."""
    result = np.zeros(len(x), bool)
    for d in found:
        result |= np.hypot(x - d.x, y - d.y) < 0.96 * d.radius
    return result
