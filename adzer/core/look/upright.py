"""Which way is up in a picture of directions: the line between ground and sky, or where its uprights point to.

The horizon is the great circle above which it is brighter all the way round. Edges of uprights, of walls and posts and trunks, lie on great
circles through the zenith, so that the normals of those are square to it (Barnard 1983; Kosecka and Zhang 2002).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..space.sphere import Array, turning

LEANS = 40.0  # degrees, the most that a camera is taken to lean
EDGES, EDGE = 6000, 60.0  # of the strongest that are looked at; codes by a Scharr filter, below which there is none
TRUE = np.radians(1.5)  # from an upright within which an edge speaks for it
PARTS, ROUND = 0.12, 0.55  # as a logarithm, from which on light is parted; share of the way round on which it has to be
LEAST = 0.04  # share of all edges that must stand upright more than by chance


@dataclass(frozen=True)
class Up:
    """``up`` (3,) in the picture's own axes, ``sure``: 0 … 1."""

    up: Array
    sure: float


def horizon(light: Callable[[Array], Array]) -> Up | None:
    """``light``: of directions (…, 3), as a logarithm. None where no circle parts it all the way round."""
    ups, best, rival = _cone(LEANS, 2.0), np.zeros(3), 0.0
    for step, within in ((2.0, 1.5), (0.5, 0.75), (0.12, 0.4)):
        parted = _parted(light, ups, np.radians(within))
        strength = np.tanh(parted / PARTS).mean(axis=1)
        n = int(strength.argmax())
        if not best.any():
            rival = float(strength[ups @ ups[n] < np.cos(np.radians(10))].max(initial=0.0))
        best = ups[n]
        ups = _cone(1.5 * step, step / 4) @ _towards(best).T
    share = float((np.tanh(parted[n] / PARTS) > 0.3).mean())
    if share < ROUND or strength[n] < 1.3 * rival:
        return None
    return Up(best, float(np.clip((share - ROUND) / (0.9 - ROUND), 0, 1) * np.clip(strength[n] / max(rival, 1e-9) - 1, 0, 1)))


def _towards(up: Array) -> Array:
    """(3, 3) a rotation that brings straight up to ``up``."""
    axis = np.cross([0.0, 0.0, 1.0], up)
    size = float(np.linalg.norm(axis))
    return turning(axis / max(size, 1e-12) * np.arctan2(size, up[2]))


def _parted(light: Callable[[Array], Array], ups: Array, within: float) -> Array:
    """(k, headings) by how much it is brighter above than below each circle, near it."""
    aside = np.cross(ups, np.where(np.abs(ups[:, :1]) < 0.6, [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]))
    aside = aside / np.linalg.norm(aside, axis=1, keepdims=True)
    other = np.cross(ups, aside)
    a = np.radians(np.arange(0, 360, 4.0))[:, None]
    level = aside[:, None] * np.cos(a) + other[:, None] * np.sin(a)
    total = np.zeros(level.shape[:2])
    for t in (0.5 * within, within):
        total += light(level + np.tan(t) * ups[:, None]) - light(level - np.tan(t) * ups[:, None])
    return total / 2


def uprights(views: NDArray[np.uint8], axes: Array, grid: NDArray[np.floating]) -> Up | None:
    """Of square views (n, side, side) of the sphere, which ``axes`` (n, 3, 3) say how they look and ``grid`` (n, side, side, 3) what each pixel
    sees. None where too little stands upright."""
    normals, weight = _circles(views, axes, grid)
    if len(normals) < 200:
        return None
    ups = _cone(LEANS, 2.0)
    score = _score(normals, weight, ups)
    best = ups[int(score.argmax())]
    for wide in (2.0, 1.0, 1.0):
        off = normals @ best
        w = weight / (1 + (off / (wide * TRUE)) ** 2) ** 2
        _, vectors = np.linalg.eigh((normals * w[:, None]).T @ normals)
        better = vectors[:, 0] * np.sign(vectors[2, 0])
        if better @ best < np.cos(np.radians(6)):
            return None
        best = better
    # What stands upright more than would by chance, and than points to anywhere else.
    chance = float(np.median(score))
    more = float(_score(normals, weight, best[None])[0]) - chance
    rival = float(score[ups @ best < np.cos(np.radians(8))].max(initial=chance)) - chance
    if more < LEAST or more < 1.25 * rival:
        return None
    return Up(best, float(np.clip((more - LEAST) / (4 * LEAST), 0, 1) * np.clip(more / max(rival, 1e-9) - 1, 0, 1)))


def _circles(views: NDArray[np.uint8], axes: Array, grid: NDArray[np.floating]) -> tuple[Array, Array]:
    """(m, 3) unit normals of the great circles on which edges lie, and how strong each is, together 1."""
    import cv2  # here, as it loads slowly and the window opens without it

    all_, strong = [np.zeros((0, 3))], [np.zeros(0)]
    for view, turn, seen in zip(views, axes, grid, strict=True):
        soft = cv2.GaussianBlur(view.astype(np.float32), (0, 0), 1.2)
        gx, gy = cv2.Scharr(soft, cv2.CV_32F, 1, 0) / 4, cv2.Scharr(soft, cv2.CV_32F, 0, 1) / 4
        size = np.hypot(gx, gy)
        # An edge's own middle: stronger than what lies to either side of it.
        ridge = size >= cv2.dilate(size, np.ones((1, 3), np.uint8)) - 1e-3
        ridge |= size >= cv2.dilate(size, np.ones((3, 1), np.uint8)) - 1e-3
        y, x = np.nonzero(ridge & (size > EDGE))
        mine = np.abs(seen[y, x] @ turn).argmax(axis=1) == 1  # views overlap, and each edge is one's own
        y, x = y[mine], x[mine]
        along = np.stack([-gy[y, x], np.zeros(len(x)), -gx[y, x]], axis=-1) @ turn.T  # square to the slope; the picture's y goes down
        normal = np.cross(seen[y, x], along)
        all_.append(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-9))
        strong.append(np.minimum(size[y, x], 400.0))
    normals, weight = np.concatenate(all_), np.concatenate(strong)
    if len(weight) > EDGES:
        keep = np.random.default_rng(1).choice(len(weight), EDGES, replace=False, p=weight / weight.sum())
        normals, weight = normals[keep], np.ones(EDGES)
    return normals, weight / max(float(weight.sum()), 1e-9)


def _cone(leans: float, apart: float) -> Array:
    """(k, 3) directions within ``leans`` degrees of straight up, so many degrees apart."""
    rings = [np.array([[0.0, 0.0, 1.0]])]
    for away in np.radians(np.arange(apart, leans + apart / 2, apart)):
        h = np.arange(0, 2 * np.pi, np.radians(apart) / np.sin(away))
        rings.append(np.stack([np.sin(away) * np.sin(h), np.sin(away) * np.cos(h), np.full(len(h), np.cos(away))], axis=-1))
    return np.concatenate(rings)


def _score(normals: Array, weight: Array, ups: Array) -> Array:
    """(k) share of the edges that stand upright if that is up, by how truly."""
    return np.asarray((weight[:, None] / (1 + (normals @ ups.T / TRUE) ** 2) ** 2).sum(axis=0))
