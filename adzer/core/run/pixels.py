"""The pixel work of a plan: each panel's samples, their colour, delivered codes. Built once per shot, used for every frame."""

from __future__ import annotations

import queue
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..light.pieces import EVEN
from ..media.formats import Plane
from ..plan import Panel, Plan, Planes
from .axes import AxisFilters, columns, halving, laid, places, reduction
from .filters import dither_tile
from .laying import Laying
from .strips import STRIP, Strip, strips
from .tables import TABLE_FLOOR_OCTAVE, TABLE_IN_CELLS, TABLE_IN_DOMAIN, Mixing, Tables
from .warp import STEPS, Grid, Sampler, frozen

Floats = NDArray[np.float32]

DITHER = dither_tile()


def coloured(tables: Tables, wide: bool, light: tuple[tuple[float, ...], ...] | None = None) -> tuple[object, ...]:
    """What ``kernels.bands`` takes as ``colour``; curves in pieces where the processor has room for them (``wide``). ``light``: of a patch
    that is seen alone, where there is a chain that works in light."""
    kind, chain = tables.kind, tables.chain
    pieces = tables.pieces if kind == 1 and wide else None
    kind = kind if pieces is None else 3
    first, matrix = tables.in_matrix.copy(), (chain.matrix if chain else np.eye(3)) @ _with_offset(light)
    if kind:  # ending in places of the input table, or in cells
        low, high = TABLE_IN_DOMAIN
        first[:, 3] -= low
        first *= (EVEN if pieces else TABLE_IN_CELLS) / (high - low)
    if kind == 1:
        matrix[:, 3] += 2.0**TABLE_FLOOR_OCTAVE
    none: Floats = np.zeros((1, 2), np.float32)
    return (
        kind, first.astype(np.float32), tables.table_in if kind in (1, 2) else none, matrix.astype(np.float32),
        tables.table_out if kind == 1 else none, np.float32(tables.light_limit if kind == 1 else 1.0),
        tables.lattice if kind == 2 else np.zeros((1, 1, 1, 3), np.float32), tables.out_matrix.astype(np.float32),
        *(pieces.arrays if pieces else (np.zeros((2, 1, 1), np.float32), np.zeros((2, 4), np.float32))),
    )  # fmt: skip


def apart(plan: Plan, panel: Panel) -> bool:
    """Does each delivered plane come of one recorded plane alone? Chroma then goes from recorded to delivered in one
    filter, and what is neither moved nor scaled comes out as it was."""
    if plan.chain is not None or not panel.on_axes or plan.source.format.chroma == "4:0:0":
        return False
    matrix = Tables(plan.source, None, plan.target).in_matrix[:, :3]
    mixing = matrix - np.diag(np.diag(matrix))
    return float(np.abs(mixing).max()) < 1e-9 * float(np.abs(matrix).max())


class _Job:
    """One panel's work. ``rows`` come from ``band`` and its chroma, where it is delivered at fewer of them, from all of them."""

    def __init__(self, plan: Plan, panel: Panel, colour: tuple[object, ...], tables: Tables, threads: int) -> None:
        from ..kernels import bands

        self.plan, self.panel, self.colour, self.threads, self._bands = plan, panel, colour, threads, bands
        half, half_rows = reduction(panel.size, plan.target)
        self.halved_rows = plan.target.format.sub[1] > 1
        between = np.empty((2, panel.size[1] if self.halved_rows else 0, len(half.start)), np.float32)
        starts, weights, _ = columns(half)
        self._half_rows = (half_rows.start, half_rows.weights)
        self.places, self.top = places(panel, plan.target), np.array((*plan.target.ends, plan.target.most[0]), np.float32)
        self.dither = np.tile(DITHER, (1, -(-panel.size[0] // DITHER.shape[1])))
        self.last = (
            self.places, (starts, weights, halving(half, weights.shape[0], panel.size[0])), plan.target.format.sub[0] > 1, between,
            self.dither, self.top,
        )  # fmt: skip

    def run(self, frames: Sequence[Planes], target: Planes, time: float, pool: ThreadPoolExecutor) -> None:
        list(pool.map(self.rows(frames, target), self.spans(self.panel.size[1])))
        self.halve(target, pool)

    def halve(self, target: Planes, pool: ThreadPoolExecutor) -> None:
        """Chroma, where it is delivered at fewer rows."""
        if self.halved_rows:

            def halves(span: tuple[int, int]) -> None:
                self._bands.reduce_rows(self.last[3], *self._half_rows, target, self.places, self.dither, self.top, *span)

            list(pool.map(halves, self.spans(len(self._half_rows[0]))))

    def rows(self, frames: Sequence[Planes], target: Planes) -> Callable[[tuple[int, int]], None]:
        """What makes delivered rows [from, to) of one frame."""
        raise NotImplementedError

    def spans(self, rows: int) -> list[tuple[int, int]]:
        n = min(rows, self.threads * 4)
        return [(rows * i // n, rows * (i + 1) // n) for i in range(n)]

    def expect(self, time: float) -> None:
        """The frame of that moment comes next."""


class _Apart(_Job):
    """Plane from plane, see ``apart``."""

    def __init__(self, plan: Plan, panel: Panel, colour: tuple[object, ...], tables: Tables, threads: int) -> None:
        super().__init__(plan, panel, colour, tables, threads)
        filters = AxisFilters(panel, plan.source, plan.target)
        self.halved_rows = False
        self._planes: list[tuple[Any, ...]] = []
        self._ends: list[Floats] = []
        for c, (across, down) in enumerate((filters.luma, filters.direct, filters.direct)):
            gain = np.array((tables.in_matrix[c, c], tables.in_matrix[c, 3]), np.float32)
            self._planes.append((down.start, down.weights, columns(across, across.span[0]), np.array(across.span), *gain))
            self._ends.append(np.array((plan.target.ends[0], plan.target.most[c]), np.float32))

    def run(self, frames: Sequence[Planes], target: Planes, time: float, pool: ThreadPoolExecutor) -> None:
        planes = frames[self.panel.patches[0].input]

        def piece(part: tuple[int, tuple[int, int]]) -> None:
            c, span = part
            place = self.places[min(c, 1)]
            self._bands.plane_band(planes[c], *self._planes[c], target[c], place, self.dither, self._ends[c], *span)

        list(pool.map(piece, [(c, s) for c in range(3) for s in self.spans(len(self._planes[c][0]))]))


class _OnAxes(_Job):
    """Filters of columns and rows."""

    def __init__(self, plan: Plan, panel: Panel, colour: tuple[object, ...], tables: Tables, threads: int) -> None:
        super().__init__(plan, panel, colour, tables, threads)
        filters = AxisFilters(panel, plan.source, plan.target)
        (first_y, count_y), (first_c, count_c) = filters.luma[0].span, filters.chroma[0].span
        self._axis: tuple[object, ...] = (
            laid(filters.luma, first_y), laid(filters.chroma, first_c), np.array([first_y, count_y]), np.array([first_c, count_c]),
        )  # fmt: skip

    def rows(self, frames: Sequence[Planes], target: Planes) -> Callable[[tuple[int, int]], None]:
        planes = frames[self.panel.patches[0].input]
        return lambda span: self._bands.render_band(planes, *self._axis, self.colour, target, *self.last, *span)


class _Mapped(_Job):
    """The general map: one patch where it alone counts, several mixed in light where they meet."""

    def __init__(self, plan: Plan, panel: Panel, colour: tuple[object, ...], tables: Tables, threads: int) -> None:
        from ..kernels import mixing, registers, views

        super().__init__(plan, panel, colour, tables, threads)
        self._views, self._mixing = views, mixing
        halved = plan.target.format.sub == (2, 2)
        self.samplers = [Sampler(panel.look, p, plan.inputs[p.input].given, halved) for p in panel.patches]
        self.still = panel.look.still and all(p.still for p in panel.patches)
        self.mixed = len(panel.patches) > 1 or not panel.patches[0].plain
        self.black = np.array(plan.target.black(), np.float32)
        self._lit = tables.kind == 1  # its colour works in light
        wide = bool(registers.WIDE)
        self._alone = [colour if p.light is None or not self._lit else coloured(tables, wide, p.light) for p in panel.patches]
        self._rooms: queue.SimpleQueue[dict[str, NDArray[np.generic]]] = queue.SimpleQueue()
        n, rows = panel.size[0], views.ROWS if not self.mixed else max(STRIP, STEPS[0])
        for _ in range(threads):
            room: dict[str, NDArray[np.generic]] = {
                "sampled": np.zeros((rows, 3, n + views.SLACK), np.float32), "cover": np.zeros((rows, n), np.float32),
            }  # fmt: skip
            if self.mixed:
                room |= {k: np.zeros((rows, *(3,) * (k == "light"), n), np.float32) for k in ("light", "weight")}
                room |= {"run": np.zeros(rows * 3 * (n + views.SLACK), np.float32), "run cover": np.zeros(rows * n, np.float32)}
            self._rooms.put(room)
        self._map: tuple[list[Grid], list[Strip]] | None = None
        self._coming: tuple[float, Future[tuple[list[Grid], list[Strip]]]] | None = None
        self._beside = None if self.still else ThreadPoolExecutor(1, thread_name_prefix="grids")
        if self.mixed:
            self._prepare_mixing()

    def _prepare_mixing(self) -> None:
        self._mixed_in = Mixing(self.plan.chain.source if self.plan.chain is not None else self.plan.curve)
        first = self.plan.source.to_signal()
        back = np.linalg.inv(first[:, :3])
        self._back = np.column_stack([back, -back @ first[:, 3]]).astype(np.float32)
        self._mixes = [
            (
                p.light is None and self.plan.inputs[p.input].given == self.plan.source,
                self._mixed_in.to_table(self.plan.inputs[p.input].given), self._mixed_in.table_in,
                _with_offset(p.light).astype(np.float32),
            )
            for p in self.panel.patches
        ]  # fmt: skip

    def map(self, time: float) -> tuple[list[Grid], list[Strip]]:
        """The grid of each patch, on cells of one size, and which of them count where."""
        made, (width, rows) = [s.grid(time) for s in self.samplers], self.panel.size
        if not self.mixed:
            return made, [Strip(*span, 0) for span in self.spans(rows)]
        step = min(g.step for g in made)
        made = [g if g.step == step else s.grid(time, step) for g, s in zip(made, self.samplers, strict=True)]
        lone = [self.plan.inputs[p.input].given == self.plan.source and (p.light is None or self._lit) for p in self.panel.patches]
        return made, strips(made, [m[0] for m in self._mixes], lone, width, rows, -(-rows // (self.threads * 4)))

    def expect(self, time: float) -> None:
        if self._beside is not None:
            self._coming = (time, self._beside.submit(self.map, time))

    def close(self) -> None:
        if self._beside is not None:
            self._beside.shutdown()

    def _strips_at(self, time: float) -> tuple[list[Grid], list[Strip]]:
        if self._map is None or not self.still:
            coming, self._coming = self._coming, None
            self._map = coming[1].result() if coming is not None and coming[0] == time else self.map(time)
        return self._map

    @contextmanager
    def _room(self) -> Iterator[dict[str, NDArray[np.generic]]]:
        """Working memory for one thread."""
        held = self._rooms.get()
        try:
            yield held
        finally:
            self._rooms.put(held)

    def run(self, frames: Sequence[Planes], target: Planes, time: float, pool: ThreadPoolExecutor) -> None:
        grids, parts = self._strips_at(time)
        counting = set[int]().union(*(s.patches for s in parts))
        ready = {n: s.ready(frames[s.patch.input], grids[n], pool) for n, s in enumerate(self.samplers) if n in counting}

        def strip(part: Strip) -> None:
            with self._room() as room:
                if part.alone is not None:
                    self._views.view_band(
                        *ready[part.alone], room["sampled"], room["cover"], self.panel.size[0], grids[part.alone].bare, self.black,
                        self._alone[part.alone], target, *self.last, part.top, part.bottom,
                    )  # fmt: skip
                    return
                self._mix(room, part, ready)
                self._bands.finish_band(
                    room["sampled"], room["cover"], self.panel.size[0], True, self.black, self.colour, target, *self.last, part.top, part.bottom,
                )  # fmt: skip

        list(pool.map(strip, parts))
        self.halve(target, pool)

    def _mix(self, room: dict[str, NDArray[np.generic]], part: Strip, ready: dict[int, tuple[object, ...]]) -> None:
        """Rows of a strip, of all patches that count there, as codes of the plan's source."""
        count, slack = part.bottom - part.top, self._views.SLACK
        sampled, cover, light, weight = (room[k][:count] for k in ("sampled", "cover", "light", "weight"))
        for first, last in part.mixed:
            self._mixing.clear(cover, light, weight, first, last)
        for piece in part.pieces:
            planes, at, reduced, _, _, step, *rest = ready[piece.patch]
            m = piece.width
            run = room["run"][: count * 3 * (m + slack)].reshape(count, 3, m + slack)
            seen = room["run cover"][: count * m].reshape(count, m)
            whole, *mixes = self._mixes[piece.patch]
            for cells, shares in piece.bands:
                self._views.sample_band(planes, at, reduced, piece.nodes, cells, step, *rest, run, seen, m, 0, count)
                if piece.whole:
                    self._mixing.take(run, seen, m, piece.first, weight, cover, sampled)
                    continue
                self._mixing.gather(
                    run, seen, m, piece.first, shares, piece.tones, step, whole and len(piece.bands) == 1, *mixes, light, weight, cover, sampled,
                )  # fmt: skip
        for first, last in part.mixed:
            self._mixing.settle(light, weight, first, last, *self._mixed_in.back, self._back, sampled)


def _with_offset(light: tuple[tuple[float, ...], ...] | None) -> NDArray[np.float64]:
    """(3, 4) of a patch's ``light``."""
    made = np.array(light if light is not None else np.eye(3), np.float64)
    return made if made.shape[1] == 4 else np.column_stack([made, np.zeros(3)])


class Processor:
    """Runs a ``Plan``. Holds its working memory, so that nothing is allocated per frame. Close it, or use ``with``."""

    def __init__(self, plan: Plan, threads: int = 2) -> None:
        from ..kernels import registers  # here, so that importing this module costs nothing

        self.plan, self.threads = plan, max(1, threads)
        self._pool = ThreadPoolExecutor(self.threads, thread_name_prefix="pixels")
        self.tables = Tables(plan.source, plan.chain, plan.target)
        colour = coloured(self.tables, registers.WIDE)
        self._jobs: list[_Job] = []
        for panel in plan.panels:
            kind = _Apart if apart(plan, panel) else _OnAxes if panel.on_axes else _Mapped
            self._jobs.append(kind(plan, panel, colour, self.tables, self.threads))
        self._turned: dict[int, Planes] = {}
        self._laid = [Laying(o, plan.target, plan.raster) for o in plan.overlays]

    def __enter__(self) -> Processor:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        self._pool.shutdown()
        for job in self._jobs:
            if isinstance(job, _Mapped):
                job.close()

    def _upright(self, n: int, source: Planes) -> Planes:
        """An input's planes turned into working memory, every sample as it is."""
        held = self.plan.inputs[n]
        if not held.turn:
            return source
        form = held.given.format
        if n not in self._turned:
            sizes = [form.plane_size(held.raster, i) for i in range(len(source))]
            self._turned[n] = tuple(np.empty((h, w), form.dtype) for w, h in sizes)
        for plane, into in zip(source, self._turned[n], strict=True):
            h, w = into.shape if held.turn == 180 else into.shape[::-1]
            np.copyto(into, np.rot90(plane[:h, :w], -held.turn // 90))
        return self._turned[n]

    def fill_bars(self, target: Planes) -> None:
        """Black around the pictures; these themselves are left alone."""
        plan = self.plan
        if len(plan.panels) == 1 and plan.raster == plan.panels[0].size:
            return
        for i, code in enumerate(plan.target.black()):
            sx, sy = plan.target.format.sub if i else (1, 1)
            if len(plan.panels) > 1:
                target[i][...] = code
                continue
            x, y = places(plan.panels[0], plan.target)[min(i, 1)]
            w, h = plan.panels[0].size[0] // sx, plan.panels[0].size[1] // sy
            plane = target[i]
            plane[:y] = plane[y + h :] = code
            plane[y : y + h, :x] = plane[y : y + h, x + w :] = code

    def run(self, sources: Sequence[Planes], target: Planes, time: float = 0.0, coming: float | None = None) -> None:
        """One frame: each input's decoded planes (rows, stride) in, delivered planes (rows, stride) written in place.

        ``time``: seconds of the recording, where a view that moves is at that moment; ``coming``: of the frame after this, whose
        map is made meanwhile.
        """
        frames = [_three(self._upright(n, planes)) for n, planes in enumerate(sources)]
        self.fill_bars(target)
        for job in self._jobs:
            job.run(frames, target, time, self._pool)
            if coming is not None:
                job.expect(coming)
        cover(self.plan, target)
        for laying in self._laid:
            laying.lay(target, time)


def cover(plan: Plan, target: Planes) -> None:
    """What is black on the pictures."""
    for x, y, w, h in plan.black:
        for i, code in enumerate(plan.target.black()):
            sx, sy = plan.target.format.sub if i else (1, 1)
            target[i][y // sy : (y + h) // sy, x // sx : (x + w) // sx] = code


def _three(planes: tuple[Plane, ...]) -> Planes:
    return tuple(frozen(p) for p in ((planes[0],) * 3 if len(planes) == 1 else planes))
