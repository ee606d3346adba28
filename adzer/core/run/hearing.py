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
from ..media.audio import floats
from ..media.rolls import Source

Array = NDArray[np.float64]

LOUD, QUIET = 1e-6, 1e-5  # mean squares: what can be judged, and what silence may become
JITTER = 0.005  # seconds by which stamps may be off
REACH, MOST = 0.05, 0.002  # seconds looked about, and allowed, at the recorded speed
BAND = (60.0, 4000.0)  # Hz in which waves are compared: encoders make noise anew above
HEARD = 8000.0  # Hz up to which levels are
FAR, LATE = 200, 6  # milliseconds the same at another speed
LEVEL, LEVEL_OF_ALL, LEVEL_STRETCHED = 2.0, 0.25, 3.0  # dB
LOW = 250.0  # Hz up to which a channel for low effects is compared: encoders keep no more of it
EVEN = 0.97  # of the best likeness: so alike at its own time, sound that repeats itself is taken to be there
WINDOW, GONE, HOLE = 0.02, 0.1, 2  # seconds, share of its energy that a window must keep, windows that follow each other without
THIRDS = 100.0 * 2.0 ** (np.arange(20) / 3)  # Hz, centres of thirds of octaves
FAINT, DULL = 3e-5, 8.0  # share of a channel's energy that makes a third worth judging; dB that it may lose
PEAKS, CUT = 0.002, 0.9  # share of the samples, the largest, and how much of these must be left
EXACT = 2.0**-22  # by which lossless sound may be off: a step of 24 bits, rounded twice
LOUDEST, SPARED = 0.95, 0.5  # share of full scale above which encoders turn sound down, and by how many dB
SAME = {"SL": "BL", "SR": "BR", "BL": "SL", "BR": "SR"}  # what a container may call the same loudspeaker
FOLDED = {"TFL": ("FL",), "TFR": ("FR",), "TFC": ("FC",), "TBL": ("BL", "SL"), "TBR": ("BR", "SR"), "TSL": ("SL", "BL"), "TSR": ("SR", "BR")}


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
                data = floats(frame)
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


@dataclass
class Heard:
    """What a comparison came to. ``faults`` are clauses with numbers, none if all is well."""

    faults: list[str] = field(default_factory=list)
    offset: float = 0.0  # ms
    alike: float = 1.0
    level: float = 0.0  # dB
    silent: bool = True
    note: str = ""  # what was done to it on purpose

    @property
    def words(self) -> str:
        if self.silent:
            return f"sound is silent, as it was recorded{self.note}"
        loud = "as loud" if abs(self.level) < 0.05 else f"{self.level:+.1f} dB louder"
        return f"sound is {self.offset:+.2f} ms off, {loud} and {self.alike:.0%} alike{self.note}"


@dataclass
class _Waves:
    """Second by second, for each channel."""

    level: list[Array] = field(default_factory=list)  # dB, NaN where nothing can be judged
    lag: list[Array] = field(default_factory=list)  # seconds
    alike: list[Array] = field(default_factory=list)
    crossed: list[Array] = field(default_factory=list)  # (channels, channels)
    woken: list[Array] = field(default_factory=list)  # mean square of what was silence
    sums: list[Array] = field(default_factory=list)  # (channels, 4): of b·b, a·a, a·b, at the lag, and of b·b where it is at its loudest
    thirds: list[Array] = field(default_factory=list)  # (2, channels, thirds): energy before and after
    peaks: list[Array] = field(default_factory=list)  # (channels, 2): of b·b and a·b where b is largest
    windows: list[Array] = field(default_factory=list)  # (2, channels, windows): mean squares before and after


def compare(
    source: Source, start: Fraction, stop: Fraction, master: Source, begins: Fraction, stream: int, speed: Fraction
) -> Heard:
    """A stream of the recording between two container times, and the master's from ``begins`` on."""
    rates, names, codecs = [], [], []
    for each in (source, master):
        with probe.open_container(each) as container:
            context = container.streams.audio[stream].codec_context
            rates.append(context.sample_rate)
            names.append([c.name for c in context.layout.channels])
            codecs.append(context.name)
    length = (stop - start) / speed
    before = seconds_of(source, stream, start, stop)
    after = seconds_of(master, stream, begins, begins + length)
    note = ""
    if len(names[0]) != len(names[1]):
        if (matrix := _fold(*names)) is None:
            return Heard([f"has {len(names[1])} channels instead of {len(names[0])}"], silent=False)
        before, note = (np.clip(matrix @ piece, -1.0, 1.0) for piece in before), f", its {len(names[0])} channels folded into {len(names[1])}"
    if speed == 1 and rates[0] == rates[1]:
        exact = codecs[1].startswith(("pcm_s24", "flac")) and not note
        low = [n < len(held) and held[n] == "LFE" for held in names for n in range(len(names[1]))]
        heard = _waves(before, after, rates[0], [any(low[n :: len(names[1])]) for n in range(len(names[1]))], exact)
    else:
        heard = _envelopes(before, after, speed, int(length * 1000))
    heard.note = note
    return heard


def _fold(before: list[str], after: list[str]) -> NDArray[np.float32] | None:
    """(channels after, before) where the sound above was folded into that below, 3 dB down; None if this is no such case."""
    made = np.zeros((len(after), len(before)), np.float32)
    for n, name in enumerate(before):
        same = next((u for u in (name, SAME.get(name, "")) if u in after), None)
        under = same or next((u for f in FOLDED.get(name, ()) for u in (f, SAME.get(f, "")) if u in after), None)
        if under is None:
            return None
        made[after.index(under), n] = 1.0 if same else np.sqrt(0.5)
    return made if (made > 0).any(axis=1).all() else None


def _waves(
    before: Iterator[NDArray[np.float32]], after: Iterator[NDArray[np.float32]], rate: int, low: list[bool], exact: bool
) -> Heard:
    hz = np.fft.rfftfreq(rate, 1 / rate)
    deep = np.array(low)[:, None]
    band = (hz >= BAND[0]) & (hz <= np.where(deep, LOW, BAND[1]))
    heard = hz <= np.where(deep, LOW, HEARD)
    reach, near, wide = int(REACH * rate), int(MOST * rate), int(WINDOW * rate)
    of_third = np.digitize(hz, np.append(THIRDS / 2 ** (1 / 6), THIRDS[-1] * 2 ** (1 / 6)))
    waves, out = _Waves(), Heard()
    for second, (b, a) in enumerate(zip_longest(before, after)):
        if b is None or a is None:
            break
        if exact and not out.faults and (off := np.abs(np.clip(b, -1, 1) - a) > EXACT).any():
            out.faults.append(f"is not sample for sample what was recorded at {second + float(off.any(axis=0).argmax()) / rate:.2f} s")
        fb, fa = np.fft.rfft(b) * heard, np.fft.rfft(a)
        fa_heard = fa * heard
        pb, pa = ((np.abs(f) ** 2).sum(axis=1) * 2 / rate**2 for f in (fb, fa_heard))
        whole = (b.astype(np.float64) ** 2).mean(axis=1)
        loud = (pb > LOUD) & ((pb > 0.2 * whole) | ~deep[:, 0])  # of low effects that are none, nothing can be said
        waves.level.append(np.where(loud, 10 * np.log10(np.maximum(pa, 1e-12) / np.maximum(pb, 1e-12)), np.nan))
        waves.woken.append(np.where(pb < LOUD / 100, pa, 0.0))
        waves.thirds.append(np.array([[np.bincount(of_third, row, len(THIRDS) + 2)[1:-1] for row in np.abs(f) ** 2] for f in (fb, fa_heard)]))
        held = [np.fft.irfft(f, rate)[:, : rate // wide * wide] for f in (fb, fa_heard)]
        waves.windows.append(np.array([(h.reshape(len(h), -1, wide) ** 2).mean(axis=2) for h in held]))
        fb, fa = fb * band, fa * band
        size = np.sqrt(np.maximum((np.abs(fb) ** 2).sum(axis=1), 1e-12)), np.sqrt(np.maximum((np.abs(fa) ** 2).sum(axis=1), 1e-12))
        product = np.fft.irfft(fa * np.conj(fb), rate) * rate / 2
        around = np.concatenate([product[:, -reach:], product[:, : reach + 1]], axis=1)
        best = around.argmax(axis=1)
        close = around[:, reach - near : reach + near + 1]
        at_home = close.max(axis=1) >= EVEN * around.max(axis=1)
        best = np.where(at_home, close.argmax(axis=1) + reach - near, best)
        judged = loud & ((np.abs(fb) ** 2).sum(axis=1) * 2 / rate**2 > LOUD)
        lag = best - reach
        shift = np.exp(2j * np.pi * hz * (lag[judged.argmax()] / rate))
        crossed = np.real((fa * shift) @ np.conj(fb).T) / np.outer(size[1], size[0])
        alike = around[np.arange(len(best)), best] / (size[0] * size[1])
        waves.lag.append(np.where(judged, lag / rate, np.nan))
        waves.alike.append(np.where(judged, alike, np.nan))
        waves.crossed.append(np.where(judged.all(), crossed, np.nan))
        top = np.abs(b).max(axis=1) > LOUDEST
        waves.sums.append(np.stack([size[0] ** 2, size[1] ** 2, alike * size[0] * size[1], size[0] ** 2 * top], axis=1) * judged[:, None])
        waves.peaks.append(_peaks(held[0], held[1], lag))
    return _judged(waves, out)


def _peaks(b: Array, a: Array, lag: NDArray[np.int64]) -> Array:
    """(channels, 2): sums of b·b and a·b over the samples where b is largest, a brought to b's time."""
    count = max(1, int(PEAKS * b.shape[1]))
    rows = []
    for x, y, late in zip(b, a, lag, strict=True):
        top = np.argpartition(np.abs(x), -count)[-count:]
        rows.append(((x[top] ** 2).sum(), (x[top] * y[np.clip(top + late, 0, len(y) - 1)]).sum()))
    return np.array(rows)


def _judged(waves: _Waves, out: Heard) -> Heard:
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
    out.faults += _levels(np.array(waves.sums), np.array(waves.peaks)) + _holes(waves.windows) + _dulled(np.sum(waves.thirds, axis=0))
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


def _levels(sums: Array, peaks: Array) -> list[str]:
    """Is a channel louder or quieter all through, by more than what an encoder adds at random can make of it; are its peaks cut off?"""
    faults = []
    (bb, aa, ab, full), (pb, pab) = np.moveaxis(sums.sum(axis=0), -1, 0), np.moveaxis(peaks.sum(axis=0), -1, 0)
    for c in np.flatnonzero(bb > 0):
        off, unlike = 10 * np.log10(max(aa[c], 1e-12) / bb[c]), 1 - min(ab[c] ** 2 / max(aa[c] * bb[c], 1e-12), 1.0)
        if abs(off + SPARED / 2 * full[c] / bb[c]) > LEVEL_OF_ALL + 4.34 * unlike + SPARED / 2 * full[c] / bb[c]:
            faults.append(f"is {off:+.1f} dB off in channel {c + 1} all through")
        gain = ab[c] / bb[c]
        if pb[c] > 0 and pab[c] / pb[c] < CUT * gain - 0.5 * unlike:
            faults.append(f"has its peaks cut to {pab[c] / pb[c] / max(gain, 1e-6):.0%} in channel {c + 1}")
    return faults


def _holes(windows: list[Array]) -> list[str]:
    """Moments at which what was recorded is not heard, however short."""
    before, after = (np.concatenate([w[i] for w in windows], axis=1) for i in (0, 1))
    usual = np.maximum(before.mean(axis=1, keepdims=True) * 0.02, LOUD)
    gone = (before > usual) & (after < GONE * before)
    for row in gone:
        run = np.convolve(row, np.ones(HOLE), "valid") >= HOLE
        if run.any():
            return [f"is lost at {float(run.argmax()) * WINDOW:.2f} s"]
    return []


def _dulled(thirds: Array) -> list[str]:
    """Parts of the spectrum that were recorded and are not heard."""
    before, after = thirds
    judged = before > FAINT * before.sum(axis=1, keepdims=True)
    loss = np.where(judged & (before > 0), 10 * np.log10(np.maximum(before, 1e-12) / np.maximum(after, 1e-12)), 0.0)
    if (worst := float(loss.max())) > DULL:
        channel, third = np.unravel_index(int(loss.argmax()), loss.shape)
        return [f"has lost {min(worst, 99):.0f} dB at {THIRDS[third]:.0f} Hz in channel {channel + 1}"]
    return []


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
