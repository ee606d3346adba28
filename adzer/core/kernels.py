"""The compiled pixel loops. Everything here is a plain function over arrays; ``reference.py`` says the same in NumPy.

One band of delivered rows goes through: vertical filter, horizontal filter, colour, chroma reduction, dither and
quantisation, in row buffers that stay in the first cache. No loop allocates a frame, none holds the interpreter lock,
and bands run side by side on ordinary threads (so no threading layer is needed and several renders may share a
process). Importing this module costs about two seconds: never do it on the UI thread.
"""

from __future__ import annotations

import numba
import numpy as np

_FAST = {"contract", "reassoc", "nsz", "arcp"}
jit = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")
inline = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy", inline="always")

# Output table: cells are slices of a float's own exponent and mantissa, 256 to the octave.
MANTISSA_SHIFT = 15
TABLE_FLOOR = 2.0**-14


@jit
def filter_rows(plane, start, weights, x0, out):
    """Vertical taps: ``out[i] = Σ w[k]·plane[start+k, x0+i]``."""
    n = out.shape[0]
    row = plane[start, x0 : x0 + n]
    w = weights[0]
    for i in range(n):
        out[i] = w * np.float32(row[i])
    for k in range(1, weights.shape[0]):
        w = weights[k]
        if w != 0.0:
            row = plane[start + k, x0 : x0 + n]
            for i in range(n):
                out[i] += w * np.float32(row[i])


@jit
def filter_columns(row, starts, weights, out):
    """Horizontal taps, weights laid out (taps, columns): ``out[i] = Σ w[k,i]·row[starts[i]+k]``."""
    n = out.shape[0]
    for i in range(n):
        out[i] = np.float32(0.0)
    for k in range(weights.shape[0]):
        w = weights[k]
        for i in range(n):
            out[i] += w[i] * row[starts[i] + np.uint32(k)]


@inline
def _columns(row, starts, weights, out):
    """A single tap is a copy of neighbours that lie side by side."""
    if weights.shape[0] == 1:
        origin = np.int64(starts[0])
        for i in range(out.shape[0]):
            out[i] = row[origin + i]
    else:
        filter_columns(row, starts, weights, out)


@jit
def to_rgb(y, b, r, matrix):
    """In place: code values → R′G′B′ by a 3×4 matrix."""
    m = matrix
    for i in range(y.shape[0]):
        p, q, s = y[i], b[i], r[i]
        y[i] = m[0, 0] * p + m[0, 1] * q + m[0, 2] * s + m[0, 3]
        b[i] = m[1, 0] * p + m[1, 1] * q + m[1, 2] * s + m[1, 3]
        r[i] = m[2, 0] * p + m[2, 1] * q + m[2, 2] * s + m[2, 3]


@jit
def look_up(x, table, low, scale):
    """In place: a table over evenly spaced signal, straight between its points, held at both ends."""
    top = np.float32(table.shape[0] - 1.001)
    for i in range(x.shape[0]):
        t = min(max((x[i] - low) * scale, np.float32(0.0)), top)
        k = np.uint32(np.int32(t))
        a = table[k]
        x[i] = a + (t - np.float32(np.int32(t))) * (table[k + np.uint32(1)] - a)


@jit
def look_up_light(x, bits, table, limit):
    """In place: a table over light, whose cells follow the float's exponent. ``bits`` is ``x`` seen as int32."""
    floor = np.float32(TABLE_FLOOR)
    base = np.int32(113 << (23 - MANTISSA_SHIFT))  # exponent field of 2⁻¹⁴
    for i in range(x.shape[0]):
        x[i] = min(max(x[i], np.float32(0.0)), limit) + floor
    for i in range(x.shape[0]):
        b = bits[i]
        k = np.uint32((b >> MANTISSA_SHIFT) - base)
        f = np.float32(b & ((1 << MANTISSA_SHIFT) - 1)) * np.float32(1.0 / (1 << MANTISSA_SHIFT))
        a = table[k]
        x[i] = a + f * (table[k + np.uint32(1)] - a)


@jit
def tetrahedral(r, g, b, lattice):
    """In place: lattice coordinates (0 … n−1) → R′G′B′ by tetrahedral interpolation in an (n, n, n, 3) lattice."""
    n = lattice.shape[0]
    top = np.float32(n - 1)
    for i in range(r.shape[0]):
        x = min(max(r[i], np.float32(0.0)), top)
        y = min(max(g[i], np.float32(0.0)), top)
        z = min(max(b[i], np.float32(0.0)), top)
        ix, iy, iz = min(np.int64(x), n - 2), min(np.int64(y), n - 2), min(np.int64(z), n - 2)
        fx, fy, fz = x - ix, y - iy, z - iz
        # The two inner corners of the tetrahedron that holds the point, and the three fractions from large to small.
        ax = ay = az = bx = by = bz = 0
        if fx >= fy:
            if fy >= fz:
                ax, bx, by, big, mid, low = 1, 1, 1, fx, fy, fz
            elif fx >= fz:
                ax, bx, bz, big, mid, low = 1, 1, 1, fx, fz, fy
            else:
                az, bx, bz, big, mid, low = 1, 1, 1, fz, fx, fy
        elif fx >= fz:
            ay, bx, by, big, mid, low = 1, 1, 1, fy, fx, fz
        elif fy >= fz:
            ay, by, bz, big, mid, low = 1, 1, 1, fy, fz, fx
        else:
            az, by, bz, big, mid, low = 1, 1, 1, fz, fy, fx
        c0 = lattice[ix, iy, iz]
        c1 = lattice[ix + ax, iy + ay, iz + az]
        c2 = lattice[ix + bx, iy + by, iz + bz]
        c3 = lattice[ix + 1, iy + 1, iz + 1]
        w0, w1, w2 = 1 - big, big - mid, mid - low
        r[i] = w0 * c0[0] + w1 * c1[0] + w2 * c2[0] + low * c3[0]
        g[i] = w0 * c0[1] + w1 * c1[1] + w2 * c2[1] + low * c3[1]
        b[i] = w0 * c0[2] + w1 * c1[2] + w2 * c2[2] + low * c3[2]


@jit
def quantise(row, dither, low, high, out):
    """Adds dither (0 … 1), rounds down, clips to the codes that the format has."""
    m = dither.shape[0] - 1
    lo, hi = np.float32(low), np.float32(high)
    for i in range(row.shape[0]):
        out[i] = np.int32(min(max(row[i] + dither[i & m], lo), hi))


@jit
def render_band(
    source, luma, chroma, luma_span, chroma_span, colour_kind, in_matrix, table_in, table_in_range, matrix, table_out,
    light_limit, lattice, out_matrix, target, place, half, half_mode, between, dither, top, row0, row1,
):  # fmt: skip
    """Delivered rows ``row0`` … ``row1−1`` of the picture (bars are not its business).

    source        three planes (rows, stride); for a grey source planes 1 and 2 repeat plane 0 with zero matrix columns
    luma, chroma  (row starts, row weights, column starts, column weights)
    *_span        first source column and count that the column filter needs
    colour_kind   0 none, 1 table–matrix–table, 2 shaper and lattice
    target        three delivered planes; ``place`` (x, y) of the picture in each
    half          (column starts, column weights) of the chroma reduction; ``between`` (2, rows, columns) keeps float
                  chroma rows for ``reduce_rows``; when the format keeps all rows they are written here
    """
    n = luma[2].shape[0]
    work = np.empty((3, n), np.float32)
    bits = work.view(np.int32)
    raw0 = np.empty(luma_span[1], np.float32)
    raw1 = np.empty(chroma_span[1], np.float32)
    less = np.empty((2, half[0].shape[0]), np.float32)
    y, b, r = work[0], work[1], work[2]
    keep_rows = between.shape[1] == 0
    m = dither.shape[0] - 1
    for row in range(row0, row1):
        filter_rows(source[0], luma[0][row], luma[1][row], luma_span[0], raw0)
        _columns(raw0, luma[2], luma[3], y)
        filter_rows(source[1], chroma[0][row], chroma[1][row], chroma_span[0], raw1)
        _columns(raw1, chroma[2], chroma[3], b)
        filter_rows(source[2], chroma[0][row], chroma[1][row], chroma_span[0], raw1)
        _columns(raw1, chroma[2], chroma[3], r)
        to_rgb(y, b, r, in_matrix)
        if colour_kind == 1:
            for c in range(3):
                look_up(work[c], table_in, table_in_range[0], table_in_range[1])
            to_rgb(y, b, r, matrix)
            for c in range(3):
                look_up_light(work[c], bits[c], table_out, light_limit)
        elif colour_kind == 2:
            for c in range(3):
                look_up(work[c], table_in, table_in_range[0], table_in_range[1])
            tetrahedral(y, b, r, lattice)
        if colour_kind != 0:
            to_rgb(y, b, r, out_matrix)
        noise = dither[(row + place[0, 1]) & m]
        quantise(y, noise, 0, top, target[0][row + place[0, 1], place[0, 0] : place[0, 0] + n])
        for c in range(2):
            if half_mode:
                filter_columns(work[c + 1], half[0], half[1], less[c])
                part = less[c]
            else:
                part = work[c + 1]
            if keep_rows:
                x = place[1, 0]
                quantise(part, noise, 0, top, target[c + 1][row + place[1, 1], x : x + part.shape[0]])
            else:
                kept = between[c, row]
                for i in range(part.shape[0]):
                    kept[i] = part[i]


@jit
def reduce_rows(between, starts, weights, target, place, dither, top, row0, row1):
    """Second half of the chroma reduction: vertical taps over ``between``, dither, quantise."""
    n = between.shape[2]
    buffer = np.empty(n, np.float32)
    m = dither.shape[0] - 1
    for row in range(row0, row1):
        noise = dither[(row + place[1, 1]) & m]
        for c in range(2):
            filter_rows(between[c], starts[row], weights[row], 0, buffer)
            x = place[1, 0]
            quantise(buffer, noise, 0, top, target[c + 1][row + place[1, 1], x : x + n])


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


def main() -> None:
    """Compiles every loop for both sample sizes into the cache, by running a small picture of each kind through."""
    from . import warm

    warm.run()


if __name__ == "__main__":
    main()
