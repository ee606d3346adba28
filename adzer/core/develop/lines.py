"""Rows and columns of a sensor that lie too high or too low in every frame: stripes, which show in the shadows."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
PARTS = 16  # of each row that have to agree
ALONE, LIKE = 10.0, 0.3  # standard errors by which a row that is off alone is; share of that by which what it bends beside it may be another
MANY = 2.2  # standard errors by which half of the rows are off, from which on it is a pattern


def off(frames: Iterable[NDArray[np.float32]]) -> Array | None:
    """(rows) codes by which each row lies too high; None: no more than noise and the scene explain. A row's values are held against those two above
    and below it, which lie under the same cells of the filter: what the lens draws differs along the row, a row's own is the same all along it."""
    bent: NDArray[np.float32] = np.zeros((0, 0), np.float32)
    many = 0
    for frame in frames:
        own = np.asarray(frame[2:-2] - (frame[:-4] + frame[4:]) / 2, np.float32)
        bent, many = own if not many else bent + own, many + 1
    h, w = bent.shape[0] + 4, bent.shape[-1]
    if h < 16 or w < 8 * PARTS or many < 3:
        return None
    bent /= np.float32(many)
    parts = np.median(bent[:, : w // PARTS * PARTS].reshape(h - 4, PARTS, -1), axis=2).astype(np.float64)
    rows = np.median(parts, axis=1)
    error = np.maximum(1.4826 * 1.2533 / PARTS**0.5 * np.median(np.abs(parts - rows[:, None]), axis=1), 1e-3)
    error = np.maximum(error, np.median(error) / 2)
    sure, size = np.abs(rows) / error, 1.4826 * float(np.median(np.abs(rows)))
    if np.median(sure) < MANY:
        alone = _alone(rows, parts, error)
        return alone if alone.any() else None
    # What is far more than the others is drawn by the lens; what a row adds to that is told from those that it bends.
    made = _whole(rows, np.where(np.abs(rows) < 6 * size, error, np.inf), size / 1.5**0.5, h)
    return np.asarray(np.round(made, 2), np.float64)


def _alone(bent: Array, parts: Array, error: Array) -> Array:
    """(rows) of those that are off each by itself: all along it alike; the two that lie two away bend half as much the other way, and those next
    to it not at all, where a lens, which draws nothing a single row wide, would bend them."""
    made = np.zeros(len(bent) + 4)
    inner = np.arange(2, len(bent) - 2)
    off = bent[inner]
    sure = np.abs(off) > ALONE * error[inner]
    steady = (np.abs(parts[inner] - off[:, None]) < LIKE * np.abs(off[:, None]) + 3 * error[inner][:, None] * PARTS**0.5).mean(axis=1) > 0.9
    within = LIKE * np.abs(off) + 3 * error[inner]
    beside = [np.abs(bent[inner + k] + share * off) < within for k, share in ((-2, 0.5), (2, 0.5), (-1, 0.0), (1, 0.0))]
    found = inner[sure & steady & np.logical_and.reduce(beside)]
    made[found + 2] = np.round(bent[found], 2)
    return made


def _whole(bent: Array, error: Array, size: float, h: int) -> Array:
    """The likeliest offsets, of so large a ``size`` (rms), whose bends against the two that lie two away were seen so, within their errors."""
    from scipy.sparse import diags_array, eye_array
    from scipy.sparse.linalg import spsolve

    bend = diags_array([-0.5, 1.0, -0.5], offsets=[0, 2, 4], shape=(h - 4, h))
    weigh = diags_array(error**-2.0)
    return np.asarray(spsolve((bend.T @ weigh @ bend + eye_array(h) / size**2).tocsc(), bend.T @ (weigh @ bent)))


def added(held: tuple[float, ...], more: tuple[float, ...], many: int) -> tuple[float, ...]:
    """What the file says of each line's black, and more; what is not of so many lines is of another sensor."""
    if len(more) != many:
        return held
    return tuple(a + b for a, b in zip(held or (0.0,) * many, more, strict=True))
