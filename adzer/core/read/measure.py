"""What the footage itself says about its levels, from a few frames spread over the shot."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Frame, Reader
from ..pixels import Samples

BINS = 512
DOMAIN = (-0.10, 1.18)
STRIDE = 4  # every fourth pixel each way says the same as all of them


class Levels(msgspec.Struct, frozen=True):
    """Levels of the recorded signal (0 black, 1 nominal peak), measured on ``sampled`` frames.

    ``low`` and ``high``: the luma below and above which one pixel in a thousand lies. ``colourfulness``: mean distance
    of Cb, Cr from grey. ``brightest``: share of pixels per bin of their highest channel over ``DOMAIN``.
    """

    sampled: tuple[int, ...]
    low: float
    middle: float
    high: float
    colourfulness: float
    brightest: tuple[float, ...]
    luma: tuple[float, ...]

    def share_above(self, signal: float) -> float:
        """Share of pixels whose highest channel lies above ``signal``."""
        edges = np.linspace(*DOMAIN, BINS + 1)
        return float(np.array(self.brightest)[edges[:-1] >= signal - 1e-9].sum())

    def top(self, share: float = 1e-4) -> float:
        """The signal that the brightest ``share`` of pixels reach."""
        tail = np.cumsum(np.array(self.brightest)[::-1])
        index = BINS - 1 - int(np.searchsorted(tail, share))
        return float(np.linspace(*DOMAIN, BINS + 1)[max(index, 0) + 1])


def bin_centres() -> NDArray[np.float64]:
    edges = np.linspace(*DOMAIN, BINS + 1)
    return (edges[:-1] + edges[1:]) / 2


def measure(path: str | Path, samples: Samples, count: int = 7) -> Levels:
    """Levels over ``count`` frames of the file, read as ``samples`` says."""
    with Reader(path) as reader:
        n = len(reader)
        numbers = sorted({int((i + 0.5) * n / count) for i in range(min(count, n))})
        seen = [_frame(reader.frame(k), samples) for k in numbers]
    rgb_top = np.concatenate([s[0] for s in seen])
    luma = np.concatenate([s[1] for s in seen])
    low, middle, high = np.quantile(luma, [0.001, 0.5, 0.999])
    return Levels(
        sampled=tuple(numbers),
        low=round(float(low), 5),
        middle=round(float(middle), 5),
        high=round(float(high), 5),
        colourfulness=round(float(np.mean([s[2] for s in seen])), 5),
        brightest=_histogram(rgb_top),
        luma=_histogram(luma),
    )


def _histogram(values: NDArray[np.float64]) -> tuple[float, ...]:
    counts, _ = np.histogram(np.clip(values, DOMAIN[0] + 1e-6, DOMAIN[1] - 1e-6), bins=BINS, range=DOMAIN)
    return tuple(np.round(counts / max(len(values), 1), 7).tolist())


def _frame(frame: Frame, samples: Samples) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """Highest channel and luma of the sampled pixels, and mean distance from grey."""
    sx, sy = samples.format.sub
    w, h = frame.raster
    rows, columns = np.arange(0, h, STRIDE), np.arange(0, w, STRIDE)
    planes = []
    for i in range(samples.format.planes):
        y, x = (rows // sy, columns // sx) if i else (rows, columns)
        planes.append(frame.cropped(i)[np.ix_(y, x)].astype(np.float64).ravel())
    planes = planes if len(planes) == 3 else planes * 3
    codes = np.stack(planes, axis=-1)
    matrix = samples.to_signal()
    rgb = codes @ matrix[:, :3].T + matrix[:, 3]
    if samples.matrix == "rgb" or samples.format.planes == 1:
        luma = rgb @ np.array([0.2126, 0.7152, 0.0722])
        away = float(np.abs(rgb - luma[:, None]).mean())
    else:
        unit = 2.0 ** (samples.format.bits - 8)
        luma = (codes[:, 0] - (16 * unit if samples.limited else 0)) / (219 * unit if samples.limited else samples.top)
        away = float(np.hypot(*(codes[:, 1:] / unit - 128).T).mean() / 224)
    return rgb.max(axis=-1), luma, away
