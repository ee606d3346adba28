"""Recordings of one still scene at several exposures → the signals of its places, and a curve card."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..media import probe
from ..media.decode import Reader
from ..media.formats import SUBSAMPLING, PixelFormat
from ..pixels import Samples
from .fit import Response, fit

FRAMES = 8  # of each recording, so that noise is less
EVERY = 4  # pixels


def card(files: Sequence[Path], stops: str, grey: str) -> Response:
    """The response of a camera. AdzerError or UnreadableError with a sentence if it cannot be had."""
    ev = _numbers("--stops", stops, len(files))
    x, y, w, h = (int(v) for v in _numbers("--grey", grey, 4))
    facts = [probe.probe(f) for f in files]
    for other in facts[1:]:
        if (other.raster, other.bits, other.chroma) != (facts[0].raster, facts[0].bits, facts[0].chroma):
            raise AdzerError(f"{other.path} is not recorded as {facts[0].path} is. All exposures must be of one camera and mode.")
    if not (x >= 0 and y >= 0 and w >= 4 and h >= 4 and x + w <= facts[0].raster[0] and y + h <= facts[0].raster[1]):
        raise AdzerError(f"--grey {grey}: the patch must lie inside the picture, which is {facts[0].raster[0]}×{facts[0].raster[1]}.")
    pictures = [_signal(f) for f in facts]
    nearest = int(np.argmin(np.abs(np.array(ev))))
    if abs(ev[nearest]) > 1e-6:
        raise AdzerError(f"--stops {stops}: one of them must be 0, the exposure in which the grey patch is right.")
    patch = float(np.median(pictures[nearest][y : y + h, x : x + w]))
    places = np.stack([p[::EVERY, ::EVERY].reshape(-1) for p in pictures])
    return fit(places, ev, patch)


def _numbers(option: str, text: str, count: int) -> list[float]:
    try:
        found = [float(part) for part in text.replace("−", "-").split(",")]
    except ValueError:
        found = []
    if len(found) != count or not np.isfinite(found).all():
        raise AdzerError(f"{option} {text}: give {count} numbers with commas between.")
    return found


def _signal(facts: probe.FileFacts) -> NDArray[np.float64]:
    """The mean R′G′B′ signal of some frames, (height, width, 3)."""
    form = PixelFormat(facts.bits, facts.chroma, facts.rgb)
    matrix = "rgb" if facts.rgb else facts.matrix if facts.matrix not in (None, "rgb") else "bt709"
    samples = Samples(form, matrix or "bt709", facts.range != "full" and not facts.rgb)
    with Reader(facts.source, print_=facts.fingerprint) as reader:
        total, count = None, 0
        for frame in reader.frames(0, FRAMES):
            sx, sy = SUBSAMPLING[facts.chroma]
            planes = [frame.cropped(i).astype(np.float64) for i in range(len(frame.planes))]
            h, w = planes[0].shape
            wide = [planes[0], *(np.kron(p, np.ones((sy, sx)))[:h, :w] for p in planes[1:])]
            both = np.stack(wide if len(wide) == 3 else wide * 3, axis=-1)
            total, count = both if total is None else total + both, count + 1
    assert total is not None
    to_signal = samples.to_signal()
    return np.asarray(total / count @ to_signal[:, :3].T + to_signal[:, 3])


def text(made: Response, title: str) -> str:
    """The card as TOML."""
    quoted = title.replace("\\", "").replace('"', "'")
    low, high = made.reach
    linear = ", ".join(f"{v:.8g}" for v in made.light)
    signal = ", ".join(f"{v:.6f}" for v in made.signal)
    return (
        f'title = "{quoted}"\nform = "table"\nlevels = "signal"\nlinear = [{linear}]\nsignal = [{signal}]\n'
        f'note = "Measured from exposures, {low:+.1f} to {high:+.1f} stops about middle grey, within {made.doubt:.3f} stops from -5 to +3."\n'
    )
