"""Sensor values under a two-by-two colour filter → light of wide primaries → codes, a tile at a time, so that it never leaves the cache.

Two ways from one value a place to three: gradient-corrected straight lines (Malvar, He and Cutler 2004), quick; and colour differences
weighed by their gradients in four directions (Pekkucuksen and Altunbasak 2010), whose false colours a median of the differences takes away.
Both work on square roots of light: there a shade over a colour is nearly a difference, and noise is the same in dark and bright places.
"""

from __future__ import annotations

import numpy as np

from .compiled import inline, jit

TILE = (64, 448)  # rows, columns that are finished at once
HALO = 12  # values around them that are looked at, even, so that the filter's phase stays
ROOMS = 10  # planes of working memory, each (TILE + 2·HALO)
FLOOR, SHIFT, OFFSET = 2.0**-10, 16, 2.0**-7  # of the table's places: light + OFFSET, 128 cells an octave from FLOOR on
BASE = (127 - 10) << (23 - SHIFT)
RAMP = 0.6  # stops below its ceiling in which a channel becomes full
NEAR = 2.0**-RAMP  # share of its ceiling from which on it is nearly so
ROOT = np.float32(0.003)  # light that is added under the root, so that noise about black stays noise


@inline
def _mirror(i, n):
    """A place in 0 … n−1, mirrored at the ends, which keeps its phase."""
    if n < 2:
        return 0
    i = abs(i)
    period = 2 * (n - 1)
    i = i % period
    return period - i if i >= n else i


@jit
def lift(values, black, scale, down, across, gain, top, left, m):
    """Values of a tile and its halo as roots of balanced light."""
    h, w = values.shape
    inside = left >= 0 and left + m.shape[1] <= w
    for y in range(m.shape[0]):
        sy, row = _mirror(top + y, h), m[y]
        if inside:  # the same without mirroring: vector code
            line, more, start = values[sy, left : left + m.shape[1]], across[left : left + m.shape[1]], black[(sy & 1) * 2]
            first, second = scale[(sy & 1) * 2], scale[(sy & 1) * 2 + 1]
            low, next_low = start + down[sy], black[(sy & 1) * 2 + 1] + down[sy]
            for k in range(m.shape[1] // 2):  # a tile begins on an even place
                a, b = np.float32(line[2 * k]), np.float32(line[2 * k + 1])
                row[2 * k] = (a - low - more[2 * k]) * first
                row[2 * k + 1] = (b - next_low - more[2 * k + 1]) * second
            if gain.shape[0] > 1:
                for x in range(m.shape[1]):
                    row[x] *= gain[sy, left + x]
            for x in range(m.shape[1]):
                root = np.sqrt(abs(row[x] + ROOT))
                row[x] = root if row[x] > -ROOT else -root
            continue
        for x in range(m.shape[1]):
            sx = _mirror(left + x, w)
            cell = (sy & 1) * 2 + (sx & 1)
            v = np.float32(values[sy, sx])
            light = (v - black[cell] - down[sy] - across[sx]) * scale[cell]
            if gain.shape[0] > 1:
                light *= gain[sy, sx]
            root = np.sqrt(abs(light + ROOT))
            row[x] = root if light > -ROOT else -root


@jit
def _differences(m, green_first, dh, dv, signs):
    """Green less the other colour, as it looks along rows and along columns. ``signs``: room for two rows."""
    half, quarter = np.float32(0.5), np.float32(0.25)
    h, w = m.shape
    n = w - 4
    for x in range(w):
        signs[0, x] = np.float32(1.0) if x % 2 == 0 else np.float32(-1.0)  # of rows whose even places are not green
        signs[1, x] = -signs[0, x]
    for y in range(2, h - 2):
        here, l2, l1, r1, r2 = m[y, 2 : n + 2], m[y, 0:n], m[y, 1 : n + 1], m[y, 3 : n + 3], m[y, 4 : n + 4]
        u2, u1, d1, d2 = m[y - 2, 2 : n + 2], m[y - 1, 2 : n + 2], m[y + 1, 2 : n + 2], m[y + 2, 2 : n + 2]
        sign, a, b = signs[(y + green_first) & 1, 2 : n + 2], dh[y, 2 : n + 2], dv[y, 2 : n + 2]
        for x in range(n):
            a[x] = ((l1[x] + r1[x]) * half - here[x] * half - (l2[x] + r2[x]) * quarter) * sign[x]
            b[x] = ((u1[x] + d1[x]) * half - here[x] * half - (u2[x] + d2[x]) * quarter) * sign[x]


@jit
def _gradients(dh, dv, gh, gv):
    """Sizes of the steps from the place before to the place after."""
    h, w = dh.shape
    n = w - 6
    for y in range(3, h - 3):
        left, right, up, down = dh[y, 2 : n + 2], dh[y, 4 : n + 4], dv[y - 1, 3 : n + 3], dv[y + 1, 3 : n + 3]
        a, b = gh[y, 3 : n + 3], gv[y, 3 : n + 3]
        for x in range(n):
            a[x] = abs(left[x] - right[x])
            b[x] = abs(up[x] - down[x])


@jit
def _five_across(source, out, y0, y1, x0, x1, scale):
    """Sums over five places of a row, ``scale`` times."""
    n = x1 - x0 - 4
    for y in range(y0, y1):
        a, b, c = source[y, x0 : x0 + n], source[y, x0 + 1 : x0 + 1 + n], source[y, x0 + 2 : x0 + 2 + n]
        d, e, made = source[y, x0 + 3 : x0 + 3 + n], source[y, x0 + 4 : x0 + 4 + n], out[y, x0 + 2 : x0 + 2 + n]
        for x in range(n):
            made[x] = (a[x] + b[x] + c[x] + d[x] + e[x]) * scale


@jit
def _five_down(source, out, y0, y1, x0, x1, scale):
    """The same of a column."""
    n = x1 - x0
    for y in range(y0 + 2, y1 - 2):
        a, b, c = source[y - 2, x0:x1], source[y - 1, x0:x1], source[y, x0:x1]
        d, e, made = source[y + 1, x0:x1], source[y + 2, x0:x1], out[y, x0:x1]
        for x in range(n):
            made[x] = (a[x] + b[x] + c[x] + d[x] + e[x]) * scale


@jit
def _weighed(bh, bv, mh, mv, d):
    """The four directions' differences, each by one over the square of its gradients."""
    h, w = d.shape
    n = w - 14
    tiny = np.float32(1e-5)
    for y in range(7, h - 7):
        bn, bs, be, bo = bv[y - 2, 7 : n + 7], bv[y + 2, 7 : n + 7], bh[y, 9 : n + 9], bh[y, 5 : n + 5]
        vn, vs, ve, vo = mv[y - 2, 7 : n + 7], mv[y + 2, 7 : n + 7], mh[y, 9 : n + 9], mh[y, 5 : n + 5]
        made = d[y, 7 : n + 7]
        for x in range(n):
            a, b, c, e = bn[x] + tiny, bs[x] + tiny, be[x] + tiny, bo[x] + tiny
            ab, ce = a * b, c * e
            ab, ce = ab * ab, ce * ce
            wa, wb, wc, we = ce * b * b, ce * a * a, ab * e * e, ab * c * c
            made[x] = (wa * vn[x] + wb * vs[x] + wc * ve[x] + we * vo[x]) / max(wa + wb + wc + we, np.float32(1e-36))


@jit
def _directional(m, green_first, red_rows, rooms, red, blue):
    """Planes green − red and green − blue, and green itself into ``m``; right where the halo ends."""
    dh, dv, gh, gv, bh, bv, t, d, signs = rooms[0], rooms[1], rooms[2], rooms[3], rooms[4], rooms[5], rooms[6], rooms[7], rooms[8]
    h, w = m.shape
    one, fifth = np.float32(1.0), np.float32(0.2)
    _differences(m, green_first, dh, dv, signs)
    _gradients(dh, dv, gh, gv)
    _five_across(gh, t, 3, h - 3, 3, w - 3, one)
    _five_down(t, bh, 3, h - 3, 5, w - 5, one)
    _five_across(gv, t, 3, h - 3, 3, w - 3, one)
    _five_down(t, bv, 3, h - 3, 5, w - 5, one)
    _five_across(dh, gh, 4, h - 4, 2, w - 2, fifth)  # means along the direction of each difference
    _five_down(dv, gv, 2, h - 2, 4, w - 4, fifth)
    _weighed(bh, bv, gh, gv, d)
    ten, part, quarter, half = np.float32(10 / 32), np.float32(1 / 32), np.float32(0.25), np.float32(0.5)
    n = w - 20
    for y in range(10, h - 10):  # at each place that is not green: its own difference, and the other's from the diagonals
        own, other = (red[y, 10 : n + 10], blue[y, 10 : n + 10]) if red_rows[y & 1] else (blue[y, 10 : n + 10], red[y, 10 : n + 10])
        here, a, b, c, e = d[y, 10 : n + 10], d[y - 1, 9 : n + 9], d[y - 1, 11 : n + 11], d[y + 1, 9 : n + 9], d[y + 1, 11 : n + 11]
        f, g, i, j = d[y - 3, 9 : n + 9], d[y - 3, 11 : n + 11], d[y + 3, 9 : n + 9], d[y + 3, 11 : n + 11]
        k, o, p, q = d[y - 1, 7 : n + 7], d[y - 1, 13 : n + 13], d[y + 1, 7 : n + 7], d[y + 1, 13 : n + 13]
        for x in range(n):
            own[x] = here[x]
            other[x] = ten * (a[x] + b[x] + c[x] + e[x]) - part * (f[x] + g[x] + i[x] + j[x] + k[x] + o[x] + p[x] + q[x])
    n = w - 22
    for y in range(11, h - 11):  # green places take the mean of the four around them; the others give green theirs
        flip, green = signs[(y + green_first) & 1, 11 : n + 11], m[y, 11 : n + 11]
        for k in range(2):
            plane, out = (red, gh) if k == 0 else (blue, gv)
            here, l1, r1, made = plane[y, 11 : n + 11], plane[y, 10 : n + 10], plane[y, 12 : n + 12], out[y, 11 : n + 11]
            u1, d1 = plane[y - 1, 11 : n + 11], plane[y + 1, 11 : n + 11]
            mine = half if (k == 0) == red_rows[y & 1] else np.float32(0.0)
            for x in range(n):
                share = half + half * flip[x]  # 1 where it is not green
                made[x] = share * here[x] + (one - share) * ((l1[x] + r1[x] + u1[x] + d1[x]) * quarter)
                green[x] += mine * (one + flip[x]) * here[x]


@jit
def _straight(m, green_first, red_rows, rooms, green, red, blue):
    """The same quickly: green and its differences to red and blue."""
    signs = rooms[8]
    h, w = m.shape
    n = w - 4
    for x in range(w):
        signs[0, x] = np.float32(1.0) if x % 2 == 0 else np.float32(0.0)
        signs[1, x] = np.float32(1.0) - signs[0, x]
    eighth, half, more = np.float32(0.125), np.float32(0.5), np.float32(1.5)
    two, four, five, six = np.float32(2), np.float32(4), np.float32(5), np.float32(6)
    for y in range(2, h - 2):
        here, l2, l1, r1, r2 = m[y, 2 : n + 2], m[y, 0:n], m[y, 1 : n + 1], m[y, 3 : n + 3], m[y, 4 : n + 4]
        u2, u1, d1, d2 = m[y - 2, 2 : n + 2], m[y - 1, 2 : n + 2], m[y + 1, 2 : n + 2], m[y + 2, 2 : n + 2]
        a, b, c, d = m[y - 1, 1 : n + 1], m[y - 1, 3 : n + 3], m[y + 1, 1 : n + 1], m[y + 1, 3 : n + 3]
        colour, into = signs[(y + green_first) & 1, 2 : n + 2], green[y, 2 : n + 2]  # 1 where it is not green
        own, other = (red[y, 2 : n + 2], blue[y, 2 : n + 2]) if red_rows[y & 1] else (blue[y, 2 : n + 2], red[y, 2 : n + 2])
        for x in range(n):
            v, across, upright, fx, fy = here[x], l1[x] + r1[x], u1[x] + d1[x], l2[x] + r2[x], u2[x] + d2[x]
            slant, s = a[x] + b[x] + c[x] + d[x], colour[x]
            g = (four * v + two * (across + upright) - fx - fy) * eighth
            g = s * g + (np.float32(1.0) - s) * v
            first = s * v + (np.float32(1.0) - s) * (five * v + four * across - slant - fx + half * fy) * eighth
            second = s * (six * v + two * slant - more * (fx + fy)) * eighth
            second += (np.float32(1.0) - s) * (five * v + four * upright - slant - fy + half * fx) * eighth
            into[x], own[x], other[x] = g, g - first, g - second


@jit
def _median(source, out, y0, y1, x0, x1):
    """Of each place and its eight neighbours (Paeth's exchanges)."""
    n = x1 - x0
    for y in range(y0, y1):
        a0, b0, c0 = source[y - 1, x0 - 1 : x0 - 1 + n], source[y - 1, x0 : x0 + n], source[y - 1, x0 + 1 : x0 + 1 + n]
        d0, e0, f0 = source[y, x0 - 1 : x0 - 1 + n], source[y, x0 : x0 + n], source[y, x0 + 1 : x0 + 1 + n]
        g0, h0, i0 = source[y + 1, x0 - 1 : x0 - 1 + n], source[y + 1, x0 : x0 + n], source[y + 1, x0 + 1 : x0 + 1 + n]
        made = out[y, x0 : x0 + n]
        for x in range(n):
            a, b, c, d, e, f, g, h, i = a0[x], b0[x], c0[x], d0[x], e0[x], f0[x], g0[x], h0[x], i0[x]
            b, c = min(b, c), max(b, c)
            e, f = min(e, f), max(e, f)
            h, i = min(h, i), max(h, i)
            a, b = min(a, b), max(a, b)
            d, e = min(d, e), max(d, e)
            g, h = min(g, h), max(g, h)
            b, c = min(b, c), max(b, c)
            e, f = min(e, f), max(e, f)
            h, i = min(h, i), max(h, i)
            low, high = max(a, max(d, g)), min(c, min(f, i))  # the largest of the least, the least of the largest
            middle = max(min(b, e), min(max(b, e), h))
            made[x] = max(min(low, middle), min(max(low, middle), high))


@inline
def _nearly(level, most):
    """How nearly a channel is full, both in stops: 0 up to RAMP below its ceiling, then straight to 1 there."""
    return min(max((level - most) / np.float32(RAMP) + np.float32(1.0), np.float32(0.0)), np.float32(1.0))


@jit
def _filled(r, g, b, how, ceiling, hue):
    """Light where at least one of the three is nearly full. ``how`` 1: what is full is taken to be as bright as the other two, 2: as the hue
    around it says, as far as that is sure. It never becomes darker, what lives stays as it is, and where all three are full it is white, as
    bright as the brightest of them. All of it comes in over the last RAMP stops below each one's own ceiling, in stops, so that no edge is
    drawn where there is none."""
    one, half, zero, tiny = np.float32(1.0), np.float32(0.5), np.float32(0.0), np.float32(1e-6)
    full_r, full_g, full_b = np.log2(ceiling[0]), np.log2(ceiling[1]), np.log2(ceiling[2])
    light_r, light_g, light_b = r, g, b
    r, g, b = min(np.log2(max(r, tiny)), full_r), min(np.log2(max(g, tiny)), full_g), min(np.log2(max(b, tiny)), full_b)
    wr, wg, wb = _nearly(r, full_r), _nearly(g, full_g), _nearly(b, full_b)
    white = max(full_r, max(full_g, full_b))
    to_r, to_g, to_b = half * (g + b), half * (r + b), half * (r + g)
    to_r, to_g, to_b = to_r + min(wg, wb) * (white - to_r), to_g + min(wr, wb) * (white - to_g), to_b + min(wr, wg) * (white - to_b)
    if how == 2:
        per = np.float32(1.4426950408889634)  # stops in a natural logarithm of 1
        hue_r, hue_g = hue[0] * per, hue[1] * per
        hue_b = -hue_r - hue_g
        lives = np.float32(3.0) - wr - wg - wb
        level = (one - wr) * (r - hue_r) + (one - wg) * (g - hue_g) + (one - wb) * (b - hue_b)
        least = max(r - hue_r, max(g - hue_g, b - hue_b))  # at which all are as bright as they were found
        share = min(lives / np.float32(0.3), one)
        level = least if lives < tiny else share * level / lives + (one - share) * least
        own_r, own_g, own_b = level + hue_r, level + hue_g, level + hue_b
        white, all_full, sure = max(own_r, max(own_g, own_b)), min(wr, min(wg, wb)), hue[2]
        to_r += sure * (own_r + all_full * (white - own_r) - to_r)
        to_g += sure * (own_g + all_full * (white - own_g) - to_g)
        to_b += sure * (own_b + all_full * (white - own_b) - to_b)
    r, g, b = np.exp2(r + wr * max(to_r - r, zero)), np.exp2(g + wg * max(to_g - g, zero)), np.exp2(b + wb * max(to_b - b, zero))
    some = one - min(wr, min(wg, wb))  # what edges carry beyond a ceiling is true, but where nothing lives
    return r + some * max(light_r - r, zero), g + some * max(light_g - g, zero), b + some * max(light_b - b, zero)


@jit
def develop_tile(
    values, cells, black, scale, down, across, gain, matrix, table, how, ceiling, hue, fine, rooms, row, bits, out, top, left
):
    """One tile from its values to codes. ``cells``: colours of the filter, 0 red, 1 green, 2 blue; ``how``: 0 full ones are left as they
    are, 1 neutral, 2 rebuilt, by ``hue`` (rows/2, columns/2, 3); ``ceiling``: balanced light at which each is full; ``table``: light + OFFSET → code;
    ``fine``: directional; ``rooms`` (ROOMS, …), ``row`` (3, …) float32 and ``bits``, the same memory as int32."""
    m, red, blue, green = rooms[9], rooms[4], rooms[5], rooms[9]
    lift(values, black, scale, down, across, gain, top - HALO, left - HALO, m)
    green_first = 1 if cells[0] == 1 else 0  # is the first place of even rows green?
    red_rows = (cells[0] == 0 or cells[1] == 0, cells[2] == 0 or cells[3] == 0)
    if fine:
        _directional(m, green_first, red_rows, rooms, red, blue)
    else:
        green = rooms[0]
        _straight(m, green_first, red_rows, rooms, green, red, blue)
    y1, x1 = min(TILE[0], values.shape[0] - top) + HALO, min(TILE[1], values.shape[1] - left) + HALO
    if fine:
        _median(rooms[2], rooms[0], HALO, y1, HALO, x1)
        _median(rooms[3], rooms[1], HALO, y1, HALO, x1)
        red, blue = rooms[0], rooms[1]
    n = x1 - HALO
    limit, floor, off, half = np.float32(2.0**16), np.float32(FLOOR), np.float32(OFFSET), np.float32(0.5)
    for y in range(HALO, y1):
        middle, less_red, less_blue, r_row, g_row, b_row = green[y, HALO:x1], red[y, HALO:x1], blue[y, HALO:x1], row[0], row[1], row[2]
        for x in range(n):
            r, g, b = middle[x] - less_red[x], middle[x], middle[x] - less_blue[x]
            r_row[x], g_row[x], b_row[x] = r * abs(r) - ROOT, g * abs(g) - ROOT, b * abs(b) - ROOT
        if how:
            near = np.float32(NEAR)
            for x in range(n):
                if r_row[x] > near * ceiling[0] or g_row[x] > near * ceiling[1] or b_row[x] > near * ceiling[2]:
                    tint = hue[min((top + y - HALO) // 2, hue.shape[0] - 1), min((left + x) // 2, hue.shape[1] - 1)]
                    r_row[x], g_row[x], b_row[x] = _filled(r_row[x], g_row[x], b_row[x], how, ceiling, tint)
        p, q, o = matrix[0], matrix[1], matrix[2]
        for x in range(n):
            r, g, b = r_row[x], g_row[x], b_row[x]
            r_row[x] = min(max(p[0] * r + p[1] * g + p[2] * b + off, floor), limit)
            g_row[x] = min(max(q[0] * r + q[1] * g + q[2] * b + off, floor), limit)
            b_row[x] = min(max(o[0] * r + o[1] * g + o[2] * b + off, floor), limit)
        for c in range(3):
            into, light, place = out[c, top + y - HALO, left : left + n], row[c], bits[c]
            for x in range(n):
                k = np.uint32((place[x] >> SHIFT) - BASE)
                into[x] = np.uint16(table[k, 0] + light[x] * table[k, 1] + half)
