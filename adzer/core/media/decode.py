"""Frames as planar arrays in their own format, found exactly by number; everything is released when ``with`` ends."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from fractions import Fraction
from itertools import islice
from pathlib import Path
from types import TracebackType
from typing import TypeVar, cast

import av
import numpy as np
from av.video.plane import VideoPlane
from numpy.typing import NDArray

from ..errors import UnreadableError
from . import dng, ffv1, prints, probe
from .formats import FLOAT_RGB, PACKED_RGB, SEMI_PLANAR, PixelFormat, Plane, float_codes, pixel_format
from .rolls import Source, Sources, all_paths, start_of

T = TypeVar("T", bound=np.generic)


@dataclass(frozen=True)
class Frame:
    """Planes as they were decoded: each a C-contiguous array (rows, stride) whose stride may pass the plane's width.

    YUV order is Y, Cb, Cr; RGB order is R, G, B. ``pts`` counts ``time_base`` units. The arrays live as long as this.
    """

    planes: tuple[Plane, ...]
    format: PixelFormat
    raster: tuple[int, int]
    pts: int
    number: int
    key: bool = False
    damaged: bool = False  # it, or a frame that it may be predicted from, was decoded with errors

    def cropped(self, plane: int) -> Plane:
        """The plane without its padding (a view)."""
        w, h = self.format.plane_size(self.raster, plane)
        return self.planes[plane][:h, :w]


def upright(frame: Frame, turn: int) -> tuple[Plane, ...]:
    """The planes without their padding, turned clockwise by ``turn`` degrees."""
    return tuple(cast(Plane, np.ascontiguousarray(np.rot90(frame.cropped(i), -turn // 90))) for i in range(len(frame.planes)))


def _plane(plane: VideoPlane, dtype: type[T]) -> NDArray[T]:
    stride = plane.line_size // np.dtype(dtype).itemsize
    return np.frombuffer(memoryview(plane), dtype=dtype)[: plane.height * stride].reshape(plane.height, stride)


def planes_of(frame: av.VideoFrame) -> tuple[PixelFormat, tuple[Plane, ...]]:
    """The frame's own memory as arrays; interleaved samples are laid apart, none is changed."""
    name = frame.format.name
    form = pixel_format(name)
    if form is None:
        raise UnreadableError(f"A frame came as {name}, which Adzer cannot take. Convert the file first.")
    if name in SEMI_PLANAR:
        shift = SEMI_PLANAR[name][1]
        luma, both = (_plane(p, form.dtype) for p in frame.planes)
        planes = [luma, np.ascontiguousarray(both[:, 0::2]), np.ascontiguousarray(both[:, 1::2])]
        return form, tuple((p >> shift).astype(form.dtype) for p in planes) if shift else tuple(planes)
    if name in PACKED_RGB:
        _, order, step = PACKED_RGB[name]
        packed = _plane(frame.planes[0], form.dtype)[:, : frame.width * step]
        return form, tuple(np.ascontiguousarray(packed[:, i::step]) for i in order)
    if name in FLOAT_RGB:
        planes = [float_codes(_plane(p, np.float32)) for p in frame.planes[:3]]
    else:
        planes = [_plane(p, form.dtype) for p in frame.planes]
    if form.rgb:
        g, b, r = planes[:3]
        planes = [r, g, b]
    return form, tuple(planes[: form.planes])


class Reader:
    """One file, track or roll, opened for decoding. Use as a context manager.

    ``frames(start, stop)`` yields frames by number without ever decoding from the wrong place; a frame that the file
    lost raises UnreadableError with its number.
    """

    def __init__(self, source: str | Source, threads: int = 0, print_: str | None = None) -> None:
        self.path = Path(source) if isinstance(source, str) else source
        self._values = prints.holds_values(self.path)
        self._run: Iterator[Frame] | None = None
        self._next = -1
        if self._values:
            self.index, self.time_base = probe.scan(self.path, print_), probe.values_base(self.path)
            self._sensor = dng.header(all_paths(self.path)[0])[0]
            return
        self._open(threads)
        try:
            self.index = probe.scan(self.path, print_)
        except BaseException:
            self.container.close()
            raise
        context = self.stream.codec_context
        # Where only decode times are known, frames are shown in the order in which they come out, from each keyframe on.
        names = self.container.format.name.split(",")
        self._counted = bool({"avi", "h264", "hevc"} & set(names))
        self._form = (context.width, context.height, pixel_format(context.pix_fmt or ""))
        self.time_base = self.stream.time_base or Fraction(1, 90000)
        self._sums = context.name == "ffv1" and self._has_sums()
        self._number = {int(pts): n for n, pts in enumerate(self.index.pts)}

    def __enter__(self) -> Reader:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        self._run = None
        if not self._values:
            self.container.close()

    def _open(self, threads: int) -> None:
        self.container = probe.open_container(self.path)
        self.stream = probe.picture(self.container, self.path)
        self.stream.thread_type = "AUTO"
        if threads:
            self.stream.codec_context.thread_count = threads

    def _open_again(self) -> None:
        threads = self.stream.codec_context.thread_count
        self.container.close()
        self._open(threads)

    def __len__(self) -> int:
        return len(self.index.pts)

    @property
    def pixels(self) -> int:
        """Of one frame."""
        w, h = self._sensor.raster if self._values else (self.stream.codec_context.width, self.stream.codec_context.height)
        return int(w * h)

    @property
    def reordered(self) -> int:
        """How many frames that are shown before a frame may be predicted from it."""
        return 0 if self._values else int(self.stream.codec_context.has_b_frames)

    def time(self, number: int) -> Fraction:
        """Seconds from the first frame to frame ``number``."""
        return int(self.index.pts[number] - self.index.pts[0]) * self.time_base

    def frame(self, number: int) -> Frame:
        """Frame ``number`` (0 first). Going forwards in small steps costs no seek."""
        number = min(max(number, 0), len(self) - 1)
        if self._run is None or not self._next <= number <= self._next + 24:
            self._run = self.frames(number, len(self))
        for frame in self._run:
            self._next = frame.number + 1
            if frame.number >= number:
                return frame
        self._run = None
        raise UnreadableError(f"{self.path}: frame {number} cannot be decoded. Copy the file from the card again.")

    def keyframe(self, number: int) -> Frame:
        """Frame ``number``, which is a keyframe, alone: the decoder is not fed beyond it. Any frame, if that fails."""
        wanted = int(self.index.pts[number])
        self._run = None
        if self._values:
            return self.frame(number)
        try:
            self.container.seek(wanted, stream=self.stream, backward=True, any_frame=False)
            for packet in self.container.demux(self.stream):
                if not packet.size:
                    break
                context = self.stream.codec_context
                found = [*context.decode(packet), *context.decode(None)]
                context.flush_buffers()
                for raw in found:
                    if raw.pts == wanted:
                        form, planes = planes_of(raw)
                        return self._shown(Frame(planes, form, (raw.width, raw.height), wanted, number, True))
                break
        except av.FFmpegError:
            pass
        return self.frame(number)

    def frames(self, start: int = 0, stop: int | None = None) -> Iterator[Frame]:
        """Frames ``start`` … ``stop − 1`` in order, none left out."""
        stop = len(self) if stop is None else min(stop, len(self))
        if start >= stop:
            return
        expected = start
        try:
            for frame in self._decode_from(start):
                if frame.number < expected:
                    continue
                if frame.number >= stop:
                    return
                if frame.number > expected:
                    break
                yield self._shown(frame)
                expected += 1
                if expected == stop:
                    return
        except av.FFmpegError as error:
            raise UnreadableError(
                f"{self.path}: decoding stops at frame {expected} ({error.strerror}). Copy the file from the card again, "
                f"or take the shot out before frame {expected}."
            ) from None
        raise UnreadableError(
            f"{self.path}: frame {expected} cannot be decoded. Copy the file from the card again, or end the shot before it."
        )

    def _shown(self, frame: Frame) -> Frame:
        return frame

    def _values_from(self, start: int) -> Iterator[Frame]:
        """Sensor values, each frame a file: its neighbours are read while one is worked on."""
        files = all_paths(self.path)
        with ThreadPoolExecutor(2, thread_name_prefix="values") as pool:
            coming: deque[Future[NDArray[np.uint16]]] = deque()
            for number in range(start, len(files)):
                while len(coming) < 2 and number + len(coming) < len(files):
                    coming.append(pool.submit(dng.values, files[number + len(coming)], self._sensor))
                form = PixelFormat(self._sensor.depth, "4:0:0")
                yield Frame((coming.popleft().result(),), form, self._sensor.raster, int(self.index.pts[number]), number, True)

    def _has_sums(self) -> bool:
        """Do the slices of an FFV1 stream carry checksums? One whole frame among the first says so."""
        try:
            return any(packet.size and ffv1.whole(bytes(packet)) for packet in islice(self.container.demux(self.stream), 4))
        except av.FFmpegError:
            return False

    def _coming(self) -> Iterator[tuple[av.VideoFrame, bool]]:
        """What the decoder gives from where the container stands, each frame with: is it known to be harmed?"""
        harmed: set[int | None] = set()
        for packet in self.container.demux(self.stream):
            if self._sums and packet.size and not ffv1.whole(bytes(packet)):
                harmed.add(packet.pts)
            for raw in packet.decode():
                yield raw, raw.is_corrupt or raw.pts in harmed

    def _decode_from(self, start: int) -> Iterator[Frame]:
        """Decodes from the last keyframe that surely comes before ``start``."""
        if self._values:
            yield from self._values_from(start)
            return
        target = int(self.index.pts[start])
        back = int(np.searchsorted(self.index.keys, target, side="right")) - 1
        if self._counted:
            back = -1  # what a decoder leaves out after a jump would shift the count: slow, but right
        key_before = max(back - 1, -1)
        while True:
            first, come = True, -start_of(self.path)
            if back < 0:
                self._open_again()  # some containers cannot be brought back to their very beginning
            else:
                key = int(self.index.keys[back])
                come = int(np.searchsorted(self.index.pts, key))
                try:
                    self.container.seek(key, stream=self.stream, backward=True, any_frame=False)
                except av.FFmpegError:
                    back = -1
                    continue
            hurt = settled = False
            for raw, harmed in self._coming():
                number: int | None
                hurt = harmed or (hurt and not raw.key_frame)
                settled |= raw.key_frame and not first
                if self._counted:
                    number, come = come, come + 1
                else:
                    number = self._number.get(raw.pts if raw.pts is not None else -1)
                if number is None:
                    continue
                if (first and number > start and back >= 0) or (hurt and not settled and number >= start and back > key_before):
                    break  # what a decoder says of its first frames after a jump is only believed from a keyframe further back
                first = False
                form, planes = planes_of(raw)
                if (raw.width, raw.height, form) != self._form:
                    raise UnreadableError(
                        f"{self.path}: at frame {number} its pictures become {raw.width}×{raw.height} of {form.bits} bits {form.chroma}; "
                        f"they begin as {self._form[0]}×{self._form[1]}. Take it apart there, or end the shot before frame {number}."
                    )
                yield Frame(planes, form, (raw.width, raw.height), int(raw.pts or 0), number, bool(raw.key_frame), hurt)
            else:
                if back < 0 or not first:
                    return
            back -= 1


class Beside(Reader):
    """Two sources whose pictures lie side by side, the second's to the right, to look at them as one. A route decodes each alone."""

    def __init__(self, left: Source, right: Source, threads: int = 0, print_: str | None = None) -> None:
        super().__init__(left, threads, print_)
        try:
            self._right = Reader(right, threads)
        except BaseException:
            super().close()
            raise
        self.index = self.index.until(len(self._right))

    def close(self) -> None:
        super().close()
        self._right.close()

    @property
    def pixels(self) -> int:
        return 2 * super().pixels

    def _shown(self, frame: Frame) -> Frame:
        other = self._right.frame(frame.number)
        if other.format != frame.format or other.raster != frame.raster:
            raise UnreadableError(f"{self._right.path}: frame {frame.number} is not like the other lens's or eye's.")
        planes = tuple(cast(Plane, np.hstack([frame.cropped(i), other.cropped(i)])) for i in range(len(frame.planes)))
        return replace(frame, planes=planes, raster=(2 * frame.raster[0], frame.raster[1]))


def opened(sources: Sources, print_: str | None = None) -> Reader:
    """A recording, opened to be looked at: its one source, or its two side by side. ``print_``: its fingerprint, where that is known."""
    return Beside(*sources, print_=print_) if len(sources) == 2 else Reader(sources[0], print_=print_)
