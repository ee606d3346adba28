"""Frames to look at: a few spread over the shot, and a short run; and their luma, made small."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import Cancelled, UnreadableError
from ..light.samples import Samples, chroma_offset
from ..media.decode import Frame, opened
from ..media.rolls import Sources
from .alike import bilinear

Array = NDArray[np.float32]
SPREAD, RUN = 5, 6
LARGE = 5e6  # pixels, from which on one frame fewer has to do
WORK = 120e6  # pixels that may be decoded on the way to frames that are no keyframes


def _cheap(wanted: list[int], keys: NDArray[np.int64], pixels: int) -> list[int]:
    """The keyframes nearest to the wanted frames, and of the frames themselves as many as the work allows, evenly."""
    near = {int(keys[np.argmin(np.abs(keys - k))]) for k in wanted}
    chosen, work = set(near), 0.0
    for k in sorted(set(wanted) - near, key=lambda k: -min(abs(k - c) for c in near)):
        work += (k - int(keys[keys <= k].max(initial=0)) + 1) * pixels
        if len(chosen) >= SPREAD or work > WORK:
            break
        chosen.add(k)
    return sorted(chosen)


@dataclass(frozen=True)
class Sampling:
    """``spread``: frames all over the shot; ``run``: consecutive ones from one place."""

    spread: list[Frame]
    run: list[Frame]


def sample(sources: Sources, print_: str, spread: int = SPREAD, run: int = RUN,
           cancelled: Callable[[], bool] = lambda: False) -> Sampling:  # fmt: skip
    """Keyframes where there are enough of them, so that nothing is decoded in vain. Cancelled if asked to stop."""
    with opened(sources, print_) as reader:
        n = len(reader)
        wanted = [int((i + 0.5) * n / spread) for i in range(min(spread, n))]
        keys = np.searchsorted(reader.index.pts, reader.index.keys)
        keys = keys[keys < n] if len(keys) else np.zeros(1, int)
        wanted, alone = _cheap(wanted, keys, reader.pixels), set(keys.tolist())
        run -= reader.pixels > LARGE
        start = max(0, min(int(keys[np.argmin(np.abs(keys - n // 2))]), n - run))
        frames, followed = list[Frame](), list[Frame]()
        for number in wanted:
            if cancelled():
                raise Cancelled("Reading was stopped.")
            try:
                if number == start:  # the run is decoded on the way
                    for frame in reader.frames(start, min(start + run, n)):
                        followed.append(frame)
                    frames.append(followed[0])
                else:
                    frames.append(reader.keyframe(number) if number in alone else reader.frame(number))
            except UnreadableError:
                if followed:
                    frames.append(followed[0])
                elif not frames and number == wanted[-1]:
                    raise
        if not followed:
            with contextlib.suppress(UnreadableError):
                for frame in reader.frames(start, min(start + run, n)):
                    followed.append(frame)
    return Sampling(frames, followed)


def luma(
    frame: Frame, samples: Samples, step: tuple[int, int] = (1, 1), window: tuple[int, int] | None = None
) -> Array:
    """Signal of luma on every ``step``-th pixel (x, y), 0 black and 1 nominal peak; only of the first ``window`` pixels."""
    h, w = (window[1], window[0]) if window else (frame.raster[1], frame.raster[0])
    planes = [frame.cropped(i)[: h : step[1], : w : step[0]] for i in range(3 if samples.format.rgb else 1)]
    top = np.float32(samples.top)
    if samples.format.rgb:
        weights = (0.2126, 0.7152, 0.0722)
        mixed: Array = sum(w * p.astype(np.float32) for w, p in zip(weights, planes, strict=True)) / top  # type: ignore[assignment]
        return mixed
    unit = np.float32(2.0 ** (samples.format.bits - 8))
    codes = planes[0].astype(np.float32)
    return (codes - 16 * unit) / (219 * unit) if samples.limited else codes / top


def small(frame: Frame, samples: Samples, width: int = 480) -> Array:
    """Luma averaged over square cells so that about ``width`` columns are left."""
    stride, k = _cells(frame.raster[0], width)
    return shrunk(luma(frame, samples, (stride, stride)), k)


def cell(columns: int, width: int = 480) -> int:
    """Recorded pixels a side of one pixel of ``small``."""
    stride, k = _cells(columns, width)
    return stride * k


def _cells(columns: int, width: int) -> tuple[int, int]:
    """Every how manieth pixel is looked at, and how many of those make a cell: of large pictures not all are needed."""
    k = max(1, columns // width)
    stride = max(1, k // 3)
    return stride, k // stride


def shrunk(values: Array, k: int) -> Array:
    """Means over k×k cells; what is left at the end of a row or column is dropped."""
    if k <= 1:
        return values
    h, w = values.shape[0] // k, values.shape[1] // k
    cut = values[: h * k, : w * k]
    rows = np.zeros((h, w * k), np.float32)
    for i in range(k):  # sums of strided views are several times as fast as a mean over two axes
        rows += cut[i::k]
    out = np.zeros((h, w), np.float32)
    for i in range(k):
        out += rows[:, i::k]
    out /= np.float32(k * k)
    return out


def rgb(frame: Frame, samples: Samples, stride: int) -> NDArray[np.float64]:
    """R′G′B′ signal (n, 3) on a grid of every ``stride``-th pixel each way."""
    return codes(frame, samples, stride) @ samples.to_signal()[:, :3].T + samples.to_signal()[:, 3]


def codes(frame: Frame, samples: Samples, stride: int) -> NDArray[np.float64]:
    """Codes of the three planes (n, 3) at the same places."""
    sx, sy = samples.format.sub
    w, h = frame.raster
    rows, columns = np.arange(0, h, stride), np.arange(0, w, stride)
    planes: list[NDArray[np.float64]] = []
    for i in range(samples.format.planes):
        y, x = (rows // sy, columns // sx) if i else (rows, columns)
        planes.append(frame.cropped(i)[np.ix_(y, x)].astype(np.float64).ravel())
    return np.stack(planes if len(planes) == 3 else planes * 3, axis=-1)


def signal_at(planes: Sequence[NDArray[np.generic]], samples: Samples, place: NDArray[np.float64]) -> NDArray[np.float64]:
    """R′G′B′ (…, 3) of a frame at luma places (…, 2; 0 is the picture's edge), straight between samples."""
    made = []
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)]
        sx, sy = samples.format.sub if c and len(planes) > 1 else (1, 1)
        x, y = (0.5 + (place[..., i] - chroma_offset(samples.siting, i, n)) / n for i, n in ((0, sx), (1, sy)))
        made += bilinear([plane], x, y)
    matrix = samples.to_signal()
    return np.asarray(np.stack(made, axis=-1) @ matrix[:, :3].T + matrix[:, 3])


def signal(planes: Sequence[NDArray[np.generic]], samples: Samples, region: tuple[int, int, int, int], wide: int) -> NDArray[np.float64]:
    """R′G′B′ (rows, columns, 3) of a part of a frame, at most ``wide`` columns; colour at the places of luma only roughly."""
    import cv2  # here, as it loads slowly and the window opens without it

    x, y, w, h = region
    size = (min(w, wide), max(1, round(h * min(1.0, wide / w))))
    made = []
    for c in range(3):
        plane = planes[min(c, len(planes) - 1)]
        sx, sy = samples.format.sub if c and len(planes) > 1 else (1, 1)
        part = np.ascontiguousarray(plane[y // sy : -(-(y + h) // sy), x // sx : -(-(x + w) // sx)], np.float32)
        how = cv2.INTER_AREA if part.shape[1] >= size[0] else cv2.INTER_LINEAR
        made.append(cv2.resize(part, size, interpolation=how))
    matrix = samples.to_signal()
    return np.asarray(np.stack(made, axis=-1) @ matrix[:, :3].T + matrix[:, 3])
