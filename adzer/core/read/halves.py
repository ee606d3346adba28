"""Do the two halves of a picture show the same thing from two eyes, and which eye is first?

Each block of the first half is looked for in the second, shifted sideways only. Near things shift more than far ones;
the ground below is nearer than what stands above it. In a left eye near things lie further right than in the right eye.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..look.alike import vertex
from .seen import Halves

Array = NDArray[np.float32]
REACH, FAR = 0.06, 0.22  # shares of an eye's width: of pairs that converge, and of others
ROWS, COLUMNS = 10, 8


def split(view: Array, packing: str) -> tuple[Array, Array]:
    """First and second half: left and right, or upper and lower."""
    h, w = view.shape
    return (
        (view[:, : w // 2], view[:, w // 2 : w // 2 * 2])
        if packing == "side by side"
        else (view[: h // 2], view[h // 2 : h // 2 * 2])
    )


def alike_anyway(views: list[Array], packing: str) -> float:
    """How well the halves agree where they cannot be two eyes, the second moved along by a fifth: bars, boards and bricks do."""
    moved = []
    for view in views:
        a, b = split(view, packing)
        b = np.roll(b, b.shape[0] // 5, axis=0)
        moved.append(np.concatenate([a, b], axis=1 if packing == "side by side" else 0))
    return compare(moved, packing).agree


def compare(views: list[Array], packing: str, closed: bool = False, share: float = REACH) -> Halves:
    """Block matching over all ``views``, as far as ``share`` of an eye's width; ``closed``: an eye's picture wraps, so nothing
    leaves at its sides."""
    table, rows, agree = [], [], []
    places: list[tuple[float, float]] = []
    weights: list[float] = []
    for view in views:
        a, b = split(view, packing)
        w = a.shape[1]
        reach = max(3, int(share * w))
        shifts = np.arange(-reach, reach + 1)
        scores, texture = _scores(a, b, shifts, closed)
        worth = texture > max(np.quantile(texture, 0.45), 0.004)
        best = scores.argmax(axis=0)
        top = np.take_along_axis(scores, best[None], axis=0)[0]
        table.append(scores[:, worth].mean(axis=1) if worth.any() else np.zeros(len(shifts)))
        agree.append(float(np.median(top[worth])) if worth.any() else 0.0)
        for r, c in zip(*np.nonzero(worth & (top > 0.75)), strict=True):
            k = int(best[r, c])
            if 0 < k < len(shifts) - 1:
                fine = shifts[k] + float(vertex(*scores[k - 1 : k + 2, r, c]))
                places.append(((r + 0.5) / scores.shape[1], float(fine) / w * 100))
                weights.append(float(top[r, c] - 0.7))
        rows.append(100 * shifts / w)
    slope, error = _slope(np.array(places), np.array(weights))
    axis = rows[0]
    mean: NDArray[np.float64] = np.mean([t for t in table if len(t) == len(axis)], axis=0)
    few = places[:: max(1, len(places) // 120)]
    return Halves(
        packing, round(float(np.median(agree)), 4), tuple(np.round(axis, 3).tolist()), tuple(np.round(mean, 4).tolist()),
        tuple((round(y, 3), round(d, 4)) for y, d in few), round(slope, 5), round(error, 5),
    )  # fmt: skip


def _scores(
    a: Array, b: Array, shifts: NDArray[np.int64], closed: bool
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Correlation of each block of ``a`` with ``b`` at each shift, (shifts, rows, columns), and each block's texture.

    A shift of +s says that what lies at x in ``a`` lies at x − s in ``b``.
    """
    h, w = a.shape
    bh, bw = max(4, h // ROWS), max(8, w // COLUMNS)
    rows, columns = h // bh, w // bw

    def down(v: NDArray[np.float64]) -> NDArray[np.float64]:
        """Mean over the rows of each block, (rows, width)."""
        return np.asarray(v[: rows * bh].reshape(rows, bh, -1).mean(axis=1))

    def along(v: NDArray[np.float64]) -> NDArray[np.float64]:
        """Of those, mean over the columns of each block."""
        return np.asarray(v[:, : columns * bw].reshape(rows, columns, bw).mean(axis=2))

    most = int(np.abs(shifts).max(initial=0))

    def widened(v: NDArray[np.float64]) -> NDArray[np.float64]:
        """With room on both sides for every shift: once round, or its ends again."""
        return np.pad(v, ((0, 0), (most, most)), mode="wrap" if closed else "edge")

    def moved(wide: NDArray[np.float64], s: int) -> NDArray[np.float64]:
        return wide[:, most - s : most - s + w]

    first, second = a.astype(np.float64), b.astype(np.float64)
    mean_a, sq_a = along(down(first)), along(down(first**2))
    var_a = np.maximum(sq_a - mean_a**2, 0)
    # A step that goes sideways cannot tell its shift from its height; texture is what varies along the rows.
    sideways = np.sqrt(along(down(np.pad(np.diff(first, axis=1), ((0, 0), (0, 1))) ** 2)))
    down_b, down_sq, wide = widened(down(second)), widened(down(second**2)), widened(second)
    cut = (rows, bh, columns, bw)
    of_a = first[: rows * bh, : columns * bw].reshape(cut)
    out = np.full((len(shifts), rows, columns), -1.0)
    for i, s in enumerate(shifts):
        mean_b = along(moved(down_b, s))
        var_b = np.maximum(along(moved(down_sq, s)) - mean_b**2, 0)
        of_b = moved(wide, s)[: rows * bh, : columns * bw].reshape(cut)
        both = np.einsum("rycx,rycx->rc", of_a, of_b) / (bh * bw) - mean_a * mean_b
        out[i] = both / np.sqrt(np.maximum(var_a * var_b, 1e-10))
    return out, sideways


def _slope(places: NDArray[np.float64], weights: NDArray[np.float64]) -> tuple[float, float]:
    """Weighted straight line of shift over height, outliers taken off: its slope and the slope's standard error."""
    if len(places) < 8:
        return 0.0, 1.0
    y, d = places.T
    kept = np.ones(len(y), bool)
    slope = error = 0.0
    for _ in range(3):
        w = weights[kept]
        design = np.column_stack([np.ones(kept.sum()), y[kept]])
        normal = design.T @ (design * w[:, None])
        if np.linalg.det(normal) < 1e-9:
            return 0.0, 1.0
        fit = np.linalg.solve(normal, design.T @ (w * d[kept]))
        off = d - (fit[0] + fit[1] * y)
        sigma = max(float(np.sqrt(np.average(off[kept] ** 2, weights=w))), 1e-3)
        slope, error = float(fit[1]), float(sigma * np.sqrt(np.linalg.inv(normal)[1, 1] * np.mean(w)))
        kept = np.abs(off) < 2.5 * sigma
        if kept.sum() < 8:
            break
    return slope, error
