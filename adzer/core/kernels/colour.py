"""The colour of one row: codes → R′G′B′ → light → delivered codes, by matrices and tables.

A fetch from a table is no vector code; what leads to it is, and stands in a loop of its own.
"""

from __future__ import annotations

import numpy as np

from .compiled import jit
from .registers import pieces_row

# Output table: its cells are slices of a float's own exponent and mantissa, 128 to the octave.
MANTISSA_SHIFT = 16
TABLE_FLOOR = 2.0**-14


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
def colour_row(
    work, n, bits, index, kind, in_matrix, table_in, matrix, table_out, light_limit, lattice, out_matrix, terms, bounds
):
    """In place: recorded codes of one row → delivered codes, not yet whole. ``work`` (3, n + LANES); ``bits`` the same as int32."""
    if kind == 3:
        pieces_row(work, n, in_matrix, matrix, out_matrix, terms, bounds)
        return
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
