"""Frames that went into an encoder against frames that came out of a decoder, by their looks: is it the same picture?

Compression takes and adds at random, a fault does it with system. So what is fitted to the differences of a frame's blocks is what
faults do (an offset, a gain, a movement; detail lost or come in), with limits that are tight, and what is left over has one that
follows the quantiser. The limits were set on footage that is not ours, over the whole range of qualities (``docs/numbers.md``).
All numbers are in codes of 8 bits.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .witness import Look, block_side, luma_blocks

Array = NDArray[np.float64]

NEAR = 12  # frames about one whose quantisers count for it, as it may rest on theirs
UNSAID = 4.0  # the step that is assumed where an encoder states none that means one
CLEARLY = 0.4  # a neighbour is nearer than this share of the own difference: the frames were exchanged
WORTH = 0.05  # codes, rms over the blocks, below which a movement is none, where nothing is quantised
SPARED = 0.1  # share of an edge that any encoder may take
RIDGE = 0.5  # squared codes: what lies within compression's own is no cause of anything
SUMMIT = 0.1  # share of the blocks, those with most detail, by which blur is judged


@dataclass(frozen=True)
class Fault:
    """``size`` and ``limit`` of the worst frame, or of the middle one of all frames (``frame`` −1)."""

    name: str
    frame: int
    size: float
    limit: float


def step_of(quantiser: float, encoder: str) -> float:
    """Quantiser → the distance between two levels of a coefficient, in codes of 8 bits."""
    if quantiser <= 0:
        return UNSAID
    if encoder in ("h264", "h265"):
        return float(2 ** ((min(quantiser, 51) - 4) / 6))  # H.264, 8.5.9; H.265, 8.6.4
    return UNSAID + quantiser / 4


def steps_about(quantisers: Sequence[float], encoder: str) -> Array:
    """For each frame the largest step near it."""
    steps = np.array([step_of(q, encoder) for q in quantisers])
    if len(steps) == 0:
        return steps
    padded = np.pad(steps, NEAR, mode="edge")
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, 2 * NEAR + 1).max(axis=1))


@dataclass(frozen=True)
class _Frame:
    """What one frame's differences come to."""

    offset: float
    gain: float
    right: float
    down: float
    rest: float
    most: float
    other: float  # the rest against the nearest other frame
    chroma: float
    chroma_rest: float
    chroma_right: float  # by so many of its samples both chroma planes moved
    chroma_down: float
    added: float
    noisy: float  # detail come in over the middle of all blocks
    lost: float  # of the steepest edges, beyond what is spared


def _fit(apart: Array, level: Array, tilt: Array, step: float) -> Array:
    """(4,) offset, gain, and samples to the right and down, that the differences of a plane's blocks come to. A movement whose differences, over
    all blocks, are within compression's own is none: where few blocks show any detail, what the quantiser did to these would pass for one."""
    tilt = tilt - tilt.mean(axis=1, keepdims=True)  # what leans everywhere alike, as a ramp, is as well brighter as moved
    causes = np.stack([np.ones(len(apart)), level - level.mean(), -tilt[0], -tilt[1]], axis=1)
    weight = causes.T @ causes + np.diag([1e-9, 4.0 * len(apart), 1.0, 1.0])  # a flat picture tells nothing of gain and movement
    fit = np.linalg.solve(weight, causes.T @ apart)
    worth = np.abs(fit[2:]) * np.sqrt((tilt**2).mean(axis=1))
    fit[2:][worth < WORTH + 0.01 * step] = 0.0
    return np.asarray(fit)


class _Sums:
    """What adds up over all frames: a fault that is too small to be told in one of them is not in a hundred, as compression has no bias."""

    def __init__(self, count: int) -> None:
        self.frames, self.bias = 0, np.zeros(count)
        self.level, self.cross, self.left = np.zeros((4, 4)), np.zeros((4, 3)), np.zeros(3)
        self.late, self.course = np.zeros(3), np.zeros(3)

    def add(self, before: Array, after: Array, course: Array | None) -> None:
        """Means of blocks, (planes, blocks) each; ``course``: by how much they change to the next frame, None at the ends."""
        apart = after - before
        self.frames += 1
        self.bias += apart.ravel()
        if len(before) == 3:
            level = np.concatenate([np.ones((1, before.shape[1])), before - np.array([[118.0], [128.0], [128.0]])])
            self.level += level @ level.T
            self.cross += level @ apart.T
            self.left += (apart**2).sum(axis=1)
        if course is not None:
            self.late[: len(apart)] += (apart * -course).sum(axis=1)
            self.course[: len(apart)] += (course**2).sum(axis=1)


class Comparison:
    """Takes frames one by one; ``faults()`` then says what is wrong. ``raster`` of the frames, ``bits`` of their codes."""

    def __init__(self, raster: tuple[int, int], bits: int) -> None:
        self.luma, self.side, self.scale = luma_blocks(raster), block_side(raster[0]), 2.0 ** (bits - 8)
        self.found: list[_Frame] = []
        self.steps: list[float] = []
        self._sums: _Sums | None = None

    def add(self, wanted: Look, found: Look, others: Sequence[Look], step: float) -> None:
        """A frame as it went in and as it came out; ``others`` that went in before and after it."""
        n, k = self.luma, self.scale
        before, after = wanted.means.astype(np.float64) / k, found.means.astype(np.float64) / k
        apart = after - before
        luma, chroma = apart[:n], apart[n:]
        offset, gain, right, down = (float(v) for v in _fit(luma, before[:n], wanted.tilt.astype(np.float64) / k, step))
        other = min((_rms(after[:n] - o.means[:n] / k) for o in others), default=np.inf)
        detail = wanted.detail.astype(np.float64) / k
        change = found.detail.astype(np.float64) / k - detail
        edge = wanted.edge.astype(np.float64) / k
        top = np.argsort(edge)[-max(1, int(SUMMIT * n)) :]
        halves = np.split(chroma, 2) if len(chroma) else [np.zeros(1)]
        moved = np.zeros(4) if not len(chroma) else _fit(chroma, before[n:], wanted.leans.astype(np.float64) / k, step)
        chroma_off, chroma_rest = max(abs(float(h.mean())) for h in halves), max(_rms(h) for h in halves)
        added, lost = float(change.max()), float((edge * (1 - SPARED) - found.edge / k)[top].mean())
        noisy = float(np.median(change))
        most = float(np.abs(luma).max())
        self.found.append(_Frame(offset, gain, right, down, _rms(luma), most, other, chroma_off, chroma_rest,
                                 float(moved[2]), float(moved[3]), added, noisy, lost))  # fmt: skip
        self.steps.append(step)
        planes = 3 if len(before) == 3 * n else 1
        course = (others[1].means - others[0].means) / (2 * k) if len(others) == 2 else None
        self._sums = self._sums or _Sums(planes * n)
        shaped = [None if v is None else np.asarray(v[: planes * n], np.float64).reshape(planes, n) for v in (before, after, course)]
        assert shaped[0] is not None and shaped[1] is not None
        self._sums.add(shaped[0], shaped[1], shaped[2])

    def faults(self) -> list[Fault]:
        """The worst of each kind, none if all is well."""
        if not self.found:
            return []
        step, side = np.array(self.steps), self.side
        get = {name: np.array([getattr(f, name) for f in self.found]) for name in _Frame.__dataclass_fields__}
        rest = 0.4 + step * (0.15 + 1.2 / side)
        rows: list[tuple[str, Array, Array]] = [
            ("brightness", np.abs(get["offset"]), 0.5 + 0.08 * step),
            ("contrast", np.abs(get["gain"]), 0.02 + 0.004 * step),
            ("place", np.maximum(np.abs(get["right"]), np.abs(get["down"])), 0.5 + 0.04 * step),
            ("picture", get["rest"], rest),
            ("one place of the picture", get["most"], 6 * rest),
            ("colour", get["chroma"], 0.4 + 0.06 * step),
            ("colours", get["chroma_rest"], 2 * rest),
            ("noise", get["added"], 5 + step * (0.6 + 6 / side)),
            ("sharpness", get["lost"], 2.0 + 0.9 * step),
        ]  # fmt: skip
        found = []
        for name, size, limit in rows:
            at = int(np.argmax(size / limit))
            if size[at] > limit[at]:
                found.append(Fault(name, at, float(size[at]), float(limit[at])))
        middle = float(np.median(step))
        for name, sizes, most in (
            ("brightness of all", get["offset"], 0.3 + 0.03 * middle),
            ("contrast of all", get["gain"], 0.012 + 0.0015 * middle),
            ("sharpness of all", np.maximum(get["lost"], 0), 1.5 + 0.85 * middle),
            ("place of all", get["right"], 0.15 + 0.01 * middle),
            ("place of all", get["down"], 0.15 + 0.01 * middle),
            ("place of colour", get["chroma_right"], 0.3 + 0.04 * middle),
            ("place of colour", get["chroma_down"], 0.3 + 0.04 * middle),
            ("noise of all", np.maximum(get["noisy"], 0), 0.6 + 0.3 * middle),
        ):
            if (off := abs(float(np.median(sizes)))) > most:
                found.append(Fault(name, -1, off, most))
        taken = (get["other"] < CLEARLY * get["rest"]) & (get["rest"] > 0.2 + 0.02 * step)
        if taken.any():
            at = int(np.argmax(taken))
            found.append(Fault("order", at, float(get["other"][at]), float(get["rest"][at])))
        return found + self._over_all(middle)

    def _over_all(self, step: float) -> list[Fault]:
        """Faults that are the same in all frames."""
        sums, found = self._sums, list[Fault]()
        assert sums is not None
        bias, limit = float(np.abs(sums.bias).max() / sums.frames), 0.8 + 0.25 * step + (3 + step) / np.sqrt(sums.frames)
        if bias > limit:
            found.append(Fault("the same place of every frame", -1, bias, limit))
        count = sums.level[0, 0]
        if count:
            mean, crossed = sums.level[0, 1:] / count, sums.cross / count
            level = sums.level[1:, 1:] / count - np.outer(mean, mean)
            mixed = np.linalg.solve(level + RIDGE * np.eye(3), crossed[1:] - np.outer(mean, crossed[0]))
            worth = np.sqrt(np.maximum(np.diag(mixed.T @ level @ mixed), 0))  # codes that this comes to in each plane
            most = 0.03 + 0.005 * step
            bad = (np.abs(mixed) > most) & (worth > 0.12 + 0.025 * step)
            if bad.any():
                found.append(Fault("mixture of luma and colours", -1, float(np.where(bad, np.abs(mixed), 0).max()), most))
        for plane, name in enumerate(("moment of the picture", "moment of colour", "moment of colour")):
            if sums.course[plane] > 0 and np.sqrt(sums.course[plane] / sums.frames / self.luma) > 0.08 + 0.02 * step:
                late, most = float(sums.late[plane] / sums.course[plane]), 0.2 + 0.015 * step
                if abs(late) > most:
                    found.append(Fault(name, -1, late, most))
        return found


def _rms(values: Array) -> float:
    return float(np.sqrt(np.mean(values**2)))
