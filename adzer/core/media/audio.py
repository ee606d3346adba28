"""Sound carried along: the piece of a source's sound that belongs to a range, as one encoded stream."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from fractions import Fraction
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
    """The same sound ``speed`` times as fast at its own pitch, ``total`` samples long, stamped from 0. ``frames`` are planar
    floats; ``fmt`` is that, or ``s32`` (interleaved)."""
    if (first := next(frames, None)) is None:
        return
    done, rate, layout = 0, first.sample_rate, first.layout.name
    blocks = (np.asarray(frame.to_ndarray(), np.float32) for frame in itertools.chain((first,), frames))
    for block in stretched(blocks, rate, speed, total):
        data = block if fmt == "fltp" else _whole(block)
        yield _frame(data, fmt, layout, rate, done)
        done += block.shape[1]


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
        share = min(1.0, context.channels / 2)
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
        stream.codec_context.bit_rate = int(kbits * 1000 * share)  # the card speaks of stereo
    fmt = _FORMATS[codec]

    def packets() -> Iterator[av.Packet]:
        frames = samples(path, start, stop, index, layout, fmt if speed == 1 else "fltp", rate)
        if speed != 1:
            frames = hastened(frames, speed, int((stop - start) / speed * rate), fmt)
        for frame in frames:
            yield from stream.encode(frame)
        yield from stream.encode(None)

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
