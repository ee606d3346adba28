"""Several recordings behind one picture: their samples mixed in light, a few rows at a time."""

from __future__ import annotations

import numpy as np

from .compiled import jit


@jit
def _to_light(signal, table, low, per):
    """Between the values of a rising ``table``, which begins at signal ``low`` and has ``per`` of them to 1."""
    at = min(max((signal - low) * per, np.float32(0.0)), np.float32(table.shape[0] - 1.001))
    k = np.int64(at)
    return table[k] + (table[k + 1] - table[k]) * (at - np.float32(k))


@jit
def _to_signal(light, table, low, per):
    """The way back, to the same pieces."""
    a, b = 0, table.shape[0] - 1
    while b - a > 1:
        middle = (a + b) // 2
        if table[middle] <= light:
            a = middle
        else:
            b = middle
    rise = max(table[b] - table[a], np.float32(1e-20))
    part = min(max((light - table[a]) / rise, np.float32(0.0)), np.float32(1.0))
    return low + (np.float32(a) + part) / per


@jit
def gather(sampled, cover, n, first, shares, step, whole, matrix, table, low, per, turned, light, weight, seen, out):
    """Adds ``n`` pixels a row of one recording to those of others, from column ``first`` on.

    sampled, cover   (rows, 3, n or more) its codes, (rows, n or more) how far there is a picture
    shares   (cell rows + 1, cells + 1) how far it counts at the corners of cells of ``step`` pixels
    whole    are its codes the delivered way's own, where it alone counts? ``matrix``: else (3, 4) to signal
    table, low, per   light of signals (see ``_to_light``); ``turned`` (3, 3): on its light
    light (rows, 3, columns), weight (rows, columns)   what is gathered so far; weight −1: taken whole into ``out``
    seen     (rows, columns) 0 … 1: is there a picture at all?
    """
    part = np.float32(1.0 / step)
    for row in range(sampled.shape[0]):
        cell = row // step
        down = (np.float32(row - cell * step) + np.float32(0.5)) * part
        for i in range(n):
            g = i // step
            across = (np.float32(i - g * step) + np.float32(0.5)) * part
            above = shares[cell, g] + (shares[cell, g + 1] - shares[cell, g]) * across
            below = shares[cell + 1, g] + (shares[cell + 1, g + 1] - shares[cell + 1, g]) * across
            share, x = above + (below - above) * down, first + i
            seen[row, x] = max(seen[row, x], cover[row, i] if share > 0 else np.float32(0.0))
            if whole and share > np.float32(0.99999) and weight[row, x] == 0:
                for c in range(3):
                    out[row, c, x] = sampled[row, c, i]
                weight[row, x] = np.float32(-1.0)
            share *= cover[row, i]
            if share <= 0 or weight[row, x] < 0:
                continue
            a, b, d = sampled[row, 0, i], sampled[row, 1, i], sampled[row, 2, i]
            r = _to_light(matrix[0, 0] * a + matrix[0, 1] * b + matrix[0, 2] * d + matrix[0, 3], table, low, per)
            g_ = _to_light(matrix[1, 0] * a + matrix[1, 1] * b + matrix[1, 2] * d + matrix[1, 3], table, low, per)
            b_ = _to_light(matrix[2, 0] * a + matrix[2, 1] * b + matrix[2, 2] * d + matrix[2, 3], table, low, per)
            for c in range(3):
                light[row, c, x] += share * (turned[c, 0] * r + turned[c, 1] * g_ + turned[c, 2] * b_)
            weight[row, x] += share


@jit
def settle(light, weight, n, table, low, per, matrix, out):
    """What was gathered as codes in ``out``; ``matrix`` (3, 4): from signal. Where nothing was there is nothing."""
    for row in range(weight.shape[0]):
        for x in range(n):
            w = weight[row, x]
            if w < 0:
                continue
            k = np.float32(1.0) / w if w > 0 else np.float32(0.0)
            r = _to_signal(light[row, 0, x] * k, table, low, per)
            g = _to_signal(light[row, 1, x] * k, table, low, per)
            b = _to_signal(light[row, 2, x] * k, table, low, per)
            for c in range(3):
                out[row, c, x] = matrix[c, 0] * r + matrix[c, 1] * g + matrix[c, 2] * b + matrix[c, 3]
