"""What the kernels must compute, in plain NumPy and float64, slow and readable. Only tests and benchmarks use it.

The colour is the exact chain, not its tables, save where the plan *is* a lattice: there the lattice is the definition.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..light.samples import chroma_offset
from ..media.formats import Plane
from ..plan import Panel, Patch, Plan
from ..space.sphere import Equirect, Flat
from .axes import AxisFilters, places, reduction
from .filters import AxisFilter
from .pixels import DITHER, apart
from .tables import LATTICE, TABLE_IN_DOMAIN, Tables

Array = NDArray[np.float64]


def resample(plane: Array, columns: AxisFilter, rows: AxisFilter) -> Array:
    """Both filters over a plane (height, width)."""
    taps = np.arange(rows.weights.shape[1])
    tall = np.einsum("rk,rkx->rx", rows.weights.astype(np.float64), plane[rows.start[:, None] + taps])
    taps = np.arange(columns.weights.shape[1])
    return np.einsum("ck,yck->yc", columns.weights.astype(np.float64), tall[:, columns.start[:, None] + taps])


def tetrahedral(coordinates: Array, lattice: NDArray[np.float32]) -> Array:
    """Interpolates (…, 3) lattice coordinates: walk from the cell's low corner along the axes, largest fraction first."""
    n = lattice.shape[0]
    c = np.clip(coordinates, 0, n - 1)
    cell = np.minimum(c.astype(np.int64), n - 2)
    fraction = c - cell
    order = np.argsort(-fraction, axis=-1, kind="stable")
    corner = cell.copy()
    values = lattice.astype(np.float64)
    sorted_ = np.take_along_axis(fraction, order, axis=-1)
    edges = np.concatenate([np.ones_like(sorted_[..., :1]), sorted_, np.zeros_like(sorted_[..., :1])], axis=-1)
    result = (edges[..., 0] - edges[..., 1])[..., None] * values[corner[..., 0], corner[..., 1], corner[..., 2]]
    for step in range(3):
        np.put_along_axis(
            corner, order[..., step : step + 1], np.take_along_axis(corner, order[..., step : step + 1], -1) + 1, -1
        )
        weight = (edges[..., step + 1] - edges[..., step + 2])[..., None]
        result += weight * values[corner[..., 0], corner[..., 1], corner[..., 2]]
    return result


def warped(plan: Plan, panel: Panel, frames: list[tuple[Plane, ...]], time: float = 0.0) -> tuple[Array, Array]:
    """Recorded planes (cropped of padding) of each input → codes of the plan's source (height, width, 3), and where there is a
    picture (height, width), 0 … 1. A map is sampled from planes that a spline of the fifth degree goes through."""
    if panel.on_axes:
        planes, filters = frames[panel.patches[0].input], AxisFilters(panel, plan.source, plan.target)
        raw = [p.astype(np.float64) for p in ((planes[0],) * 3 if len(planes) == 1 else planes)]
        made = [resample(raw[0], *filters.luma), *(resample(p, *filters.chroma) for p in raw[1:])]
        return np.asarray(np.stack(made, axis=-1), dtype=np.float64), np.ones(panel.size[::-1])
    if len(panel.patches) == 1 and panel.patches[0].plain:
        return sampled(plan, panel, panel.patches[0], frames[panel.patches[0].input], time)
    curve = plan.chain.source if plan.chain is not None else plan.curve
    total, weight, cover = np.zeros((*panel.size[::-1], 3)), np.zeros(panel.size[::-1]), np.zeros(panel.size[::-1])
    d = panel.look.directions(*_centres(panel), time)
    for patch in panel.patches:
        codes, seen = sampled(plan, panel, patch, frames[patch.input], time)
        share = seen * (1.0 if patch.share is None else patch.share.at(d, time))
        bands = [(share, codes)]
        if patch.fine is not None:  # its detail counts in a band of its own
            side, fine = 2 ** max(1, round(np.log2(patch.fine.width * patch.lens.density))), seen * patch.fine.at(d, time)
            bands = [(fine, codes), (share - fine, sampled(plan, panel, patch, frames[patch.input], time, side)[0])]
        matrix = plan.inputs[patch.input].given.to_signal()
        given = np.array(patch.light if patch.light is not None else np.eye(3))
        for counts, band in bands:
            light = band @ matrix[:, :3].T + matrix[:, 3]
            light = light if curve is None else curve.decode(light)
            brighter = counts[..., None] if patch.tone is None else counts[..., None] * patch.tone.at(d, time)
            total += brighter * (light @ given[:, :3].T + (given[:, 3] if given.shape[1] == 4 else 0.0))
        weight += share
        cover = np.maximum(cover, np.where(share > 0, seen, 0))
    light = total / np.maximum(weight, 1e-12)[..., None]
    signal = light if curve is None else curve.encode(light)
    back = plan.source.to_signal()
    return np.asarray((signal - back[:, 3]) @ np.linalg.inv(back[:, :3]).T), cover


def _centres(panel: Panel) -> tuple[Array, Array]:
    x, y = (np.arange(n, dtype=np.float64) + 0.5 for n in panel.size)
    return x[None], y[:, None]


def sampled(
    plan: Plan, panel: Panel, patch: Patch, planes: tuple[Plane, ...], time: float, squares: int = 1
) -> tuple[Array, Array]:
    """One patch's codes at every delivered pixel, and where it has a picture. ``squares``: from means of squares of so many luma
    samples a side."""
    from scipy.ndimage import map_coordinates

    form, lens = plan.inputs[patch.input].given.format, patch.lens
    d = patch.held(panel.look.directions(*_centres(panel), time), time)
    place, (x, y, w, h) = lens.place(d), patch.region
    made = []
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)].astype(np.float64)
        sub = form.sub if c and len(planes) > 1 else (1, 1)
        part = plane[y // sub[1] : -(-(y + h) // sub[1]), x // sub[0] : -(-(x + w) // sub[0])]
        mode = "nearest"
        if isinstance(lens, Equirect) and lens.whole:
            part, mode = np.pad(part, ((0, 0), (8, 8)), mode="wrap"), "nearest"
        index = [
            (place[..., i] - chroma_offset(plan.inputs[patch.input].given.siting, i, sub[i])) / sub[i] for i in (1, 0)
        ]
        index[1] = index[1] + (part.shape[1] - -(-w // sub[0])) / 2
        if (side := squares // max(sub)) > 1:
            for axis in (0, 1):
                at = np.arange(0, part.shape[axis], side)
                part = np.add.reduceat(part, at, axis) / np.diff([*at, part.shape[axis]]).reshape((-1, 1) if axis == 0 else (1, -1))
                index[axis] = (index[axis] + 0.5) / side - 0.5
        made.append(map_coordinates(part, index, order=5, mode=mode))
    whole = isinstance(lens, Flat) or (isinstance(lens, Equirect) and lens.whole)
    inside = np.ones(1) if whole else lens.margin(d) / lens.fade if lens.fade else np.radians(lens.margin(d)) * lens.density + 0.5
    cover = np.broadcast_to(np.clip(inside, 0.0, 1.0), place.shape[:-1])
    return np.stack(made, axis=-1), cover


def delivered_444(plan: Plan, panel: Panel, frames: list[tuple[Plane, ...]], time: float = 0.0) -> Array:
    """Delivered codes of a panel before chroma reduction and quantisation, (height, width, 3)."""
    tables = Tables(plan.source, plan.chain, plan.target)
    codes, cover = warped(plan, panel, frames, time)
    rgb = codes @ tables.in_matrix[:, :3].T + tables.in_matrix[:, 3]
    if plan.chain is not None:
        rgb = np.clip(rgb, *TABLE_IN_DOMAIN)
        out = tetrahedral(np.clip(tables.shaper(rgb), 0, LATTICE - 1), tables.lattice) if tables.kind == 2 else plan.chain.apply(rgb)
        rgb = out @ tables.out_matrix[:, :3].T + tables.out_matrix[:, 3]
    black = np.array(plan.target.black(), dtype=np.float64)
    return np.asarray(black + (rgb - black) * cover[..., None])


def deliver(plan: Plan, frames: list[tuple[Plane, ...]], time: float = 0.0) -> tuple[NDArray[np.int64], ...]:
    """The delivered planes, bars and all, as whole codes."""
    sizes = [plan.target.format.plane_size(plan.raster, i) for i in range(3)]
    whole = [np.full((h, w), code, dtype=np.int64) for (w, h), code in zip(sizes, plan.target.black(), strict=True)]
    for panel in plan.panels:
        if apart(plan, panel):
            filters, matrix = AxisFilters(panel, plan.source, plan.target), Tables(plan.source, None, plan.target).in_matrix
            pairs = (filters.luma, filters.direct, filters.direct)
            full = [
                resample(p.astype(np.float64), *pair) * matrix[c, c] + matrix[c, 3]
                for c, (p, pair) in enumerate(zip(frames[panel.patches[0].input], pairs, strict=True))
            ]
        else:
            codes = delivered_444(plan, panel, frames, time)
            columns, rows = reduction(panel.size, plan.target)
            full = [codes[..., 0], resample(codes[..., 1], columns, rows), resample(codes[..., 2], columns, rows)]
        for i, plane in enumerate(full):
            x, y = places(panel, plan.target)[min(i, 1)]
            size = DITHER.shape[0]
            noise = DITHER[(np.arange(plane.shape[0]) + y)[:, None] % size, np.arange(plane.shape[1]) % size]
            whole[i][y : y + plane.shape[0], x : x + plane.shape[1]] = np.clip(np.floor(plane + noise), plan.target.ends[0], plan.target.most[i])
    for x, y, w, h in plan.black:
        for i, code in enumerate(plan.target.black()):
            sx, sy = (1, 1) if i == 0 else plan.target.format.sub
            whole[i][y // sy : (y + h) // sy, x // sx : (x + w) // sx] = code
    return tuple(whole)
