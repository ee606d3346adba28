"""The compiled loops of the general warp: from a grid of directions to samples of the recorded planes.

Each delivered pixel reads a patch of 6×6 recorded samples (4×4 where the recording is enlarged) straight from the decoded
planes, a vector load a row: a sphere wraps at its seam and goes on over its poles, other pictures repeat their edge.
Nothing here calls a loop of another module, so that the compiled cache can never be stale.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba.core import types
from numba.extending import intrinsic

_FAST = {"contract", "reassoc", "nsz", "arcp", "nnan", "ninf"}
jit = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy")
inline = numba.njit(nogil=True, cache=True, fastmath=_FAST, error_model="numpy", inline="always")

PHASES = 256  # places between two samples that have weights of their own
WIDE, NARROW = 8, 4
EQUIRECT, ROUND, PLACES = 0, 1, 2


def _patch_sum(lanes: int, rows: int) -> Any:
    """A compiled function Σⱼ Σₖ wy[j]·wx[k]·plane[first + j·stride + k] over ``rows`` and ``lanes``, as vector code."""
    single, word = ir.FloatType(), ir.IntType(64)
    vector = ir.VectorType(single, lanes)

    @intrinsic
    def patch_sum(typing: Any, plane: Any, first: Any, stride: Any, weights: Any, wx: Any, wy: Any) -> Any:
        signature = types.float32(plane, types.int64, types.int64, weights, types.int64, types.int64)

        def generate(context: Any, builder: Any, sig: Any, args: Any) -> Any:
            samples = context.make_array(sig.args[0])(context, builder, args[0]).data
            table = context.make_array(sig.args[3])(context, builder, args[3]).data
            item = context.get_data_type(sig.args[0].dtype)
            nothing = ir.Constant(vector, ir.Undefined)

            def load(base: Any, index: Any, kind: Any, size: int) -> Any:
                at = builder.bitcast(builder.gep(base, [index]), ir.VectorType(kind, lanes).as_pointer())
                value = builder.load(at)
                value.align = size
                return value

            total, at = ir.Constant(vector, [0.0] * lanes), args[1]
            for row in range(rows):
                codes = load(samples, at, item, sig.args[0].dtype.bitwidth // 8)
                values = codes if isinstance(item, ir.FloatType) else builder.uitofp(codes, vector)
                weight = builder.load(builder.gep(table, [builder.add(args[5], word(row))]))
                spread = builder.shuffle_vector(
                    builder.insert_element(nothing, weight, ir.IntType(32)(0)), nothing,
                    ir.Constant(ir.VectorType(ir.IntType(32), lanes), [0] * lanes),
                )  # fmt: skip
                total = builder.fadd(total, builder.fmul(values, spread, flags=["fast"]), flags=["fast"])
                at = builder.add(at, args[2])
            total, n = builder.fmul(total, load(table, args[4], single, 4), flags=["fast"]), lanes
            while n > 1:  # add the halves until one is left
                n //= 2
                part = [
                    builder.shuffle_vector(
                        total, ir.Constant(total.type, ir.Undefined),
                        ir.Constant(ir.VectorType(ir.IntType(32), n), list(range(low, low + n))),
                    )
                    for low in (0, n)
                ]  # fmt: skip
                total = builder.fadd(part[0], part[1], flags=["fast"])
            return builder.extract_element(total, ir.IntType(32)(0))

        return signature, generate

    return patch_sum


_sum_wide, _sum_narrow = (
    _patch_sum(WIDE, 6),
    _patch_sum(NARROW, NARROW),
)  # the outer two of the eight rows weigh nothing


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
def _turned(kind, d, lens, place, cover):
    """Recorded places of directions, and how far there is a picture."""
    if kind == EQUIRECT:
        _equirect(d, lens, place, cover)
    elif kind == ROUND:
        _round(d, lens, place, cover)
    else:  # the grid holds recorded places themselves
        place[0], place[1], cover[:] = d[0], d[1], np.float32(1.0)


EVERY, BLOCK = 4, 16  # pixels from place to place that is worked out; places in a block


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
def _places(nodes, step, row, kind, lens, d, few, rough, place, cover):
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
    """lens, a row each: [x, y, pixels per unit of grown angle, half angle, right (3), forward (3), up (3), bend (4)]"""
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
        cover[i] = min(max((lens[m, 3] - angle) * lens[m, 2] + np.float32(0.5), np.float32(0.0)), np.float32(1.0))


@jit
def _edge_sum(samples, base, stride, rows, columns, top, left, lanes, wraps, weights, wx, wy):
    """The same sum around a place at the edge, sample by sample: over the seam, over the pole, or the edge repeated."""
    total = np.float32(0.0)
    for j in range(lanes):
        y, turn = top + j, 0
        if wraps and (y < 0 or y >= rows):  # over the pole, on the other side
            y, turn = -1 - y if y < 0 else 2 * rows - 1 - y, columns // 2
        first = base + min(max(y, 0), rows - 1) * stride
        line = np.float32(0.0)
        for k in range(lanes):
            x = left + k + turn
            x = x % columns if wraps else min(max(x, 0), columns - 1)
            line += weights[wx + k] * np.float32(samples[first + x])
        total += weights[wy + j] * line
    return total


@jit
def _along(places, lo, hi, scale, offset, lowest, highest, stride, base, first, phase):
    """One axis of ``_locate``: adds to ``first``, or starts it where ``stride`` is 1. Returns how many pixels lie outside.

    Apart for each axis, and counting, as the compiler gives up vectors where many arrays might overlap or extremes are kept.
    """
    phases, far = np.float32(PHASES), np.float32(1e6)
    keep, outside = np.int32(0 if stride == 1 else 1), np.int32(0)
    part, index, behind = places[lo:hi], first[lo:hi], phase[lo:hi]
    for i in range(part.shape[0]):
        v = min(max(part[i] * scale + offset, -far), far)
        whole = np.floor(v)
        outside += np.int32(whole < lowest) + np.int32(whole > highest)
        index[i] = index[i] * keep + np.int32(whole) * stride + base
        behind[i] = np.int32((v - whole) * phases)
    return outside


@jit
def _locate(place, lo, hi, at, affine, before, lanes, first, phase_x, phase_y):
    """Recorded places of pixels lo … hi−1 → each patch's first index in the flat plane, and the phases behind it.

    ``at``: offset, stride, rows, columns; ``affine``: place → index. Returns whether all patches lie inside the plane.
    """
    one, base = np.int32(1), np.int32(at[0] - before * (at[1] + 1))
    least, most_x, most_y = np.float32(before), np.float32(at[3] - lanes + before), np.float32(at[2] - lanes + before)
    beyond = _along(place[0], lo, hi, affine[0], affine[1], least, most_x, one, base, first, phase_x)
    beyond += _along(
        place[1], lo, hi, affine[2], affine[3], least, most_y, np.int32(at[1]), np.int32(0), first, phase_y
    )
    return beyond == 0


@jit
def _edge_run(
    samples, at, affine, place, lo, hi, before, lanes, phase_x, phase_y, table_x, table_y, wraps, weights, out
):
    """Pixels of which some have patches that reach beyond the plane: those sample by sample, the others as ever."""
    far, stride = np.float32(1e6), at[1]
    for i in range(lo, hi):
        x = min(max(place[0, i] * affine[0] + affine[1], -far), far)
        y = min(max(place[1, i] * affine[2] + affine[3], -far), far)
        left, top = np.int64(np.floor(x)) - before, np.int64(np.floor(y)) - before
        wx, wy = table_x + np.int64(phase_x[i]) * lanes, table_y + np.int64(phase_y[i]) * lanes
        if top < 0 or left < 0 or top + lanes > at[2] or left + lanes > at[3]:
            out[i] = _edge_sum(samples, at[0], stride, at[2], at[3], top, left, lanes, wraps, weights, wx, wy)
        elif lanes == WIDE:
            out[i] = _sum_wide(samples, at[0] + (top + 1) * stride + left, stride, weights, wx, wy + 1)
        else:
            out[i] = _sum_narrow(samples, at[0] + top * stride + left, stride, weights, wx, wy)


@jit
def _wide(samples, at, affine, place, lo, hi, width_x, width_y, wraps, weights, room, out):
    """Pixels lo … hi−1 of a row, a patch of six rows of eight each, the outer two of which weigh nothing. ``room``: three rows of integers."""
    first, phase_x, phase_y = room[0], room[1], room[2]
    inside = _locate(place, lo, hi, at, affine, 3, WIDE, first, phase_x, phase_y)
    table_x, table_y = width_x * PHASES * WIDE, width_y * PHASES * WIDE
    stride = at[1]
    if not inside:
        _edge_run(samples, at, affine, place, lo, hi, 3, WIDE, phase_x, phase_y, table_x, table_y, wraps, weights, out)
        return
    for i in range(lo, hi):
        wx, wy = table_x + np.int64(phase_x[i]) * WIDE, table_y + np.int64(phase_y[i]) * WIDE + 1
        out[i] = _sum_wide(samples, first[i] + stride, stride, weights, wx, wy)


@jit
def _small(samples, at, affine, place, lo, hi, wraps, weights, room, out):
    """The same from a plane that is enlarged, a 4×4 patch each."""
    first, phase_x, phase_y = room[0], room[1], room[2]
    inside = _locate(place, lo, hi, at, affine, 1, NARROW, first, phase_x, phase_y)
    stride = at[1]
    if not inside:
        _edge_run(samples, at, affine, place, lo, hi, 1, NARROW, phase_x, phase_y, 0, 0, wraps, weights, out)
        return
    for i in range(lo, hi):
        wx, wy = np.int64(phase_x[i]) * NARROW, np.int64(phase_y[i]) * NARROW
        out[i] = _sum_narrow(samples, np.int64(first[i]), stride, weights, wx, wy)


@jit
def _narrow(first_plane, second_plane, at, affine, place, lo, hi, sparse, wraps, weights, room, one, two):
    """The same for two planes alike that are enlarged, a 4×4 patch each. ``at`` (2, 4)."""
    first, phase_x, phase_y = room[0], room[1], room[2]
    inside = _locate(place, lo, hi, at[0], affine, 1, NARROW, first, phase_x, phase_y)
    stride, other, apart = at[0, 1], at[1, 1], at[1, 0] - at[0, 0]
    if not inside or stride != other:
        _edge_run(first_plane, at[0], affine, place, lo, hi, 1, NARROW, phase_x, phase_y, 0, 0, wraps, weights, one)
        _edge_run(second_plane, at[1], affine, place, lo, hi, 1, NARROW, phase_x, phase_y, 0, 0, wraps, weights, two)
        return
    every = 2 if sparse else 1
    for i in range(lo, hi, every):
        wx, wy = np.int64(phase_x[i]) * NARROW, np.int64(phase_y[i]) * NARROW
        one[i] = _sum_narrow(first_plane, np.int64(first[i]), stride, weights, wx, wy)
        two[i] = _sum_narrow(second_plane, first[i] + apart, stride, weights, wx, wy)
    if sparse:  # between two samples that are less than one recorded sample apart a straight line is near enough
        half, last = np.float32(0.5), hi - 1
        for i in range(lo + 1, last, 2):
            one[i] = (one[i - 1] + one[i + 1]) * half
            two[i] = (two[i - 1] + two[i + 1]) * half
        wx, wy = np.int64(phase_x[last]) * NARROW, np.int64(phase_y[last]) * NARROW
        one[last] = _sum_narrow(first_plane, np.int64(first[last]), stride, weights, wx, wy)
        two[last] = _sum_narrow(second_plane, first[last] + apart, stride, weights, wx, wy)


@jit
def _many(samples, at, affine, place, lo, hi, cell, wraps, weights, room, out):
    """The same where a pixel spans more samples than the widest kernel holds: the mean of several places along it."""
    many_x, many_y = max((cell[3] + 31) // 32, 1), max((cell[4] + 31) // 32, 1)
    step_x = np.float32(cell[3] / 16.0 / many_x) / affine[0]
    step_y = np.float32(cell[4] / 16.0 / many_y) / affine[2]
    moved, part = place[:, lo:hi].copy(), np.empty(hi - lo, np.float32)
    out[lo:hi] = np.float32(0.0)
    for v in range(many_y):
        moved[1] = place[1, lo:hi] + np.float32(v - (many_y - 1) * 0.5) * step_y
        for u in range(many_x):
            moved[0] = place[0, lo:hi] + np.float32(u - (many_x - 1) * 0.5) * step_x
            _wide(samples, at, affine, moved, 0, hi - lo, cell[1], cell[2], wraps, weights, room, part)
            for i in range(hi - lo):
                out[lo + i] += part[i] / np.float32(many_x * many_y)


@jit
def _plane_run(samples, reduced, at, affine, place, lo, hi, cell, wraps, weights, narrow, room, out):
    """A run of like cells from one plane, or from the reduction of it that the cell asks for."""
    level = cell[0]
    several = cell[3] > 32 or cell[4] > 32
    if cell[1] < 0:
        _small(samples, at[0], affine[0], place, lo, hi, wraps, narrow, room, out)
    elif level == 0 and several:
        _many(samples, at[0], affine[0], place, lo, hi, cell, wraps, weights, room, out)
    elif level == 0:
        _wide(samples, at[0], affine[0], place, lo, hi, cell[1], cell[2], wraps, weights, room, out)
    elif several:
        _many(reduced, at[level], affine[level], place, lo, hi, cell, wraps, weights, room, out)
    else:
        _wide(reduced, at[level], affine[level], place, lo, hi, cell[1], cell[2], wraps, weights, room, out)


@jit
def _run_end(cells, g):
    """The first cell from ``g`` on that is sampled otherwise."""
    end = g + 1
    while end < cells.shape[0]:
        for k in range(cells.shape[1]):
            if cells[end, k] != cells[g, k]:
                return end
        end += 1
    return end


@jit
def sample_band(
    planes, places, reduced, nodes, cells, step, kind, lens, affine, wraps, weights, narrow, out, cover, row0, row1
):
    """Delivered rows ``row0`` … ``row1−1`` as recorded code values at every pixel.

    planes, reduced  three flat arrays each: the decoded planes, and all their reductions one after another
    places   (levels + 1, 3, 4): offset, stride, rows, columns in those arrays
    nodes, cells, step   the ``Grid``; cells (2, rows, columns, 5) for luma and chroma
    affine   (levels + 1, 2, 4): recorded luma place → index, of luma and chroma planes
    out      (rows, 3, pixels) float32;  cover (rows, pixels): 1 where there is picture, 0 where there is none
    """
    n = out.shape[2]
    d, place, room = np.empty((3, n), np.float32), np.empty((2, n), np.float32), np.empty((3, n), np.int32)
    few = np.empty((3, (n - 1) // EVERY + 2), np.float32)
    rough = np.empty_like(few)
    lazy = True  # chroma so much enlarged everywhere that every second row will do, as every second pixel does
    for row in range(row0 // step, (row1 - 1) // step + 1):
        for g in range(cells.shape[2]):
            lazy = lazy and cells[1, row, g, 1] < 0
    for row in range(row0, row1):
        at = row - row0
        _places(nodes, step, row, kind, lens, d, few, rough, place, cover[at])
        near = cells[0, row // step]
        g = 0
        while g < near.shape[0]:
            end = _run_end(near, g)
            _plane_run(
                planes[0], reduced[0], places[:, 0], affine[:, 0], place, g * step, min(end * step, n), near[g], wraps,
                weights, narrow, room, out[at, 0],
            )  # fmt: skip
            g = end
        if lazy and at % 2 == 1 and row + 1 < row1:
            continue
        near = cells[1, row // step]
        g = 0
        while g < near.shape[0]:
            end = _run_end(near, g)
            lo, hi = g * step, min(end * step, n)
            if near[g, 0] == 0 and near[g, 1] <= 0 and near[g, 2] == 0 and near[g, 3] == 0 and near[g, 4] == 0:
                _narrow(
                    planes[1], planes[2], places[0, 1:], affine[0, 1], place, lo, hi, near[g, 1] < 0, wraps, narrow, room,
                    out[at, 1], out[at, 2],
                )  # fmt: skip
            else:
                for c in range(1, 3):
                    _plane_run(
                        planes[c],
                        reduced[c],
                        places[:, c],
                        affine[:, 1],
                        place,
                        lo,
                        hi,
                        near[g],
                        wraps,
                        weights,
                        narrow,
                        room,
                        out[at, c],
                    )
            g = end
    if lazy:
        half = np.float32(0.5)
        for at in range(1, row1 - row0 - 1, 2):
            for c in range(1, 3):
                here, above, below = out[at, c], out[at - 1, c], out[at + 1, c]
                for i in range(n):
                    here[i] = (above[i] + below[i]) * half


@jit
def halve_rows(samples, at, to, wraps, taps, out, row0, row1):
    """Rows of a plane reduced to half each way. ``at``, ``to``: offset, stride, rows, columns of both in their flat arrays;
    ``taps``: eight weights about the middle of each pair."""
    base, stride, rows, columns = at[0], at[1], at[2], at[3]
    line = np.empty(columns, np.float32)
    for row in range(row0, row1):
        line[:] = np.float32(0.0)
        for k in range(8):
            y, turn = 2 * row - 3 + k, 0
            if wraps and (y < 0 or y >= rows):
                y, turn = -1 - y if y < 0 else 2 * rows - 1 - y, columns // 2
            first, w = base + min(max(y, 0), rows - 1) * stride, taps[k]
            source = samples[first : first + columns]
            if turn:
                for x in range(columns):
                    line[x] += w * np.float32(source[(x + turn) % columns])
            else:
                for x in range(columns):
                    line[x] += w * np.float32(source[x])
        target = out[to[0] + row * to[1] : to[0] + row * to[1] + to[3]]
        for i in range(target.shape[0]):
            total = np.float32(0.0)
            if 2 * i >= 3 and 2 * i + 5 <= columns:
                for k in range(8):
                    total += taps[k] * line[2 * i - 3 + k]
            else:
                for k in range(8):
                    x = 2 * i - 3 + k
                    total += taps[k] * line[x % columns if wraps else min(max(x, 0), columns - 1)]
            target[i] = total
