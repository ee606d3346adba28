"""Several recordings behind one picture: their samples mixed in light, a few rows at a time."""

from __future__ import annotations

import numpy as np

from .colour import look_up, look_up_light, to_rgb
from .compiled import jit


@jit
def _shares(above, below, down, step, n, out):
    """How far each pixel of a row counts: straight between the corners of its cell."""
    part, half = np.float32(1.0 / step), np.float32(0.5)
    for g in range((n + step - 1) // step):
        here = above[g] + (below[g] - above[g]) * down
        slope = (above[g + 1] + (below[g + 1] - above[g + 1]) * down - here) * part
        for i in range(g * step, min(g * step + step, n)):
            out[i] = here + slope * (np.float32(i - g * step) + half)


@jit
def gather(sampled, cover, n, first, shares, tones, step, whole, matrix, table, turned, light, weight, seen, out):
    """Adds ``n`` pixels a row of one recording to those of others, from column ``first`` on.

    sampled, cover   (rows, 3, n or more) its codes, which are worked in, and (rows, n or more) how far there is a picture
    shares   (cell rows + 1, cells + 1) how far it counts at the corners of cells of ``step`` pixels; less than 0: so far less than was gathered
    tones    (3, …) the same of how much brighter each of its channels is taken
    whole    may its codes be taken as they are where it alone counts?
    matrix   (3, 4) codes → places in ``table``, which gives light (see ``colour.look_up``); ``turned`` (3, 4): on that
    light (rows, 3, columns), weight (rows, columns)   what is gathered so far; weight −1: taken whole into ``out``
    seen     (rows, columns) 0 … 1: is there a picture at all?
    """
    share, tone = np.empty(n, np.float32), np.empty((3, n), np.float32)
    index, one, asis = np.empty(n, np.int32), np.float32(0.99999), np.float32(1.0)
    for row in range(sampled.shape[0]):
        cell = row // step
        down = np.float32((row - cell * step + 0.5) / step)
        _shares(shares[cell], shares[cell + 1], down, step, n, share)
        for c in range(3):
            _shares(tones[c, cell], tones[c, cell + 1], down, step, n, tone[c])
        lo, hi = 0, n
        if whole:
            while lo < n and share[lo] > one and tone[0, lo] == asis and tone[1, lo] == asis and tone[2, lo] == asis:
                lo += 1
            while hi > lo and share[hi - 1] > one and tone[0, hi - 1] == asis and tone[1, hi - 1] == asis and tone[2, hi - 1] == asis:
                hi -= 1
        for i in range(n):
            x = first + i
            if share[i] > 0:
                seen[row, x] = max(seen[row, x], cover[row, i])
            if i < lo or i >= hi:
                weight[row, x] = np.float32(-1.0)
                for c in range(3):
                    out[row, c, x] = sampled[row, c, i]
        y, b, r = sampled[row, 0, lo:hi], sampled[row, 1, lo:hi], sampled[row, 2, lo:hi]
        to_rgb(y, b, r, matrix)
        for c in range(3):
            look_up(sampled[row, c, lo:hi], index[: hi - lo], table)
        to_rgb(y, b, r, turned)
        counts, total = share[lo:hi], weight[row, first + lo : first + hi]
        there = cover[row, lo:hi]
        for i in range(hi - lo):
            counts[i] = counts[i] * there[i]
            total[i] += counts[i]
        for c in range(3):
            part, into, brighter = sampled[row, c, lo:hi], light[row, c, first + lo : first + hi], tone[c, lo:hi]
            for i in range(hi - lo):
                into[i] += counts[i] * (brighter[i] * part[i])


@jit
def clear(cover, light, weight, first, last):
    """Nothing is gathered yet in columns [first, last)."""
    for row in range(weight.shape[0]):
        for x in range(first, last):
            cover[row, x] = np.float32(0.0)
            weight[row, x] = np.float32(0.0)
        for c in range(3):
            for x in range(first, last):
                light[row, c, x] = np.float32(0.0)


@jit
def take(sampled, cover, n, first, weight, seen, out):
    """``n`` pixels a row of one recording, which alone counts there, taken whole from column ``first`` on; names as of ``gather``."""
    for row in range(sampled.shape[0]):
        for i in range(n):
            weight[row, first + i] = np.float32(-1.0)
            seen[row, first + i] = cover[row, i]
        for c in range(3):
            for i in range(n):
                out[row, c, first + i] = sampled[row, c, i]


@jit
def settle(light, weight, first, last, table, limit, offset, matrix, out):
    """What was gathered in columns [first, last) as codes in ``out``: light + ``offset`` is looked up in ``table`` (see
    ``colour.look_up_light``), which gives signal; ``matrix`` (3, 4): from that. Where nothing was there is nothing. ``light`` is worked in."""
    index = np.empty(last - first, np.int32)
    bits = light.view(np.int32)
    for row in range(weight.shape[0]):
        lo, hi = first, last
        while lo < last and weight[row, lo] <= 0:
            lo += 1
        while hi > lo and weight[row, hi - 1] <= 0:
            hi -= 1
        counts = weight[row, lo:hi]
        for c in range(3):
            channel = light[row, c, lo:hi]
            for i in range(hi - lo):
                channel[i] = channel[i] / max(counts[i], np.float32(1e-9)) + offset
            look_up_light(channel, bits[row, c, lo:hi], index[: hi - lo], table, limit)
        y, b, r = light[row, 0, lo:hi], light[row, 1, lo:hi], light[row, 2, lo:hi]
        to_rgb(y, b, r, matrix)
        for c in range(3):
            made, into = light[row, c, lo:hi], out[row, c, lo:hi]
            for i in range(hi - lo):
                into[i] = into[i] if counts[i] < 0 else made[i]
