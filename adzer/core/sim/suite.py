"""Many small recordings with known answers and no tags: the collection that curve kinds are known by, and the suite that
identification is judged on. Collection and suite share no scene, exposure or seed, and no log curve. The greater part of the
collection are photographs (``photographs``), which no test shows.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from ..light import curves
from ..light import names as colour_cards
from ..light.chain import shoulder
from ..light.samples import Samples
from ..media.encode import VideoSpec, VideoTags, Writer
from ..media.formats import PixelFormat
from ..read.kinds import KINDS, softmax
from ..run.filters import simple_reduction
from ..run.reference import resample
from .camera import Camera, Pose, Recorder
from .optics import Disc, RoundLens, Sphere, eyes

SHARES = (0.44, 0.38, 0.08, 0.04, 0.06)  # of recordings that come without a tag: PQ and HLG nearly always have one
MOMENT = 1.5  # seconds between a case's frames, so that the camera sees more than one view
LAYOUTS = ("flat", "sphere", "half sphere", "round lens", "two round lenses", "eyes beside", "eyes beside, half", "eyes over",
           "eyes over, half", "sphere eyes over", "half sphere eyes beside")  # fmt: skip


@dataclass(frozen=True)
class Case:
    """One recording: its camera, its curve's kind and everything that a person could be told about it."""

    number: int
    layout: str
    kind: str
    camera: Camera
    look: Look
    answers: dict[str, Any]


@dataclass(frozen=True)
class Look:
    """From scene light to signal: ``encode`` after ``exposure`` stops; display looks with contrast and saturation."""

    kind: str
    name: str
    encode: Callable[[np.ndarray], np.ndarray]
    exposure: float
    saturation: float = 1.0


def _display(rng: np.random.Generator) -> Callable[[np.ndarray], np.ndarray]:
    """A camera's finished picture: BT.709 or sRGB, rolled off, with some contrast of its own."""
    white, contrast = rng.uniform(2.5, 10), rng.uniform(0.85, 1.35)
    lift = rng.choice([0.0, 0.0, 0.0, rng.uniform(0, 0.03)])
    base = curves.STANDARD[rng.choice(["bt709", "srgb", "bt709", "gamma22"])].encode

    def encode(x: np.ndarray) -> np.ndarray:
        y = base(np.clip(shoulder(np.maximum(x, 0), white), 0, 1))
        return lift + (1 - lift) * np.clip(0.42 * (np.maximum(y, 0) / 0.42) ** contrast, 0, 1)

    return encode


def _random_log(rng: np.random.Generator) -> Callable[[np.ndarray], np.ndarray]:
    """A log curve of no card: black at 3–15 %, grey at 30–46 %, 5–8 stops above grey, a straight toe."""
    black, grey, above = rng.uniform(0.03, 0.15), rng.uniform(0.30, 0.46), rng.uniform(5.0, 8.0)
    slope = (rng.uniform(0.9, 1.0) - grey) / above  # signal a stop
    c = slope / np.log10(2)
    # y = c·log10(a·x + b) + d with y(0) = black and y(0.18) = grey, high stops ``slope`` apart
    b = 0.18 / (10 ** ((grey - black) / c) - 1) if grey - black < 12 * c else 1e-4
    b = float(np.clip(b, 5e-4, 0.2))
    d = grey - c * np.log10(0.18 + b)
    return lambda x: c * np.log10(np.maximum(x, -0.6 * b) + b) + d


def look(kind: str, rng: np.random.Generator, shipped: bool) -> Look:
    """A random look of one kind; ``shipped`` logs are curve cards, the others are made up on the spot."""
    exposure = float(rng.uniform(-1.6, 1.4))
    if kind == "display":
        return Look(kind, "display", _display(rng), float(rng.uniform(-0.9, 0.9)), float(rng.uniform(0.8, 1.3)))
    if kind == "log":
        if shipped:
            name = str(rng.choice(["fen-log", "reed-log", "acescct", "brick-table"]))
            return Look(kind, name, colour_cards.curve(name).encode, exposure, float(rng.uniform(0.6, 1.0)))
        return Look(kind, "made up", _random_log(rng), exposure, float(rng.uniform(0.6, 1.0)))
    if kind == "linear":
        return Look(kind, "linear", lambda x: np.clip(x, 0, 1.0), float(rng.uniform(-2.2, 0.2)))
    limit = 1000 if kind == "pq" else None
    encode = curves.STANDARD[kind].encode
    peak = float(rng.uniform(3, limit / 203)) if limit else 12.0
    return Look(kind, kind, lambda x: np.clip(encode(np.minimum(x, peak)), 0, 1), float(rng.uniform(-1.0, 0.6)), 0.75)


def pose(rng: np.random.Generator) -> Pose:
    """A standing place from which something is to be seen, looking any way that is not straight into the sun."""
    place = (float(rng.uniform(-1.8, 4.5)), float(rng.uniform(-3, 9)), float(rng.uniform(1.2, 2.4)))
    return Pose(
        place,
        float(rng.uniform(-50, 50) + rng.choice([0, 0, 0, 180])),
        float(rng.uniform(-6, 14)),
        float(rng.uniform(-1.5, 1.5)),
    )


def _camera(layout: str, rng: np.random.Generator, width: int) -> tuple[Camera, dict[str, Any]]:
    at = pose(rng)
    recorder = Recorder(10, "4:2:0", "bt709", "bt709", "ffv1", {}, VideoTags())
    pan = float(rng.choice([-1, 1]) * rng.uniform(4, 16))
    common: dict[str, Any] = {
        "name": layout, "rate": Fraction(25), "recorder": recorder, "container": "mkv", "sound": False,
        "pose": lambda t: replace(at, heading=at.heading + pan * t),
    }  # fmt: skip
    even = width // 4 * 4
    wide = (even, round(even * 9 / 16 / 2) * 2)
    fov = float(rng.uniform(45, 80))
    answers: dict[str, Any] = {"projection": "flat", "eyes": "one", "coverage": None, "first": None, "packing": None}
    first, spacing = str(rng.choice(["left", "right"])), float(rng.uniform(0.06, 0.075))
    level = {**common, "pose": lambda t: replace(at, tilt=float(min(at.tilt, 3)), heading=at.heading + pan * t)}
    flat = Camera(raster=wide, field_of_view=fov, **(common if layout == "flat" else level))
    whole = Sphere(raster=(even, even // 2), field_of_view=360, **level)
    half = Sphere(raster=(even // 2, even // 2), field_of_view=180, **level)
    if layout == "flat":
        if rng.random() < 0.25:  # shapes that a sphere could have, too
            flat = flat.sized((even, even // 2) if rng.random() < 0.5 else (even // 2, even // 2))
        return flat, answers
    if layout == "sphere":
        return whole, answers | {"projection": "equirectangular", "coverage": "360"}
    if layout == "half sphere":
        return half, answers | {"projection": "equirectangular", "coverage": "180"}
    if layout in ("round lens", "two round lenses"):
        r = float(rng.uniform(0.40, 0.49))
        x, y = (float(0.5 + rng.uniform(-0.01, 0.01)) for _ in "xy")
        if layout == "round lens":
            disc = RoundLens(raster=(even // 2, even // 2), field_of_view=190, discs=(Disc(x, y, r),), **level)
            return disc, answers | {"projection": "fisheye", "coverage": "180"}
        two = (Disc(x, y, r), Disc(x + 1, y, r, 180.0))
        return RoundLens(raster=(even, even // 2), field_of_view=195, discs=two, **level), answers | {
            "projection": "fisheye", "coverage": "360"}  # fmt: skip
    beside = "beside" in layout
    answers |= {
        "eyes": "side by side" if beside else "over under",
        "first": first,
        "packing": "half" if "half" in layout.split(", ") else "full",
    }
    lens: Camera = flat if layout.startswith("eyes") else whole if layout.startswith("sphere") else half
    if lens is not flat:
        answers |= {"projection": "equirectangular", "coverage": "360" if lens is whole else "180"}
    made = eyes(layout, lens, answers["eyes"], answers["packing"] == "half", first, spacing)
    return made, answers


def case(
    number: int, seed: int, width: int = 640, kind: str | None = None, layout: str | None = None, shipped: bool = True
) -> Case:
    """Case ``number`` of a suite: kinds and layouts in turn, everything else by chance from ``seed``."""
    rng = np.random.default_rng([seed, number])
    layout = layout or LAYOUTS[number % len(LAYOUTS)] if rng.random() < 0.7 or layout else "flat"
    kind = kind or str(rng.choice(KINDS, p=SHARES))
    camera, answers = _camera(layout, rng, width)
    limited = bool(rng.random() < 0.8) if kind != "linear" else False
    bits = 8 if kind == "display" and rng.random() < 0.6 else 10
    noise = Recorder(
        bits, "4:2:0" if rng.random() < 0.6 else "4:2:2", "bt709", "bt709", "ffv1", {}, VideoTags(), limited=limited,
        full_well=float(10 ** rng.uniform(3.4, 4.6)), read_noise=float(rng.uniform(2, 8)),
    )  # fmt: skip
    camera = replace(camera, recorder=noise)
    answers |= {"curve": kind, "range": "limited" if limited else "full"}
    return Case(number, layout, kind, camera, look(kind, rng, shipped), answers)


def planes(case: Case, time: float, samples: int = 1) -> tuple[np.ndarray, ...]:
    """One frame's codes, as ``camera.record`` makes them, but through the case's own look."""
    r, rng = case.camera.recorder, np.random.default_rng([case.number, round(time * 1000)])
    light = np.maximum(case.camera.light(time, samples), 0) * 2.0**case.look.exposure * r.full_well
    light = (light + rng.standard_normal(light.shape) * np.sqrt(light + r.read_noise**2)) / r.full_well
    grey = light @ np.array([0.2126, 0.7152, 0.0722])
    signal = case.look.encode(grey[..., None] + case.look.saturation * (light - grey[..., None]))
    form = Samples(PixelFormat(r.bits, r.chroma), "bt709", r.limited)
    matrix = form.to_codes()
    codes = signal @ matrix[:, :3].T + matrix[:, 3]
    made = []
    w, h = case.camera.raster
    for i in range(3):
        pw, ph = form.format.plane_size((w, h), i)
        plane = codes[..., i]
        if i:
            sx, sy = form.format.sub
            plane = resample(plane, simple_reduction(pw, sx, True, w), simple_reduction(ph, sy, False, h))
        made.append(np.clip(np.floor(plane + rng.random(plane.shape)), 0, form.top).astype(np.int64))
    return tuple(made)


def write(case: Case, path: Path, frames: int = 4) -> Path:
    """The case as a file without a tag."""
    r = case.camera.recorder
    spec = VideoSpec("ffv1", case.camera.raster, r.bits, r.chroma, Fraction(25), Fraction(1, 25), VideoTags(), 1, {})
    with Writer(path, spec) as writer:
        for n in range(frames):
            frame, target = writer.blank()
            for i, plane in enumerate(planes(case, n * MOMENT)):
                target[i][: plane.shape[0], : plane.shape[1]] = plane
            writer.write(frame, n)
    return path


def _example(number_seed: tuple[int, int]) -> tuple[np.ndarray, int]:
    """Features and kind of one shot of the collection."""
    from ..media.decode import Frame
    from ..read import kinds, measure

    made = case(*number_seed, 256, shipped=False)
    r = made.camera.recorder
    form = Samples(PixelFormat(r.bits, r.chroma), "bt709", True)
    frames = [
        Frame(tuple(p.astype(form.format.dtype) for p in planes(made, n * MOMENT)), form.format, made.camera.raster, 0, n)
        for n in range(4)
    ]  # fmt: skip
    lens: object = made.camera
    inside: Any = None
    if isinstance(lens, RoundLens):
        inside = lambda x, y: lens._local(x + 0.5, y + 0.5)[1]  # noqa: E731
    return kinds.features(measure.measure(frames, form, inside)), KINDS.index(made.kind)


def collection(count: int, seed: int = 7) -> tuple[np.ndarray, np.ndarray]:
    """(features, kinds) of simulated shots, for ``read.kinds``; log curves are made up, none is a shipped card."""
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(_example, [(n, seed) for n in range(count)], chunksize=20))
    return np.array([r[0] for r in rows], np.float32), np.array([r[1] for r in rows], np.uint8)


def learn(values: np.ndarray, labels: np.ndarray, members: int = 8, hidden: int = 64, epochs: int = 400) -> dict[str, np.ndarray]:
    """Several small networks (one hidden layer each, rectified), each taught on its own draw of the collection by Adam;
    their mean is the vote of ``read.kinds``."""
    x = (values - values.mean(axis=0)) / (values.std(axis=0) + 1e-6)
    nets = [_learn_one(x, labels, seed, hidden, epochs) for seed in range(members)]
    names = ("w1", "b1", "w2", "b2")
    return {n: np.stack([net[i] for net in nets]).astype(np.float32) for i, n in enumerate(names)}


def _learn_one(x: np.ndarray, y: np.ndarray, seed: int, hidden: int, epochs: int) -> list[np.ndarray]:
    rng = np.random.default_rng(seed)
    n, d = x.shape
    net = [rng.normal(0, np.sqrt(2 / d), (d, hidden)), np.zeros(hidden), rng.normal(0, np.sqrt(1 / hidden), (hidden, len(KINDS))),
           np.zeros(len(KINDS))]  # fmt: skip
    drift, size, step = [np.zeros_like(p) for p in net], [np.zeros_like(p) for p in net], 0
    for epoch in range(epochs):
        rate = 4e-3 * 0.5 * (1 + np.cos(np.pi * epoch / epochs))
        for some in np.array_split(rng.permutation(n), n // 150):
            seen = x[some] + rng.normal(0, 0.03, (len(some), d))
            layer = np.maximum(seen @ net[0] + net[1], 0)
            off = softmax(layer @ net[2] + net[3])
            off[np.arange(len(some)), y[some]] -= 1
            off /= len(some)
            back = off @ net[2].T * (layer > 0)
            pulls = [seen.T @ back + 3e-4 * net[0], back.sum(axis=0), layer.T @ off + 3e-4 * net[2], off.sum(axis=0)]
            step += 1
            for k, pull in enumerate(pulls):
                drift[k] = 0.9 * drift[k] + 0.1 * pull
                size[k] = 0.999 * size[k] + 0.001 * pull**2
                net[k] = net[k] - rate * drift[k] / (1 - 0.9**step) / (np.sqrt(size[k] / (1 - 0.999**step)) + 1e-8)
    return net


def cases(count: int, seed: int = 2026, width: int = 640) -> Iterator[Case]:
    for n in range(count):
        yield case(n, seed, width)


def teach(photographs_: Path, epochs: int = 60) -> int:
    """Writes ``read.kinds``' collection anew, of simulated shots and of the photographs below a folder. How many shots it holds."""
    from ..read.kinds import COLLECTION
    from . import photographs

    values, labels = collection(3500)
    taken = list(photographs.collection(photographs.files(photographs_)))
    values = np.concatenate([np.array([v for _, v, _ in taken], np.float32), values])
    labels = np.concatenate([np.array([k for _, _, k in taken], np.uint8), labels])
    nets = learn(values.astype(np.float64), labels, epochs=epochs)
    np.savez_compressed(COLLECTION, features=values[::2].astype(np.float16), kinds=labels[::2], **nets)  # type: ignore[arg-type]
    return len(values)


if __name__ == "__main__":
    import sys

    if len(sys.argv) != 2:
        sys.exit("usage: python -m adzer.core.sim.suite FOLDER, of a few hundred photographs as they are displayed")
    print(f"{teach(Path(sys.argv[1]))} shots were taught.")
