"""Which recordings count where in a picture that several share: rows by rows, one alone, or pieces of several that are mixed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from .warp import Grid

T = TypeVar("T", bound=np.generic)

Floats = NDArray[np.float32]

STRIP = 16  # rows that are worked on at once where recordings are mixed


@dataclass(frozen=True)
class Piece:
    """What one patch gives to a strip: ``width`` pixels a row from column ``first`` on, with its part of the grid (see ``warp.Grid``).
    ``bands``: cells by which it is sampled, and how far what comes of them counts: all of it, or its detail and then what more there is of it
    without that. ``whole``: it alone counts there, and its codes are taken as they are."""

    patch: int
    first: int
    width: int
    nodes: Floats
    bands: tuple[tuple[NDArray[np.int32], Floats], ...]
    tones: Floats
    whole: bool


@dataclass(frozen=True)
class Strip:
    """Rows [``top``, ``bottom``). ``alone``: the one patch that they are of; None: they are of ``pieces``, which are mixed in columns
    [from, to) of ``mixed``."""

    top: int
    bottom: int
    alone: int | None = None
    pieces: tuple[Piece, ...] = ()
    mixed: tuple[tuple[int, int], ...] = ()

    @property
    def patches(self) -> set[int]:
        return {p.patch for p in self.pieces} | (set() if self.alone is None else {self.alone})


def strips(grids: Sequence[Grid], plain: Sequence[bool], lone: Sequence[bool], width: int, rows: int, longest: int) -> list[Strip]:
    """Of grids with one ``step``. ``plain``: may a patch's codes be taken as they are; ``lone``: may they in rows that are its alone?
    ``longest``: rows of such a strip."""
    step = grids[0].step
    least, most = ([_of_cells(g.shares, g, f) for g in grids] for f in (np.minimum, np.maximum))
    toned = [None if g.tones is None else _of_cells(np.abs(g.tones - 1).max(axis=0), g, np.maximum) for g in grids]
    apart = [None if g.fines is None or g.shares is None else _of_cells(np.abs(g.shares - g.fines), g, np.maximum) > 0 for g in grids]
    counts = [_counts(g) for g in grids]
    made: list[Strip] = []
    high = max(STRIP, step)
    for top in range(0, rows, high):
        bottom = min(top + high, rows)
        cells = slice(top // step, -(-bottom // step))
        counting = [n for n, m in enumerate(most) if m[cells].max() > 0]
        asis = {n: _asis(least[n][cells], toned[n], cells) for n in counting}
        if len(counting) == 1 and lone[counting[0]] and asis[counting[0]].all():
            last = made[-1] if made else None
            if last is not None and last.alone == counting[0] and bottom - last.top <= longest:
                made[-1] = Strip(last.top, bottom, counting[0])
            else:
                made.append(Strip(top, bottom, counting[0]))
            continue
        pieces = []
        asis = {n: v & plain[n] for n, v in asis.items()}
        for n in counting:
            there = most[n][cells].max(axis=0) > 0
            whole, mixed_in = asis[n], there & ~asis[n]
            split = apart[n]
            banded = None if split is None else mixed_in & split[cells].any(axis=0)
            runs = [(mixed_in, False, 2)] if banded is None else [(mixed_in & ~banded, False, 0), (banded, True, 0)]
            for those, bands, gap in runs:
                pieces += [_piece(grids[n], counts[n], n, cells, slice(*r), width, False, bands) for r in _runs(those, gap)]
            pieces += [_piece(grids[n], counts[n], n, cells, slice(*r), width, True) for r in _runs(whole, 0)]
        alone = np.any([*asis.values(), np.zeros(least[0].shape[1], bool)], axis=0)
        mixed = tuple((lo * step, min(hi * step, width)) for lo, hi in _runs(~alone))
        made.append(Strip(top, bottom, None, tuple(pieces), mixed))
    return made


def _piece(g: Grid, counts: tuple[Floats, Floats], n: int, rows: slice, columns: slice, width: int, whole: bool, banded: bool = False) -> Piece:
    corners = slice(rows.start, rows.stop + 1), slice(columns.start, columns.stop + 1)
    first = columns.start * g.step

    def own(values: NDArray[T]) -> NDArray[T]:
        return np.ascontiguousarray(values)

    cells, shares = own(g.cells[:, rows, columns]), own(counts[0][corners])
    bands: tuple[tuple[NDArray[np.int32], Floats], ...] = ((cells, shares),)
    if banded and g.fines is not None and g.coarse is not None:
        fines = own(g.fines[corners])
        bands = ((cells, fines), (own(g.coarse[:, rows, columns]), shares - fines))
    tones = own(counts[1][:, corners[0], corners[1]])
    return Piece(n, first, min(columns.stop * g.step, width) - first, own(g.nodes[corners]), bands, tones, whole)


def _asis(least: Floats, toned: Floats | None, rows: slice) -> NDArray[np.bool_]:
    """Columns of cells in which a patch alone counts, as it is."""
    alone = least.min(axis=0) >= 1
    return np.asarray(alone if toned is None else alone & (toned[rows].max(axis=0) == 0))


def _counts(g: Grid) -> tuple[Floats, Floats]:
    """How far it counts, and how much brighter it is taken, at the corners of cells."""
    ones = np.ones(g.nodes.shape[:2], np.float32)
    return (ones if g.shares is None else g.shares), (np.broadcast_to(ones, (3, *ones.shape)) if g.tones is None else g.tones)


def _of_cells(values: Floats | None, g: Grid, extreme: np.ufunc) -> Floats:
    """The least or greatest value at the corners of each cell; None: all are 1."""
    s = np.ones(g.nodes.shape[:2], np.float32) if values is None else values
    return np.asarray(extreme(extreme(s[:-1, :-1], s[1:, :-1]), extreme(s[:-1, 1:], s[1:, 1:])))


def _runs(cells: NDArray[np.bool_], gap: int = 2) -> list[tuple[int, int]]:
    """Stretches [from, to) of cells that are set; gaps of so many are taken along."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], cells, [False]]).astype(np.int8)))
    runs: list[tuple[int, int]] = []
    for lo, hi in edges.reshape(-1, 2).tolist():
        if runs and lo - runs[-1][1] <= gap:
            runs[-1] = (runs[-1][0], hi)
        else:
            runs.append((lo, hi))
    return runs
