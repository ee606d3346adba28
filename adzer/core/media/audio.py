"""Sound carried along: the piece of a source's sound that belongs to a range, as one encoded stream."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from fractions import Fraction
from functools import lru_cache
from typing import Any, cast

import av
import numpy as np
from av.container import OutputContainer
from numpy.typing import NDArray

from ..errors import UnreadableError
from . import probe
from .rolls import Source
from .stretch import stretched

GAP, LONGEST_GAP = Fraction(1, 50), 3600  # seconds by which stamps may be off; beyond, the sound is silent (or heard twice)
_FORMATS = {"aac": "fltp", "pcm_s24le": "s32", "flac": "s32"}
PLANAR = 8  # channels from which on the library's bindings read beyond a frame's planes, which ends the process: they are never asked for
_SAME = {"SL": "BL", "SR": "BR"}
_UNDER = {"TFL": ("FL",), "TFR": ("FR",), "TFC": ("FC",), "TBL": ("BL", "SL"), "TBR": ("BR", "SR"), "TSL": ("SL", "BL"), "TSR": ("SR", "BR")}


def floats(frame: av.AudioFrame) -> NDArray[np.float32]:
    """A frame's samples of any format, (channels, n), −1 … 1."""
    channels = len(frame.layout.channels)
    if frame.format.is_planar and channels >= PLANAR:
        packed = av.AudioResampler(format=frame.format.name.removesuffix("p"), layout=frame.layout, rate=frame.sample_rate).resample(frame)
        return np.concatenate([floats(f) for f in packed], axis=1)
    data = frame.to_ndarray()
    if not frame.format.is_planar:
        data = data.reshape(-1, channels).T
    if data.dtype == np.uint8:
        return np.asarray((data.astype(np.float32) - 128) / 128)
    if data.dtype.kind == "i":
        return np.asarray(data / float(2 ** (8 * data.dtype.itemsize - 1)), np.float32)
    return np.asarray(data, np.float32)


def carried(codec: str, layout: str) -> tuple[str, str]:
    """The encoder and layout in which sound of a layout goes into a file whose card asks for ``codec``: that itself where the encoder
    takes it; else, of lossless ones, samples as they are, and of AAC, what is above folded into what is below."""
    channels = [c.name for c in av.AudioLayout(layout).channels]
    if codec == "flac" and len(channels) > 8:  # RFC 9639, 9.1.3
        return "pcm_s24le", layout
    if codec == "aac" and any(name in _UNDER for name in channels) and not opens(codec, layout):
        return codec, "7.1" if "BL" in channels and "SL" in channels else "5.1"
    return codec, layout


def folding(layout: str, into: str) -> NDArray[np.float32]:
    """(channels of ``into``, channels of ``layout``): each channel to the one of its name, those above 3 dB down to the one under them
    (as ITU-R BS.775-4, annex 4, does with what it has no loudspeaker for)."""
    names, held = ([c.name for c in av.AudioLayout(name).channels] for name in (into, layout))
    matrix = np.zeros((len(names), len(held)), np.float32)
    for n, name in enumerate(held):
        same = next((s for s in (name, _SAME.get(name, "")) if s in names), None)
        under = same or next((u for u in _UNDER.get(name, ()) if u in names), None)
        if under is not None:
            matrix[names.index(under), n] = 1.0 if same else 0.5**0.5
    return matrix


def check(path: Source, index: int, codec: str) -> None:
    """UnreadableError if a sound stream cannot be encoded so: asked before anything is rendered."""
    with probe.open_container(path) as source:
        context = source.streams.audio[index].codec_context
        own = _layout(context)
        rate = context.sample_rate
    into, layout = carried(codec, own)
    if not opens(into, layout):
        raise UnreadableError(
            f"{path}: its sound ({own}, {rate} Hz) cannot be encoded as {codec}. Choose a delivery with uncompressed sound, an intermediate "
            "or the archive."
        )


@lru_cache(maxsize=64)
def opens(codec: str, layout: str) -> bool:
    """Does the library's encoder take a layout?"""
    try:
        made = cast(av.AudioCodecContext, av.CodecContext.create(codec, "w"))
        made.layout, made.format, made.sample_rate = layout, _FORMATS[codec], 48000
        made.open()
    except (av.FFmpegError, ValueError):
        return False
    return True


def _layout(context: av.AudioCodecContext) -> str:
    """The layout's name; where a container gives only a count of channels, the usual layout of that many."""
    usual = {1: "mono", 2: "stereo", 3: "2.1", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}
    name = str(context.layout.name)
    return usual.get(context.channels, name) if "channels" in name else name


def samples(path: Source, start: Fraction, stop: Fraction, stream: int = 0, layout: str | None = None, fmt: str = "fltp",
            rate: int | None = None) -> Iterator[av.AudioFrame]:  # fmt: skip
    """Decoded frames between two container times (seconds), cut to the sample, stamped from 0 in 1/rate.

    Where the sound starts late or ends early there is silence of the right length.
    """
    with probe.open_container(path) as container:
        source = container.streams.audio[stream]
        rate = rate or source.codec_context.sample_rate
        layout = layout or _layout(source.codec_context)
        if fmt.endswith("p") and len(av.AudioLayout(layout).channels) >= PLANAR:
            raise ValueError(f"{layout} is asked for as planes")
        resampler = av.AudioResampler(format=fmt, layout=layout, rate=rate)
        total = int((stop - start) * rate)
        done = 0
        try:
            if start > 1:
                container.seek(int((start - 1) / (source.time_base or Fraction(1, rate))), stream=source, backward=True)
            position, follows = None, Fraction(0)
            for raw in _decoded(container, source):
                stamp = follows if raw.pts is None else raw.pts * (raw.time_base or Fraction(1, rate))
                if position is None:
                    position = round((stamp - start) * rate)
                elif GAP <= abs(stamp - follows) <= LONGEST_GAP:
                    position += round((stamp - follows) * rate)
                follows = stamp + Fraction(raw.samples, raw.sample_rate)
                for frame in resampler.resample(raw):
                    data = frame.to_ndarray()
                    planar = frame.format.is_planar
                    channels = 1 if planar else len(frame.layout.channels)
                    length = data.shape[1] // channels
                    if position > done:
                        gap = min(position, total) - done
                        if gap > 0:
                            silence = np.zeros((data.shape[0], gap * channels), data.dtype)
                            yield _frame(silence, fmt, layout, rate, done)
                            done += gap
                    skip = max(0, done - position)
                    take = min(length - skip, total - done)
                    if take > 0:
                        piece = np.ascontiguousarray(data[:, skip * channels : (skip + take) * channels])
                        yield _frame(piece, fmt, layout, rate, done)
                        done += take
                    position += length
                if done >= total:
                    break
        except av.FFmpegError as error:
            raise UnreadableError(f"{path}: its sound cannot be decoded ({error.strerror}).") from None


def _decoded(container: av.container.InputContainer, stream: av.AudioStream) -> Iterator[av.AudioFrame]:
    """Frames of a sound stream; a packet that cannot be decoded, as some recordings begin with, leaves a hole of its length.
    FFmpegError if none can."""
    fault, came = None, False
    for packet in container.demux(stream):
        try:
            frames = packet.decode()
        except av.error.InvalidDataError as error:
            fault = error
            continue
        for frame in frames:
            came = True
            yield frame
    if fault is not None and not came:
        raise fault


def _frame(data: NDArray[Any], fmt: str, layout: str, rate: int, pts: int) -> av.AudioFrame:
    frame = av.AudioFrame.from_ndarray(data, format=fmt, layout=layout)
    frame.sample_rate, frame.pts, frame.time_base = rate, pts, Fraction(1, rate)
    return frame


def hastened(frames: Iterator[av.AudioFrame], speed: Fraction, total: int, fmt: str = "fltp") -> Iterator[av.AudioFrame]:
    """The same sound ``speed`` times as fast at its own pitch, ``total`` samples long, stamped from 0. ``frames`` are floats;
    ``fmt`` is ``fltp``, ``flt`` or ``s32``."""
    if (first := next(frames, None)) is None:
        return
    done, rate, layout = 0, first.sample_rate, first.layout.name
    blocks = (floats(frame) for frame in itertools.chain((first,), frames))
    for block in stretched(blocks, rate, speed, total):
        data = block if fmt == "fltp" else np.ascontiguousarray(block.T.reshape(1, -1)) if fmt == "flt" else _whole(block)
        yield _frame(data, fmt, layout, rate, done)
        done += block.shape[1]


def _folded(frames: Iterator[av.AudioFrame], layout: str, into: str) -> Iterator[av.AudioFrame]:
    matrix = folding(layout, into)
    for frame in frames:
        mixed = np.clip(matrix @ floats(frame), -1.0, 1.0)
        yield _frame(np.ascontiguousarray(mixed.T.reshape(1, -1), np.float32), "flt", into, frame.sample_rate, frame.pts or 0)


def _whole(block: NDArray[np.float32]) -> NDArray[np.int32]:
    """Planar floats as interleaved 32-bit samples, (1, samples × channels)."""
    top = 2.0**31
    codes = np.clip(np.rint(block.T.astype(np.float64) * top), -top, top - 1).astype(np.int32)
    return np.ascontiguousarray(codes.reshape(1, -1))


def encoded(
    path: Source, start: Fraction, stop: Fraction, index: int, container: OutputContainer, codec: str, kbits: int,
    speed: Fraction = Fraction(1),
) -> Iterator[av.Packet]:  # fmt: skip
    """Adds a stream to an open output container at once; the iterator then yields its packets in order."""
    with probe.open_container(path) as source:
        context = source.streams.audio[index].codec_context
        rate, layout = context.sample_rate, _layout(context)
        share = context.channels / 2
    own, (codec, layout) = layout, carried(codec, layout)
    if codec == "aac" and rate not in (
        96000,
        88200,
        64000,
        48000,
        44100,
        32000,
        24000,
        22050,
        16000,
        12000,
        11025,
        8000,
    ):
        rate = 48000
    stream = cast(av.AudioStream, container.add_stream(codec, rate=rate, layout=layout))
    if codec == "aac":
        most = 6 * rate * len(av.AudioLayout(layout).channels)  # 6144 bits a channel in 1024 samples (ISO/IEC 14496-3, 4.5.3.3)
        stream.codec_context.bit_rate = int(min(kbits * 1000 * share, most))  # the card speaks of stereo
    fmt = _FORMATS[codec] if len(av.AudioLayout(layout).channels) < PLANAR else _FORMATS[codec].removesuffix("p")

    def packets() -> Iterator[av.Packet]:
        many = len(av.AudioLayout(own).channels) >= PLANAR
        frames = samples(path, start, stop, index, own, fmt if speed == 1 and own == layout else "flt" if many else "fltp", rate)
        if own != layout:
            frames = _folded(frames, own, layout)
        if speed != 1:
            frames = hastened(frames, speed, int((stop - start) / speed * rate), fmt)
        try:
            for frame in frames:
                yield from stream.encode(frame)
            yield from stream.encode(None)
        except av.FFmpegError as error:
            raise UnreadableError(
                f"{path}: its sound ({own}, {rate} Hz) cannot be encoded as {codec} ({error.strerror}). Choose a delivery with other sound."
            ) from None

    return packets()


def mono(
    path: Source, start: Fraction, seconds: Fraction, rate: int = 48000, speed: Fraction = Fraction(1)
) -> NDArray[np.float32]:
    """The first sound stream as one channel of floats, ``seconds`` of playing at ``speed`` from container time ``start``."""
    frames = samples(path, start, start + seconds * speed, 0, "mono", "fltp", rate)
    if speed != 1:
        frames = hastened(frames, speed, int(seconds * rate))
    parts = [f.to_ndarray()[0] for f in frames]
    out = np.zeros(int(seconds * rate), np.float32)
    if parts:
        joined = np.concatenate(parts)[: len(out)]
        out[: len(joined)] = joined
    return out


def shift(a: NDArray[np.float32], b: NDArray[np.float32], reach: int) -> tuple[int, float]:
    """By how many samples ``b`` comes later than ``a`` (within ±reach), and their correlation there (0–1)."""
    n = 1 << int(np.ceil(np.log2(len(a) + len(b) + 1)))
    product = np.fft.irfft(np.conj(np.fft.rfft(a, n)) * np.fft.rfft(b, n), n)
    lags = np.concatenate([product[-reach:], product[: reach + 1]])
    best = int(np.argmax(lags))
    energy = float(np.sqrt((a.astype(np.float64) ** 2).sum() * (b.astype(np.float64) ** 2).sum()))
    return best - reach, float(lags[best]) / energy if energy > 0 else 0.0
