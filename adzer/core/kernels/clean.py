"""Noise taken off planes whose noise is known: blocks of several frames merged, coefficient by coefficient, and then shrunk.

A block of 8×8 is looked up in the frames around it, where it went. Each frame counts by how far its block differs from this one by more than
noise does, whole and coefficient by coefficient (as Hasinoff and others 2016 merge bursts); what is left of the noise is then known, and is
taken off by an empirical Wiener rule in the cosine domain, on blocks that overlap four times.
"""

from __future__ import annotations

import numpy as np

from .compiled import jit

SIZE, STEP, MARGIN = 8, 4, 16  # of a block; from one to the next; around a plane
FRAMES = 5
LANES = 256  # blocks that are worked on at once, side by side: what is done to one coefficient of all of them is vector code
ROOMS = FRAMES + 5  # sets of LANES blocks of working memory
ALIKE, UNLIKE, COPY = 1.3, 2.2, 0.2  # squared differences, in those of noise: up to which a block counts whole, from which on not; of a copy
PLAIN, BUSY = np.float32(1.3), np.float32(2.5)  # a block's squares, in those of noise: up to which it is nothing but noise, from which on surely more
BARE = np.float32(4.0)  # times as much is taken off what is nothing but noise
CAREFUL = 10.0  # how far a coefficient may differ, in squared noise, before it is believed less


@jit
def _gather(plane, y, xs, out):
    """LANES blocks whose corners lie at rows ``y`` and columns ``xs`` → (8, 8, LANES)."""
    flat, stride = plane.ravel(), plane.shape[1]
    for r in range(SIZE):
        for k in range(SIZE):
            line, start = out[r, k], r * stride + k
            for j in range(LANES):
                line[j] = flat[np.uint64(y[j] * stride + xs[j] + start)]


@jit
def _folded(a, b, plus, minus):
    for j in range(LANES):
        p, q = a[j], b[j]
        plus[j] = p + q
        minus[j] = p - q


@jit
def _mixed(p, q, r, s, w, out):
    a, b, c, d = w[0], w[1], w[2], w[3]
    for j in range(LANES):
        out[j] = a * p[j] + b * q[j] + c * r[j] + d * s[j]


@jit
def _forward(source, half, fold, tmp, out):
    """Cosines of (8, 8, LANES) blocks. ``half``: (8, 4), the transform's rows up to where they mirror themselves; ``fold``: room of 8 rows."""
    for k in range(SIZE):
        for r in range(4):
            _folded(source[r, k], source[7 - r, k], fold[r], fold[4 + r])
        for u in range(SIZE):
            n = 4 * (u & 1)
            _mixed(fold[n], fold[n + 1], fold[n + 2], fold[n + 3], half[u], tmp[u, k])
    for u in range(SIZE):
        for r in range(4):
            _folded(tmp[u, r], tmp[u, 7 - r], fold[r], fold[4 + r])
        for v in range(SIZE):
            n = 4 * (v & 1)
            _mixed(fold[n], fold[n + 1], fold[n + 2], fold[n + 3], half[v], out[u, v])


@jit
def _back(source, back, fold, tmp, out):
    """The way back. ``back``: (8, 4), of each place up to the middle what its even (0 … 3) and its odd (4 … 7) cosines count."""
    for k in range(SIZE):
        for x in range(4):
            _mixed(source[0, k], source[2, k], source[4, k], source[6, k], back[x], fold[0])
            _mixed(source[1, k], source[3, k], source[5, k], source[7, k], back[4 + x], fold[1])
            _folded(fold[0], fold[1], tmp[x, k], tmp[7 - x, k])
    for y in range(SIZE):
        for x in range(4):
            _mixed(tmp[y, 0], tmp[y, 2], tmp[y, 4], tmp[y, 6], back[x], fold[0])
            _mixed(tmp[y, 1], tmp[y, 3], tmp[y, 5], tmp[y, 7], back[4 + x], fold[1])
            _folded(fold[0], fold[1], out[y, x], out[y, 7 - x])


@jit
def _apart(a, b, part, away):
    """Adds the squared differences, each over the part of the noise that it has."""
    inverse = np.float32(1.0) / part
    for j in range(LANES):
        d = a[j] - b[j]
        away[j] += d * d * inverse


@jit
def _shared(a, b, much, limit, part, share):
    for j in range(LANES):
        d = a[j] - b[j]
        share[j] = much[j] * limit[j] * part / (limit[j] * part + d * d)


@jit
def _merged(a, b, share, sums):
    for j in range(LANES):
        sums[j] -= share[j] * (a[j] - b[j])


@jit
def _counted(share, much, squares, own):
    """``own``: what of the frames that count at all is the middle one's."""
    for j in range(LANES):
        squares[j] += share[j] * share[j]
        own[j] += (np.float32(1.0) if much[j] > 0 else np.float32(0.0)) - share[j]


@jit
def _weighed(a, sums, squares, own, inverse, variance, part, energy):
    """In ``sums``: the merged coefficient; in ``squares``: what of its noise is left; to ``energy``: the one squared, in those of the other."""
    tiny = np.float32(1e-12)
    for j in range(LANES):
        merged = a[j] + sums[j] * inverse[j]
        left = max((own[j] * own[j] + squares[j]) * inverse[j] * inverse[j] * variance[j] * part, tiny)
        energy[j] += merged * merged / left
        sums[j] = merged
        squares[j] = left


@jit
def _shrunk(merged, left, strength):
    """In ``merged``: less the noise that is left."""
    zero, one, tiny = np.float32(0.0), np.float32(1.0), np.float32(1e-12)
    for j in range(LANES):
        merged[j] *= max(zero, one - strength[j] * left[j] / max(merged[j] * merged[j], tiny))


@jit
def _whole(a, sums, inverse):
    for j in range(LANES):
        sums[j] = a[j] + sums[j] * inverse[j]


@jit
def _unlike(here, there, y, x, sy, sx, cell):
    """Mean squared difference of two cells, of every second row."""
    total = np.float32(0.0)
    for r in range(0, cell, 2):
        a, b = here[y + r, x : x + cell], there[sy + r, sx : sx + cell]
        for c in range(cell):
            d = a[c] - b[c]
            total += d * d
    return total / np.float32(cell * cell // 2)


@jit
def refine(frames, use, middle, cell, shifts, most):
    """In place: each cell's shift into each frame, whole pixels, made better by a pixel each way; and where what is found still differs by more
    than noise of 1 does, by up to ``most`` each way, as flow finds no way through what is fine all over. Places are of padded planes; shifts
    (frames, rows, columns, 2) down, right."""
    h, w = frames[0].shape
    rows, columns = shifts.shape[1], shifts.shape[2]
    stays, fits = np.float32(0.97), np.float32(2.0 * UNLIKE)
    for k in range(len(frames)):
        if not use[k] or k == middle:
            continue
        for i in range(rows):
            for j in range(columns):
                y, x = min(MARGIN + i * cell, h - MARGIN - cell), min(MARGIN + j * cell, w - MARGIN - cell)
                oy, ox = shifts[k, i, j, 0], shifts[k, i, j, 1]
                best, by, bx = np.float32(1e30), 0, 0
                for reach in (0, 1, most):
                    if reach == most and best < fits:
                        break
                    for dy in range(-reach, reach + 1):
                        for dx in range(-reach, reach + 1):
                            sy, sx = y + oy + dy, x + ox + dx
                            if sy < 0 or sx < 0 or sy + cell > h or sx + cell > w:
                                continue
                            far = _unlike(frames[middle], frames[k], y, x, sy, sx, cell)
                            if far < best * stays:  # what was said before stays unless another is clearly better
                                best, by, bx = far, dy, dx
                shifts[k, i, j, 0] += by
                shifts[k, i, j, 1] += bx


@jit
def clean_band(frames, use, middle, cell, shifts, sigma, keep, strength, shape, half, back, window, rooms, few, places, total, out, row0, row1):
    """Rows [row0, row1) of the middle frame, cleaned, into ``out`` (rows, columns without margins).

    frames     planes with MARGIN around them, those that are not there any one; ``use``: which are
    shifts     (frames, rows, columns, 2) of each cell of ``cell`` places
    sigma      (rows, columns) of the noise by cell
    keep       what differences between frames have of the noise, 1 all of it; ``strength``: times the noise's square that is taken off
    shape      (8, 8) how much of the noise each coefficient has, 1 if it is white
    window     (8, 8) by which blocks are laid over each other, four of them together 1
    rooms      (ROOMS, 8, 8, LANES), ``few`` (8, LANES), ``places`` (4, LANES) whole numbers, ``total`` (rows + 8, columns + 8): room
    """
    h, w = frames[0].shape
    here, sums, squares, own, tmp = rooms[FRAMES], rooms[FRAMES + 1], rooms[FRAMES + 2], rooms[FRAMES + 3], rooms[FRAMES + 4]
    away, much, limit, inverse, noise, variance, count = few[0], few[1], few[2], few[3], few[4], few[5], few[6]
    py, px, sy, sx = places[0], places[1], places[2], places[3]
    fold, loaded = rooms[0, 0], rooms[1]
    one, zero, tiny = np.float32(1.0), np.float32(0.0), np.float32(1e-12)
    per = one / np.float32(SIZE * SIZE - 1)
    wide, top = w - 2 * MARGIN, row0 - STEP
    blocks = (wide + 2 * STEP - 1) // STEP
    total[:] = zero
    for y in range(row0 - STEP, row1, STEP):
        ci = min(max(y + STEP, 0) // cell, shifts.shape[1] - 1)
        for first in range(0, blocks, LANES):
            for j in range(LANES):
                x = STEP * (min(first + j, blocks - 1) - 1)
                cj = min(max(x + STEP, 0) // cell, shifts.shape[2] - 1)
                py[j], px[j] = y + MARGIN, x + MARGIN
                s = sigma[ci, cj]
                variance[j], count[j] = s * s, one
            _gather(frames[middle], py, px, loaded)
            _forward(loaded, half, fold, tmp, here)
            sums[:] = zero
            squares[:] = zero
            own[:] = one
            for k in range(shifts.shape[0]):
                if k == middle or not use[k]:
                    continue
                for j in range(LANES):
                    cj = min(max(px[j] - MARGIN + STEP, 0) // cell, shifts.shape[2] - 1)
                    sy[j] = min(max(py[j] + shifts[k, ci, cj, 0], 0), h - SIZE)
                    sx[j] = min(max(px[j] + shifts[k, ci, cj, 1], 0), w - SIZE)
                    away[j] = zero
                other = rooms[2]
                _gather(frames[k], sy, sx, loaded)
                _forward(loaded, half, fold, tmp, other)
                for u in range(SIZE):
                    for v in range(SIZE):
                        _apart(here[u, v], other[u, v], shape[u, v], away)
                some = False
                for j in range(LANES):
                    pair = np.float32(2.0) * variance[j] * keep
                    far = away[j] / (np.float32(SIZE * SIZE) * max(pair, tiny))
                    counts = COPY <= far < UNLIKE  # else it is the same frame again; or shows something else
                    much[j] = (one if far < ALIKE else (np.float32(UNLIKE) - far) / np.float32(UNLIKE - ALIKE)) if counts else zero
                    limit[j] = max(np.float32(CAREFUL) * pair, tiny)
                    count[j] += one if counts else zero
                    some |= counts
                if not some:
                    continue
                for u in range(SIZE):
                    for v in range(SIZE):
                        _shared(here[u, v], other[u, v], much, limit, shape[u, v], away)
                        _merged(here[u, v], other[u, v], away, sums[u, v])
                        _counted(away, much, squares[u, v], own[u, v])
            for j in range(LANES):
                inverse[j] = one / count[j]
                away[j] = zero
            for u in range(SIZE):
                for v in range(SIZE):
                    if u + v:
                        _weighed(here[u, v], sums[u, v], squares[u, v], own[u, v], inverse, variance, shape[u, v], away)
            for j in range(LANES):
                bare = min(max((BUSY - away[j] * per) / (BUSY - PLAIN), zero), one)
                noise[j] = strength * (one + (BARE - one) * bare)
            for u in range(SIZE):
                for v in range(SIZE):
                    if u + v:
                        _shrunk(sums[u, v], squares[u, v], noise)
            _whole(here[0, 0], sums[0, 0], inverse)
            _back(sums, back, fold, tmp, here)
            for j in range(min(LANES, blocks - first)):
                x = px[j] - MARGIN + STEP
                for r in range(SIZE):
                    line, weights = total[y - top + r], window[r]
                    for k in range(SIZE):
                        line[x + k] += here[r, k, j] * weights[k]
    for y in range(row0, min(row1, out.shape[0])):
        made, line = out[y], total[y - top, STEP : STEP + wide]
        for x in range(wide):
            made[x] = line[x]


@jit
def even_band(plane, taps, most, scale, offset, out, row0, row1):
    """Rows of a plane whose smooth parts lie in steps of a code, made even: the mean of places around that lie within ``most`` codes, but never
    further than half a code from what was recorded. ``taps`` (n, 2): places down and right; ``scale``, ``offset``: to delivered codes."""
    h, w = plane.shape
    half = np.float32(0.5)
    for y in range(row0, row1):
        for x in range(w):
            v = np.float32(plane[y, x])
            total, n = v, np.float32(1.0)
            for k in range(taps.shape[0]):
                sy, sx = min(max(y + taps[k, 0], 0), h - 1), min(max(x + taps[k, 1], 0), w - 1)
                u = np.float32(plane[sy, sx])
                if abs(u - v) <= most:
                    total += u
                    n += np.float32(1.0)
            d = min(max(total / n - v, -half), half)
            out[y, x] = np.uint16((v + d) * scale + offset + half)
