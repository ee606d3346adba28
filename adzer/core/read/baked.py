"""Does a proxy carry a look that its master does not? Both are compared, frame by frame, at one small size."""

from __future__ import annotations

import numpy as np

from ..light.samples import Samples
from ..look import sampling
from ..media.decode import opened
from ..media.probe import FileFacts
from .seen import Guess

GRID = (48, 32)
TONE, COLOUR = 0.03, 0.25


def compare(
    master: FileFacts, proxy: FileFacts, master_samples: Samples, proxy_samples: Samples, looks: int = 3, offset: int = 0
) -> Guess:
    """``look`` if tones or colours differ more than coding does, ``same`` if not; with both numbers. ``offset``: the
    master's frame at which the proxy begins."""
    lumas, chromas = [], []
    with opened(master.sources, master.fingerprint) as a, opened(proxy.sources, proxy.fingerprint) as b:
        first = max(0, offset)
        n = max(min(len(a), offset + len(b)) - first, 1)
        for k in sorted({first + int((i + 0.5) * n / looks) for i in range(min(looks, n))}):
            cells = [_cells(r.frame(at), s) for r, at, s in ((a, k, master_samples), (b, k - offset, proxy_samples))]
            lumas.append([c @ np.array([0.2126, 0.7152, 0.0722]) for c in cells])
            chromas.append([c - y[..., None] for c, y in zip(cells, lumas[-1], strict=True)])
    ya, yb = (np.concatenate([pair[i].ravel() for pair in lumas]) for i in (0, 1))
    ca, cb = (np.concatenate([pair[i].reshape(-1, 3) for pair in chromas]) for i in (0, 1))
    tone = float(np.mean(np.abs(ya - yb)))
    strength = float((ca * cb).sum() / max((ca * ca).sum(), 1e-9))
    agree = float(np.corrcoef(ya, yb)[0, 1]) if ya.std() > 1e-4 and yb.std() > 1e-4 else 1.0
    saw = f"its tones differ by {tone:.1%} of the signal on average, its colours are {strength:.2f} times as strong"
    if agree < 0.6:
        return Guess(
            "other", 0.8, f"its pictures agree with the master's to {agree:.0%} only: it may be another recording"
        )
    differs = tone > TONE or abs(strength - 1) > COLOUR
    margin = max(tone / TONE, abs(strength - 1) / COLOUR)
    return Guess("look" if differs else "same", round(float(np.clip(0.5 + 0.4 * abs(margin - 1), 0.5, 0.99)), 3), saw)


def _cells(frame: object, samples: Samples) -> np.ndarray:
    """R′G′B′ means over a fixed grid of cells, whatever the raster."""
    w, h = frame.raster  # type: ignore[attr-defined]
    step = max(1, w // 384)
    rgb = sampling.rgb(frame, samples, step)  # type: ignore[arg-type]
    rows, columns = -(-h // step), -(-w // step)
    picture = rgb.reshape(rows, columns, 3)
    y = np.linspace(0, rows, GRID[1] + 1).astype(int)
    x = np.linspace(0, columns, GRID[0] + 1).astype(int)
    sums = np.add.reduceat(np.add.reduceat(picture, y[:-1], axis=0), x[:-1], axis=1)
    count = np.outer(np.diff(y), np.diff(x))[..., None]
    result: np.ndarray = sums / count
    return result
