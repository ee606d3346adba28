"""What the kernels must compute, in plain NumPy and float64, slow and readable. Only tests and benchmarks use it.

The colour is the exact chain, not its tables, save where the plan *is* a lattice: there the lattice is the definition.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..media.formats import Plane
from .filters import AxisFilter
from .pixels import DITHER, LATTICE, TABLE_IN_DOMAIN, PixelPlan

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


def signal_444(plan: PixelPlan, planes: tuple[Plane, ...]) -> Array:
    """Recorded planes (cropped of padding) → warped R′G′B′ signal (height, width, 3); codes if there is no colour."""
    raw = [p.astype(np.float64) for p in ((planes[0],) * 3 if len(planes) == 1 else planes)]
    warped = [resample(raw[0], *plan.luma), resample(raw[1], *plan.chroma), resample(raw[2], *plan.chroma)]
    return np.stack(warped, axis=-1) @ plan.in_matrix[:, :3].T + plan.in_matrix[:, 3]


def delivered_444(plan: PixelPlan, planes: tuple[Plane, ...]) -> Array:
    """Delivered codes before chroma reduction and quantisation, (height, width, 3)."""
    rgb = signal_444(plan, planes)
    if plan.chain is None:
        return rgb
    rgb = np.clip(rgb, *TABLE_IN_DOMAIN)
    if plan.kind == 2:
        out = tetrahedral(np.clip(plan.shaper(rgb), 0, LATTICE - 1), plan.lattice)
    else:
        out = plan.chain.apply(rgb)
    return out @ plan.out_matrix[:, :3].T + plan.out_matrix[:, 3]


def deliver(plan: PixelPlan, planes: tuple[Plane, ...]) -> tuple[NDArray[np.int64], ...]:
    """The delivered planes, bars and all, as whole codes."""
    if plan.apart:
        pairs = (plan.luma, plan.direct, plan.direct)
        full = [
            resample(p.astype(np.float64), *pair) * plan.in_matrix[c, c] + plan.in_matrix[c, 3]
            for c, (p, pair) in enumerate(zip(planes, pairs, strict=True))
        ]
    else:
        codes = delivered_444(plan, planes)
        columns, rows = plan.reduction
        full = [codes[..., 0], resample(codes[..., 1], columns, rows), resample(codes[..., 2], columns, rows)]
    out = []
    for i, plane in enumerate(full):
        w, h = plan.target.format.plane_size(plan.warp.raster, i)
        x, y = plan.places[min(i, 1)]
        whole = np.full((h, w), plan.target.black()[i], dtype=np.int64)
        size = DITHER.shape[0]
        noise = DITHER[(np.arange(plane.shape[0]) + y)[:, None] % size, np.arange(plane.shape[1]) % size]
        whole[y : y + plane.shape[0], x : x + plane.shape[1]] = np.clip(np.floor(plane + noise), *plan.target.ends)
        out.append(whole)
    return tuple(out)
