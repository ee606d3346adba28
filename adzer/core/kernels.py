"""The compiled pixel loops. Everything here is a plain function over arrays; ``reference.py`` says the same in NumPy.

One band of delivered rows goes through: vertical filter, horizontal filter, colour, chroma reduction, dither and
quantisation, in row buffers that stay in the first cache. No loop allocates a frame, none holds the interpreter lock,
and bands run side by side on ordinary threads (so no threading layer is needed and several renders may share a
process). Importing this module costs about two seconds: never do it on the UI thread.
"""

from __future__ import annotations

import numba
import numpy as np

_FAST = {"contract", "reassoc", "nsz", "arcp", "nnan", "ninf"}  # no code value or table is ever NaN or infinite
jit = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")
inline = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy", inline="always")

# Output table: its cells are slices of a float's own exponent and mantissa, 128 to the octave.
MANTISSA_SHIFT = 16
TABLE_FLOOR = 2.0**-14


@jit
def filter_rows(plane, start, weights, x0, out):
    """Vertical taps, six rows at a time: ``out[i] = Σ w[k]·plane[start+k, x0+i]``."""
    n, taps = out.shape[0], weights.shape[0]
    if taps == 1:
        row = plane[start, x0 : x0 + n]
        for i in range(n):
            out[i] = np.float32(row[i])
        return
    for k in range(0, taps, 6):
        a, wa = _tap(plane, start, weights, k, x0, n)
        b, wb = _tap(plane, start, weights, k + 1, x0, n)
        c, wc = _tap(plane, start, weights, k + 2, x0, n)
        d, wd = _tap(plane, start, weights, k + 3, x0, n)
        e, we = _tap(plane, start, weights, k + 4, x0, n)
        f, wf = _tap(plane, start, weights, k + 5, x0, n)
        keep = np.float32(0.0 if k == 0 else 1.0)
        for i in range(n):
            near = wa * np.float32(a[i]) + wb * np.float32(b[i]) + wc * np.float32(c[i])
            out[i] = keep * out[i] + near + wd * np.float32(d[i]) + we * np.float32(e[i]) + wf * np.float32(f[i])


@inline
def _tap(plane, start, weights, k, x0, n):
    """One row and its weight; past the last tap the last row again, with weight 0."""
    last = weights.shape[0] - 1
    row = plane[start + min(k, last), x0 : x0 + n]
    return row, weights[k] if k <= last else np.float32(0.0)


@jit
def filter_columns(row, starts, weights, lo, hi, out):
    """Horizontal taps, a multiple of three, laid out (taps, columns): ``out[i] = Σ w[k,i]·row[starts[i]+k]``, lo ≤ i < hi."""
    part, where = out[lo:hi], starts[lo:hi]
    one, two = np.uint64(1), np.uint64(2)
    for k in range(0, weights.shape[0], 3):
        a, b, c = weights[k][lo:hi], weights[k + 1][lo:hi], weights[k + 2][lo:hi]
        keep = np.float32(0.0 if k == 0 else 1.0)
        for i in range(part.shape[0]):
            at = where[i] + np.uint64(k)
            part[i] = keep * part[i] + a[i] * row[at] + b[i] * row[at + one] + c[i] * row[at + two]


@jit
def filter_halving(row, starts, weights, lo, hi, scratch, out):
    """The same for exact halving with one kernel of up to three taps: at every place, as vectors, then every second."""
    part, n = out[lo:hi], hi - lo
    origin = np.int64(starts[lo])
    wa, wb, wc = weights[0, lo], weights[1, lo], weights[2, lo]
    m = 2 * n - 1
    a, b, c = row[origin : origin + m], row[origin + 1 : origin + 1 + m], row[origin + 2 : origin + 2 + m]
    every = scratch[:m]
    for i in range(m):
        every[i] = wa * a[i] + wb * b[i] + wc * c[i]
    for i in range(n):
        part[i] = every[2 * i]


@jit
def filter_doubling(row, starts, weights, lo, hi, phases, out):
    """The same for exact doubling, whose two kernels repeat: contiguous reads, the machine's vectors at work."""
    n = (hi - lo) // 2
    for phase in range(2):
        part = phases[phase, :n]
        origin = np.int64(starts[lo + phase])
        for k in range(0, weights.shape[0], 3):
            wa, wb, wc = weights[k, lo + phase], weights[k + 1, lo + phase], weights[k + 2, lo + phase]
            first = origin + k
            a, b, c = row[first : first + n], row[first + 1 : first + 1 + n], row[first + 2 : first + 2 + n]
            keep = np.float32(0.0 if k == 0 else 1.0)
            for i in range(n):
                part[i] = keep * part[i] + wa * a[i] + wb * b[i] + wc * c[i]
    even, odd, both = phases[0, :n], phases[1, :n], out[lo:hi]
    for i in range(n):
        both[2 * i] = even[i]
        both[2 * i + 1] = odd[i]


@inline
def _columns(row, starts, weights, double, phases, out):
    """One tap is a copy of neighbours; doubling where ``double`` (lo, hi) says so; the general filter elsewhere."""
    n = out.shape[0]
    if double[0] < 0:
        origin = np.int64(starts[0])
        part = row[origin : origin + n]
        for i in range(n):
            out[i] = part[i]
    else:
        lo, hi = double
        filter_columns(row, starts, weights, 0, lo, out)
        if hi > lo:
            filter_doubling(row, starts, weights, lo, hi, phases, out)
        filter_columns(row, starts, weights, hi, n, out)


@inline
def _halve(row, starts, weights, span, scratch, out):
    """``filter_halving`` within ``span``, the general filter at the edges."""
    lo, hi = span
    filter_columns(row, starts, weights, 0, lo, out)
    if hi > lo:
        filter_halving(row, starts, weights, lo, hi, scratch, out)
    filter_columns(row, starts, weights, hi, out.shape[0], out)


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
def look_up(x, index, table):
    """In place: a table over evenly spaced places 0, 1, 2 …, held at both ends; a cell is (value at 0, slope) of its line.

    ``index`` is room for as many int32. Finding the cells is vector work, fetching them is not: hence two loops.
    """
    top = np.float32(table.shape[0] - 0.001)
    for i in range(x.shape[0]):
        x[i] = min(max(x[i], np.float32(0.0)), top)
        index[i] = np.int32(x[i])
    for i in range(x.shape[0]):
        k = np.uint32(index[i])
        x[i] = table[k, 0] + x[i] * table[k, 1]


@jit
def look_up_light(x, bits, index, table, limit):
    """In place: the same over light + 2⁻¹⁴, whose cells follow the float's exponent. ``bits`` is ``x`` seen as int32."""
    floor, top = np.float32(TABLE_FLOOR), np.float32(limit + TABLE_FLOOR)
    base = np.int32(113 << (23 - MANTISSA_SHIFT))  # exponent field of 2⁻¹⁴
    for i in range(x.shape[0]):
        x[i] = min(max(x[i], floor), top)
    for i in range(x.shape[0]):
        index[i] = (bits[i] >> MANTISSA_SHIFT) - base
    for i in range(x.shape[0]):
        k = np.uint32(index[i])
        x[i] = table[k, 0] + x[i] * table[k, 1]


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
def quantise(row, dither, top, out):
    """Adds dither (0 … 1, as long as the row), rounds down, clips to the codes that the format has."""
    high = np.float32(top)
    for i in range(row.shape[0]):
        out[i] = np.int32(min(max(row[i] + dither[i], np.float32(0.0)), high))


@jit
def _colour_row(work, n, bits, index, kind, in_matrix, table_in, matrix, table_out, light_limit, lattice, out_matrix):
    """In place: recorded codes of one row → delivered codes, not yet whole. ``work`` (3, n + 8); ``bits`` the same as int32."""
    y, b, r = work[0, :n], work[1, :n], work[2, :n]
    to_rgb(y, b, r, in_matrix)
    if kind == 1:
        for c in range(3):
            look_up(work[c, :n], index, table_in)
        to_rgb(y, b, r, matrix)
        for c in range(3):
            look_up_light(work[c, :n], bits[c, :n], index, table_out, light_limit)
    elif kind == 2:
        for c in range(3):
            look_up(work[c, :n], index, table_in)
        tetrahedral(y, b, r, lattice)
    if kind != 0:
        to_rgb(y, b, r, out_matrix)


@jit
def _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch):
    """Whole codes of one row into the delivered planes; chroma rows into ``between`` where rows are reduced too."""
    noise = dither[(row + place[0, 1]) & (dither.shape[0] - 1)]
    quantise(work[0, :n], noise[:n], top, target[0][row + place[0, 1], place[0, 0] : place[0, 0] + n])
    for c in range(2):
        channel = work[c + 1]
        if between.shape[1] == 0:
            part = less if half_mode else channel[:n]
            if half_mode:
                _halve(channel, half[0], half[1], half[2], scratch, part)
            x = place[1, 0]
            quantise(part, noise[: part.shape[0]], top, target[c + 1][row + place[1, 1], x : x + part.shape[0]])
        else:
            _halve(channel, half[0], half[1], half[2], scratch, between[c, row])


@jit
def render_band(
    source,
    luma,
    chroma,
    luma_span,
    chroma_span,
    colour,
    target,
    place,
    half,
    half_mode,
    between,
    dither,
    top,
    row0,
    row1,
):
    """Delivered rows ``row0`` … ``row1−1`` of the picture (bars are not its business).

    source        three planes (rows, stride); for a grey source planes 1 and 2 repeat plane 0 with zero matrix columns
    luma, chroma  (row starts, row weights, column starts, column weights, (lo, hi) of doubling; lo < 0: one tap)
    *_span        first source column and count that the column filter needs
    colour        (kind, in matrix, input table, matrix, output table, light limit, lattice, out matrix); kind 0 none,
                  1 table–matrix–table, 2 shaper and lattice; the in matrix then gives places in the input table, and the
                  matrix gives light + 2⁻¹⁴, places in the output table
    target        three delivered planes; ``place`` (x, y) of the picture in each
    half          (column starts, column weights, (lo, hi) of plain halving) of the chroma reduction; ``between`` (2, rows, columns) keeps float
                  chroma rows for ``reduce_rows``; when the format keeps all rows they are written here
    """
    n = luma[2].shape[0]
    work = np.zeros((3, n + 8), np.float32)
    bits = work.view(np.int32)
    index = np.empty(n, np.int32)
    scratch = np.empty(n + 8, np.float32)
    raw0, raw1 = np.zeros(luma_span[1] + 8, np.float32), np.zeros(chroma_span[1] + 8, np.float32)
    used0, used1 = raw0[: luma_span[1]], raw1[: chroma_span[1]]
    phases = np.empty((2, n // 2 + 1), np.float32)
    less = np.empty(half[0].shape[0], np.float32)
    y, b, r = work[0, :n], work[1, :n], work[2, :n]
    for row in range(row0, row1):
        filter_rows(source[0], luma[0][row], luma[1][row], luma_span[0], used0)
        _columns(raw0, luma[2], luma[3], luma[4], phases, y)
        filter_rows(source[1], chroma[0][row], chroma[1][row], chroma_span[0], used1)
        _columns(raw1, chroma[2], chroma[3], chroma[4], phases, b)
        filter_rows(source[2], chroma[0][row], chroma[1][row], chroma_span[0], used1)
        _columns(raw1, chroma[2], chroma[3], chroma[4], phases, r)
        _colour_row(work, n, bits, index, *colour)
        _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch)


@jit
def finish_band(sampled, cover, bare, black, colour, target, place, half, half_mode, between, dither, top, row0, row1):
    """The same from rows that are sampled already: ``sampled`` (rows, 3, n) recorded codes, ``cover`` (rows, n) 0 … 1.

    Where ``bare`` says that there may be no picture, ``black`` (3 delivered codes) shows through as far as cover lacks.
    """
    n = sampled.shape[2]
    work = np.zeros((3, n + 8), np.float32)
    bits = work.view(np.int32)
    index = np.empty(n, np.int32)
    scratch = np.empty(n + 8, np.float32)
    less = np.empty(half[0].shape[0], np.float32)
    for row in range(row0, row1):
        for c in range(3):
            work[c, :n] = sampled[row - row0, c]
        _colour_row(work, n, bits, index, *colour)
        if bare:
            share = cover[row - row0]
            for c in range(3):
                channel = work[c]
                for i in range(n):
                    channel[i] = black[c] + (channel[i] - black[c]) * share[i]
        _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch)


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
            quantise(buffer, noise[:n], top, target[c + 1][row + place[1, 1], x : x + n])


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
