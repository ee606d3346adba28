"""Sampling a recording through a map, evaluated on a coarse grid of each frame.

The grid holds directions: straight pieces between nodes are near enough (bounded in ``grid``), and the pixel loop only has to
turn a direction into a recorded place. Beside each cell stands how finely the recording must be sampled there.
"""

from __future__ import annotations

from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import lru_cache
from types import ModuleType
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples, chroma_offset
from ..media.formats import Plane
from ..plan import Patch
from ..space.looks import Look
from ..space.sphere import Array, Equirect, Flat, Recording
from .filters import halving_taps, narrow_weights, patch_weights

A = TypeVar("A", bound=NDArray[np.generic])

BOUND = 0.02  # pixels, of the recording or the delivery, whichever are larger, by which a place may be off
REACH, SQUARES = 4, 16  # squares that one sampled place may need each way; rows of them that are worked on at once
STEPS = (32, 16, 8, 4, 2, 1)
ENLARGED, ENLARGED_CHROMA = 0.75, 1.0  # samples to a place up to which narrow patches will do
SPARSE, HALVED = 0.6, 1.0  # samples to a pixel up to which chroma is sampled at every second one each way; if delivered so, too
BETWEEN = 1.5  # pixels that such a sample stands for: two would be blurred once more by what is drawn between (measured)
WIDTHS = 16  # kernels between 1 and 2 recorded samples to a delivered pixel
MOST_PLACES = 12


@dataclass(frozen=True)
class Grid:
    """``nodes`` (rows+1, columns+1, 3): directions at cell corners. ``cells`` (2, rows, columns, 5), for luma and chroma:
    level of reduction; width of the kernel along x (−1: narrow patches) and y, 0 … WIDTHS; sixteenths of a sample that a pixel spans along x
    and y where one kernel is too narrow, else 0. ``step``: delivered pixels a cell is wide and high. ``levels``:
    reductions needed; ``bare``: somewhere there may be no picture. ``sparse``: chroma is sampled at every second pixel each
    way, and drawn straight between. ``shares`` (rows+1, columns+1): how far it counts at the corners, None: it is all; ``tones``
    (3, rows+1, columns+1): how much brighter there. ``fines``: how far its detail counts, None: as ``shares``; ``coarse`` as ``cells``: how what
    is left of it without that is sampled, from those means of squares of samples that ``wanted`` says, of luma and chroma (rows, columns)."""

    nodes: NDArray[np.float32]
    cells: NDArray[np.int32]
    step: int
    levels: int
    bare: bool
    sparse: bool = False
    shares: NDArray[np.float32] | None = None
    tones: NDArray[np.float32] | None = None
    fines: NDArray[np.float32] | None = None
    coarse: NDArray[np.int32] | None = None
    wanted: tuple[NDArray[np.bool_], ...] = ()


def grid(
    look: Look, patch: Patch, time: float, sub: tuple[int, int] = (1, 1), halved: bool = False, most: int = STEPS[0]
) -> Grid:
    """The map of one frame, on the coarsest grid that keeps within ``BOUND``. ``sub``: recorded chroma subsampling;
    ``halved``: chroma is delivered at every second pixel each way; ``most``: pixels that a cell may be wide."""
    (w, h), lens = look.size, patch.lens
    for step in (s for s in STEPS if s <= min(most, max(4, min(w, h) // 32))):
        seen = look.directions(*corners(look, step), time)
        d = patch.held(seen, time)
        across, down = np.diff(d, axis=1) / step, np.diff(d, axis=0) / step
        middle = (d[:-1, :-1] + d[1:, :-1] + d[:-1, 1:] + d[1:, 1:]) / 4
        steps = lens.step(middle, np.stack([(across[:-1] + across[1:]) / 2, (down[:, :-1] + down[:, 1:]) / 2]))
        span = np.sqrt(steps[0] ** 2 + steps[1] ** 2)
        bend = sum(float(np.linalg.norm(np.diff(d, 2, axis=a), axis=-1).max(initial=0)) / 8 for a in (0, 1))
        rows, columns = middle.shape[:2]
        off = bend * lens.density / lens.length(middle[rows // 2, columns // 2])
        within = off <= 0.8 * BOUND * max(1.0, float(span.min()))  # the estimate is one of second differences
        if within and all(s is None or _coarse_enough(patch, s.width * cells, seen, step) for s, cells in ((patch.share, 1), (patch.fine, 2))):
            break
    levels_at_most = most_levels(patch)
    luma, coarse = _cells(span, levels_at_most, ENLARGED), span / sub
    sparse = step % 2 == 0 and float(coarse.max()) <= (HALVED if halved else SPARSE)
    chroma = _cells(BETWEEN * coarse if sparse else coarse, levels_at_most, ENLARGED_CHROMA)
    levels = int(max(luma[..., 0].max(initial=0), chroma[..., 0].max(initial=0)))
    whole = isinstance(lens, Flat) or (isinstance(lens, Equirect) and lens.whole)
    bare = not whole and float(lens.margin(d).min()) < max(1.0, lens.fade)
    shares = None if patch.share is None else np.ascontiguousarray(patch.share.at(seen, time), np.float32)
    tones = None if patch.tone is None else np.ascontiguousarray(np.moveaxis(patch.tone.at(seen, time), -1, 0), np.float32)
    made = Grid(np.ascontiguousarray(d, np.float32), np.stack([luma, chroma]), step, levels, bare, sparse, shares, tones)
    if patch.fine is None or shares is None:
        return made
    fines = np.ascontiguousarray(patch.fine.at(seen, time), np.float32)
    there = _grown(fines != shares, 1)
    apart = step * float(np.nan_to_num(span[there[1:, 1:]], posinf=1e3).max(initial=0.0))
    wanted = _wanted(patch, d[there], min(apart, float(max(patch.region[2:]))), sub)
    return replace(made, fines=fines, coarse=without_detail(patch, made.cells, sub), wanted=wanted)


def most_levels(patch: Patch) -> int:
    """How often it is reduced to half at most."""
    return max(0, int(np.log2(min(patch.region[2:]))) - 6)


def squares(patch: Patch, sub: tuple[int, int]) -> tuple[int, int] | None:
    """Logarithm to the base 2 of the sides, in samples of luma and chroma, of squares whose means have no detail any more, as it is meant by
    ``fine``; None: it is not told apart."""
    if patch.fine is None:
        return None
    side = max(1, round(np.log2(max(patch.fine.width * patch.lens.density, 1.0))))
    return side, max(0, side - (max(sub) > 1))


def _wanted(patch: Patch, d: Array, cell: float, sub: tuple[int, int]) -> tuple[NDArray[np.bool_], ...]:
    """Squares, of luma and of chroma, that are sampled at or between directions ``d`` (n, 3), ``cell`` recorded pixels apart at most."""
    (w, h), made = patch.region[2:], []
    place = patch.lens.place(d) if len(d) else np.zeros((0, 2))
    for side, by in zip(squares(patch, sub) or (), ((1, 1), sub), strict=True):
        across, down = (2**side * s for s in by)
        mask = np.zeros((-(-h // down), -(-w // across)), np.bool_)
        x, y = (np.clip(place[:, i] / v, 0, n - 1).astype(np.int64) for i, v, n in ((0, across, mask.shape[1]), (1, down, mask.shape[0])))
        mask[y, x] = True
        made.append(_grown(mask, REACH + int(cell / min(across, down) / 2)))
    return tuple(made)


def _grown(mask: NDArray[np.bool_], by: int) -> NDArray[np.bool_]:
    """With all that lies within so many rows and columns of what is set."""
    for _ in (0, 1):  # across, then down: how many are set up to there, less how many up to 2·by + 1 before
        sums = np.cumsum(np.pad(mask, ((0, 0), (by + 1, by))), axis=1, dtype=np.int32)
        mask = (sums[:, 2 * by + 1 :] > sums[:, : -2 * by - 1]).T
    return mask


def without_detail(patch: Patch, cells: NDArray[np.int32], sub: tuple[int, int]) -> NDArray[np.int32]:
    """``cells`` sampled from the means of ``squares``, which lie behind all reductions, where they are finer."""
    made = cells.copy()
    for c, side in enumerate(squares(patch, sub) or ()):
        made[c][made[c, ..., 0] < side] = (most_levels(patch) + 1, -1, 0, 0, 0)
    return made


def corners(look: Look, step: int) -> tuple[Array, Array]:
    """Delivered places x (1, …) and y (…, 1) of the corners of cells ``step`` pixels wide, the last perhaps beyond the picture."""
    x, y = (np.arange(-(-n // step) + 1.0) * step for n in look.size)
    return x[None], y[:, None]


def _coarse_enough(patch: Patch, width: float, d: Array, step: int) -> bool:
    """Does a way ``width`` wide take four cells? Of two pixels they are fine enough, however narrow it is."""
    apart = np.linalg.norm(np.diff(d, axis=1), axis=-1)
    if not isinstance(patch.lens, Flat):
        apart = apart / np.linalg.norm(d[:, 1:], axis=-1)
    return step <= 2 or float(apart.max()) * 4 <= width


def _cells(span: Array, most: int, enlarged: float) -> NDArray[np.int32]:
    """How finely to sample where a place spans ``span`` (…, 2) samples, sideways and upright; narrowly up to ``enlarged``."""
    level = np.floor(np.log2(np.maximum(np.minimum(span[..., 0], span[..., 1]), 1.0) + 1e-6)).astype(np.int32)
    level = np.minimum(level, most)
    rest = np.maximum(span / 2.0 ** level[..., None], 1.0)
    width = np.clip(np.ceil((rest - 1.0) * WIDTHS - 0.5), 0, WIDTHS).astype(np.int32)
    width[..., 0] = np.where(np.maximum(span[..., 0], span[..., 1]) <= enlarged, -1, width[..., 0])
    wide = np.where(rest > 2.05, np.minimum(np.round(rest * 16), MOST_PLACES * 32), 0).astype(np.int32)
    return np.concatenate([level[..., None], width, wide], axis=-1)


@lru_cache(maxsize=1)
def _tables(phases: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    return np.concatenate([patch_weights(phases, WIDTHS).ravel(), narrow_weights(phases).ravel()]), halving_taps()


class Sampler:
    """Samples one patch of a look from decoded planes. Keeps a still map, and its working memory, from frame to frame."""

    def __init__(self, look: Look, patch: Patch, source: Samples, halved: bool) -> None:
        from ..kernels import patches, places  # here, so that importing this module costs nothing

        self.look, self.patch, self.form, self.halved, self._halve_rows = look, patch, source.format, halved, patches.halve_rows
        self._mean_rows, self._squares = patches.mean_rows, squares(patch, source.format.sub)
        self.wraps = isinstance(patch.lens, Equirect) and patch.lens.whole
        self.weights, self._taps = _tables(patches.PHASES)
        self.lens = _lens(patch.lens, places)
        x, y, w, h = patch.region
        sx, sy = self.form.sub
        self._corner = [(y, x)] + [(y // sy, x // sx)] * 2
        self._sizes = [(h, w)] + [(h // sy, w // sx)] * 2
        self._offset = [chroma_offset(source.siting, i, n) / n for i, n in enumerate((sx, sy))]
        self._room_for(0)

    def _room_for(self, levels: int) -> None:
        """Memory for the reduced planes, and where each of them lies."""
        self.levels = levels
        sides = {n: (n, n) for n in range(levels + 1)}
        if self._squares is not None:
            sides[most_levels(self.patch) + 1] = self._squares
        self.places = np.zeros((max(sides) + 1, 3, 4), np.int64)  # offset, stride, rows, columns in the flat array
        self.affine = np.zeros((max(sides) + 1, 2, 4), np.float32)  # recorded luma place → index, sideways and upright
        ends = np.zeros(3, np.int64)
        for level, both in sides.items():
            for c in range(3):
                rows, columns = (-(-n // 2 ** both[min(c, 1)]) for n in self._sizes[c])
                self.places[level, c] = ends[c], columns, rows, columns
                ends[c] += rows * columns if level else 0
            for chroma, sub in enumerate(((1, 1), self.form.sub)):
                for i in (0, 1):
                    index = -self._offset[i] if chroma else -0.5  # of the picture's edge
                    self.affine[level, chroma, 2 * i : 2 * i + 2] = (
                        1 / sub[i] / 2 ** both[chroma],
                        (index + 0.5) / 2 ** both[chroma] - 0.5,
                    )
        # Squares that are not wanted are read all the same, where they count nothing: they must be numbers, as loops take for granted.
        self.reduced = tuple(np.zeros(max(int(n), 1), np.float32) for n in ends)

    def grid(self, time: float, most: int = STEPS[0]) -> Grid:
        return grid(self.look, self.patch, time, self.form.sub, self.halved, most)

    def ready(self, planes: tuple[Plane, ...], g: Grid, pool: Executor) -> tuple[object, ...]:
        """One frame ready to be sampled, as ``views.sample_band`` takes it."""
        if g.levels > self.levels:
            self._room_for(g.levels)
        for c, plane in enumerate(planes):
            stride = plane.strides[0] // plane.itemsize
            self.places[0, c, :2] = self._corner[c][0] * stride + self._corner[c][1], stride
        flat = tuple(
            frozen(np.lib.stride_tricks.as_strided(p, (p.shape[0] * p.strides[0] // p.itemsize,), (p.itemsize,)))
            for p in planes
        )
        self._reduce(flat, g.levels, pool)
        if self._squares is not None:
            self._average(flat, most_levels(self.patch) + 1, self._squares, g.wanted, pool)
        return (
            flat, self.places, self.reduced, g.nodes, g.cells, g.step, g.sparse, *self.lens, self.affine, self.wraps,
            self.weights,
        )  # fmt: skip

    def _reduce(self, planes: tuple[object, ...], levels: int, pool: Executor) -> None:
        for level in range(1, levels + 1):
            jobs = []
            for c in range(3):
                source = planes[c] if level == 1 else frozen(self.reduced[c])
                rows = int(self.places[level, c, 2])
                jobs += [
                    (source, *self.places[level - 1 : level + 1, c], self.reduced[c], lo, min(lo + 64, rows))
                    for lo in range(0, rows, 64)
                ]

            def halve(job: tuple[object, ...]) -> None:
                self._halve_rows(*job[:3], self.wraps, self._taps, *job[3:])

            list(pool.map(halve, jobs))

    def _average(self, planes: tuple[object, ...], level: int, sides: tuple[int, int], wanted: tuple[NDArray[np.bool_], ...], pool: Executor) -> None:
        def mean(part: tuple[int, int]) -> None:
            c, first = part
            n = min(c, 1)
            at = (*self.places[[0, level], c], 2 ** sides[n], wanted[n])
            self._mean_rows(planes[c], *at, self.reduced[c], first, min(first + SQUARES, len(wanted[n])))

        list(pool.map(mean, [(c, n) for c in range(3) for n in range(0, len(wanted[min(c, 1)]), SQUARES)]))


def frozen(plane: A) -> A:
    """A read-only view, so that the loops are compiled for one kind of array only."""
    view = plane.view()
    view.flags.writeable = False
    return view


def _lens(lens: Recording, places: ModuleType) -> tuple[int, NDArray[np.float32]]:
    """A recording as the loops take it."""
    if isinstance(lens, Equirect):
        (w, h), across = lens.size, np.radians(lens.across)
        reach = 100.0 if lens.whole else across / 2
        return places.EQUIRECT, np.array([[w / across, w / 2, h / np.pi, h / 2, reach]], np.float32)
    if isinstance(lens, Flat):
        return places.PLACES, np.zeros((1, 5), np.float32)
    rows = [
        [v.x, v.y, v.radius / v.rim, np.radians(v.across / 2), *v.axes.T.ravel(), *(*v.bend, 0.0, 0.0, 0.0, 0.0)[:4],
         *((1 / np.radians(v.fade), 0.0) if v.fade else (v.radius / v.rim, 0.5))]
        for v in lens.lenses
    ]
    return places.ROUND, np.array(rows, np.float32)
