"""What a file says about itself: streams, tags, exact time stamps. Nothing is guessed here."""

from __future__ import annotations

import os
from datetime import datetime
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.container
import msgspec
import numpy as np
import platformdirs
from numpy.typing import NDArray

from ..errors import UnreadableError, as_text
from . import boxes, dng, headers, unlike
from . import timecode as timecodes
from .boxes import SphereTags
from .formats import FLOAT_RGB, mosaic_of, pixel_format
from .prints import fingerprint, holds_values, spread
from .rolls import Roll, Source, Sources, Stream, all_paths, first_path, start_of, total_size, track_of
from .sensor import Sensor

MAX_SIDE = 16384
# What footage comes in, by the library's names of containers. Nothing else is opened: lists of other files, and texts that happen
# to look like pictures, least of all.
FOOTAGE = (
    "mov", "matroska", "mpegts", "mpeg", "mpegvideo", "avi", "mxf", "ogg", "asf", "flv", "dv", "h264", "hevc", "obu", "ivf",
    "yuv4mpegpipe", "nut", "concat", "tiff_pipe", "dpx_pipe", "exr_pipe", "png_pipe", "jpeg_pipe", "jpegls_pipe", "j2k_pipe",
    "image2",
)  # fmt: skip
COVER = 0x400  # the library's mark of a still that only decorates a file
OPENING = {"format_whitelist": ",".join(FOOTAGE), "protocol_whitelist": "file"}
PATIENCE = 60.0  # seconds that a file may be searched for its beginning, or for its next frame

PRIMARIES = {1: "bt709", 9: "bt2020", 12: "p3-d65"}  # H.273, table 2
CURVES = {1: "bt709", 6: "bt709", 14: "bt709", 15: "bt709", 13: "srgb", 4: "gamma22", 8: "linear", 16: "pq", 18: "hlg"}
MATRICES = {0: "rgb", 1: "bt709", 5: "bt601", 6: "bt601", 9: "bt2020"}  # H.273, table 4
RANGES = {1: "limited", 2: "full"}


class AudioFacts(msgspec.Struct, frozen=True):
    """One sound stream. ``start`` in seconds from the container's zero."""

    index: int
    codec: str
    rate: int
    channels: int
    start: Fraction
    duration: Fraction | None


class FileFacts(msgspec.Struct, frozen=True):
    """What a file says. Tags that are absent or have no meaning here are None."""

    path: str
    size: int
    fingerprint: str
    container: str
    codec: str
    profile: str | None
    pix_fmt: str
    raster: tuple[int, int]
    pixel_aspect: Fraction | None
    bits: int
    chroma: str
    rgb: bool
    curve: str | None
    primaries: str | None
    matrix: str | None
    range: str | None
    rate: Fraction | None
    time_base: Fraction
    timecode: str | None
    frames: int
    start: Fraction
    duration: Fraction
    spacing: tuple[Fraction, Fraction, Fraction]
    constant_rate: bool
    promised: int = 0  # frames that the header speaks of; 0 if it does not
    cut: bool = False  # the file ends before its header says that it does
    rotation: int = 0  # degrees counter-clockwise, a multiple of 90, that players are asked to turn the picture by
    odd_matrix: str | None = None  # what else they are asked to do to it: "mirror", or "shear or turn" by an odd angle
    tracks: int = 1  # pictures in it that play at once; the first is decoded
    apart: str | None = None  # the file of the other eye, which is not decoded with it
    siting: str | None = None  # of chroma, as the stream's own header or its container says
    audio: tuple[AudioFacts, ...] = ()
    sphere: SphereTags | None = None
    mosaic: str | None = None
    created: float | None = None  # seconds since 1970, as the file says, else when it was last written
    files: tuple[str, ...] = ()  # of a roll: every file in order, and how long each lasts
    seconds: tuple[Fraction, ...] = ()
    beside: str | None = None  # the file of the other lens or eye, whose pictures lie to the right; the raster is of both
    beside_track: int = 0  # which of its pictures that is
    starts: tuple[int, int] = (0, 0)  # the frames of the two files with which the pair begins
    missing: tuple[int, ...] = ()  # numbers that a frame sequence leaves out
    sensor: Sensor | None = None  # of sensor values: how they are to be read
    rebalanced: tuple[int, ...] = ()  # of these: frames from which on the camera took another white, or another exposure, as its own
    interlaced: bool = False  # as its frames say: their lines belong to two moments
    spread: str = ""  # a hash of blocks from all over its files; "" of what an older Adzer read

    @property
    def floating(self) -> bool:
        """Its samples are floating-point numbers, decoded as ``formats.float_codes``."""
        return self.pix_fmt in FLOAT_RGB

    @property
    def source(self) -> Source:
        """Whose frames and sound count."""
        return Roll(self.files, self.seconds) if self.files else Stream(self.path, 0, self.starts[0]).plain

    @property
    def sources(self) -> Sources:
        return (self.source,) if self.beside is None else (self.source, Stream(self.beside, self.beside_track, self.starts[1]).plain)

    @property
    def name(self) -> str:
        return Path(self.path).name


class FrameIndex(msgspec.Struct, frozen=True):
    """Presentation stamps of every shown frame, rising, in ``time_base`` units, and which start a closed decode."""

    pts: NDArray[np.int64]
    keys: NDArray[np.int64]
    last_duration: int

    def until(self, most: int | None) -> FrameIndex:
        """Of the first ``most`` frames."""
        if most is None or most >= len(self.pts):
            return self
        return FrameIndex(self.pts[:most], self.keys[self.keys <= self.pts[most - 1]], self.last_duration)


def open_container(source: Source) -> av.container.InputContainer:
    """The opened file or roll with at least one video stream. UnreadableError says what it is instead."""
    if not isinstance(source, Path):
        for each in all_paths(source):
            if not each.exists():
                raise UnreadableError(
                    f"{each} is not there, and its recording needs it. Put it back beside the others."
                )
    path = first_path(source)
    if not path.exists():
        raise UnreadableError(f"{path} is not there. Has the card or disk been unplugged?")
    for each in all_paths(source):
        if each.exists() and not (each.is_file() or each.is_dir()):
            raise UnreadableError(f"{each} is no file but a pipe or a device. Give a recording.")
    if path.is_dir():
        raise UnreadableError(f"{path} is a folder. Give the recording inside it.")
    for each in all_paths(source):
        if each.is_file() and _listed(each):
            raise UnreadableError(f"{each} is a list of other files and not a recording. Give the recordings themselves.")
    if path.stat().st_size == 0:
        raise UnreadableError(f"{path} is empty (0 bytes). Copy it from the card again.")
    try:
        container = source.open(OPENING, PATIENCE) if isinstance(source, Roll) else _open(path)
    except PermissionError:
        raise UnreadableError(f"{path} may not be read by you. Change its permissions and try again.") from None
    except (av.FFmpegError, OSError, ValueError, UnicodeError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        if isinstance(error, av.error.ExitError):
            reason = f"nothing but emptiness was found in it for {PATIENCE:g} seconds"
        cut_off = f"{path} is not a recording that can be read ({reason}). If it was cut off, copy it from the card again."
        raise UnreadableError((unlike.told(path) if isinstance(source, Path | Stream) else None) or cut_off) from None
    count = len(container.streams.video)
    if count <= track_of(source):
        container.close()
        if count:
            raise UnreadableError(f"{path} holds {count} pictures that play at once; there is no number {track_of(source) + 1}.")
        raise UnreadableError(unlike.told(path) or f"{path} holds no moving picture. Give a video file.")
    return container


def _listed(path: Path) -> bool:
    """Does a file begin as the library's list of files to join does? It would open whatever it names, whatever its own name is."""
    try:
        with path.open("rb") as file:
            return file.read(64).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"ffconcat")
    except OSError:
        return False


def picture(container: av.container.InputContainer, source: Source) -> av.VideoStream:
    """The track of an opened source that is meant."""
    return container.streams.video[track_of(source)]


def _open(path: Path) -> av.container.InputContainer:
    return av.open(str(path), "r", options=OPENING, timeout=PATIENCE)


def values_base(source: Source) -> Fraction:
    """Seconds between frames of sensor values."""
    return source.seconds[0] if isinstance(source, Roll) else Fraction(1, 25)


def scan(source: Source, print_: str | None = None) -> FrameIndex:
    """Every frame's time stamp, by reading packets without decoding; kept in the cache folder by fingerprint."""
    newest = max((p.stat().st_mtime_ns for p in all_paths(source) if p.exists()), default=0)
    stamp = f"{print_ or fingerprint(source)}-{newest:x}"  # a file that is still written may keep its size and both its ends
    kept = platformdirs.user_cache_path("adzer") / "index" / f"{stamp}.npz"
    try:
        with np.load(kept) as held:
            return FrameIndex(held["pts"], held["keys"], int(held["last"]))
    except (OSError, ValueError, KeyError, EOFError):
        pass
    index = _scan(source)
    try:
        kept.parent.mkdir(parents=True, exist_ok=True)
        part = kept.with_suffix(f".{os.getpid()}.npz")
        np.savez(part, pts=index.pts, keys=index.keys, last=index.last_duration)
        part.replace(kept)
    except OSError:
        pass  # a full or read-only cache costs time, not correctness
    return index


def _scan(source: Source) -> FrameIndex:
    if holds_values(source):
        numbers = np.arange(len(all_paths(source)), dtype=np.int64)
        return FrameIndex(numbers, numbers, 1)
    pts: list[int] = []
    keys: list[int] = []
    last_pts, last_duration, order, decoded = -(2**62), 0, 0, -(2**62)
    with open_container(source) as container:
        stream = picture(container, source)
        by_decoding = container.format.name == "avi"  # which knows no other times, whatever a codec makes of them
        again = float(2 / (stream.time_base or Fraction(1, 90000)))  # two seconds: far beyond what frames are reordered by
        try:
            for packet in container.demux(stream):
                if packet.size == 0 or packet.is_discard:
                    continue
                stamp = packet.dts if by_decoding or packet.pts is None else packet.pts
                stamp = order if stamp is None else stamp
                order += 1
                gone_back = packet.dts is None or packet.dts < decoded  # after a pause, only the order of showing goes back
                decoded = packet.dts if packet.dts is not None else decoded
                if stamp < last_pts - again and gone_back:
                    raise UnreadableError(
                        f"{source}: its time stamps start again after frame {order - 1}: several recordings were joined into one file. "
                        "Add the recordings themselves, or take the file apart there."
                    )
                pts.append(stamp)
                if packet.is_keyframe:
                    keys.append(stamp)
                if stamp > last_pts:
                    last_pts, last_duration = stamp, packet.duration or 0
        except av.FFmpegError:
            pass  # cut off: what came before counts, and the duration tells
    unique = np.unique(np.array(pts, dtype=np.int64))[start_of(source) :]
    if len(unique) == 0:
        raise UnreadableError(f"{source} has a header but no frames. The recording was not finished; copy it again.")
    return FrameIndex(unique, np.unique(np.array(keys or [unique[0]], dtype=np.int64)), int(last_duration))


def probe(path: str | Path) -> FileFacts:
    """Reads the file's tags and time stamps. UnreadableError names the file and says what to do."""
    return probe_source(Path(path).absolute())


def probe_source(source: Source, most: int | None = None) -> FileFacts:
    """The same of any source; ``most``: as though it ended after so many frames."""
    path = first_path(source)
    as_text(str(path))
    try:
        if holds_values(source):
            return _values_facts(source)
        with open_container(source) as container:
            return _facts(source, container, most)
    except av.FFmpegError as error:
        raise UnreadableError(f"{path} cannot be read ({error.strerror}). Copy it from the card again.") from None
    except OSError as error:
        raise UnreadableError(
            f"{path} cannot be read ({error.strerror}). Check the disk and its permissions."
        ) from None


def _values_facts(source: Source) -> FileFacts:
    """Of frames of sensor values: what the first says, which the others have to agree with."""
    path, files = first_path(source), all_paths(source)
    sensor, _ = dng.header(path)
    base, frames = values_base(source), len(files)
    rebalanced = dng.rebalanced(files, sensor)
    return FileFacts(
        path=str(path), size=total_size(source), fingerprint=fingerprint(source), spread=spread((source,)),
        container="dng", codec="values", profile=None,
        pix_fmt=f"{sensor.bits}-bit sensor values", raster=sensor.raster, pixel_aspect=sensor.aspect, bits=sensor.depth, chroma="4:0:0",
        rgb=False, curve=None, primaries=None, matrix=None, range="full", rate=1 / base, time_base=base, timecode=sensor.timecode,
        frames=frames, start=Fraction(0), duration=frames * base, spacing=(base,) * 3, constant_rate=True, mosaic=sensor.order,
        created=path.stat().st_mtime, files=source.files if isinstance(source, Roll) else (),
        seconds=source.seconds if isinstance(source, Roll) else (), sensor=sensor, rebalanced=rebalanced,
    )  # fmt: skip


def probe_beside(left: Stream, right: Stream) -> FileFacts:
    """The facts of two lenses or eyes that were recorded at once, to two files or two tracks of one: of the right one's pictures beside the
    left one's, as long as both last."""
    second = probe_source(right.plain)
    first = probe_source(left.plain, second.frames)
    alike = ("raster", "pix_fmt", "rate")
    if unlike := [name for name in alike if getattr(first, name) != getattr(second, name)]:
        raise UnreadableError(
            f"{first.path} and {second.path} are not two lenses of one camera, or two eyes: their {unlike[0].replace('_', ' ')} differs."
        )
    w, h = first.raster
    timecode = first.timecode
    if timecode and left.start and first.rate:
        timecode = timecodes.to_label(
            timecodes.to_frames(timecode, first.rate) + left.start, first.rate, timecodes.is_drop(timecode)
        )
    return msgspec.structs.replace(
        first, raster=(2 * w, h), beside=second.path, beside_track=right.track, starts=(left.start, right.start), promised=0, timecode=timecode,
        size=first.size + second.size * (left.file != right.file),
        fingerprint=fingerprint(left.plain, right.plain), spread=spread((left.plain, right.plain)),
    )  # fmt: skip


def _facts(source: Source, container: av.container.InputContainer, most: int | None) -> FileFacts:
    path = first_path(source)
    stream = picture(container, source)
    context = stream.codec_context
    if path.is_file() and (context is None or not context.pix_fmt or context.name == "gif") and (said := unlike.told(path)):
        raise UnreadableError(said)
    if context is not None and not context.pix_fmt:
        raise UnreadableError(f"{path}: none of its pictures can be decoded: it is cut off or damaged. Copy it from the card again.")
    if context is None:
        raise UnreadableError(
            f"{path}: its pictures are in a codec that cannot be decoded here; a camera's own sensor values are such. Have the camera's "
            "programs write DNG frames or another video; until then its proxy can be worked on."
        )
    width, height = context.width, context.height
    if not (1 <= width <= MAX_SIDE and 1 <= height <= MAX_SIDE):
        raise UnreadableError(f"{path} says its pictures are {width}×{height}; up to {MAX_SIDE} a side can be handled.")
    form = pixel_format(context.pix_fmt)
    if form is None:
        raise UnreadableError(
            f"{path} stores its samples as {context.pix_fmt}, which Adzer cannot take. Convert it first."
        )
    print_ = fingerprint(source)
    index = scan(source, print_).until(most)
    base = stream.time_base or Fraction(1, 90000)
    rate = _sane_rate(stream.average_rate)
    gaps = np.diff(index.pts)
    if len(gaps):
        spacing = (int(gaps.min()) * base, int(np.median(gaps)) * base, int(gaps.max()) * base)
    else:
        one = index.last_duration * base
        spacing = (one, one, one)
    # Containers that count in milliseconds round each stamp; two ticks of play are still a constant rate.
    constant = bool(len(gaps) == 0 or (gaps.max() - gaps.min()) <= max(2, 0.002 * float(np.median(gaps))))
    if constant and len(gaps) and (rate is None or container.format.name.startswith(("mov", "matroska"))):
        rate = _exact_rate(index.pts, base) or rate
    tail = index.last_duration or (int(np.median(gaps)) if len(gaps) else 0)
    frames = len(index.pts)
    if constant and rate:
        duration = frames / rate
    else:
        duration = (int(index.pts[-1] - index.pts[0]) + tail) * base
        measured = _sane_rate(Fraction(frames) / duration) if duration > 0 else None
        rate = rate or measured
    sar = stream.sample_aspect_ratio
    turn, odd, interlaced = _first_frame(source)
    return FileFacts(
        path=str(path),
        size=total_size(source),
        fingerprint=print_,
        spread=spread((source,)),
        container=container.format.name,
        codec=context.codec.canonical_name if hasattr(context.codec, "canonical_name") else context.codec.name,
        profile=context.profile,
        pix_fmt=context.pix_fmt,
        raster=(width, height),
        pixel_aspect=sar if sar and Fraction(1, 16) < sar < 16 else None,
        bits=form.bits,
        chroma=form.chroma,
        rgb=form.rgb,
        curve=CURVES.get(int(context.color_trc or 0)),
        primaries=PRIMARIES.get(int(context.color_primaries or 0)),
        matrix="rgb" if form.rgb else MATRICES.get(int(context.colorspace if context.colorspace is not None else 2)),
        range="full" if context.pix_fmt.startswith("yuvj") else RANGES.get(int(context.color_range or 0)),
        rate=rate,
        time_base=base,
        timecode=_timecode(container),
        frames=frames,
        start=int(index.pts[0]) * base,
        duration=duration,
        spacing=spacing,
        constant_rate=constant,
        promised=max(0, int(stream.frames or 0)),
        cut=boxes.matroska_cut(path),
        rotation=turn,
        odd_matrix=odd,
        interlaced=interlaced,
        tracks=sum(not s.disposition.value & COVER for s in container.streams.video),
        siting=_siting(stream, path) if form.chroma == "4:2:0" else None,
        audio=tuple(_audio(s) for s in container.streams.audio if s.codec_context and s.codec_context.sample_rate),
        sphere=boxes.read(path),
        mosaic=mosaic_of(context.pix_fmt),
        created=_created(container, path),
        files=source.files if isinstance(source, Roll) else (),
        seconds=source.seconds if isinstance(source, Roll) else (),
    )


def _siting(stream: av.VideoStream, path: Path) -> str | None:
    """As the stream says, else as its container does."""
    context = stream.codec_context
    first = b""
    if context.name in headers.CODECS and not context.extradata:
        with _open(path) as again:
            first = next((bytes(p) for p in again.demux(again.streams.video[0]) if p.size), b"")
    return headers.siting(context.name, context.extradata, first) or boxes.matroska_siting(path)


def _sane_rate(rate: Fraction | None) -> Fraction | None:
    return rate if rate and Fraction(1, 10) <= rate <= 1000 else None


def _exact_rate(pts: NDArray[np.int64], base: Fraction) -> Fraction | None:
    """The usual rate (N or N·1000/1001) that places every stamp within its rounding, if there is one."""
    span = int(pts[-1] - pts[0]) * base
    if span <= 0:
        return None
    seen = Fraction(len(pts) - 1) / span
    slack = base / span
    for whole in (12, 15, 16, 18, 24, 25, 30, 48, 50, 60, 96, 100, 120, 200, 240):
        for rate in (Fraction(whole), Fraction(whole * 1000, 1001)):
            if abs(rate / seen - 1) <= slack:
                return rate
    return _sane_rate(seen)


def _timecode(container: av.container.InputContainer) -> str | None:
    held = [s.metadata for s in (*container.streams.video, *container.streams.data)] + [container.metadata]
    for metadata in held:
        for key, value in metadata.items():
            if key.lower() == "timecode" and value:
                return str(value)
    return None


def _created(container: av.container.InputContainer, path: Path) -> float:
    """When the recording began: the file's own word, else when it was last written."""
    try:
        return datetime.fromisoformat(container.metadata.get("creation_time", "").replace("Z", "+00:00")).timestamp()
    except ValueError:
        return path.stat().st_mtime


def _first_frame(source: Source) -> tuple[int, str | None, bool]:
    """How the first frame says it is to be shown: degrees counter-clockwise, what no turn can do, and is it interlaced; (0, None, False)
    if it does not say, or cannot be decoded."""
    try:
        with open_container(source) as container:
            for frame in container.decode(picture(container, source)):
                try:
                    notes: Any = frame.side_data
                    held = next((d for d in notes if "MATRIX" in str(d.type)), None)
                except ValueError:  # a note of a kind that the library's bindings do not know yet hides all others
                    return round(frame.rotation / 90) * 90 % 360, None, frame.interlaced_frame
                turn, odd = display_turn(bytes(held)) if held is not None else (0, None)
                return turn, odd, frame.interlaced_frame
    except av.FFmpegError:
        pass
    return 0, None, False


def display_turn(matrix: bytes) -> tuple[int, str | None]:
    """Of a display matrix (ISO/IEC 14496-12, 8.3.2: nine 32-bit numbers of this machine's order, a b u c d v x y w): the turn in
    degrees counter-clockwise, 0, 90, 180 or 270, or what it asks for instead."""
    a, b, _, c, d = np.frombuffer(matrix[:36], np.int32)[:5] / 65536
    turns = {(1, 0, 0, 1): 0, (0, -1, 1, 0): 90, (-1, 0, 0, -1): 180, (0, 1, -1, 0): 270}
    size = max(float(np.sqrt(abs(a * d - b * c))), 1e-6)
    whole = tuple(round(float(v) / size, 2) for v in (a, b, c, d))
    for wanted, turn in turns.items():
        if all(abs(v - w) < 0.01 for v, w in zip(whole, wanted, strict=True)):
            return turn, None
    return 0, "mirror" if a * d - b * c < 0 else "shear or turn by an odd angle"


def _audio(stream: av.AudioStream) -> AudioFacts:
    base = stream.time_base or Fraction(1, 48000)
    return AudioFacts(
        index=stream.index,
        codec=stream.codec_context.codec.name,
        rate=stream.codec_context.sample_rate,
        channels=stream.codec_context.channels,
        start=(stream.start_time or 0) * base,
        duration=stream.duration * base if stream.duration else None,
    )
