"""What the screen shows of delivered codes: the picture, and the waveform."""

from __future__ import annotations

import numpy as np

from .compiled import jit


@jit
def screen_rgb(y, b, r, matrix, out, row0, row1):
    """Delivered 4:4:4 codes → 8-bit B, G, R, 255 for the screen, by a 3×4 matrix."""
    m = matrix
    for row in range(row0, row1):
        for i in range(out.shape[1]):
            p, q, s = np.float32(y[row, i]), np.float32(b[row, i]), np.float32(r[row, i])
            for c in range(3):
                v = m[c, 0] * p + m[c, 1] * q + m[c, 2] * s + m[c, 3]
                out[row, i, 2 - c] = np.int32(min(max(v * 255.0 + 0.5, 0.0), 255.0))
            out[row, i, 3] = 255


@jit
def waveform(codes, top, columns, levels, out):
    """Counts of code values per column: ``out[level, column]`` over levels 0 … ``levels−1``, level 0 at code 0."""
    rows, width = codes.shape
    scale = np.float32(levels) / np.float32(top + 1)
    for i in range(rows):
        for j in range(width):
            out[np.int64(codes[i, j] * scale), j * columns // width] += 1
