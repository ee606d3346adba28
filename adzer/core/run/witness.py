"""What is noted of every frame and packet while a master is made, to be held against what lies on the disk in the end.

A *look* is a frame in a few hundred numbers: means of blocks of each plane, how much neighbouring samples differ in them, and how
the blocks lean. None of it comes from an encoder or decoder. Prints of packets are ``media.packets``'.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import xxhash
from numpy.typing import NDArray

from ..media.formats import Plane

ACROSS = 24  # blocks of luma; they are square, a multiple of SMALLEST a side, so that chroma has as many of them
SMALLEST = 4

Floats = NDArray[np.float32]


@dataclass(frozen=True)
class Look:
    """One frame. ``means``: of luma blocks, then of both chroma planes', in codes. ``detail``: mean difference of neighbours
    in each luma block, ``edge``: the largest one. ``tilt`` (2, luma blocks): by how much a block's mean falls if the picture
    moves a pixel to the right, or down; ``leans`` (2, chroma blocks) the same of both chroma planes, by their own samples.
    ``print``: hash of all samples, where they must come back exactly."""

    means: Floats
    detail: Floats
    edge: Floats
    tilt: Floats
    leans: Floats
    print: int = 0


def block_side(width: int) -> int:
    return -(-width // (ACROSS * SMALLEST)) * SMALLEST


def luma_blocks(raster: tuple[int, int]) -> int:
    side = block_side(raster[0])
    return -(-raster[0] // side) * -(-raster[1] // side)


def _edges(length: int, side: int) -> NDArray[np.int64]:
    return np.append(np.arange(0, length, side), length)


def _summed(plane: NDArray[np.generic], rows: NDArray[np.int64]) -> NDArray[np.float64]:
    """Sums of the columns within each band of rows, (bands, width)."""
    h, w = plane.shape
    side = int(rows[1] - rows[0])
    whole = h // side
    made = [plane[: whole * side].reshape(whole, side, w).sum(axis=1, dtype=np.uint32)] if whole else []
    if whole * side < h:
        made.append(plane[whole * side :].sum(axis=0, dtype=np.uint32)[None])
    return np.concatenate(made).astype(np.float64)


def look(planes: tuple[Plane, ...], raster: tuple[int, int], sub: tuple[int, int], exact: bool = False) -> Look:
    """The look of a frame whose planes may be longer and wider than the picture."""
    means: list[NDArray[np.float64]] = []
    detail, edge = np.zeros(0, np.float32), np.zeros(0, np.float32)
    tilts: list[NDArray[np.float64]] = []
    side = block_side(raster[0])
    digest = xxhash.xxh3_64()
    for i, held in enumerate(planes):
        sx, sy = sub if i else (1, 1)
        w, h = -(-raster[0] // sx), -(-raster[1] // sy)
        plane = held[:h, :w]
        rows, columns = _edges(h, max(2, side // sy)), _edges(w, max(2, side // sx))
        summed = _summed(plane, rows)
        area = np.diff(rows)[:, None] * np.diff(columns)[None, :]
        means.append((np.add.reduceat(summed, columns[:-1], axis=1) / area).ravel())
        tilts.append(_tilt(plane, summed, rows, columns, area))
        if i == 0:
            detail, edge = _detail(plane, rows, columns)
        if exact:
            digest.update(np.ascontiguousarray(plane).data)
    return Look(
        np.concatenate(means).astype(np.float32), detail, edge, tilts[0].astype(np.float32),
        np.concatenate(tilts[1:] or [np.zeros((2, 0))], axis=1).astype(np.float32), digest.intdigest() if exact else 0,
    )  # fmt: skip


def _detail(plane: Plane, rows: NDArray[np.int64], columns: NDArray[np.int64]) -> tuple[Floats, Floats]:
    """Mean and largest difference of neighbours side by side, on every fourth row of each band."""
    mean, most = [], []
    for top, bottom in zip(rows[:-1], rows[1:], strict=True):
        part = plane[top:bottom:4].astype(np.int32)
        apart = np.abs(part[:, 1:] - part[:, :-1])
        mean.append(np.add.reduceat(np.append(apart.sum(axis=0), 0), columns[:-1]) / (len(part) * np.diff(columns)))
        most.append(np.maximum.reduceat(np.append(apart.max(axis=0), 0), columns[:-1]))
    return np.concatenate(mean).astype(np.float32), np.concatenate(most).astype(np.float32)


def _tilt(
    plane: Plane, summed: NDArray[np.float64], rows: NDArray[np.int64], columns: NDArray[np.int64], area: NDArray[np.int64]
) -> NDArray[np.float64]:  # fmt: skip
    edge = summed[:, np.minimum(columns, summed.shape[1] - 1)]
    across = (edge[:, 1:] - edge[:, :-1]) / area
    lines = plane[np.minimum(rows, len(plane) - 1)].astype(np.float64)
    edge = np.add.reduceat(lines, columns[:-1], axis=1)
    down = (edge[1:] - edge[:-1]) / area
    return np.stack([across.ravel(), down.ravel()])


@dataclass
class Witness:
    """Looks of one segment's frames, and prints and quantisers of its packets, in the order in which they came."""

    looks: list[Look] = field(default_factory=list)
    prints: list[int] = field(default_factory=list)
    steps: list[float] = field(default_factory=list)  # 0 where an encoder does not say
    made: int = 0  # frames that were made between two recorded ones; ``again``: where these do not agree, and the nearer was shown
    again: int = 0
    parts: float = 0.0  # of pictures among those made, where the nearer was shown, all together
    damaged: list[int] = field(default_factory=list)  # recorded frames behind it that decoded with errors

    def save(self, path: Path) -> None:
        with path.open("wb") as file:
            np.savez_compressed(
                file,
                means=np.array([k.means for k in self.looks], np.float32),
                detail=np.array([k.detail for k in self.looks], np.float16),
                edge=np.array([k.edge for k in self.looks], np.float16),
                tilt=np.array([k.tilt for k in self.looks], np.float16),
                leans=np.array([k.leans for k in self.looks], np.float16),
                print=np.array([k.print for k in self.looks], np.uint64),
                prints=np.array(self.prints, np.uint64),
                steps=np.array(self.steps, np.float32),
                between=np.array([self.made, self.again, self.parts]),
                damaged=np.array(self.damaged, np.int64),
            )

    @staticmethod
    def load(path: Path) -> Witness:
        """OSError, ValueError or KeyError if it is not there or not whole."""
        with np.load(path) as held:
            looks = [
                Look(m, d.astype(np.float32), e.astype(np.float32), t.astype(np.float32), n.astype(np.float32), int(p))
                for m, d, e, t, n, p in zip(*(held[k] for k in ("means", "detail", "edge", "tilt", "leans", "print")), strict=True)
            ]
            made, again, parts = (*held["between"].tolist(), 0.0)[:3]
            steps, damaged = [float(s) for s in held["steps"]], [int(n) for n in held["damaged"]]
            return Witness(looks, [int(p) for p in held["prints"]], steps, int(made), int(again), float(parts), damaged)
