"""Writing files: one encoder with right tags for a segment, and the joining of segments by stream copy."""

from __future__ import annotations

import contextlib
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import cast

import av
import msgspec
import numpy as np

from ..errors import RenderFailed
from . import options as allowed
from .formats import PixelFormat, Plane
from .packets import packet_print, quantiser, said_of_eyes, with_note


def _encoder_of(standard: str) -> str:
    """The library's identifier of the encoder that it describes as one of a standard; the standard's name if it has none, which
    a ``Writer`` then refuses by name."""
    for name in sorted(av.codecs_available):
        with contextlib.suppress(ValueError):  # it decodes only
            if av.Codec(name, "w").long_name.upper().startswith(standard):
                return name
    return standard


# What a card calls an encoder → the library's own identifier. ST 2019-1 is the standard of VC-3.
ENCODERS = {"h264": "libx264", "h265": "libx265", "st2019": _encoder_of("VC3"), "ffv1": "ffv1"}

EXACT = {"ffv1"}  # gives back each sample as it went in

TAG_CURVES = {"bt709": 1, "srgb": 13, "gamma22": 4, "linear": 8, "pq": 16, "hlg": 18, "bt1886": 1}
TAG_PRIMARIES = {"bt709": 1, "bt2020": 9, "p3-d65": 12}
TAG_MATRICES = {"bt709": 1, "bt2020": 9, "bt601": 6, "rgb": 0}
TAG_RANGES = {"limited": 1, "full": 2}
UNSPECIFIED = 2


class VideoTags(msgspec.Struct, frozen=True):
    """H.273 code points by Adzer's names; None is written as unspecified."""

    curve: str | None = None
    primaries: str | None = None
    matrix: str | None = None
    range: str | None = None
    siting: str = "left"

    def put_on(self, context: av.VideoCodecContext) -> None:
        context.color_trc = TAG_CURVES.get(self.curve or "", UNSPECIFIED)
        context.color_primaries = TAG_PRIMARIES.get(self.primaries or "", UNSPECIFIED)
        context.colorspace = TAG_MATRICES.get(self.matrix or "", UNSPECIFIED)
        context.color_range = TAG_RANGES.get(self.range or "", 0)


class VideoSpec(msgspec.Struct, frozen=True):
    """How a video stream is encoded. ``rate`` is the nominal one; stamps count ``time_base`` units; ``packed``: how two eyes lie in its
    pictures, and which is first, if they are to say so."""

    encoder: str
    raster: tuple[int, int]
    bits: int
    chroma: str
    rate: Fraction
    time_base: Fraction
    tags: VideoTags
    gop: int
    options: dict[str, str]
    pixel_aspect: Fraction = Fraction(1)
    rgb: bool = False
    packed: tuple[str, str] | None = None

    @property
    def format(self) -> PixelFormat:
        return PixelFormat(self.bits, self.chroma, self.rgb)


_SITING_NUMBER = {"left": 0, "center": 1, "topleft": 2}  # H.273, Chroma420SampleLocType


def _encoder_options(spec: VideoSpec, threads: int) -> dict[str, str]:
    allowed.check(spec.encoder, spec.options, "This order")
    options = dict(spec.options)
    sited = f"chromaloc={_SITING_NUMBER[spec.tags.siting]}" if spec.chroma == "4:2:0" else ""
    if spec.encoder == "h264":
        options["x264-params"] = ":".join(p for p in ("open-gop=0", sited, options.get("x264-params", "")) if p)
    elif spec.encoder == "h265":
        own = ("log-level=error", "open-gop=0", "info=0", sited, f"pools={threads}" if threads else "")
        options["x265-params"] = ":".join(p for p in (*own, options.get("x265-params", "")) if p)
    elif spec.encoder == "st2019" and "profile" in options:
        options["profile"] = f"dnxhr_{options['profile']}"
    return options


def container_for(path: Path) -> str:
    """The library's name of a container, by the file's ending."""
    return {".mkv": "matroska", ".mov": "mov", ".mp4": "mp4"}[path.suffix.lower()]


def _saying(packet: av.Packet, spec: VideoSpec) -> av.Packet:
    """The same, which says besides how two eyes lie in it."""
    assert spec.packed is not None
    made = av.Packet(with_note(bytes(packet), spec.encoder, said_of_eyes(spec.encoder, *spec.packed)))
    made.pts, made.dts, made.time_base, made.stream, made.is_keyframe = packet.pts, packet.dts, packet.time_base, packet.stream, True
    made.duration = packet.duration
    return made


class Writer:
    """One encoded video stream in a file, whole only after a clean ``with``.

    Usage: fill ``blank()``'s arrays, then ``write(frame, pts)``.
    """

    def __init__(
        self, path: Path, spec: VideoSpec, threads: int = 0, timecode: str | None = None, faststart: bool = False
    ) -> None:
        self.path, self.spec, self._packets = path, spec, 0
        self.prints: list[int] = []  # of the packets, as they left the encoder
        self._steps: list[tuple[int, float]] = []
        self._decoded: int | None = None  # the last packet's decode time
        try:
            self.container = av.open(
                str(path),
                "w",
                format=container_for(path),
                options={"movflags": "+faststart"} if faststart and path.suffix != ".mkv" else {},
            )
            try:
                rate = spec.rate.limit_denominator(100_000)
                self.stream = cast(
                    av.VideoStream, self.container.add_stream(ENCODERS[spec.encoder], rate=rate, options=_encoder_options(spec, threads))
                )
                self.stream.width, self.stream.height = spec.raster
                self.stream.pix_fmt = spec.format.av_name
                if spec.encoder == "h265" and path.suffix != ".mkv":
                    self.stream.codec_context.codec_tag = "hvc1"  # parameter sets in the header alone (14496-15, 8.4.1)
                context = self.stream.codec_context
                context.time_base = spec.time_base
                context.gop_size = spec.gop
                context.sample_aspect_ratio = spec.pixel_aspect
                if threads:
                    context.thread_count = threads
                spec.tags.put_on(context)
                if timecode:
                    self.stream.metadata["timecode"] = timecode
                    self.container.metadata["timecode"] = timecode
                context.open()
            except BaseException:
                self.container.close()
                raise
        except (av.FFmpegError, OSError, ValueError) as error:
            raise RenderFailed(
                f"{path} cannot be encoded with {spec.encoder} at {spec.raster[0]}×{spec.raster[1]}: {error}"
            ) from None

    def __enter__(self) -> Writer:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, tb: TracebackType | None) -> None:
        try:
            if kind is None:
                self._mux(None)
        finally:
            try:
                self.container.close()
            except (av.FFmpegError, OSError) as fault:
                if kind is None:
                    raise RenderFailed(f"{self.path} cannot be finished: {fault}. Is the disk full?") from None

    def blank(self) -> tuple[av.VideoFrame, tuple[Plane, ...]]:
        """A frame of the encoder's own format and its planes as writable arrays (rows, stride); RGB order is R, G, B."""
        frame = av.VideoFrame(*self.spec.raster, self.spec.format.av_name)
        planes: list[Plane] = []
        for plane in frame.planes:
            array = np.frombuffer(memoryview(plane), dtype=self.spec.format.dtype)
            stride = plane.line_size // array.itemsize
            planes.append(array[: plane.height * stride].reshape(plane.height, stride))
        if self.spec.rgb:
            planes = [planes[2], planes[0], planes[1]]
        return frame, tuple(planes)

    @property
    def quantisers(self) -> list[float]:
        """Of each frame in the order in which they are shown; 0 where the encoder does not say."""
        return [step for _, step in sorted(self._steps)]

    @staticmethod
    def loose(spec: VideoSpec) -> tuple[Plane, ...]:
        """Planes of a frame's size that no encoder will see."""
        sizes = [spec.format.plane_size(spec.raster, i) for i in range(spec.format.planes)]
        return tuple(np.zeros((h, w), spec.format.dtype) for w, h in sizes)

    def write(self, frame: av.VideoFrame, pts: int) -> None:
        frame.pts, frame.time_base = pts, self.spec.time_base
        tags = self.spec.tags
        frame.colorspace = TAG_MATRICES.get(tags.matrix or "", UNSPECIFIED)
        frame.color_range = TAG_RANGES.get(tags.range or "", 0)
        self._mux(frame)

    def _mux(self, frame: av.VideoFrame | None) -> None:
        try:
            for packet in self.stream.encode(frame):
                step = quantiser(packet)
                if self.spec.packed is not None and packet.is_keyframe:
                    packet = _saying(packet, self.spec)
                self._mend_decode_time(packet)
                self.prints.append(packet_print(bytes(packet), self.spec.encoder, framed=False))
                self._steps.append((packet.pts or 0, step))
                self.container.mux(packet)
        except (av.FFmpegError, OSError) as error:
            raise RenderFailed(
                f"{self.path} cannot be written ({getattr(error, 'strerror', None) or error}). Free some space on that disk and start it again."
            ) from None

    def _mend_decode_time(self, packet: av.Packet) -> None:
        """An encoder that is flushed after one or two frames may leave decode times that were never set."""
        if packet.pts is not None and packet.time_base:
            step = max(1, round(1 / self.spec.rate / packet.time_base))
            least = packet.pts - 64 * step if self._decoded is None else self._decoded + 1  # a pause makes later ones far apart
            if packet.dts is None or not least <= packet.dts <= packet.pts:
                packet.dts = max((self._packets - 3) * step, least)
            self._decoded = packet.dts
        self._packets += 1
