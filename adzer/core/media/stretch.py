"""Sound at another speed and its own pitch, with a time map that is exact: what is heard at input sample ``x`` is heard again at
``x / speed``, everywhere, with no latency that would have to be known or taken off.

A phase vocoder (Portnoff 1976) whose analysis frames lie at the places that the speed gives, each with a second one a synthesis
hop before it, so that a phase's advance is measured and never unwrapped. Peaks take what is around them along (Laroche and
Dolson 1999), and one rotation is solved for all channels together, so that what lies between two of them stays where it is. What
such frames would smear, attacks, is taken out first and put back unstretched: the part of a short window about each onset that
stands out of its surroundings in time (median filtering along time, FitzGerald 2010).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

Block = NDArray[np.float32]

FRAME = 0.043  # seconds, to the nearest power of two samples: a few periods of a low voice
OVERLAP = 4
RISE = 12.0  # times the energy of the last BEFORE seconds that make an onset
BEFORE, APART = 0.02, 0.012
LEAD, HELD, FADE = 0.0025, 0.008, 0.006  # seconds of an attack's window: before the onset, flat, falling
AROUND = 0.04  # seconds on both sides that tell what is not the attack
LOUDER = 4.0  # times the last onset's power: another one, however near
SILENCE = 1e-10  # mean square of a step that is never an onset


class _Tape:
    """Blocks one after another, read at any place that still lies ahead of what was let go; silence beyond both ends."""

    def __init__(self, blocks: Iterable[Block]) -> None:
        self._blocks = iter(blocks)
        first = next(self._blocks, None)
        self.channels = 1 if first is None else len(first)
        self._held: Block = np.zeros((self.channels, 0), np.float32) if first is None else first
        self._from, self.ended = 0, first is None

    def _reach(self, stop: int) -> None:
        more = [self._held]
        end = self._from + self._held.shape[1]
        while end < stop and not self.ended:
            block = next(self._blocks, None)
            if block is None:
                self.ended = True
            else:
                more.append(block)
                end += block.shape[1]
        if len(more) > 1:
            self._held = np.concatenate(more, axis=1)

    def read(self, start: int, stop: int) -> Block:
        """A copy of samples [start, stop), (channels, stop − start)."""
        self._reach(stop)
        out = np.zeros((self.channels, stop - start), np.float32)
        a, b = max(start, self._from), min(stop, self._from + self._held.shape[1])
        if b > a:
            out[:, a - start : b - start] = self._held[:, a - self._from : b - self._from]
        return out

    def less(self, start: int, piece: Block) -> None:
        """Takes ``piece`` off what lies there."""
        self._reach(start + piece.shape[1])
        a, b = max(start, self._from), min(start + piece.shape[1], self._from + self._held.shape[1])
        if b > a:
            self._held[:, a - self._from : b - self._from] -= piece[:, a - start : b - start]

    def forget(self, before: int) -> None:
        if before > self._from:
            self._held = self._held[:, before - self._from :]
            self._from = before

    @property
    def end(self) -> int:
        return self._from + self._held.shape[1]


class _Attacks:
    """Finds onsets on a tape and takes them off it, a stretch at a time."""

    def __init__(self, tape: _Tape, rate: int) -> None:
        self.tape, self.rate = tape, rate
        self.step = max(1, round(rate / 1000))
        self.done = 0  # samples looked at, a multiple of a step
        self._waiting: int | None = None  # its window ends before the next, which is not known yet
        self._last = (-rate, 0.0)  # the newest onset and its power
        self.found: list[tuple[int, int, Block]] = []  # onset, where the piece begins, the piece

    def until(self, stop: int) -> None:
        """Looks at everything before ``stop``."""
        around = self._samples(AROUND) + self._samples(BEFORE)
        while self.done < stop:
            first, last = self.done, self.done + self.rate // 4 // self.step * self.step
            back = self._samples(BEFORE) // self.step
            sound = self.tape.read(first - (back + 1) * self.step - 1, last + around)
            power = (np.diff(sound, axis=1).astype(np.float64) ** 2).sum(axis=0)
            power = power[: len(power) // self.step * self.step].reshape(-1, self.step).mean(axis=1)
            last_onset, last_power = self._last
            summed = np.concatenate([[0.0], np.cumsum(power)])
            for k in range((last - first) // self.step):
                at = k + back + 1
                before = (summed[at - 1] - summed[at - 1 - (back - 1)]) / (back - 1)
                here = first + k * self.step
                if power[at] <= max(RISE * before, SILENCE) or power[at] < power[at + 1] / 4:
                    continue
                if here - last_onset < self._samples(APART) and power[at] < LOUDER * last_power:
                    continue
                inside = np.diff(self.tape.read(here - 1, here + self.step), axis=1).astype(np.float64) ** 2
                last_onset, last_power = here + int(inside.sum(axis=0).argmax()), float(power[at])
                self._take(last_onset - self._samples(LEAD))
                self._waiting = last_onset
            self._last = last_onset, last_power
            if self._waiting is not None and self._waiting + self._samples(HELD + FADE) <= last:
                self._take(last)
            self.done = last

    def _samples(self, seconds: float) -> int:
        return round(seconds * self.rate)

    def _take(self, before: int) -> None:
        """What of the window about the waiting onset is not there before and after it, off the tape; the window ends
        ``before`` the next."""
        if (onset := self._waiting) is None:
            return
        self._waiting = None
        start, stop = onset - self._samples(AROUND), onset + self._samples(AROUND)
        n = 1 << max(5, round(np.log2(0.0053 * self.rate)))
        hop = n // 4
        sound = self.tape.read(start - n, stop + n)
        window = np.hanning(n + 1)[:n]
        places = np.arange(0, sound.shape[1] - n + 1, hop)
        frames = np.fft.rfft(sound[:, places[:, None] + np.arange(n)] * window, axis=-1)
        power = (np.abs(frames) ** 2).sum(axis=0)
        usual = np.median(power, axis=0)
        share = np.maximum(power - 2 * usual, 0) / np.maximum(power, 1e-30)
        pieces = np.fft.irfft(frames * share, n, axis=-1) * window
        alone = np.zeros(sound.shape)
        for i, place in enumerate(places):
            alone[:, place : place + n] += pieces[:, i]
        alone /= 1.5
        lead, held, fade = (self._samples(s) for s in (LEAD, HELD, FADE))
        rise = np.sin(np.linspace(0, np.pi / 2, lead + 1)[1:]) ** 2
        fall = np.cos(np.linspace(0, np.pi / 2, fade)) ** 2
        shape = np.concatenate([rise, np.ones(held), fall])
        if (room := before - (onset - lead)) < len(shape):
            shape = shape[:room] * np.minimum(1, np.arange(room, 0, -1) / lead)
        begin = onset - lead
        piece = (alone[:, begin - (start - n) :][:, : len(shape)] * shape).astype(np.float32)
        self.tape.less(begin, piece)
        self.found.append((onset, begin, piece))


def stretched(blocks: Iterable[Block], rate: int, speed: Fraction, total: int) -> Iterator[Block]:
    """``total`` samples of the sound in ``blocks`` (channels, any number; −1 … 1) played ``speed`` (> 0) times as fast.

    An event at input sample x comes at x / speed: attacks to the sample, the rest as the centre of a frame of 43 ms. Channels
    keep their phase against each other. At speed 1 the sound is what it was. Memory does not grow with length.
    """
    tape = _Tape(blocks)
    size = 1 << round(np.log2(FRAME * rate))
    hop, half = size // OVERLAP, size // 2
    window = np.hanning(size + 1)[:size]
    attacks = _Attacks(tape, rate)
    channels = tape.channels
    ahead = np.zeros((channels, size + 8 * hop), np.float64)  # output from ``given`` on, not yet whole
    weight = np.zeros(ahead.shape[1])
    given, pasted = 0, 0
    last: NDArray[np.complex128] | None = None
    lead = round((LEAD + HELD + FADE) * rate)  # as long as an attack's window

    def spectrum(centre: int) -> NDArray[np.complex128]:
        return np.asarray(np.fft.rfft(tape.read(centre - half, centre + half) * window, axis=-1))

    for m in range(-OVERLAP, -(-total // hop) + OVERLAP):
        place = (2 * m * hop * speed.numerator + speed.denominator) // (2 * speed.denominator)  # rounded
        attacks.until(place + half + 2 * lead)
        here = spectrum(place)
        near = any(abs(onset - place) <= hop // 2 for onset, _, _ in attacks.found)
        if last is None or near:
            made = here
        else:
            before = spectrum(place - hop)
            made = here * _rotation(here, (last * np.conj(before)).sum(axis=0))
        last = made
        tape.forget(place - half - 2 * hop - round(2 * AROUND * rate) - size)
        piece = np.fft.irfft(made, size, axis=-1) * window
        begin = m * hop - half - given
        a, b = max(0, -begin), min(size, ahead.shape[1] - begin)
        if b > a:
            ahead[:, begin + a : begin + b] += piece[:, a:b]
            weight[begin + a : begin + b] += window[a:b] ** 2
        whole = min(total, m * hop + hop - half) - given  # nothing later reaches before that
        if whole <= 0:
            continue
        out = ahead[:, :whole] / np.maximum(weight[:whole], 1e-3)
        keep = ahead.shape[1] - whole
        ahead[:, :keep], weight[:keep] = ahead[:, whole:].copy(), weight[whole:].copy()
        ahead[:, keep:], weight[keep:] = 0.0, 0.0
        for onset, start, sound in attacks.found[pasted:]:
            at = round(Fraction(onset) / speed) - (onset - start)
            if at >= given + whole:
                break
            x, y = max(0, given - at), min(sound.shape[1], given + whole - at)
            if y > x:
                out[:, at + x - given : at + y - given] += sound[:, x:y]
        while pasted < len(attacks.found) and _end(attacks.found[pasted], speed) <= given + whole:
            pasted += 1
        del attacks.found[: max(0, pasted - 8)]
        pasted = min(pasted, 8)
        given += whole
        yield out.astype(np.float32)
    if given < total:  # never with blocks of any length; a promise is a promise
        yield np.zeros((channels, total - given), np.float32)


def _end(attack: tuple[int, int, Block], speed: Fraction) -> int:
    onset, start, sound = attack
    return round(Fraction(onset) / speed) - (onset - start) + sound.shape[1]


def _rotation(here: NDArray[np.complex128], wanted: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """One turn a bin, (bins,): that of the peak it belongs to, of all channels together."""
    power = (np.abs(here) ** 2).sum(axis=0)
    edge = np.pad(power, 2, mode="edge")
    n = len(power)
    peak = np.flatnonzero(np.all([power >= edge[k : k + n] for k in (0, 1, 3, 4)], axis=0) & (power > 0))
    turn = wanted.copy()
    turn[1:] += wanted[:-1]
    turn[:-1] += wanted[1:]
    size = np.abs(turn)
    unit = np.where(size > 1e-20, turn / np.maximum(size, 1e-20), 1.0)
    if len(peak) == 0:
        return np.ones(n, np.complex128)
    return np.asarray(unit[peak[np.searchsorted((peak[1:] + peak[:-1]) / 2, np.arange(n))]])
