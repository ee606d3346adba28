"""The compiled pixel loops. Everything here is a plain function over arrays; ``reference.py`` says the same in NumPy.

One band of delivered rows goes through: vertical filter, horizontal filter, colour, chroma reduction, dither and
quantisation, in row buffers that stay in the first cache. No loop allocates a frame, none holds the interpreter lock,
and bands run side by side on ordinary threads (so no threading layer is needed and several renders may share a
process).
"""

from __future__ import annotations

import numpy as np

from .colour import colour_row
from .compiled import inline, jit
from .registers import LANES

ROOM = 24  # floats by which working rows are longer than the picture is wide


@jit
def filter_rows(plane, start, weights, x0, out):
    """Vertical taps, six rows at a time: ``out[i] = Σ w[k]·plane[start+k, x0+i]``."""
    n, taps = out.shape[0], weights.shape[0]
    if taps == 1:
        row = plane[start, x0 : x0 + n]
        for i in range(n):
            out[i] = np.float32(row[i])
        return
    for i in range(n):
        out[i] = np.float32(0.0)  # what lay there before, which times 0 may still be no number, is not to be read
    for k in range(0, taps, 6):
        a, wa = _tap(plane, start, weights, k, x0, n)
        b, wb = _tap(plane, start, weights, k + 1, x0, n)
        c, wc = _tap(plane, start, weights, k + 2, x0, n)
        d, wd = _tap(plane, start, weights, k + 3, x0, n)
        e, we = _tap(plane, start, weights, k + 4, x0, n)
        f, wf = _tap(plane, start, weights, k + 5, x0, n)
        for i in range(n):
            near = wa * np.float32(a[i]) + wb * np.float32(b[i]) + wc * np.float32(c[i])
            out[i] = out[i] + near + wd * np.float32(d[i]) + we * np.float32(e[i]) + wf * np.float32(f[i])


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
    for i in range(part.shape[0]):
        part[i] = np.float32(0.0)
    for k in range(0, weights.shape[0], 3):
        a, b, c = weights[k][lo:hi], weights[k + 1][lo:hi], weights[k + 2][lo:hi]
        for i in range(part.shape[0]):
            at = where[i] + np.uint64(k)
            part[i] = part[i] + a[i] * row[at] + b[i] * row[at + one] + c[i] * row[at + two]


@jit
def filter_halving(row, starts, weights, lo, hi, scratch, out):
    """The same for exact halving with one kernel: even and odd samples are laid apart, and each half is read as vectors."""
    part, n, taps = out[lo:hi], hi - lo, weights.shape[0]
    origin = np.int64(starts[lo])
    m = n + (taps - 1) // 2
    even, odd = scratch[:m], scratch[m : 2 * m]
    pairs = row[origin : origin + 2 * m]
    for i in range(m):
        even[i] = pairs[2 * i]
        odd[i] = pairs[2 * i + 1]
    for i in range(n):
        part[i] = np.float32(0.0)
    for k in range(0, taps, 6):
        first = k // 2
        wa, wb, wc = weights[k, lo], weights[k + 1, lo], weights[k + 2, lo]
        a, b, c = even[first : first + n], odd[first : first + n], even[first + 1 : first + 1 + n]
        if k + 3 < taps:
            wd, we, wf = weights[k + 3, lo], weights[k + 4, lo], weights[k + 5, lo]
            d, e, f = odd[first + 1 : first + 1 + n], even[first + 2 : first + 2 + n], odd[first + 2 : first + 2 + n]
            for i in range(n):
                part[i] += wa * a[i] + wb * b[i] + wc * c[i] + wd * d[i] + we * e[i] + wf * f[i]
        else:
            for i in range(n):
                part[i] += wa * a[i] + wb * b[i] + wc * c[i]


@jit
def filter_doubling(row, starts, weights, lo, hi, phases, out):
    """The same for exact doubling, whose two kernels repeat: contiguous reads, the machine's vectors at work."""
    n = (hi - lo) // 2
    for phase in range(2):
        part = phases[phase, :n]
        origin = np.int64(starts[lo + phase])
        for i in range(n):
            part[i] = np.float32(0.0)
        for k in range(0, weights.shape[0], 3):
            wa, wb, wc = weights[k, lo + phase], weights[k + 1, lo + phase], weights[k + 2, lo + phase]
            first = origin + k
            a, b, c = row[first : first + n], row[first + 1 : first + 1 + n], row[first + 2 : first + 2 + n]
            for i in range(n):
                part[i] = part[i] + wa * a[i] + wb * b[i] + wc * c[i]
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
def quantise(row, dither, low, high, out):
    """Adds dither (0 … 1, as long as the row), rounds down, clips to the lowest and highest code there may be."""
    for i in range(row.shape[0]):
        out[i] = np.int32(min(max(row[i] + dither[i], low), high))


@jit
def _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch):
    """Whole codes of one row into the delivered planes; chroma rows into ``between`` where rows are reduced too. ``top``: the lowest
    code, the highest, and that of luma."""
    noise = dither[(row + place[0, 1]) & (dither.shape[0] - 1)]
    quantise(work[0, :n], noise[:n], top[0], top[2], target[0][row + place[0, 1], place[0, 0] : place[0, 0] + n])
    for c in range(2):
        channel = work[c + 1]
        if between.shape[1] == 0:
            part = less if half_mode else channel[:n]
            if half_mode:
                _halve(channel, half[0], half[1], half[2], scratch, part)
            x = place[1, 0]
            quantise(part, noise[: part.shape[0]], top[0], top[1], target[c + 1][row + place[1, 1], x : x + part.shape[0]])
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
    colour        (kind, in matrix, input table, matrix, output table, light limit, lattice, out matrix, terms, bounds);
                  kind 0 none, 1 table–matrix–table, 2 shaper and lattice, 3 curves in pieces; the in matrix then gives
                  places in the input table or cells, and the matrix gives light, for the output table + 2⁻¹⁴
    target        three delivered planes; ``place`` (x, y) of the picture in each
    half          (column starts, column weights, (lo, hi) of plain halving) of the chroma reduction; ``between`` (2, rows, columns) keeps float
                  chroma rows for ``reduce_rows``; when the format keeps all rows they are written here
    """
    n = luma[2].shape[0]
    work = np.zeros((3, n + LANES), np.float32)
    bits = work.view(np.int32)
    index = np.empty(n, np.int32)
    scratch = np.empty(n + ROOM, np.float32)
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
        colour_row(work, n, bits, index, *colour)
        _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch)


@jit
def finish_band(
    sampled, cover, n, bare, black, colour, target, place, half, half_mode, between, dither, top, row0, row1
):
    """The same from rows that are sampled already: ``sampled`` (rows, 3, n or more) recorded codes, ``cover`` (rows, n)
    0 … 1.

    Where ``bare`` says that there may be no picture, ``black`` (3 delivered codes) shows through as far as cover lacks.
    """
    work = np.zeros((3, n + LANES), np.float32)
    bits = work.view(np.int32)
    index = np.empty(n, np.int32)
    scratch = np.empty(n + ROOM, np.float32)
    less = np.empty(half[0].shape[0], np.float32)
    for row in range(row0, row1):
        for c in range(3):
            for i in range(n):
                work[c, i] = sampled[row - row0, c, i]
        colour_row(work, n, bits, index, *colour)
        if bare:
            share = cover[row - row0]
            for c in range(3):
                channel = work[c]
                for i in range(n):
                    channel[i] = black[c] + (channel[i] - black[c]) * share[i]
        _deliver_row(work, n, row, target, place, half, half_mode, between, dither, top, less, scratch)


@jit
def plane_band(plane, starts, weights, columns, span, gain, shift, target, place, dither, top, row0, row1):
    """Delivered rows ``row0`` … ``row1−1`` of one plane from one recorded plane: each code is filtered once, times ``gain``,
    plus ``shift``, dithered and made whole.

    starts, weights   of the rows' filter;  columns: starts, weights laid out (taps, columns), kind (see ``_columns``)
    span    first column that is needed of the recorded plane, and how many;  place: x, y in the delivered plane
    """
    n = columns[0].shape[0]
    raw, line, phases = np.zeros(span[1] + 8, np.float32), np.empty(n, np.float32), np.empty((2, n), np.float32)
    used = raw[: span[1]]
    m = dither.shape[0] - 1
    for row in range(row0, row1):
        filter_rows(plane, starts[row], weights[row], span[0], used)
        _columns(raw, columns[0], columns[1], columns[2], phases, line)
        for i in range(n):
            line[i] = line[i] * gain + shift
        y = row + place[1]
        quantise(line, dither[y & m, :n], top[0], top[1], target[y, place[0] : place[0] + n])


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
            quantise(buffer, noise[:n], top[0], top[1], target[c + 1][row + place[1, 1], x : x + n])
