"""What the footage itself says about its levels, from a few frames spread over the shot."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..light.samples import Samples
from ..look import sampling
from ..media.decode import Frame

BINS = 512
DOMAIN = (-0.10, 1.18)
Inside = Callable[[NDArray[np.int64], NDArray[np.int64]], NDArray[np.bool_]] | None
STRIDE = 4  # every fourth pixel each way says the same as all of them; of larger pictures about 640 across do


class Levels(msgspec.Struct, frozen=True):
    """Levels of the recorded signal (0 black, 1 nominal peak), measured on ``sampled`` frames.

    ``low`` and ``high``: the luma below and above which one pixel in a thousand lies. ``colourfulness``: mean distance
    of Cb, Cr from grey, ``colours`` the same in the dark, middle and light third of pixels. ``brightest``: share of
    pixels per bin of their highest channel over ``DOMAIN``, ``luma`` of their luma. ``deepest``: the lowest channel
    below which a thousandth, a hundredth and a tenth of the pixels lie; ``strongest``: how far a pixel's channels lie
    apart, in the middle, at nine tenths and at 99 of 100 pixels.
    """

    sampled: tuple[int, ...]
    low: float
    middle: float
    high: float
    colourfulness: float
    brightest: tuple[float, ...]
    luma: tuple[float, ...]
    colours: tuple[float, float, float] = (0.0, 0.0, 0.0)
    deepest: tuple[float, float, float] = (0.0, 0.0, 0.0)
    strongest: tuple[float, float, float] = (0.0, 0.0, 0.0)

    def share_above(self, signal: float) -> float:
        """Share of pixels whose highest channel lies above ``signal``."""
        edges = np.linspace(*DOMAIN, BINS + 1)
        return float(np.array(self.brightest)[edges[:-1] >= signal - 1e-9].sum())

    def quantile(self, share: float) -> float:
        """The luma below which ``share`` of the pixels lie."""
        rising = np.cumsum(self.luma)
        edges = np.linspace(*DOMAIN, BINS + 1)
        return float(np.interp(share, np.concatenate([[0.0], rising / max(rising[-1], 1e-9)]), edges))

    def top(self, share: float = 1e-4) -> float:
        """The signal that the brightest ``share`` of pixels reach."""
        tail = np.cumsum(np.array(self.brightest)[::-1])
        index = BINS - 1 - int(np.searchsorted(tail, share))
        return float(np.linspace(*DOMAIN, BINS + 1)[max(index, 0) + 1])


def bin_centres() -> NDArray[np.float64]:
    edges = np.linspace(*DOMAIN, BINS + 1)
    return (edges[:-1] + edges[1:]) / 2


def measure(frames: list[Frame], samples: Samples, inside: Inside = None) -> Levels:
    """Levels over some frames of a file, read as ``samples`` says; only where ``inside`` holds, if it is given.

    ``inside`` takes pixel columns and rows and says which count (a round lens's surround says nothing).
    """
    seen = [_frame(frame, samples, inside) for frame in frames]
    return _levels(tuple(f.number for f in frames), *(np.concatenate(values) for values in zip(*seen, strict=True)))


def levels(signal: NDArray[np.float64]) -> Levels:
    """Levels of R′G′B′ values (n, 3) by BT.709's luma, of no frames."""
    luma = signal @ np.array([0.2126, 0.7152, 0.0722])
    away = np.hypot((signal[:, 2] - luma) / 1.8556, (signal[:, 0] - luma) / 1.5748)
    return _levels((), signal, luma, away)


def _levels(sampled: tuple[int, ...], signal: NDArray[np.float64], luma: NDArray[np.float64], away: NDArray[np.float64]) -> Levels:
    """Of pixels' R′G′B′ (n, 3), luma and distance from grey, (n,) each."""
    top, least = signal.max(axis=-1), signal.min(axis=-1)
    low, middle, high = np.quantile(luma, [0.001, 0.5, 0.999])
    thirds = np.quantile(luma, [1 / 3, 2 / 3])
    parts = (away[luma < thirds[0]], away[(luma >= thirds[0]) & (luma < thirds[1])], away[luma >= thirds[1]])
    dark, mid, light = (round(float(p.mean()), 5) if len(p) else 0.0 for p in parts)
    return Levels(
        sampled=sampled,
        low=round(float(low), 5),
        middle=round(float(middle), 5),
        high=round(float(high), 5),
        colourfulness=round(float(away.mean()), 5),
        brightest=_histogram(top),
        luma=_histogram(luma),
        colours=(dark, mid, light),
        deepest=_quantiles(least, (0.001, 0.01, 0.1)),
        strongest=_quantiles(top - least, (0.5, 0.9, 0.99)),
    )


def _quantiles(values: NDArray[np.float64], shares: tuple[float, float, float]) -> tuple[float, float, float]:
    a, b, c = (round(float(v), 5) for v in np.quantile(values, shares))
    return a, b, c


def _histogram(values: NDArray[np.float64]) -> tuple[float, ...]:
    counts, _ = np.histogram(np.clip(values, DOMAIN[0] + 1e-6, DOMAIN[1] - 1e-6), bins=BINS, range=DOMAIN)
    return tuple(np.round(counts / max(len(values), 1), 7).tolist())


def _frame(
    frame: Frame, samples: Samples, inside: Inside
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """R′G′B′, luma and distance from grey of the sampled pixels."""
    stride = max(STRIDE, frame.raster[0] // 640)
    codes = sampling.codes(frame, samples, stride)
    if inside is not None:
        x, y = np.meshgrid(np.arange(0, frame.raster[0], stride), np.arange(0, frame.raster[1], stride))
        kept = inside(x.ravel(), y.ravel())
        codes = codes[kept] if kept.any() else codes
    matrix = samples.to_signal()
    rgb = codes @ matrix[:, :3].T + matrix[:, 3]
    if samples.matrix == "rgb" or samples.format.planes == 1:
        luma = rgb @ np.array([0.2126, 0.7152, 0.0722])
        away = np.abs(rgb - luma[:, None]).mean(axis=1)
    else:
        unit = 2.0 ** (samples.format.bits - 8)
        luma = (codes[:, 0] - (16 * unit if samples.limited else 0)) / (219 * unit if samples.limited else samples.top)
        away = np.hypot(*(codes[:, 1:] / unit - 128).T) / 224
    return rgb, luma, away
