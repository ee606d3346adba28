"""The general warp and everything after it as one compiled loop, a few rows at a time, so that they never leave the cache.

It calls loops of two other modules, which the compiler's cache does not watch: their contents are part of its own key.
"""

from __future__ import annotations

import zlib
from pathlib import Path
from typing import Any

from . import kernels, mapping
from .kernels import finish_band
from .mapping import jit, sample_band

ROWS = 16  # at a time


def _made(stamp: int) -> Any:
    @jit
    def view_band(
        planes, places, reduced, nodes, cells, step, kind, lens, affine, wraps, weights, narrow, sampled, cover, bare,
        black, colour, target, place, half, half_mode, between, dither, top, row0, row1,
    ):  # fmt: skip
        """Delivered rows ``row0`` … ``row1−1``: see ``mapping.sample_band`` and ``kernels.finish_band``. ``sampled`` and
        ``cover`` are room for as many rows as are worked on at a time."""
        if stamp < 0:  # it never is, and makes the other modules' contents part of this loop's key in the cache
            return
        for first in range(row0, row1, cover.shape[0]):
            last = min(first + cover.shape[0], row1)
            sample_band(
                planes, places, reduced, nodes, cells, step, kind, lens, affine, wraps, weights, narrow, sampled, cover,
                first, last,
            )  # fmt: skip
            finish_band(
                sampled, cover, bare, black, colour, target, place, half, half_mode, between, dither, top, first, last
            )

    return view_band


view_band = _made(zlib.crc32(b"".join(Path(str(m.__file__)).read_bytes() for m in (kernels, mapping))))
