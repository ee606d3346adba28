"""A master's sound against the recording's, over the whole take: is each channel there, in its place, as loud, at its time?

Nothing here is shared with what carried the sound: samples are laid where their stamps say, at their own rate, and compared a
second at a time. At the recorded speed waves are compared, at another one how loud it is from millisecond to millisecond.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import zip_longest

import av
import numpy as np
from numpy.typing import NDArray

from ..errors import UnreadableError
from ..media import probe
from ..media.rolls import Source

Array = NDArray[np.float64]

LOUD, QUIET = 1e-6, 1e-5  # mean squares: what can be judged, and what silence may become
JITTER = 0.005  # seconds by which stamps may be off
REACH, MOST = 0.05, 0.002  # seconds looked about, and allowed, at the recorded speed
BAND = (60.0, 4000.0)  # Hz in which waves are compared: encoders make noise anew above
HEARD = 8000.0  # Hz up to which levels are
FAR, LATE = 200, 6  # milliseconds the same at another speed
LEVEL, LEVEL_OF_ALL, LEVEL_STRETCHED = 2.0, 0.7, 3.0  # dB


def seconds_of(source: Source, stream: int, start: Fraction, stop: Fraction) -> Iterator[NDArray[np.float32]]:
    """The sound of a stream from container time ``start`` to ``stop`` in pieces of a second, (channels, rate), each sample where
    its stamp says; the last is filled up with silence. UnreadableError if it cannot be decoded."""
    with probe.open_container(source) as container:
        track = container.streams.audio[stream]
        rate, base = track.codec_context.sample_rate, track.time_base or Fraction(1, 48000)
        channels = track.codec_context.channels
        count = int((stop - start) * rate)
        if start > 1:
            container.seek(int((start - 1) / base), stream=track, backward=True)
        pending, first, follows = np.zeros((channels, 0), np.float32), 0, None
        try:
            for frame in _frames(container, track):
                data = _floats(frame, channels)
                at = follows if frame.pts is None else round((frame.pts * base - start) * rate)
                if at is None or (follows is not None and abs(at - follows) < JITTER * rate):
                    at = follows or 0
                follows = at + data.shape[1]
                need = min(follows, count) - first
                if need > pending.shape[1]:
                    pending = np.pad(pending, ((0, 0), (0, need - pending.shape[1])))
                a, b = max(at, first), min(follows, first + pending.shape[1])
                if b > a:
                    pending[:, a - first : b - first] = data[:, a - at : b - at]
                while pending.shape[1] >= rate and at >= first + rate:
                    yield pending[:, :rate]
                    pending, first = pending[:, rate:], first + rate
                if at >= count:
                    break
        except av.FFmpegError as error:
            raise UnreadableError(f"{source}: its sound cannot be decoded ({error.strerror}).") from None
    while first < count:
        piece = pending[:, :rate]
        yield np.pad(piece, ((0, 0), (0, rate - piece.shape[1])))
        pending, first = pending[:, rate:], first + rate


def _frames(container: av.container.InputContainer, track: av.AudioStream) -> Iterator[av.AudioFrame]:
    """All that can be decoded; what cannot is silence, here as in the master."""
    for packet in container.demux(track):
        with contextlib.suppress(av.error.InvalidDataError):
            yield from packet.decode()


def _floats(frame: av.AudioFrame, channels: int) -> NDArray[np.float32]:
    """Samples of any format as (channels, n), −1 … 1."""
    data = frame.to_ndarray()
    if not frame.format.is_planar:
        data = data.reshape(-1, channels).T
    if data.dtype == np.uint8:
        return np.asarray((data.astype(np.float32) - 128) / 128)
    if data.dtype.kind == "i":
        return np.asarray(data / float(2 ** (8 * data.dtype.itemsize - 1)), np.float32)
    return np.asarray(data, np.float32)


@dataclass
class Heard:
    """What a comparison came to. ``faults`` are clauses with numbers, none if all is well."""

    faults: list[str] = field(default_factory=list)
    offset: float = 0.0  # ms
    alike: float = 1.0
    level: float = 0.0  # dB
    silent: bool = True

    @property
    def words(self) -> str:
        if self.silent:
            return "sound is silent, as it was recorded"
        loud = "as loud" if abs(self.level) < 0.05 else f"{self.level:+.1f} dB louder"
        return f"sound is {self.offset:+.2f} ms off, {loud} and {self.alike:.0%} alike"


@dataclass
class _Waves:
    """Second by second, for each channel."""

    level: list[Array] = field(default_factory=list)  # dB, NaN where nothing can be judged
    lag: list[Array] = field(default_factory=list)  # seconds
    alike: list[Array] = field(default_factory=list)
    crossed: list[Array] = field(default_factory=list)  # (channels, channels)
    woken: list[Array] = field(default_factory=list)  # mean square of what was silence


def compare(
    source: Source, start: Fraction, stop: Fraction, master: Source, begins: Fraction, stream: int, speed: Fraction
) -> Heard:
    """A stream of the recording between two container times, and the master's from ``begins`` on."""
    rates = []
    for each in (source, master):
        with probe.open_container(each) as container:
            context = container.streams.audio[stream].codec_context
            rates.append((context.sample_rate, context.channels))
    if rates[0][1] != rates[1][1]:
        return Heard([f"has {rates[1][1]} channels instead of {rates[0][1]}"], silent=False)
    length = (stop - start) / speed
    before = seconds_of(source, stream, start, stop)
    after = seconds_of(master, stream, begins, begins + length)
    if speed == 1 and rates[0] == rates[1]:
        return _waves(before, after, rates[0][0])
    return _envelopes(before, after, speed, int(length * 1000))


def _waves(before: Iterator[NDArray[np.float32]], after: Iterator[NDArray[np.float32]], rate: int) -> Heard:
    hz = np.fft.rfftfreq(rate, 1 / rate)
    band, heard = (hz >= BAND[0]) & (hz <= BAND[1]), hz <= HEARD
    reach = int(REACH * rate)
    waves = _Waves()
    for b, a in zip_longest(before, after):
        if b is None or a is None:
            break
        fb, fa = np.fft.rfft(b), np.fft.rfft(a)
        pb, pa = ((np.abs(f[:, heard]) ** 2).sum(axis=1) * 2 / rate**2 for f in (fb, fa))
        loud = pb > LOUD
        waves.level.append(np.where(loud, 10 * np.log10(np.maximum(pa, 1e-12) / np.maximum(pb, 1e-12)), np.nan))
        waves.woken.append(np.where(pb < LOUD / 100, pa, 0.0))
        fb, fa = fb * band, fa * band
        size = np.sqrt(np.maximum((np.abs(fb) ** 2).sum(axis=1), 1e-12)), np.sqrt(np.maximum((np.abs(fa) ** 2).sum(axis=1), 1e-12))
        product = np.fft.irfft(fa * np.conj(fb), rate) * rate / 2
        near = np.concatenate([product[:, -reach:], product[:, : reach + 1]], axis=1)
        best = near.argmax(axis=1)
        judged = loud & ((np.abs(fb) ** 2).sum(axis=1) * 2 / rate**2 > LOUD)
        shift = np.exp(2j * np.pi * hz * ((best[judged.argmax()] - reach) / rate))
        crossed = np.real((fa * shift) @ np.conj(fb).T) / np.outer(size[1], size[0])
        alike = near[np.arange(len(best)), best] / (size[0] * size[1])
        waves.lag.append(np.where(judged, (best - reach) / rate, np.nan))
        waves.alike.append(np.where(judged, alike, np.nan))
        waves.crossed.append(np.where(judged.all(), crossed, np.nan))
    return _judged(waves)


def _judged(waves: _Waves) -> Heard:
    out = Heard()
    if not waves.level:
        return out
    level, lag, alike = np.array(waves.level), np.array(waves.lag), np.array(waves.alike)
    if (woken := float(np.max(waves.woken))) > QUIET:
        at = int(np.argmax(np.max(waves.woken, axis=1)))
        out.faults.append(f"is heard at {at} s, at {10 * np.log10(woken):.0f} dB, where nothing was recorded")
    if np.isnan(level).all():
        out.silent = not out.faults
        return out
    out.silent = False
    out.level = float(np.nanmedian(level))
    worst = np.nanargmax(np.abs(level))
    second, channel = divmod(int(worst), level.shape[1])
    if (off := float(level.flat[worst])) and abs(off) > LEVEL:
        out.faults.append(f"is {off:+.1f} dB off in channel {channel + 1} at {second} s")
    for channel in range(level.shape[1]):
        if not np.isnan(level[:, channel]).all() and abs(all_ := float(np.nanmedian(level[:, channel]))) > LEVEL_OF_ALL:
            out.faults.append(f"is {all_:+.1f} dB off in channel {channel + 1} all through")
    if np.isnan(alike).all():
        return out
    out.alike, clear = float(np.nanmedian(alike)), alike > 0.5
    if np.isfinite(alike).sum() * 0.9 > clear.sum():
        out.faults.append(f"is only {out.alike:.0%} alike")
    if clear.any():
        out.offset = float(np.median(lag[clear])) * 1000
        far = np.where(clear, np.abs(lag), 0)
        if far.max() > MOST:
            at = int(np.argmax(far.max(axis=1)))
            out.faults.append(f"is {float(lag.flat[int(far.argmax())]) * 1000:+.1f} ms off at {at} s")
    out.faults += _exchanged(np.array(waves.crossed), 0.02, 3)
    return out


def _exchanged(crossed: Array, slack: float, factor: float) -> list[str]:
    """Is a channel nearer to another one's recording than to its own?"""
    if np.isnan(crossed).all():
        return []
    apart = 1 - np.nanmean(crossed, axis=0)
    for c in range(len(apart)):
        d = int(np.argmin(apart[c]))
        if apart[c, c] > factor * max(apart[c, d], 0) + slack:
            return [f"has channel {d + 1} in the place of channel {c + 1}"]
    return []


def _envelopes(
    before: Iterator[NDArray[np.float32]], after: Iterator[NDArray[np.float32]], speed: Fraction, count: int
) -> Heard:
    loud = [np.concatenate([_loudness(piece) for piece in side], axis=1) for side in (before, after)]
    places = np.clip(np.rint((np.arange(count) + 0.5) * float(speed) - 0.5), 0, loud[0].shape[1] - 1).astype(np.int64)
    # Each millisecond heard stands for as many recorded ones as the speed says.
    wide = max(1, round(float(speed)))
    summed = np.cumsum(np.pad(loud[0], ((0, 0), (wide, wide)), mode="edge"), axis=1)
    mean = (summed[:, places + wide + wide // 2] - summed[:, places + wide // 2]) / wide
    b, a = mean[:, : loud[1].shape[1]], loud[1][:, :count]
    out = Heard()
    power = b.mean(axis=1), a.mean(axis=1)
    judged = power[0] > LOUD
    if (power[1][~judged] > QUIET).any():
        out.faults.append("is heard in a channel that was silent")
    if not judged.any():
        return out
    out.silent = False
    level = 10 * np.log10(np.maximum(power[1], 1e-12) / np.maximum(power[0], 1e-12))
    out.level = float(np.median(level[judged]))
    for c in np.flatnonzero(judged & (np.abs(level) > LEVEL_STRETCHED)):
        out.faults.append(f"is {level[c]:+.1f} dB off in channel {c + 1}")
    for at in range(0, count - 1000, 1000):
        pb, pa = b[:, at : at + 1000].mean(axis=1), a[:, at : at + 1000].mean(axis=1)
        if ((pb > 1e-5) & (pa < pb / 30)).any():
            out.faults.append(f"is lost at {at // 1000} s")
            break
    rb, ra = np.sqrt(b), np.sqrt(a)
    thirds = np.array_split(np.arange(count), 3) if count > 9000 else [np.arange(count)]
    for part in thirds:
        scores = sum(_correlated(rb[c][part], ra[c][part]) for c in np.flatnonzero(judged))
        if np.max(scores) <= 0.2 * judged.sum():  # nothing in it changes enough to tell when it is
            continue
        out.alike = float(np.max(scores) / judged.sum())
        out.offset = float(np.argmax(scores) - FAR)
        if abs(out.offset) > LATE:
            out.faults.append(f"is {out.offset:+.0f} ms off from {part[0] // 1000} s on")
    if judged.all() and len(b) > 1:
        grid = np.array([[float(np.corrcoef(x, y)[0, 1]) for y in rb] for x in ra])
        out.faults += _exchanged(grid[None], 0.1, 2)
    return out


def _loudness(piece: NDArray[np.float32]) -> Array:
    """Mean square of each millisecond, (channels, 1000)."""
    edges = np.arange(1000) * piece.shape[1] // 1000
    return np.asarray(
        np.add.reduceat(piece.astype(np.float64) ** 2, edges, axis=1) / np.diff(np.append(edges, piece.shape[1]))
    )


def _correlated(a: Array, b: Array) -> Array:
    """Correlation of two courses at −FAR … FAR by which the second is late."""
    a, b = a - a.mean(), b - b.mean()
    n = 1 << int(np.ceil(np.log2(2 * len(a))))
    product = np.fft.irfft(np.conj(np.fft.rfft(a, n)) * np.fft.rfft(b, n), n)
    size = np.sqrt((a**2).sum() * (b**2).sum())
    return np.asarray(np.concatenate([product[-FAR:], product[: FAR + 1]]) / max(float(size), 1e-12))
