"""The rhythm of a recording: frames that are missing, that come twice, and lines that belong to two moments."""

from __future__ import annotations

import numpy as np

from ..light.samples import Samples
from ..look import sampling
from ..media.decode import Frame
from ..media.probe import FrameIndex
from .seen import Rhythm


def measure(index: FrameIndex, run: list[Frame], samples: Samples) -> Rhythm:
    """Gaps from all time stamps; repeats and interlace from a run of consecutive frames."""
    gaps = np.diff(index.pts).astype(np.float64)
    usual = float(np.median(gaps)) if len(gaps) else 0.0
    late = np.flatnonzero(gaps > 1.6 * usual) if usual else np.zeros(0, int)
    lost = int(np.sum(np.round(gaps[late] / usual) - 1)) if len(late) else 0
    if len(late) > len(gaps) / 3:
        late, lost = late[:0], 0  # that is a varying rate, not frames that were dropped
    lumas = [sampling.luma(f, samples, window=(1280, 720)) for f in run]
    moves = [float(np.abs(a - b).mean()) for a, b in zip(lumas[:-1], lumas[1:], strict=True)]
    still = max(moves, default=0.0) * 0.04
    repeats = [m <= max(still, 1e-5) for m in moves] if moves and max(moves) > 2e-3 else []
    combs = [c for a, b in zip(lumas[:-1], lumas[1:], strict=True) if (c := _comb(a, b)) > 0]
    comb = float(np.median(combs)) if combs else 0.0
    return Rhythm(
        late=tuple(late[:50].tolist()), lost=lost, doubled=round(float(np.mean(repeats)), 3) if repeats else 0.0,
        run=len(run), comb=round(comb, 3), interlaced=comb > 1.15,
    )  # fmt: skip


def _comb(before: np.ndarray, now: np.ndarray) -> float:
    """Difference to the next line over the difference to the line after it, where the picture moved; 0 if it did not."""
    moved = np.abs(now - before)[1:-2] > 0.05
    if moved.mean() < 1e-3:
        return 0.0
    next_ = np.abs(now[1:-2] - now[2:-1])[moved].mean()
    after = np.abs(now[1:-2] - now[3:])[moved].mean()
    return float(next_ / max(after, 1e-4))
