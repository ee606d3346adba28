"""Samples of a plane at given places, each from a patch of 6×6 recorded samples (4×4 where the recording is enlarged).

The patches are read straight from the decoded planes: a sphere wraps at its seam and goes on over its poles, other
pictures repeat their edge. Places are in recorded luma pixels; ``affine`` makes indices of a plane of them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from llvmlite import ir
from numba.core import types
from numba.core.base import BaseContext
from numba.core.types import Type
from numba.core.typing.context import Context
from numba.core.typing.templates import Signature
from numba.extending import intrinsic

from .compiled import inline, jit
from .vectors import FLOAT, LONG, Code

PHASES = 256  # places between two samples that have weights of their own
WIDE, NARROW = (8, 6), (4, 4)  # lanes and rows of a patch; the outer two lanes of a wide one weigh nothing
LINE = 8  # weights that stand in a table for each phase
TOGETHER, SOME = 8, 64  # patches that are made at once, and places that are asked at once whether they are near an edge


def _patches(lanes: int, rows: int) -> Callable[..., None]:
    """A compiled function: eight patches, Σⱼ Σₖ wy[j]·wx[k]·plane[base + first + j·stride + k] each, as vector code.

    ``room`` holds, in rows ``pitch`` long, ``first`` of each patch and where its weights begin behind ``table_x`` and
    ``table_y``; all these, and ``out``, from index ``i`` on.
    """
    vector = ir.VectorType(FLOAT, lanes)

    @intrinsic
    def eight(
        typing: Context, plane: Type, base: Type, stride: Type, room: Type, pitch: Type, weights: Type, table_x: Type, table_y: Type,
        out: Type, i: Type,
    ) -> tuple[Signature, Callable[..., ir.Value]]:  # fmt: skip
        whole = types.int64
        signature = types.void(plane, whole, whole, room, whole, weights, whole, whole, out, whole)

        def generate(context: BaseContext, builder: ir.IRBuilder, sig: Signature, values: Sequence[ir.Value]) -> ir.Value:
            code = Code(context, builder, sig, values)
            samples = builder.gep(code.data(0), [values[1]])
            across, down = (builder.gep(code.data(5), [values[k]]) for k in (6, 7))
            located = [builder.gep(code.data(3), [builder.mul(values[4], LONG(k))]) for k in range(3)]
            whole = isinstance(sig.args[0].dtype, types.Integer)
            patches = []
            ahead = builder.sext(code.item(located[0], values[9]), LONG)
            if lanes == WIDE[0]:  # where the next delivered rows will read, what no processor foresees
                for row in (rows, rows + 1):
                    code.fetch(samples, builder.add(ahead, builder.mul(values[2], LONG(row))))
            for n in range(TOGETHER):
                at, wx, wy = (builder.sext(code.item(k, builder.add(values[9], LONG(n))), LONG) for k in located)
                total = ir.Constant(vector, [0.0] * lanes)
                for row in range(rows):
                    line = code.load(samples, builder.add(at, builder.mul(values[2], LONG(row))), lanes)
                    weight = code.spread(code.item(down, builder.add(wy, LONG(row))), lanes)
                    total = code.add(total, code.times(builder.uitofp(line, vector) if whole else line, weight))
                patches.append(code.times(total, code.load(across, wx, lanes)))
            code.store(code.sums(patches), code.data(8), values[9])
            return context.get_dummy_value()

        return signature, generate

    return eight


_wide_patches, _narrow_patches = _patches(*WIDE), _patches(*NARROW)


@jit
def _edge_sum(samples, at, top, left, lanes, rows, wraps, weights, wx, wy):
    """The same sum around a place at the edge, sample by sample: over the seam, over the pole, or the edge repeated."""
    base, stride, height, width = at[0], at[1], at[2], at[3]
    total = np.float32(0.0)
    for j in range(rows):
        y, turn = top + j, 0
        if wraps and (y < 0 or y >= height):  # over the pole, on the other side
            y, turn = -1 - y if y < 0 else 2 * height - 1 - y, width // 2
        first = base + min(max(y, 0), height - 1) * stride
        line = np.float32(0.0)
        for k in range(lanes):
            x = left + k + turn
            if wraps:  # a division would take as long as the rest of the patch
                x = x + width if x < 0 else x - width if x >= width else x
            x = min(max(x, 0), width - 1)
            line += weights[wx + k] * np.float32(samples[first + x])
        total += weights[wy + j] * line
    return total


@jit
def _along(places, lo, hi, scale, offset, size, stride, first, weight):
    """One axis of ``_locate``: adds to ``first``, or starts it where ``stride`` is 1. Returns how many places lie less than
    a wide patch from an end.

    Apart for each axis, and counting in floats, as the compiler gives up (wide) vectors where many arrays might overlap, where
    extremes are kept, and where numbers are 64 bits long.
    """
    phases, far, edge = np.float32(PHASES), np.float32(1e6), np.float32(3)
    keep, outside, beyond = np.int32(0 if stride == 1 else 1), np.float32(0), np.float32(size - 5)
    part, index, behind = places[lo:hi], first[lo:hi], weight[lo:hi]
    for i in range(part.shape[0]):
        v = min(max(part[i] * scale + offset, -far), far)
        whole = np.floor(v)
        outside += np.float32(whole < edge) + np.float32(whole > beyond)
        index[i] = index[i] * keep + np.int32(whole) * stride
        behind[i] = np.int32((v - whole) * phases) * LINE
    for i in range(hi, hi + TOGETHER - 1):  # the last patches go together with repetitions of the very last
        first[i], weight[i] = first[hi - 1], weight[hi - 1]
    return outside


@jit
def _locate(place, lo, hi, at, affine, room):
    """Indices of the samples at or before places lo … hi−1, and the weights behind them; are all far from the edges?"""
    outside = _along(place[0], lo, hi, affine[0], affine[1], at[3], np.int32(1), room[0], room[1])
    outside += _along(place[1], lo, hi, affine[2], affine[3], at[2], np.int32(at[1]), room[0], room[2])
    return outside == 0


@inline
def _table(width, end):
    """Where the weights of a width begin; those of narrow patches stand at the end."""
    return np.int64(width * PHASES * LINE if width >= 0 else end - PHASES * LINE)


@jit
def _at_edges(samples, at, affine, place, lo, hi, width_x, width_y, wraps, weights, room, out):
    """Places lo … hi−1 of which some have patches that reach beyond the plane, sample by sample."""
    wide = width_x >= 0
    lanes, rows = WIDE if wide else NARROW
    end = weights.shape[0]
    table_x, table_y = _table(width_x, end), _table(width_y, end) + 1 if wide else _table(-1, end)
    for i in range(lo, hi):
        column = np.int64(np.floor(place[0, i] * affine[0] + affine[1])) - (lanes // 2 - 1)
        row = np.int64(np.floor(place[1, i] * affine[2] + affine[3])) - (rows // 2 - 1)
        wx, wy = table_x + room[1, i], table_y + room[2, i]
        out[i] = _edge_sum(samples, at, row, column, lanes, rows, wraps, weights, wx, wy)


@jit
def _reach_in(place, lo, hi, across, left, down, top, columns, rows):
    """Do the patches of places lo … hi−1 all lie inside a plane of so many ``columns`` and ``rows``? It counts, as ``_along``."""
    edge, right, bottom, outside = np.float32(3), np.float32(columns - 5), np.float32(rows - 5), np.float32(0)
    for i in range(lo, hi):
        x, y = np.floor(place[0, i] * across + left), np.floor(place[1, i] * down + top)
        outside += np.float32(x < edge) + np.float32(x > right) + np.float32(y < edge) + np.float32(y > bottom)
    return outside == 0


@jit
def _few(samples, at, affine, place, cells, g, end, step, n, wraps, weights, room, out):
    """Cells ``g`` … ``end−1`` of one level, up to place n−1, where one patch is wide enough for a place.

    Alike cells come together, but often these are only a few pixels: nothing in these loops takes a slice of an array, as that
    would cost more than they.
    """
    inside = _locate(place, g * step, n, at, affine, room)
    stride, columns, rows, last, pitch = at[1], at[3], at[2], weights.shape[0], room.shape[1]
    across, left, down, top = affine[0], affine[1], affine[2], affine[3]
    wide, narrow = at[0] - 3 - 2 * stride, at[0] - 1 - stride
    while g < end:
        first, width_x, width_y = g * step, cells[g, 1], cells[g, 2]
        g += 1
        while g < end and cells[g, 1] == width_x and cells[g, 2] == width_y:
            g += 1
        most = n if g == end else g * step
        x, y = _table(width_x, last), _table(width_y, last) + 1 if width_x >= 0 else _table(-1, last)
        sure = inside
        for i in range(first, most, TOGETHER):
            if not inside and (i - first) % SOME == 0:
                sure = _reach_in(place, i, min(i + SOME, n), across, left, down, top, columns, rows)
            # of these eight, even if the next cell has some of them, as they are read together
            if not (sure or _reach_in(place, i, min(i + TOGETHER, n), across, left, down, top, columns, rows)):
                _at_edges(
                    samples, at, affine, place, i, min(i + TOGETHER, most), width_x, width_y, wraps, weights, room, out
                )
            elif width_x >= 0:
                _wide_patches(samples, wide, stride, room, pitch, weights, x, y, out, i)
            else:
                _narrow_patches(samples, narrow, stride, room, pitch, weights, x, y, out, i)


@jit
def _many(samples, at, affine, place, cells, g, end, step, n, wraps, weights, room, moved, part, out):
    """Alike cells where a pixel spans more samples than the widest kernel holds: the mean of several places along it."""
    lo, across, down = g * step, cells[g, 3], cells[g, 4]
    many_x, many_y = max((across + 31) // 32, 1), max((down + 31) // 32, 1)
    step_x = np.float32(across / 16.0 / many_x) / affine[0]
    step_y = np.float32(down / 16.0 / many_y) / affine[2]
    share = np.float32(1.0 / (many_x * many_y))
    for i in range(lo, n):
        out[i] = np.float32(0.0)
    for v in range(many_y):
        y = np.float32(v - (many_y - 1) * 0.5) * step_y
        for u in range(many_x):
            x = np.float32(u - (many_x - 1) * 0.5) * step_x
            for i in range(lo, n):
                moved[0, i], moved[1, i] = place[0, i] + x, place[1, i] + y
            _few(samples, at, affine, moved, cells, g, end, step, n, wraps, weights, room, part)
            for i in range(lo, n):
                out[i] += part[i] * share


@jit
def _level(samples, at, affine, place, cells, g, end, step, n, wraps, weights, room, moved, part, out):
    """Cells ``g`` … ``end−1`` of one level, up to place n−1."""
    while g < end:
        first, several = g, cells[g, 3] > 32 or cells[g, 4] > 32
        g += 1
        while g < end and (
            (several and cells[g, 3] == cells[first, 3] and cells[g, 4] == cells[first, 4])
            or (not several and cells[g, 3] <= 32 and cells[g, 4] <= 32)
        ):
            g += 1
        most = n if g == end else g * step
        if several:
            _many(samples, at, affine, place, cells, first, g, step, most, wraps, weights, room, moved, part, out)
        else:
            _few(samples, at, affine, place, cells, first, g, step, most, wraps, weights, room, out)


@jit
def sample_row(samples, reduced, at, affine, place, n, cells, step, wraps, weights, room, moved, part, out):
    """``n`` places of one row of one plane, or of the reductions of it that the cells ask for, ``step`` places to a cell;
    the last cell holds what is left.

    at, affine   a row for each level of reduction: (offset, stride, rows, columns), and place → index
    room, moved, part   (3, n + 8) int32, (2, n + 8) and (n + 8) float32 to work in; ``out`` too is written up to n + 7
    """
    g = np.int64(0)  # a plain 0 would be a kind of its own to the compiler
    while g < cells.shape[0]:
        first, level = g, cells[g, 0]
        while g < cells.shape[0] and cells[g, 0] == level:
            g += 1
        most = n if g == cells.shape[0] else g * step
        if level == 0:
            _level(
                samples, at[0], affine[0], place, cells, first, g, step, most, wraps, weights, room, moved, part, out
            )
        else:
            _level(
                reduced, at[level], affine[level], place, cells, first, g, step, most, wraps, weights, room, moved, part, out
            )  # fmt: skip


@jit
def halve_rows(samples, at, to, wraps, taps, out, row0, row1):
    """Rows of a plane reduced to half each way. ``at``, ``to``: offset, stride, rows, columns of both in their flat arrays;
    ``taps``: eight weights about the middle of each pair."""
    base, stride, rows, columns = at[0], at[1], at[2], at[3]
    line = np.empty(columns, np.float32)
    for row in range(row0, row1):
        for x in range(columns):
            line[x] = np.float32(0.0)
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


@jit
def mean_rows(samples, at, to, side, wanted, out, row0, row1):
    """Rows of means of squares of ``side`` samples of a plane, smaller at its right and lower edge, those that are ``wanted`` (rows, columns);
    other names as of ``halve_rows``."""
    base, stride, rows, columns = at[0], at[1], at[2], at[3]
    for row in range(row0, row1):
        top, bottom = row * side, min(row * side + side, rows)
        for i in range(wanted.shape[1]):
            if not wanted[row, i]:
                continue
            first, last, total = i * side, min(i * side + side, columns), np.int64(0)
            for y in range(top, bottom):
                line = samples[base + y * stride + first : base + y * stride + last]
                for x in range(line.shape[0]):
                    total += line[x]
            out[to[0] + row * to[1] + i] = np.float32(total) / np.float32((last - first) * (bottom - top))
