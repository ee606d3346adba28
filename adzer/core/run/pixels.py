"""The pixel work of a plan in numbers: filters, matrices, tables. Built once per shot, used for every frame.

``PixelPlan`` is what kernels and reference both read; ``Processor`` runs the kernels over it on a pool of threads.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..light.chain import BRIGHTEST, ColourChain
from ..light.pieces import EVEN, ChainPieces, chain_pieces
from ..light.samples import Samples, chroma_offset, cosited
from ..media.formats import Plane
from ..space.warps import AxisWarp, MapWarp
from .filters import AxisFilter, axis_filter, chroma_reduction, dither_tile
from .warp import Sampler, frozen

Array = NDArray[np.float64]
Floats = NDArray[np.float32]

TABLE_IN_CELLS = 4096
TABLE_IN_DOMAIN = (-0.2, 1.12)  # limited range reaches 1.095; colours beyond are none that a camera records
LATTICE = 65
TABLE_FLOOR_OCTAVE = -14
CELLS_PER_OCTAVE = 128


@dataclass(frozen=True)
class PixelPlan:
    """Source samples, warp, colour, delivered samples; every table that follows from them is computed once.

    ``source`` and ``source_raster`` are of the recorded picture once it was turned clockwise by ``turn`` degrees.
    """

    source: Samples
    source_raster: tuple[int, int]
    warp: AxisWarp | MapWarp
    chain: ColourChain | None
    target: Samples
    turn: int = 0

    def _filter(self, axis: int, chroma: bool) -> AxisFilter:
        assert isinstance(self.warp, AxisWarp)
        sub = self.source.format.sub[axis] if chroma else 1
        scale, offset = float(self.warp.scale[axis]), float(self.warp.offset[axis])
        first = (scale * 0.5 + offset - chroma_offset(self.source.siting, axis, sub)) / sub
        size = self.source.format.plane_size(self.source_raster, 1 if chroma else 0)[axis]
        return axis_filter(self.warp.picture[axis], scale / sub, first, size)

    @cached_property
    def luma(self) -> tuple[AxisFilter, AxisFilter]:
        """(columns, rows)"""
        return self._filter(0, False), self._filter(1, False)

    @cached_property
    def chroma(self) -> tuple[AxisFilter, AxisFilter]:
        if self.source.format.chroma == "4:0:0":
            return self.luma
        return self._filter(0, True), self._filter(1, True)

    @cached_property
    def reduction(self) -> tuple[AxisFilter, AxisFilter]:
        """Delivered chroma from every delivered pixel: (columns, rows)."""
        pair = []
        for axis in (0, 1):
            sub = self.target.format.sub[axis]
            on = cosited(self.target.siting, vertical=axis == 1)
            pair.append(chroma_reduction(self.warp.picture[axis] // sub, sub, on, self.warp.picture[axis]))
        return pair[0], pair[1]

    @cached_property
    def apart(self) -> bool:
        """Does each delivered plane come of one recorded plane alone? Chroma then goes from recorded to delivered in one
        filter, and what is neither moved nor scaled comes out as it was."""
        if self.chain is not None or isinstance(self.warp, MapWarp) or self.source.format.chroma == "4:0:0":
            return False
        mixing = self.in_matrix[:, :3] - np.diag(np.diag(self.in_matrix[:, :3]))
        return float(np.abs(mixing).max()) < 1e-9 * float(np.abs(self.in_matrix[:, :3]).max())

    @cached_property
    def direct(self) -> tuple[AxisFilter, AxisFilter]:
        """Delivered chroma from recorded chroma, where the planes stay apart: (columns, rows)."""
        pair = []
        for axis in (0, 1):
            inner, outer = self.source.format.sub[axis], self.target.format.sub[axis]
            assert isinstance(self.warp, AxisWarp)
            scale, offset = float(self.warp.scale[axis]), float(self.warp.offset[axis])
            there = scale * chroma_offset(self.target.siting, axis, outer) + offset
            first = (there - chroma_offset(self.source.siting, axis, inner)) / inner
            size = self.source.format.plane_size(self.source_raster, 1)[axis]
            pair.append(axis_filter(self.warp.picture[axis] // outer, scale * outer / inner, first, size))
        return pair[0], pair[1]

    @property
    def kind(self) -> int:
        """0: no colour, 1: table–matrix–table, 2: shaper and lattice."""
        return 0 if self.chain is None else 2 if self.chain.together else 1

    @cached_property
    def in_matrix(self) -> Array:
        """Codes → signal; without colour, straight to delivered codes."""
        if self.chain is not None:
            return self.source.to_signal()
        inner, outer = self.source.to_signal(), self.target.to_codes()
        return np.column_stack([outer[:, :3] @ inner[:, :3], outer[:, :3] @ inner[:, 3] + outer[:, 3]])

    @cached_property
    def out_matrix(self) -> Array:
        return self.target.to_codes(self.chain.saturation if self.chain else 1.0)

    @cached_property
    def light_limit(self) -> float:
        """The light from which on the tone does not change: the output table's last cell ends exactly there."""
        assert self.chain is not None
        return float(np.float32(np.clip(self.chain.saturates_at, 2.0**-6, BRIGHTEST)))

    @cached_property
    def table_in(self) -> Floats:
        """Signal → light over ``TABLE_IN_DOMAIN``; for a lattice, signal → lattice coordinate."""
        assert self.chain is not None
        halves = np.linspace(*TABLE_IN_DOMAIN, 2 * TABLE_IN_CELLS + 1)
        values = self.chain.light(halves) if self.kind == 1 else self.shaper(halves)
        return _lines(values[::2], np.arange(TABLE_IN_CELLS + 1, dtype=np.float64), values[1::2])

    def shaper(self, signal: Array) -> Array:
        """Lattice coordinate of a signal. Curves are even enough as they are; linear light is taken by its 3rd root."""
        assert self.chain is not None
        low, high = -0.1, 1.1
        if self.chain.source.kind == "linear":
            signal, low, high = np.cbrt(signal), np.cbrt(low), np.cbrt(high)
        return (signal - low) / (high - low) * (LATTICE - 1)

    def unshaper(self, coordinate: Array) -> Array:
        assert self.chain is not None
        low, high = -0.1, 1.1
        if self.chain.source.kind == "linear":
            low, high = np.cbrt(low), np.cbrt(high)
            return (low + coordinate / (LATTICE - 1) * (high - low)) ** 3
        return low + coordinate / (LATTICE - 1) * (high - low)

    @cached_property
    def table_out(self) -> Floats:
        """Light → delivered signal, 128 cells to the octave from 2⁻¹⁴ (which stands for 0) to the limit."""
        assert self.chain is not None
        floor, limit = 2.0**TABLE_FLOOR_OCTAVE, self.light_limit
        octaves = int(np.ceil(np.log2(limit + floor))) - TABLE_FLOOR_OCTAVE
        cell = np.arange(octaves * CELLS_PER_OCTAVE + 1)
        octave, step = np.divmod(cell, CELLS_PER_OCTAVE)
        light = 2.0 ** (TABLE_FLOOR_OCTAVE + octave) * (1 + step / CELLS_PER_OCTAVE)
        light = np.append(light[light < limit + floor], limit + floor)
        middle = (light[:-1] + light[1:]) / 2
        tone = self.chain.tone
        lines = _lines(tone(light - floor), light, tone(middle - floor))
        return np.concatenate([lines, lines[-1:]])  # the limit itself may open one cell more

    @cached_property
    def pieces(self) -> ChainPieces | None:
        """Both curves as polynomials, where they are that smooth."""
        assert self.chain is not None
        return chain_pieces(self.chain, TABLE_IN_DOMAIN, self.light_limit, self.target.format.bits)

    @cached_property
    def lattice(self) -> Floats:
        """Delivered R′G′B′ at every lattice point, (n, n, n, 3)."""
        assert self.chain is not None
        axis = self.unshaper(np.arange(LATTICE, dtype=np.float64))
        grid = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1)
        return self.chain.apply(grid).astype(np.float32)

    @property
    def places(self) -> NDArray[np.int64]:
        """(x, y) of the picture in the delivered luma and chroma planes."""
        x, y = self.warp.place
        sx, sy = self.target.format.sub
        return np.array([[x, y], [x // sx, y // sy]], dtype=np.int64)


DITHER = dither_tile()


def _columns(filter_: AxisFilter, first: int = 0) -> tuple[NDArray[np.uint64], Floats, tuple[int, int]]:
    """A filter as ``bands.filter_columns`` takes it: starts, weights (taps, columns) padded to threes, and its kind.

    The kind is (−1, 0) for a plain copy, else (lo, hi): between them the filter doubles, its two kernels repeating.
    """
    count, taps = filter_.weights.shape
    padded = np.zeros((-(-taps // 3) * 3, count), np.float32)
    padded[:taps] = filter_.weights.T
    starts = (filter_.start - first).astype(np.uint64)
    return starts, padded, (-1, 0) if taps == 1 else _repeating(filter_, every=2, step=1)


def _repeating(filter_: AxisFilter, every: int, step: int) -> tuple[int, int]:
    """The longest stretch in which column i + ``every`` does what column i does, ``step`` samples on; (0, 0) if short."""
    if len(filter_.start) < 64:
        return 0, 0
    moved = filter_.start[every:] - filter_.start[:-every] == step
    alike = np.all(np.abs(filter_.weights[every:] - filter_.weights[:-every]) < 1e-6, axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], moved & alike, [False]]).astype(np.int8)))
    if len(edges) == 0:
        return 0, 0
    runs = edges.reshape(-1, 2)
    lo, hi = (int(v) for v in runs[np.argmax(runs[:, 1] - runs[:, 0])])
    hi += every
    return (lo, hi - (hi - lo) % every) if hi - lo > 48 else (0, 0)


def _halving(half: AxisFilter, taps: int, size: int) -> tuple[int, int]:
    """The columns that ``bands.filter_halving`` can make of a row of ``size``, whose kernel has ``taps`` with its padding."""
    lo, hi = _repeating(half, every=1, step=2)
    while hi > lo and int(half.start[lo]) + 2 * (hi - lo + (taps - 1) // 2) > size:
        hi -= 1
    return lo, hi


def _lines(values: Array, places: Array, between: Array) -> Floats:
    """Cells of straight pieces over ``places``, as (value at 0, slope).

    ``between`` are the values halfway: each piece is shifted by half of what it misses there, which halves its error.
    """
    slope = np.diff(values) / np.diff(places)
    middle = (places[:-1] + places[1:]) / 2
    chord = values[:-1] + slope * (middle - places[:-1])
    start = chord + (between - chord) / 2 - slope * middle
    return np.stack([start, slope], axis=-1).astype(np.float32)


class Processor:
    """Runs a ``PixelPlan``. Holds its working memory, so that nothing is allocated per frame. Close it, or use ``with``."""

    def __init__(self, plan: PixelPlan, threads: int = 2) -> None:
        from ..kernels import bands, registers  # here, so that importing this module costs nothing

        self.plan, self.threads = plan, max(1, threads)
        self._kernels, self._wide = bands, registers.WIDE
        self._pool = ThreadPoolExecutor(self.threads, thread_name_prefix="pixels")
        n, rows = plan.warp.picture
        half, half_rows = plan.reduction
        vertical = plan.target.format.sub[1] > 1
        self._between = np.empty((2, rows if vertical and not plan.apart else 0, len(half.start)), np.float32)
        self._half_rows = (half_rows.start, half_rows.weights)
        self._colour = self._coloured()
        self._sampler: Sampler | None = None
        self._planes: list[tuple[Any, ...]] = []
        self._turned: tuple[Plane, ...] = ()
        if plan.apart:
            for c, (across, down) in enumerate((plan.luma, plan.direct, plan.direct)):
                span, gain = across.span, (plan.in_matrix[c, c], plan.in_matrix[c, 3])
                columns = _columns(across, span[0])
                self._planes.append((down.start, down.weights, columns, np.array(span), *np.array(gain, np.float32)))
        elif isinstance(plan.warp, MapWarp):
            halved = plan.target.format.sub == (2, 2)
            self._sampler = Sampler(plan.warp, plan.source.format, plan.source.siting, halved, self.threads)
        else:
            (first_y, count_y), (first_c, count_c) = plan.luma[0].span, plan.chroma[0].span
            self._axis: tuple[Any, ...] = (
                self._axes(plan.luma, first_y), self._axes(plan.chroma, first_c),
                np.array([first_y, count_y]), np.array([first_c, count_c]),
            )  # fmt: skip
        starts, weights, _ = _columns(half)
        self._half = (starts, weights, _halving(half, weights.shape[0], n))
        self._dither = np.tile(DITHER, (1, -(-n // DITHER.shape[1])))

    def _coloured(self) -> tuple[Any, ...]:
        """What ``kernels.bands`` takes as ``colour``; curves in pieces where the processor has room for them."""
        plan, kind, chain = self.plan, self.plan.kind, self.plan.chain
        pieces = plan.pieces if kind == 1 and self._wide else None
        kind = kind if pieces is None else 3
        first, matrix = plan.in_matrix.copy(), np.column_stack([chain.matrix if chain else np.eye(3), np.zeros(3)])
        if kind:  # ending in places of the input table, or in cells
            low, high = TABLE_IN_DOMAIN
            first[:, 3] -= low
            first *= (EVEN if pieces else TABLE_IN_CELLS) / (high - low)
        if kind == 1:
            matrix[:, 3] = 2.0**TABLE_FLOOR_OCTAVE
        none: Floats = np.zeros((1, 2), np.float32)
        return (
            kind, first.astype(np.float32), plan.table_in if kind in (1, 2) else none, matrix.astype(np.float32),
            plan.table_out if kind == 1 else none, np.float32(plan.light_limit if kind == 1 else 1.0),
            plan.lattice if kind == 2 else np.zeros((1, 1, 1, 3), np.float32), plan.out_matrix.astype(np.float32),
            *(pieces.arrays if pieces else (np.zeros((2, 1, 1), np.float32), np.zeros((2, 4), np.float32))),
        )  # fmt: skip

    @staticmethod
    def _axes(pair: tuple[AxisFilter, AxisFilter], first: int) -> tuple[Any, ...]:
        columns, rows = pair
        return (rows.start, rows.weights, *_columns(columns, first))

    def __enter__(self) -> Processor:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        self._pool.shutdown()

    def _upright(self, source: tuple[Plane, ...]) -> tuple[Plane, ...]:
        """The recorded planes turned into working memory, every sample as it is."""
        plan, form = self.plan, self.plan.source.format
        if not self._turned:
            sizes = [form.plane_size(plan.source_raster, i) for i in range(len(source))]
            self._turned = tuple(np.empty((h, w), form.dtype) for w, h in sizes)
        for plane, into in zip(source, self._turned, strict=True):
            h, w = into.shape if plan.turn == 180 else into.shape[::-1]
            np.copyto(into, np.rot90(plane[:h, :w], -plan.turn // 90))
        return self._turned

    def fill_bars(self, target: tuple[Plane, ...]) -> None:
        """Black around the picture; the picture itself is left alone."""
        plan = self.plan
        if plan.warp.raster == plan.warp.picture:
            return
        for i, code in enumerate(plan.target.black()):
            sx, sy = plan.target.format.sub if i else (1, 1)
            x, y = plan.places[min(i, 1)]
            w, h = plan.warp.picture[0] // sx, plan.warp.picture[1] // sy
            plane = target[i]
            plane[:y] = plane[y + h :] = code
            plane[y : y + h, :x] = plane[y : y + h, x + w :] = code

    def run(self, source: tuple[Plane, ...], target: tuple[Plane, ...], time: float = 0.0) -> None:
        """One frame: decoded planes (rows, stride) in, delivered planes (rows, stride) written in place.

        ``time``: seconds of the recording, where a view that moves is at that moment.
        """
        plan, k = self.plan, self._kernels
        source = self._upright(source) if plan.turn else source
        planes = tuple(frozen(p) for p in ((source[0],) * 3 if len(source) == 1 else source))
        self.fill_bars(target)
        top, places = np.array(plan.target.ends, np.float32), plan.places
        last = (places, self._half, plan.target.format.sub[0] > 1, self._between, self._dither, top)
        sampler, rows = self._sampler, plan.warp.picture[1]
        if plan.apart:

            def piece(part: tuple[int, tuple[int, int]]) -> None:
                c, span = part
                place = places[min(c, 1)]
                k.plane_band(planes[c], *self._planes[c], target[c], place, self._dither, top, *span)

            list(self._pool.map(piece, [(c, s) for c in range(3) for s in self._bands(len(self._planes[c][0]))]))
            return
        if sampler is None:

            def band(span: tuple[int, int]) -> None:
                k.render_band(planes, *self._axis, self._colour, target, *last, *span)

            list(self._pool.map(band, self._bands(rows)))
        else:
            from ..kernels.views import view_band

            frame, bare = sampler.frame(planes, time, self._pool)
            black = np.array(plan.target.black(), np.float32)

            def band(span: tuple[int, int]) -> None:
                with sampler.room() as room:
                    view_band(*frame, *room, bare, black, self._colour, target, *last, *span)

            list(self._pool.map(band, self._bands(rows)))
        if self._between.shape[1]:

            def halves(span: tuple[int, int]) -> None:
                k.reduce_rows(self._between, *self._half_rows, target, places, self._dither, top, span[0], span[1])

            list(self._pool.map(halves, self._bands(len(self._half_rows[0]))))

    def _bands(self, rows: int) -> list[tuple[int, int]]:
        n = min(rows, self.threads * 4)
        return [(rows * i // n, rows * (i + 1) // n) for i in range(n)]
