"""The general warp and everything after it as one compiled loop, a few rows at a time, so that they never leave the cache."""

from __future__ import annotations

import numpy as np

from .bands import finish_band
from .compiled import jit
from .patches import sample_row
from .places import EVERY, places_row

ROWS = 16  # at a time
SLACK = 8  # pixels by which rows of working memory are longer than the picture is wide


@jit
def _thin_out(place, n, thin):
    """Every second place, and at the end of an even row the last one. Returns how many."""
    m = (n + 1) // 2
    for i in range(m):
        thin[0, i], thin[1, i] = place[0, 2 * i], place[1, 2 * i]
    if n % 2 == 0:
        thin[0, m], thin[1, m] = place[0, n - 1], place[1, n - 1]
        m += 1
    return m


@jit
def _fill_in(few, n, row):
    """Straight between every second pixel."""
    half = np.float32(0.5)
    for i in range(n // 2):
        row[2 * i] = few[i]
        row[2 * i + 1] = (few[i] + few[i + 1]) * half
    row[n - 1] = few[n // 2]


@jit
def sample_band(
    planes, at, reduced, nodes, cells, step, sparse, kind, lens, affine, wraps, weights, out, cover, n, row0, row1
):
    """Delivered rows ``row0`` … ``row1−1`` as recorded code values at each of ``n`` pixels.

    planes, reduced  three flat arrays each: the decoded planes, and all their reductions one after another
    at       (levels + 1, 3, 4): offset, stride, rows, columns in those arrays
    nodes, cells, step, sparse   the ``Grid``; cells (2, rows, columns, 5) for luma and chroma
    affine   (levels + 1, 2, 4): recorded luma place → index, of luma and chroma planes
    weights  of wide patches for every width, and of narrow ones
    out      (rows, 3, n + SLACK) float32;  cover (rows, n): 1 where there is picture, 0 where there is none
    """
    directions, place = np.empty((3, n), np.float32), np.empty((2, n), np.float32)
    rough = np.empty((3, (n - 1) // EVERY + 2), np.float32)
    rough_place = np.empty_like(rough)
    thin, moved = np.empty((2, n + SLACK), np.float32), np.empty((2, n + SLACK), np.float32)
    part, few = np.empty(n + SLACK, np.float32), np.empty(n + SLACK, np.float32)
    room = np.empty((3, n + SLACK), np.int32)
    for row in range(row0, row1):
        line = row - row0
        places_row(nodes, step, row, kind, lens, directions, rough, rough_place, place, cover[line])
        sample_row(
            planes[0], reduced[0], at[:, 0], affine[:, 0], place, n, cells[0, row // step], step, wraps, weights, room, moved,
            part, out[line, 0],
        )  # fmt: skip
        if sparse and line % 2 == 1 and row + 1 < row1:
            continue
        m = _thin_out(place, n, thin) if sparse else n
        for c in range(1, 3):
            sample_row(
                planes[c], reduced[c], at[:, c], affine[:, 1], thin if sparse else place, m, cells[1, row // step],
                step // 2 if sparse else step, wraps, weights, room, moved, part, few if sparse else out[line, c],
            )  # fmt: skip
            if sparse:
                _fill_in(few, n, out[line, c])
    if sparse:
        half = np.float32(0.5)
        for line in range(1, row1 - row0 - 1, 2):
            for c in range(1, 3):
                here, above, below = out[line, c], out[line - 1, c], out[line + 1, c]
                for i in range(n):
                    here[i] = (above[i] + below[i]) * half


@jit
def view_band(
    planes, at, reduced, nodes, cells, step, sparse, kind, lens, affine, wraps, weights, sampled, cover, n, bare,
    black, colour, target, place, half, half_mode, between, dither, top, row0, row1,
):  # fmt: skip
    """Delivered rows ``row0`` … ``row1−1``: see ``sample_band`` and ``finish_band``. ``sampled`` and ``cover`` are room for
    as many rows as are worked on at a time."""
    for first in range(row0, row1, cover.shape[0]):
        last = min(first + cover.shape[0], row1)
        sample_band(
            planes, at, reduced, nodes, cells, step, sparse, kind, lens, affine, wraps, weights, sampled, cover, n, first,
            last,
        )  # fmt: skip
        finish_band(
            sampled, cover, n, bare, black, colour, target, place, half, half_mode, between, dither, top, first, last
        )
