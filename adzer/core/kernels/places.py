"""Where a recording holds each delivered pixel: from a grid of directions to recorded places."""

from __future__ import annotations

import numpy as np

from .compiled import inline, jit

EQUIRECT, ROUND, PLACES = 0, 1, 2
EVERY, BLOCK = 4, 16  # pixels from place to place that is worked out; places in a block


@inline
def _angle(y, x):
    """atan2 to 8e-8 radians; the polynomial is the Chebyshev fit of atan(√s)/√s over 0 … 1."""
    ax, ay = abs(x), abs(y)
    a = min(ax, ay) / max(max(ax, ay), np.float32(1e-30))
    s = a * a
    p = np.float32(-0.004668773307619722)
    p = p * s + np.float32(0.024166189522092638)
    p = p * s + np.float32(-0.05936710078890953)
    p = p * s + np.float32(0.09906096897037217)
    p = p * s + np.float32(-0.14016585042072)
    p = p * s + np.float32(0.19969235394795545)
    p = p * s + np.float32(-0.33331959724324256)
    r = a * (p * s + np.float32(0.9999998977538569))
    r = np.float32(1.5707963267948966) - r if ay > ax else r
    r = np.float32(3.141592653589793) - r if x < 0 else r
    return -r if y < 0 else r


@jit
def _interpolate(nodes, step, row, first, every, d):
    """Directions of one row's pixel centres ``first``, ``first`` + ``every`` …: straight pieces between the grid's nodes.

    ``d`` is (3, places); ``every`` divides ``step``, and places beyond the last cell go on as in it.
    """
    cell, cells = row // step, nodes.shape[1] - 1
    down = np.float32((row + 0.5 - cell * step) / step)
    part = np.float32(1.0 / step)
    n = d.shape[1]
    for c in range(3):
        line, above, below = d[c], nodes[cell, :, c], nodes[cell + 1, :, c]
        done, g = 0, first // step
        while done < n:
            here = above[g] + (below[g] - above[g]) * down
            slope = (above[g + 1] + (below[g + 1] - above[g + 1]) * down - here) * part
            at = np.float32(first + done * every - g * step + 0.5)
            end = n if g == cells - 1 else min(done + (g * step + step - first - done * every) // every, n)
            stretch = line[done:end]
            for i in range(stretch.shape[0]):
                stretch[i] = here + slope * (at + np.float32(i * every))
            done, g = end, g + 1


@jit
def _rough(nodes, step, row, d):
    """``_interpolate`` at every fourth pixel from the first, without a loop inside a loop where a cell is widest."""
    if step != 8 * EVERY:
        _interpolate(nodes, step, row, 0, EVERY, d)
        return
    cell, cells = row // step, nodes.shape[1] - 1
    down, part, half = np.float32((row + 0.5 - cell * step) / step), np.float32(1 / (8 * EVERY)), np.float32(0.5)
    for c in range(3):
        line = d[c]
        last = nodes[cell, 0, c] + (nodes[cell + 1, 0, c] - nodes[cell, 0, c]) * down
        whole = min(cells, line.shape[0] // 8)
        slope = np.float32(0.0)
        for g in range(whole):
            here = last
            last = nodes[cell, g + 1, c] + (nodes[cell + 1, g + 1, c] - nodes[cell, g + 1, c]) * down
            slope = (last - here) * part
            first = here + slope * half
            for k in range(8):
                line[g * 8 + k] = first + slope * np.float32(k * EVERY)
        if whole < cells:
            here = last
            last = nodes[cell, whole + 1, c] + (nodes[cell + 1, whole + 1, c] - nodes[cell, whole + 1, c]) * down
            slope, whole = (last - here) * part, whole + 1
        for i in range(8 * (whole - 1), line.shape[0]):  # the last cell, and a little beyond it
            line[i] = last + slope * (np.float32((i - 8 * whole) * EVERY) + half)


@jit
def _equirect(d, lens, place, cover):
    """lens: [pixels per radian of heading, half width, pixels per radian of tilt, half height, half the heading covered]"""
    fx, cx, fy, cy, reach = lens[0, 0], lens[0, 1], lens[0, 2], lens[0, 3], lens[0, 4]
    for i in range(d.shape[1]):
        x, y, z = d[0, i], d[1, i], d[2, i]
        heading = _angle(x, y)
        place[0, i] = cx + heading * fx
        place[1, i] = cy - _angle(z, np.sqrt(x * x + y * y)) * fy
        cover[i] = min(max((reach - abs(heading)) * fx + np.float32(0.5), np.float32(0.0)), np.float32(1.0))


@jit
def _round(d, lens, place, cover):
    """lens, a row each: [x, y, pixels per unit of grown angle, half angle, right (3), forward (3), up (3), bend (4), how much of a picture there
    is a radian inside its rim, and at its rim]"""
    for i in range(d.shape[1]):
        x, y, z = d[0, i], d[1, i], d[2, i]
        best, m = np.float32(-2.0), 0
        for k in range(lens.shape[0]):
            ahead = x * lens[k, 7] + y * lens[k, 8] + z * lens[k, 9]
            if ahead > best:
                best, m = ahead, k
        u = x * lens[m, 4] + y * lens[m, 5] + z * lens[m, 6]
        v = x * lens[m, 10] + y * lens[m, 11] + z * lens[m, 12]
        side = np.sqrt(u * u + v * v)
        angle = _angle(side, best)
        s = angle * angle
        grown = angle * (1 + s * (lens[m, 13] + s * (lens[m, 14] + s * (lens[m, 15] + s * lens[m, 16]))))
        r = grown * lens[m, 2] / max(side, np.float32(1e-9))
        place[0, i] = lens[m, 0] + u * r
        place[1, i] = lens[m, 1] - v * r
        cover[i] = min(max((lens[m, 3] - angle) * lens[m, 17] + lens[m, 18], np.float32(0.0)), np.float32(1.0))


@jit
def _turned(kind, d, lens, place, cover):
    """Recorded places of directions, and how far there is a picture."""
    if kind == EQUIRECT:
        _equirect(d, lens, place, cover)
    elif kind == ROUND:
        _round(d, lens, place, cover)
    else:  # the grid holds recorded places themselves
        for i in range(cover.shape[0]):
            place[0, i], place[1, i], cover[i] = d[0, i], d[1, i], np.float32(1.0)


@jit
def _bent(line, lo, hi, most):
    """How often a line of places bends by more than ``most`` at lo … hi−1. It counts, as extremes would not be vector code."""
    count = np.int32(0)
    before, here, after = line[lo - 1 : hi - 1], line[lo:hi], line[lo + 1 : hi + 1]
    for i in range(here.shape[0]):
        count += np.int32(abs(before[i] - 2 * here[i] + after[i]) > most)
    return count


@jit
def _drawn(line, out):
    """Four pixels from each place to the next, straight."""
    quarter, half, three = np.float32(0.25), np.float32(0.5), np.float32(0.75)
    whole = out.shape[0] // EVERY
    for i in range(whole):
        here, step = line[i], line[i + 1] - line[i]
        out[4 * i] = here
        out[4 * i + 1] = here + step * quarter
        out[4 * i + 2] = here + step * half
        out[4 * i + 3] = here + step * three
    for i in range(whole * EVERY, out.shape[0]):
        out[i] = line[whole] + (line[whole + 1] - line[whole]) * np.float32(i - whole * EVERY) * quarter


@jit
def places_row(nodes, step, row, kind, lens, d, few, rough, place, cover):
    """Recorded places of one row: worked out at every fourth pixel and drawn straight between, where that is within 0.01
    recorded pixels; at every pixel of a block where it is not, as at poles, the seam and the edge of a lens.

    Room: ``d`` (3, n), ``few`` (3, m) and ``rough`` (3, m) for places and cover; whole arrays, as slices of them would not
    be vector code.
    """
    n, m = place.shape[1], few.shape[1]
    if step % EVERY or m < 4:
        _interpolate(nodes, step, row, 0, 1, d)
        _turned(kind, d, lens, place, cover)
        return
    most = np.float32(0.08)
    _rough(nodes, step, row, few)
    _turned(kind, few, lens, rough, rough[2])
    _drawn(rough[0], place[0])
    _drawn(rough[1], place[1])
    _drawn(rough[2], cover)
    if (
        _bent(rough[0], 1, m - 1, most) + _bent(rough[1], 1, m - 1, most) + _bent(rough[2], 1, m - 1, np.float32(0))
        == 0
    ):
        return
    for lo in range(0, m - 1, BLOCK):
        hi = min(lo + BLOCK, m - 1)
        a, b = max(lo, 1), min(hi + 1, m - 1)
        if _bent(rough[0], a, b, most) + _bent(rough[1], a, b, most) + _bent(rough[2], a, b, np.float32(0)) > 0:
            first, last = lo * EVERY, min(hi * EVERY, n)
            _interpolate(nodes, step, row, first, 1, d[:, : last - first])
            _turned(kind, d[:, : last - first], lens, place[:, first:last], cover[first:last])
