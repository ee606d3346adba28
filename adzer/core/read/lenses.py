"""Round lenses: where their pictures lie, found on a small mean picture and measured on the recorded pixels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ..media.decode import Frame
from .seen import Disc

Array = NDArray[np.float32]
RAYS = 360
STEP = 0.5  # recorded pixels along a ray
LEAST = 0.03  # of all codes, that the picture must stand out from the dark around it, for a ray to say where its rim is


def discs(mean: Array, scale: float, frames: Sequence[Frame] = ()) -> tuple[Disc, ...]:
    """The round pictures in a mean luma picture: none, one in all, or one in each half. ``scale``: recorded pixels per
    pixel of ``mean``; ``frames``: the recorded ones, on which the rims are measured. Only circles whose rim is seen over
    most of its turn, and dark corners outside, count."""
    h, w = mean.shape
    whole = _disc(mean)
    found = [whole]
    if whole is None and w >= 1.5 * h:
        found = [(c[0] + left, *c[1:]) if (c := _disc(mean[:, left : left + w // 2])) else None for left in (0, w // 2)]
    rims = [_measured((c[0] * scale, c[1] * scale, c[2] * scale), frames, scale) for c in found if c is not None]
    return tuple(Disc(*(round(v, 2) for v in r)) for r in rims) if len(rims) == len(found) else ()


def _measured(found: tuple[float, float, float], frames: Sequence[Frame], scale: float) -> tuple[float, float, float]:
    """Centre and radius by where the recorded picture is half as bright between the dark and what lies within the rim."""
    for _ in range(2 if frames else 0):
        x, y, radius = found
        reach = 4 * scale + 6
        turn = np.linspace(0, 2 * np.pi, RAYS, endpoint=False)[:, None]
        out = radius + np.arange(reach, -reach, -STEP)
        xs, ys = x + np.cos(turn) * out, y + np.sin(turn) * out
        w, h = frames[0].raster
        there = (xs >= 0) & (xs < w) & (ys >= 0) & (ys < h)
        at = np.clip(ys, 0, h - 1).astype(int), np.clip(xs, 0, w - 1).astype(int)
        luma = 1 if frames[0].format.rgb else 0  # green stands for it
        lit = np.mean([f.cropped(luma)[at] for f in frames], axis=0, dtype=np.float64) / (1 << frames[0].format.bits)
        lit = (lit + np.roll(lit, 1, axis=0) + np.roll(lit, -1, axis=0)) / 3
        some = max(3, len(out) // 5)
        dark, bright = np.median(lit[:, :some], axis=1), np.median(lit[:, -some:], axis=1)
        inside = lit > ((dark + bright) / 2)[:, None]
        first = inside.argmax(axis=1)
        good = there.all(axis=1) & (bright - dark > LEAST) & inside.any(axis=1) & (first > 0)
        if good.sum() < RAYS // 4:
            return found
        rim = out[first] + STEP / 2
        circle = _circle(x + np.cos(turn[good, 0]) * rim[good], y + np.sin(turn[good, 0]) * rim[good], radius)
        if circle is None:
            return found
        found = circle
    return found


def _circle(x: NDArray[np.float64], y: NDArray[np.float64], radius: float) -> tuple[float, float, float] | None:
    """The circle through most of the points; what lies off it is left out, step by step."""
    kept = np.ones(len(x), bool)
    for _ in range(8):
        a = np.column_stack([x[kept], y[kept], np.ones(kept.sum())])
        fit, *_ = np.linalg.lstsq(a, x[kept] ** 2 + y[kept] ** 2, rcond=None)
        cx, cy = fit[:2] / 2
        radius = float(np.sqrt(max(fit[2] + cx * cx + cy * cy, 1e-6)))
        off = np.hypot(x - cx, y - cy) - radius
        kept = np.abs(off) < max(3 * 1.48 * float(np.median(np.abs(off[kept]))), 0.75)
        if kept.sum() < RAYS // 5:
            return None
    return float(cx), float(cy), radius


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
