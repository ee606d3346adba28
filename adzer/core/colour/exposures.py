"""Recordings of one still scene at several exposures → the signals of its places, and a curve card."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import AdzerError
from ..light.samples import Samples
from ..media import probe
from ..media.decode import opened
from ..media.formats import SUBSAMPLING, PixelFormat
from . import gamut
from .fit import Response, fit
from .gamut import Gamut, Patch

FRAMES = 8  # of each recording, so that noise is less
EVERY = 4  # pixels


def measured(files: Sequence[Path], stops: str, grey: str, board: Sequence[Patch] = ()) -> tuple[Response, Gamut | None]:
    """The response of a camera, and its primaries if a ``board`` of known patches is in the picture. AdzerError or
    UnreadableError with a sentence if they cannot be had."""
    ev = _numbers("--stops", stops, len(files))
    x, y, w, h = (int(v) for v in _numbers("--grey", grey, 4))
    facts = [probe.probe(f) for f in files]
    for other in facts[1:]:
        if (other.raster, other.bits, other.chroma) != (facts[0].raster, facts[0].bits, facts[0].chroma):
            raise AdzerError(f"{other.path} is not recorded as {facts[0].path} is. All exposures must be of one camera and mode.")
    for place in ((x, y, w, h), *(p.place for p in board)):
        _inside(place, facts[0].raster)
    pictures = [_signal(f) for f in facts]
    nearest = int(np.argmin(np.abs(np.array(ev))))
    if abs(ev[nearest]) > 1e-6:
        raise AdzerError(f"--stops {stops}: one of them must be 0, the exposure in which the grey patch is right.")
    patch = _colour(pictures[nearest], (x, y, w, h))
    places = np.stack([p[::EVERY, ::EVERY].reshape(-1) for p in pictures])
    made = fit(places, ev, float(np.median(patch)))
    if not board:
        return made, None
    neutral = np.interp(patch, made.signal, made.light)
    if np.ptp(neutral) > gamut.GREYEST * neutral[1]:
        raise AdzerError(f"--grey {grey}: the patch is not neutral. Balance the camera on it before primaries are measured.")
    light = np.stack([_light(made, pictures, ev, p.place) for p in board])
    return made, gamut.fit(light, np.array([p.xyz for p in board]))


def _inside(place: tuple[int, int, int, int], raster: tuple[int, int]) -> None:
    x, y, w, h = place
    if not (x >= 0 and y >= 0 and w >= 4 and h >= 4 and x + w <= raster[0] and y + h <= raster[1]):
        raise AdzerError(f"The patch {x},{y},{w},{h} must lie inside the picture, which is {raster[0]}×{raster[1]}, and be 4×4 or more.")


def _colour(picture: NDArray[np.float64], place: tuple[int, int, int, int]) -> NDArray[np.float64]:
    x, y, w, h = place
    return np.asarray(np.median(picture[y : y + h, x : x + w].reshape(-1, 3), axis=0))


def _light(
    made: Response, pictures: Sequence[NDArray[np.float64]], ev: Sequence[float], place: tuple[int, int, int, int]
) -> NDArray[np.float64]:
    """R, G, B light of a patch at exposure 0, by all exposures that hold the whole of it."""
    found = []
    for picture, stop in zip(pictures, ev, strict=True):
        signal = _colour(picture, place)
        if np.all((signal > made.signal[1]) & (signal < made.signal[-2])):
            found.append(np.interp(signal, made.signal, made.light) / 2**stop)
    if not found:
        raise AdzerError(f"The patch {','.join(map(str, place))} is cut off, or black, in every exposure. Leave it out.")
    return np.asarray(np.median(found, axis=0))


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
    with opened(facts.sources, facts.fingerprint) as reader:
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


def text(made: Response, title: str, primaries: str | None = None) -> str:
    """The card as TOML; ``primaries``: the name of the card that goes with it."""
    quoted = title.replace("\\", "").replace('"', "'")
    low, high = made.reach
    linear = ", ".join(f"{v:.8g}" for v in made.light)
    signal = ", ".join(f"{v:.6f}" for v in made.signal)
    paired = f'primaries = "{primaries}"\n' if primaries else ""
    return (
        f'title = "{quoted}"\n{paired}form = "table"\nlevels = "signal"\nlinear = [{linear}]\nsignal = [{signal}]\n'
        f'note = "Measured from exposures, {low:+.1f} to {high:+.1f} stops about middle grey, within {made.doubt:.3f} stops from -5 to +3."\n'
    )
