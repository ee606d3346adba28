"""A still picture with cover, as it is laid over others."""

from __future__ import annotations

import io
from pathlib import Path

import av
import numpy as np
import xxhash
from numpy.typing import NDArray

from ..errors import UnreadableError
from . import small

LARGEST = 64 << 20  # bytes


def print_of(path: str | Path) -> str:
    """What a still's bytes hash to. UnreadableError if it cannot be read."""
    return xxhash.xxh3_128_hexdigest(_bytes(path))


def shape(path: str | Path) -> tuple[int, int]:
    """Width and height. UnreadableError if it is no picture."""
    h, w = rgba(path).shape[:2]
    return w, h


def rgba(path: str | Path, print_: str | None = None) -> NDArray[np.float32]:
    """(height, width, 4) R, G, B, cover, each 0 … 1, colours not multiplied by their cover. UnreadableError if it is no picture, or its
    bytes do not hash to ``print_``."""
    body = _bytes(path)
    if print_ is not None and xxhash.xxh3_128_hexdigest(body) != print_:
        raise UnreadableError(f"{path} has changed since it was laid over the shot. Lay it over anew, or bring back what it was.")
    try:
        with av.open(io.BytesIO(body), "r") as container:
            frame = next(container.decode(video=0))
            deep = max(c.bits for c in frame.format.components) > 8
            values = frame.reformat(format="rgba64le" if deep else "rgba").to_ndarray()
    except (av.FFmpegError, StopIteration, IndexError, ValueError, MemoryError):
        raise UnreadableError(f"{path} is not a picture that can be read. Take a PNG.") from None
    return np.asarray(values, np.float32) / np.float32(65535 if deep else 255)


def _bytes(path: str | Path) -> bytes:
    return small.read(path, LARGEST, "a picture")
