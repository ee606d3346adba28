"""Where pictures are alike: values between samples, peaks between samples, a piece found again in a wider picture."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def bilinear(
    planes: Sequence[NDArray[np.generic]], x: Array, y: Array, wraps: bool = False
) -> list[NDArray[np.float32]]:
    """Values of planes of one size at places (0 the edge), straight between samples; beyond the edges they repeat, or go
    round sideways."""
    if not planes:
        return []
    h, w = planes[0].shape
    u, v = x - 0.5, np.clip(y - 0.5, 0, h - 1)
    u = u % w if wraps else np.clip(u, 0, w - 1)
    left, j = u.astype(np.int32), np.minimum(v.astype(np.int32), h - 1)
    fu, fv = (u - left).astype(np.float32), (v - j).astype(np.float32)
    i = left % w
    right = (i + 1) % w if wraps else np.minimum(i + 1, w - 1)
    j *= w
    low = np.minimum(j + w, (h - 1) * w)
    out = []
    for plane in planes:
        a, b, c, d = (
            np.ascontiguousarray(plane).ravel()[at].astype(np.float32)
            for at in (j + i, j + right, low + i, low + right)
        )
        top = a + (b - a) * fu
        out.append(top + (c + (d - c) * fu - top) * fv)
    return out


def vertex(before: Array | float, here: Array | float, after: Array | float) -> Array:
    """How far (±½) from the middle of three samples the parabola through them is highest; 0 where it has no top.

    >>> float(vertex(0.0, 3.0, 2.0))
    0.25
    """
    bend = np.asarray(before, np.float64) - 2 * np.asarray(here, np.float64) + after
    bent = bend < -1e-12
    return np.where(bent, np.clip(0.5 * (np.asarray(before) - after) / np.where(bent, bend, 1.0), -0.5, 0.5), 0.0)


def likeness(piece: Array, wide: Array) -> Array:
    """Normalised correlation (−1 … 1) of a piece with each place of a wider picture at which it fits whole."""
    from scipy.signal import fftconvolve

    t = piece - piece.mean()
    ones = np.ones_like(piece)
    total, square = (fftconvolve(v, ones, mode="valid") for v in (wide, wide * wide))
    spread = np.sqrt(np.maximum(square - total**2 / t.size, 1e-9))
    return np.asarray(fftconvolve(wide, t[::-1, ::-1], mode="valid") / (spread * max(float(np.linalg.norm(t)), 1e-9)))


def placed(piece: Array, wide: Array, least: float, plain: float = 0.01) -> tuple[float, float] | None:
    """(row, column), to a fraction, at which a piece lies in a wider picture; None: nowhere with at least that likeness and
    room about it, or the piece varies by less than ``plain``."""
    if float(piece.std()) < plain:
        return None
    score = likeness(piece, wide)
    r, c = (int(v) for v in np.unravel_index(int(np.argmax(score)), score.shape))
    if score[r, c] < least or not (0 < r < score.shape[0] - 1 and 0 < c < score.shape[1] - 1):
        return None
    return r + float(vertex(*score[r - 1 : r + 2, c])), c + float(vertex(*score[r, c - 1 : c + 2]))
