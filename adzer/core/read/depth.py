"""How much of its depth a recording really uses: missing codes, what is cut off, noise in flat places."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..look import sampling
from ..media.decode import Frame
from .seen import Depth

FINEST, ACROSS = 3, 640  # every third pixel, or fewer: about 640 across say the same


def measure(frames: list[Frame], samples: Samples) -> Depth:
    """Over some frames of a file."""
    real = max(_real_bits(f, samples) for f in frames)
    values = np.concatenate([sampling.rgb(f, samples, max(FINEST, f.raster[0] // ACROSS)) for f in frames])
    low = tuple(_cut(-values[:, c], samples) for c in range(3))
    high = tuple(_cut(values[:, c], samples) for c in range(3))
    noise = float(np.median([_noise(sampling.luma(f, samples, window=(1280, 960))) for f in frames[:3]]))
    return Depth(samples.format.bits, real, low, high, round(noise, 6))  # type: ignore[arg-type]


def _real_bits(frame: Frame, samples: Samples) -> int:
    """The fewest bits that could hold the codes in use: low bits that are the same in nearly all samples are none."""
    bits = samples.format.bits
    used = frame.cropped(0)[::2, ::2].ravel()
    for spare in range(bits - 8, 0, -1):
        counts = np.bincount(used & ((1 << spare) - 1), minlength=1 << spare)
        if counts.max() > 0.97 * len(used):
            return bits - spare
    return bits


def _cut(channel: NDArray[np.float64], samples: Samples) -> float:
    """Share of samples piled up at the channel's highest level; 0 if it only tapers off there."""
    top = float(channel.max())
    span = max(top - float(channel.min()), 1e-6)
    cell = max(span / 200, 4.0 / samples.top)
    at = float((channel > top - cell).mean())
    below = float(((channel <= top - cell) & (channel > top - 4 * cell)).mean()) / 3
    return round(at, 6) if at > 5e-4 and at > 3 * below else 0.0


def level_marks(frame: Frame, samples: Samples, columns: int = 96) -> NDArray[np.int8]:
    """A grid over the recorded picture: 1 where most of a cell lies at the top of the levels (98 % of the signal or the
    highest code), −1 where it lies at the bottom, 0 elsewhere."""
    values = sampling.luma(frame, samples, (2, 2))
    h, w = values.shape
    k = max(1, w // columns)
    cells = (
        sampling.shrunk((values >= 0.98).astype(np.float32), k),
        sampling.shrunk((values <= 0.004).astype(np.float32), k),
    )
    return (cells[0] > 0.5).astype(np.int8) - (cells[1] > 0.5).astype(np.int8)


def _noise(luma: NDArray[np.float32]) -> float:
    """Standard deviation of noise: a Laplacian's mean over the flattest blocks (Immerkær's mask)."""
    v = luma
    lap = v[:-2, :-2] - 2 * v[:-2, 1:-1] + v[:-2, 2:] + v[2:, :-2] - 2 * v[2:, 1:-1] + v[2:, 2:]
    lap += -2 * v[1:-1, :-2] + 4 * v[1:-1, 1:-1] - 2 * v[1:-1, 2:]
    n = 16
    rows, columns = lap.shape[0] // n, lap.shape[1] // n
    if not rows or not columns:
        return 0.0
    blocks = np.abs(lap[: rows * n, : columns * n]).reshape(rows, n, columns, n).mean(axis=(1, 3))
    return float(np.percentile(blocks, 15)) * float(np.sqrt(np.pi / 2)) / 6


def codes_a_stop(curve_encode: object, bits: int, limited: bool) -> float:
    """Codes that the stop around middle grey gets from a curve (``encode``: linear → signal)."""
    ends = np.asarray(curve_encode(np.array([0.18 / np.sqrt(2), 0.18 * np.sqrt(2)])))  # type: ignore[operator]
    span = (219 * 2 ** (bits - 8)) if limited else 2**bits - 1
    return float(ends[1] - ends[0]) * span
