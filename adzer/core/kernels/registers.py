"""The colour of sixteen pixels at a time, from codes to codes, with curves that stay in registers (see ``colour.pieces``).

A processor without registers that wide has ``WIDE`` false; there the same sums are done one by one, and tables are faster.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from llvmlite import ir
from numba.core import cgutils, types
from numba.core.base import BaseContext
from numba.core.registry import cpu_target
from numba.core.types import Type
from numba.core.typing.context import Context
from numba.core.typing.templates import Signature
from numba.extending import intrinsic

from . import CELLS, TERMS
from .compiled import inline, jit
from .vectors import FLOAT, LONG, WORD, Code

LANES = 16
WIDE = "+avx512f" in cpu_target.target_context.codegen().magic_tuple()[2]  # as the compiler was told

_floats, _words = ir.VectorType(FLOAT, LANES), ir.VectorType(WORD, LANES)


class _Pixels(Code):
    """Sixteen pixels in hand."""

    def number(self, base: ir.Value, *index: int) -> ir.Value:
        """The same number for all pixels; ``base`` points to rows of four."""
        return self.spread(self.item(base, LONG(4 * index[0] + index[1])), LANES)

    def mixed(self, pixels: list[ir.Value], matrix: list[list[ir.Value]]) -> list[ir.Value]:
        return [
            self.add(
                self.add(self.times(row[0], pixels[0]), self.times(row[1], pixels[1])),
                self.add(self.times(row[2], pixels[2]), row[3]),
            )
            for row in matrix
        ]

    def held(self, value: ir.Value, low: ir.Value, high: ir.Value) -> ir.Value:
        for sign, bound in ((">", low), ("<", high)):
            value = self.builder.select(self.builder.fcmp_ordered(sign, value, bound, flags=["fast"]), value, bound)
        return value

    def picked(self, table: tuple[ir.Value, ir.Value], cell: ir.Value) -> ir.Value:
        """From a table of CELLS numbers in two registers, by the lowest five bits of ``cell``."""
        kind = ir.FunctionType(_floats, [_floats, _words, _floats])
        permute = cgutils.get_or_insert_function(self.builder.module, kind, "llvm.x86.avx512.vpermi2var.ps.512")
        return self.builder.call(permute, [table[0], cell, table[1]])

    def curve(self, value: ir.Value, terms: list[tuple[ir.Value, ir.Value]], bounds: list[ir.Value], octaves: bool) -> ir.Value:
        """``bounds``: lowest and highest value, and knees."""
        b = self.builder
        value = self.held(value, bounds[0], bounds[1])
        if octaves:  # cells by the exponent, u by the mantissa
            bits = b.bitcast(value, _words)
            cell = b.lshr(bits, ir.Constant(_words, [23] * LANES))
            part = b.and_(bits, ir.Constant(_words, [0x7FFFFF] * LANES))
            u = b.bitcast(b.or_(part, ir.Constant(_words, [0x3F800000] * LANES)), _floats)
        else:
            cell = b.fptosi(value, _words)
            u = b.fsub(value, b.sitofp(cell, _floats), flags=["fast"])
        for knee in bounds[2:]:
            cell = b.sub(cell, b.sext(b.fcmp_ordered(">=", value, knee), _words))
        total = self.picked(terms[-1], cell)
        for term in reversed(terms[:-1]):
            total = self.add(self.times(total, u), self.picked(term, cell))
        return total


@intrinsic
def _sixteen(
    typing: Context, work: Type, pitch: Type, count: Type, inner: Type, middle: Type, outer: Type, terms: Type, bounds: Type
) -> tuple[Signature, Callable[..., ir.Value]]:  # fmt: skip
    signature = types.void(work, types.int64, types.int64, inner, middle, outer, terms, bounds)

    def generate(context: BaseContext, builder: ir.IRBuilder, sig: Signature, values: Sequence[ir.Value]) -> ir.Value:
        code = _Pixels(context, builder, sig, values)
        matrices = [
            [[code.number(code.data(k), row, column) for column in range(4)] for row in range(3)] for k in (3, 4, 5)
        ]
        tables, limits = code.data(6), code.data(7)
        assert CELLS == 2 * LANES
        halves = [code.load(tables, LONG(LANES * k), LANES) for k in range(2 * 2 * TERMS)]
        pairs = list(zip(halves[::2], halves[1::2], strict=True))
        ends = [[code.number(limits, row, column) for column in range(4)] for row in range(2)]
        rows = [builder.gep(code.data(0), [builder.mul(values[1], LONG(c))]) for c in range(3)]
        with cgutils.for_range_slice(builder, LONG(0), values[2], LONG(LANES)) as (i, _):
            pixels = code.mixed([code.load(row, i, LANES) for row in rows], matrices[0])
            pixels = [code.curve(p, pairs[:TERMS], ends[0], False) for p in pixels]
            pixels = [code.curve(p, pairs[TERMS:], ends[1], True) for p in code.mixed(pixels, matrices[1])]
            for pixel, row in zip(code.mixed(pixels, matrices[2]), rows, strict=True):
                code.store(pixel, row, i)
        return context.get_dummy_value()

    return signature, generate


@inline
def _curve(value, terms, bounds, octaves):
    value = min(max(value, bounds[0]), bounds[1])
    if octaves:
        exponent = np.int64(np.floor(np.log2(value)))
        u, cell = value / np.float32(2.0) ** exponent, exponent + 127
    else:
        cell = np.int64(value)
        u = value - np.float32(cell)
    cell = (cell + np.int64(value >= bounds[2]) + np.int64(value >= bounds[3])) % CELLS
    total = np.float32(0)
    for k in range(TERMS - 1, -1, -1):
        total = total * u + terms[k, cell]
    return total


@jit
def one_by_one(work, count, inner, middle, outer, terms, bounds):
    """``pieces_row`` on any processor."""
    for i in range(count):
        y, b, r = work[0, i], work[1, i], work[2, i]
        for k in range(2):
            m = inner if k == 0 else middle
            p = m[0, 0] * y + m[0, 1] * b + m[0, 2] * r + m[0, 3]
            q = m[1, 0] * y + m[1, 1] * b + m[1, 2] * r + m[1, 3]
            s = m[2, 0] * y + m[2, 1] * b + m[2, 2] * r + m[2, 3]
            y, b, r = (
                _curve(p, terms[k], bounds[k], k),
                _curve(q, terms[k], bounds[k], k),
                _curve(s, terms[k], bounds[k], k),
            )
        for c in range(3):
            work[c, i] = outer[c, 0] * y + outer[c, 1] * b + outer[c, 2] * r + outer[c, 3]


def _wide(work, count, inner, middle, outer, terms, bounds):
    _sixteen(work, work.shape[1], count, inner, middle, outer, terms, bounds)


pieces_row = jit(_wide) if WIDE else one_by_one
"""In place: recorded codes of one row → delivered codes, not yet whole.

work (3, at least ``count`` rounded up to LANES) float32; matrices (3, 4); terms (2, TERMS, CELLS) and bounds (2, 4: lowest, highest,
two knees) of the curves from place to light and from light to signal.
"""
