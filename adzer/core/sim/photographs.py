"""Photographs as a camera might have recorded them: examples of every kind of curve from pictures that are not of the simulated world.

A photograph is a display picture. Its light is reckoned back, with highlights that the picture no longer holds, exposed anew, made hazy
now and then, given noise, and encoded by a look of known kind (``sim.suite.look``). Parts of it stand for scenes of one thing: a wall,
a sky, gravel.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..light import curves
from ..light.chain import KNEE
from ..read import kinds, measure
from . import suite

Array = NDArray[np.float64]
ACROSS = 220  # pixels of a part that are looked at
AS_THEY_ARE = 0.5  # of display examples, that keep the photograph's own levels
HAZE = 0.12  # of all examples
GREY = 0.1  # of all examples, of which colours tell nothing
SHARES = (0.46, 0.42, 0.05, 0.02, 0.05)  # of examples, in the order of ``kinds.KINDS``
ENDINGS = (".png", ".jpg", ".jpeg", ".webp")


def files(folder: Path) -> list[Path]:
    """All pictures below a folder, by name."""
    return sorted(p for p in folder.rglob("*") if p.suffix.lower() in ENDINGS)


def part(picture: NDArray[np.uint8], rng: np.random.Generator) -> Array:
    """R′G′B′ (n, 3) of the whole picture or a part of it, down to a quarter of its sides."""
    h, w = picture.shape[:2]
    share = 1.0 if rng.random() < 0.4 else float(rng.uniform(0.25, 1))
    high, wide = max(int(h * share), 8), max(int(w * share), 8)
    top, left = int(rng.integers(h - high + 1)), int(rng.integers(w - wide + 1))
    step = max(1, wide // ACROSS)
    cut = picture[top : top + high : step, left : left + wide : step, :3].reshape(-1, 3).astype(np.float64)
    return np.asarray(np.clip((cut + rng.uniform(-0.5, 0.5, cut.shape)) / 255, 0, 1))


def scene_light(signal: Array, rng: np.random.Generator) -> Array:
    """Scene light of a display picture, (n, 3); 1 is its white. What was rolled off above the knee is spread again, as far as it may have gone."""
    light = curves.STANDARD["srgb"].decode(signal)
    peak, room = float(rng.uniform(1.2, 10)), 1 - KNEE
    t = np.clip((light - KNEE) / room, 0, 1)
    spread = KNEE + (peak - KNEE) * t / (1 + (1 - t) * ((peak - KNEE) / room - 1))  # rises as steeply as before at the knee
    return np.where(light > KNEE, spread, light)


def hazed(light: Array, rng: np.random.Generator) -> Array:
    """Light through fog: less of its own, and some of the air's."""
    air, clear = float(rng.uniform(0.15, 0.6)), float(rng.uniform(0.15, 0.8))
    return light * clear + air * (1 - clear)


def example(picture: NDArray[np.uint8], kind: str, rng: np.random.Generator) -> Array:
    """R′G′B′ signal (n, 3) of a part of the picture in a look of one kind."""
    signal = part(picture, rng)
    if rng.random() < GREY:
        signal = np.repeat(signal @ np.array([[0.2126], [0.7152], [0.0722]]), 3, axis=1)
    haze = rng.random() < HAZE
    if kind == "display" and not haze and rng.random() < AS_THEY_ARE:
        return signal
    light = scene_light(signal, rng)
    if haze:
        light = hazed(light, rng)
    look = suite.look(kind, rng, shipped=False)
    down = float(rng.choice([0.0, 0.0, rng.uniform(-4, 0)])) if kind == "display" else 0.0  # nights are displayed dark
    well, read = float(10 ** rng.uniform(3.4, 5)), float(rng.uniform(2, 8))
    exposed = light * 2.0 ** (look.exposure + down) * well
    light = (exposed + rng.standard_normal(light.shape) * np.sqrt(np.maximum(exposed, 0) + read**2)) / well
    grey = light @ np.array([0.2126, 0.7152, 0.0722])
    return np.asarray(look.encode(grey[..., None] + look.saturation * (light - grey[..., None])))


def _examples_of(path: Path, count: int, seed: int) -> list[tuple[Array, int]]:
    import cv2

    read = cv2.imread(str(path), cv2.IMREAD_COLOR)
    if read is None or min(read.shape[:2]) < 64:
        return []
    picture = np.asarray(read[..., ::-1], np.uint8)
    rng = np.random.default_rng([seed, *path.name.encode()])
    made = []
    for kind in rng.choice(kinds.KINDS, count, p=SHARES):
        signal = example(picture, str(kind), rng)
        bits = 8 if rng.random() < 0.4 and kind in ("display", "log") else 10
        signal = np.round(np.clip(signal, -0.06, 1.09) * 219 * 2 ** (bits - 8)) / (219 * 2 ** (bits - 8))
        made.append((kinds.features(measure.levels(signal)), kinds.KINDS.index(str(kind))))
    return made


def collection(paths: Sequence[Path], each: int = 40, seed: int = 11) -> Iterator[tuple[Path, Array, int]]:
    """(photograph, features, kind) of ``each`` examples of every photograph; what cannot be read is left out."""
    with ProcessPoolExecutor(2) as pool:
        for path, rows in zip(paths, pool.map(partial(_examples_of, count=each, seed=seed), paths), strict=True):
            for values, kind in rows:
                yield path, values, kind
