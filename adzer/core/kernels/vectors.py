"""Vector instructions for loops that the compiler would not turn into them by itself."""

from __future__ import annotations

from collections.abc import Sequence

from llvmlite import ir
from numba.core import cgutils
from numba.core.base import BaseContext
from numba.core.typing.templates import Signature

FLOAT, WORD, LONG = ir.FloatType(), ir.IntType(32), ir.IntType(64)


class Code:
    """What an intrinsic is written with: arrays as pointers, and vectors of any number of lanes."""

    def __init__(self, context: BaseContext, builder: ir.IRBuilder, signature: Signature, values: Sequence[ir.Value]) -> None:
        self.context, self.builder, self.signature, self.values = context, builder, signature, values

    def data(self, k: int) -> ir.Value:
        """Pointer to the first item of the array that is argument ``k``."""
        return self.context.make_array(self.signature.args[k])(self.context, self.builder, self.values[k]).data

    def item(self, base: ir.Value, index: ir.Value) -> ir.Value:
        return self.builder.load(self.builder.gep(base, [index]))

    def load(self, base: ir.Value, index: ir.Value, lanes: int) -> ir.Value:
        """``lanes`` items from ``index`` on, wherever they lie."""
        kind = base.type.pointee
        at = self.builder.gep(base, [index])
        value = self.builder.load(self.builder.bitcast(at, ir.VectorType(kind, lanes).as_pointer()))
        value.align = 4 if isinstance(kind, ir.FloatType) else kind.width // 8
        return value

    def store(self, value: ir.Value, base: ir.Value, index: ir.Value) -> None:
        at = self.builder.gep(base, [index])
        self.builder.store(value, self.builder.bitcast(at, value.type.as_pointer())).align = 4

    def fetch(self, base: ir.Value, index: ir.Value) -> None:
        """Says that what lies there will be read soon."""
        kind = ir.FunctionType(ir.VoidType(), [ir.IntType(8).as_pointer(), WORD, WORD, WORD])
        prefetch = cgutils.get_or_insert_function(self.builder.module, kind, "llvm.prefetch.p0")
        at = self.builder.bitcast(self.builder.gep(base, [index]), ir.IntType(8).as_pointer())
        self.builder.call(prefetch, [at, WORD(0), WORD(3), WORD(1)])

    def spread(self, value: ir.Value, lanes: int) -> ir.Value:
        """One number in every lane."""
        nothing = ir.Constant(ir.VectorType(value.type, lanes), ir.Undefined)
        return self.shuffle(self.builder.insert_element(nothing, value, WORD(0)), nothing, [0] * lanes)

    def shuffle(self, a: ir.Value, b: ir.Value, mask: list[int]) -> ir.Value:
        return self.builder.shuffle_vector(a, b, ir.Constant(ir.VectorType(WORD, len(mask)), mask))

    def add(self, a: ir.Value, b: ir.Value) -> ir.Value:
        return self.builder.fadd(a, b, flags=["fast"])

    def times(self, a: ir.Value, b: ir.Value) -> ir.Value:
        return self.builder.fmul(a, b, flags=["fast"])

    def sums(self, vectors: list[ir.Value]) -> ir.Value:
        """Eight vectors of four or eight lanes → one of eight lanes, each the sum of one of them."""
        lanes = vectors[0].type.count
        while len(vectors) > 2:  # add neighbours, four lanes at a time, where no lane has far to go
            even, odd = (
                [k + first for low in range(0, lanes, 4) for k in (low, low + 2, lanes + low, lanes + low + 2)]
                for first in (0, 1)
            )
            vectors = [
                self.add(self.shuffle(a, b, even), self.shuffle(a, b, odd))
                for a, b in zip(vectors[::2], vectors[1::2], strict=True)
            ]
        if lanes == 4:
            return self.shuffle(*vectors, list(range(8)))
        low, high = ([*range(k, k + 4), *range(k + 8, k + 12)] for k in (0, 4))
        return self.add(self.shuffle(*vectors, low), self.shuffle(*vectors, high))
