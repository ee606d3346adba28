"""Measures views of spheres and writes the part ``shape`` of ``docs/numbers.md``: speed against libavfilter's own sphere
filter and 3D table, nearness of both to the simulated world seen straight through the view, and how a drag is followed."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from functools import partial
from pathlib import Path

import av
import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.light.chain import ColourChain
from ..core.light.names import curve, primaries
from ..core.light.primaries import rgb_to_rgb
from ..core.light.samples import Samples
from ..core.media.decode import planes_of
from ..core.media.encode import VideoSpec, VideoTags, Writer
from ..core.media.formats import PixelFormat
from ..core.plan import Input, Panel, Patch, Plan, Planes
from ..core.run.pixels import Processor
from ..core.shape.view import FINE
from ..core.sim import camera as cameras
from ..core.sim.camera import Camera, Pose
from ..core.space.looks import Look, SphereLook, Turning, ViewLook
from ..core.space.meeting import Meeting
from ..core.space.path import Key, ViewPath
from ..core.space.sphere import Equirect, Lens, Round, rotation
from .rendering import THREADS, cube, filtered, in_turn, write_rows

SOURCE = Samples(PixelFormat(10, "4:2:0"), "bt709", True)
TARGET = Samples(PixelFormat(10, "4:2:0"), "bt709", True)
CHAIN = ColourChain(curve("fen-log"), rgb_to_rgb(primaries("bt2020"), primaries("bt709")), curve("bt709"), "roll off")
PLACE, TURNED = (0.4, 2.0, 2.1), 20.0
HEADING, TILT, FOV = -12.0, 4.0, 100.0
FLAGS = "lanczos+accurate_rnd+full_chroma_int"


def sphere_frame(size: tuple[int, int], samples: int) -> Planes:
    """The world all round, recorded as 10-bit log."""
    camera = cameras.load("sphere")
    recorder = replace(cameras.load("log-body").recorder, chroma="4:2:0", curve="fen-log", primaries="bt2020")
    camera = replace(camera, raster=size, recorder=recorder, pose=lambda _: Pose(PLACE, TURNED))
    return tuple(p.astype(np.uint16) for p in cameras.record(camera, camera.light(0.0, samples), 0))


def truth(size: tuple[int, int], samples: int) -> NDArray[np.float64]:
    """Delivered luma codes of the world seen straight through the view, supersampled."""
    recorder = cameras.load("log-body").recorder
    pose = Pose(PLACE, TURNED + HEADING, TILT)
    flat = Camera("view", size, Fraction(25), recorder, "mp4", FOV, pose=lambda _: pose)
    light = flat.light(0.0, samples) @ rgb_to_rgb(primaries("bt709"), primaries("bt2020")).T
    matrix = TARGET.to_codes()
    return np.asarray(CHAIN.apply(curve("fen-log").encode(light)) @ matrix[0, :3] + matrix[0, 3])


def plan(source: tuple[int, int], size: tuple[int, int], keys: tuple[Key, ...] = ()) -> Plan:
    path = ViewPath(keys=keys or (Key(0, HEADING, TILT, 0, FOV),))
    panel = Panel(ViewLook(size, path, (1.0, size[1] / size[0])), (Patch(Equirect(source), (0, 0, *source)),))
    return Plan.single(SOURCE, source, panel, CHAIN, TARGET)


def blank(size: tuple[int, int]) -> Planes:
    return tuple(np.zeros(TARGET.format.plane_size(size, i)[::-1], np.uint16) for i in range(3))


def theirs(planes: Planes, size: tuple[int, int], table: Path) -> Callable[[], Planes]:
    """The library's sphere filter (cubic), its 3D table (tetrahedral) and the formats between, on two threads."""
    down = np.degrees(2 * np.arctan(np.tan(np.radians(FOV / 2)) * size[1] / size[0]))
    return _theirs(planes, table, f"input=e:output=flat:w={size[0]}:h={size[1]}:h_fov={FOV}:v_fov={down}:yaw={HEADING}:pitch={TILT}:interp=cubic")


def _theirs(planes: Planes, table: Path, view: str) -> Callable[[], Planes]:
    h, w = planes[0].shape
    frame = av.VideoFrame(w, h, "yuv420p10le")
    for i, plane in enumerate(frame.planes):
        held = np.frombuffer(memoryview(plane), np.uint16).reshape(plane.height, -1)
        held[:, : planes[i].shape[1]] = planes[i]
    steps = [
        ("v360", view), ("scale", f"in_color_matrix=bt709:in_range=tv:flags={FLAGS}"), ("format", "gbrp10le"),
        ("lut3d", f"{table}:interp=tetrahedral"), ("scale", f"out_color_matrix=bt709:out_range=tv:flags={FLAGS}"),
        ("format", "yuv420p10le"),
    ]  # fmt: skip
    run = filtered(frame, steps, THREADS)
    return lambda: planes_of(run())[1]


SEES = 200.0  # degrees, of a round lens


def two_lenses(side: int, look: Look) -> Plan:
    """Two round lenses in pictures of their own, ``side`` pixels, one turned a little and a little darker, blended over 3°, what is fine over 1°."""
    way, fine = (Meeting((0.0, 1.0, 0.0), (0.0, -1.0, 0.0), float(np.radians(3.0)) * times) for times in (1, FINE))
    patches = tuple(
        Patch(
            Round((side, side), (Lens(side / 2, side / 2, 0.48 * side, SEES, 180.0 * n),)), (0, 0, side, side), n,
            Turning.fixed(rotation(0.5, 0.3, 0.2)) if n else None, share=way.turned if n else way, fine=fine.turned if n else fine,
            light=((1.1, 0.0, 0.0), (0.0, 1.1, 0.0), (0.0, 0.0, 1.1)) if n else None,
        )
        for n in (0, 1)
    )  # fmt: skip
    one = Input(SOURCE, (side, side))
    return Plan((one, one), look.size, (Panel(look, patches),), CHAIN, TARGET)


def one_lens(side: int, look: Look) -> Plan:
    lens = Round((side, side), (Lens(side / 2, side / 2, 0.48 * side, SEES),))
    return Plan.single(SOURCE, (side, side), Panel(look, (Patch(lens, (0, 0, side, side)),)), CHAIN, TARGET)


def lenses(table: Path, side: int = 2880) -> list[tuple[str, str, str, bool]]:
    rng = np.random.default_rng(4)
    sizes = [SOURCE.format.plane_size((side, side), i)[::-1] for i in range(3)]
    coarse = [rng.integers(200, 800, (s[0] // 16, s[1] // 16)).astype(np.uint16) for s in sizes]
    soft = [np.asarray(cv2.resize(p, s[::-1], interpolation=cv2.INTER_CUBIC), np.uint16) for p, s in zip(coarse, sizes, strict=True)]
    disc: Planes = tuple(np.ascontiguousarray(p) for p in soft)
    both, whole = tuple(np.ascontiguousarray(np.hstack([p, p])) for p in disc), (2 * side, side)
    made = blank(whole)
    view = f"input=dfisheye:ih_fov={SEES}:iv_fov={SEES}:output=e:w={whole[0]}:h={whole[1]}:interp=cubic"
    with Processor(two_lenses(side, SphereLook(whole)), THREADS) as processor:
        pair = in_turn(lambda: processor.run([disc, disc], made), _theirs(both, table, view), 5)
    rows = [(
        f"(x) two round lenses of {side}² as a sphere of {whole[0]}×{whole[1]}, light matched and blended, against libavfilter's sphere filter, "
        "which blends nothing, formats and table", f"{pair.ours * 1000:.0f} ms against {pair.theirs * 1000:.0f} ms a frame: **{pair.ratio:.2f}×**",
        "≥ 1.5×", pair.ratio >= 1.5,
    )]  # fmt: skip
    size = (1920, 1080)
    out = blank(size)

    def look(heading: float) -> ViewLook:
        return ViewLook(size, ViewPath(keys=(Key(0, heading, 0, 0, 90.0),)), (1.0, size[1] / size[0]))

    for words, heading, most in (("clear of where they meet", 0.0, 1.1), ("across it", 90.0, 1.5)):
        with Processor(two_lenses(side, look(heading)), THREADS) as two, Processor(one_lens(side, look(0.0)), THREADS) as one:
            pair = in_turn(partial(one.run, [disc], out), partial(two.run, [disc, disc], out), 15)
        rows.append((f"(x) a view of two lenses {words}, against the same of one", f"{pair.ratio:.2f}×", f"≤ {most}×", pair.ratio <= most))
    return rows


def decibels(got: NDArray[np.generic], want: NDArray[np.float64]) -> float:
    error = np.mean((got[: want.shape[0], : want.shape[1]].astype(np.float64) - want) ** 2)
    return float(10 * np.log10(876.0**2 / error))


_MEMORY = """
import sys
from pathlib import Path
from adzer.core.intake.take import read_file
from adzer.core.compile import freeze
from adzer.core.run.render import render
from adzer.core.route import Route
facts, seen = read_file(Path(sys.argv[1]))
route = Route().with_("read", curve="fen-log", projection="equirectangular", coverage="360").with_("shape", view={"keys": [{"fov": 100}]})
render(freeze("s", facts, route, "web-wide", Path(sys.argv[2]), seen=seen), threads=2)
peak = next(line for line in open("/proc/self/status") if line.startswith("VmHWM"))  # of this process alone
print(int(peak.split()[1]) / 2**20)
"""


def big_clip(path: Path, planes: Planes, frames: int) -> Path:
    """A short clip of one large frame, so that a whole render of it can be weighed."""
    h, w = planes[0].shape
    spec = VideoSpec("h265", (w, h), 10, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags(None, None, "bt709", "limited"), 25,
                     {"preset": "ultrafast", "crf": "22"})  # fmt: skip
    with Writer(path, spec) as writer:
        for n in range(frames):
            frame, target = writer.blank()
            for i, plane in enumerate(planes):
                target[i][: plane.shape[0], : plane.shape[1]] = plane
            writer.write(frame, n)
    return path


def dragging(clip: Path) -> float:
    """Milliseconds from a changed heading to the delivered picture of a 3840×1920 10-bit sphere at 1280×720."""
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run.service import Pictures, Picturing

    facts, seen = read_file(clip)
    pictures, times = Pictures(THREADS), []
    for n in range(16):
        route = Route().with_("read", curve="fen-log", projection="equirectangular", coverage="360")
        route = route.with_("shape", view={"keys": [{"heading": 2.0 * n, "fov": 90}]})
        began = time.perf_counter()
        pictures.make(Picturing("side", n, facts, seen, route, "web-wide", 2, (1280, 720)))
        times.append(time.perf_counter() - began)
    pictures.close()
    return float(np.median(times[4:])) * 1000


def scrubbing(clip: Path, folder: Path) -> float:
    """Frames a second at which a 3840×1920 10-bit sphere is scrubbed from its proxy: at each step another frame, now near,
    now far, as the whole sphere and as the delivered view, at the sizes of a window 1280 wide."""
    from ..core.compile import freeze_copy
    from ..core.intake.proxies import SCALES
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run.render import render
    from ..core.run.service import Pictures, Picturing

    facts, seen = read_file(clip)
    small = folder / "proxy.mov"
    render(freeze_copy("sphere", facts, Route(), "proxy", SCALES["half"], small))
    proxy, _ = read_file(small)
    route = Route().with_("read", curve="fen-log", projection="equirectangular", coverage="360")
    route = route.with_("shape", view={"keys": [{"t": 0, "fov": 90}, {"t": 2, "heading": 40, "fov": 80}]})
    pictures, times = Pictures(THREADS), []
    steps = np.random.default_rng(1).permutation(np.r_[0 : proxy.frames : 3, 0 : proxy.frames : 4])
    order = np.r_[np.arange(0, proxy.frames, 3), steps]  # first along it, then here and there
    for n, number in enumerate(order.tolist()):
        began = time.perf_counter()
        for key, size, whole in (("main", (530, 380), True), ("side", (530, 380), False)):
            pictures.make(Picturing(key, n, proxy, seen, route, "web-wide", number, size, whole))
        times.append(time.perf_counter() - began)
    pictures.close()
    return 1 / float(np.mean(times[3:]))


def main() -> None:
    rows: list[tuple[str, str, str, bool]] = []
    with tempfile.TemporaryDirectory(prefix="adzer-bench-") as name:
        folder = Path(name)
        table = cube(folder / "log.cube", CHAIN)
        size, wide = (1920, 1080), (3840, 1920)
        planes, out = sphere_frame(wide, 4), blank(size)
        moving = (Key(0, HEADING - 20, TILT, 0, FOV, "linear"), Key(4, HEADING + 20, TILT, 3, FOV - 10))
        with Processor(plan(wide, size), THREADS) as still, Processor(plan(wide, size, moving), THREADS) as turning:
            pair = in_turn(lambda: still.run([planes], out), theirs(planes, size, table), 15)
            rows.append((
                "(i) a view of a 3840×1920 10-bit log sphere as 1920×1080 10-bit BT.709, against libavfilter's sphere filter "
                "(cubic), formats and tetrahedral 33³ table",
                f"{pair.ours * 1000:.0f} ms against {pair.theirs * 1000:.0f} ms a frame: **{pair.ratio:.1f}×** faster",
                "≥ 2.5×", pair.ratio >= 2.5,
            ))  # fmt: skip
            print(rows[-1], flush=True)
            clock = iter(np.linspace(0.2, 3.8, 200))
            moved = in_turn(lambda: still.run([planes], out), lambda: turning.run([planes], out, float(next(clock))), 15)
            rows.append(
                (
                    "(i) the same with a view that moves, against one that is still",
                    f"{moved.ratio:.2f}×",
                    "≤ 1.25×",
                    moved.ratio <= 1.25,
                )
            )
            print(rows[-1], flush=True)
            for scaled, samples, asked, least in (
                ((1064, 600), 6, "at equal scale", 1.0),
                ((266, 150), 16, "reduced four times", 3.0),
            ):
                want = truth(scaled, samples)
                made = blank(scaled)
                with Processor(plan(wide, scaled), THREADS) as processor:
                    processor.run([planes], made)
                ours_db, theirs_db = decibels(made[0], want), decibels(theirs(planes, scaled, table)()[0], want)
                rows.append((
                    f"(j) luma against the world rendered straight through the view, {asked} ({scaled[0]}×{scaled[1]})",
                    f"{ours_db:.1f} dB against {theirs_db:.1f} dB: {ours_db - theirs_db:+.1f}", f"≥ {least:+.0f} dB", ours_db - theirs_db >= least,
                ))  # fmt: skip
                print(rows[-1], flush=True)
            for row in lenses(table):
                rows.append(row)
                print(row, flush=True)
            drag = dragging(big_clip(folder / "wide.mov", planes, 6))
            rows.append(
                ("(k) dragging a view of it, delivered preview at 1280×720", f"{drag:.0f} ms", "≤ 100 ms", drag <= 100)
            )
            print(rows[-1], flush=True)
            rate = scrubbing(big_clip(folder / "long.mov", planes, 60), folder)
            rows.append(
                ("(k) scrubbing it from its half-size proxy, near and far", f"{rate:.0f} frames/s", "≥ 12", rate >= 12)
            )
            print(rows[-1], flush=True)
            huge = tuple(np.repeat(np.repeat(p, 2, axis=0), 2, axis=1) for p in planes)
            with Processor(plan((7680, 3840), size), THREADS) as processor:
                large = in_turn(lambda: still.run([planes], out), lambda: processor.run([huge], out), 11)
            rows.append(
                (
                    "(l) the same view of a 7680×3840 sphere, against the 3840 one",
                    f"{large.ratio:.2f}×",
                    "≤ 1.3×",
                    large.ratio <= 1.3,
                )
            )
            print(rows[-1], flush=True)
        clip = big_clip(folder / "huge.mov", huge, 50)
        done = subprocess.run(
            [sys.executable, "-c", _MEMORY, str(clip), str(folder / "v.mp4")],
            capture_output=True,
            text=True,
            check=True,
        )
        weight = float(done.stdout.split()[-1])
        rows.append(("(l) peak memory of rendering it", f"{weight:.2f} GB", "≤ 2 GB", weight <= 2.0))
        print(rows[-1], flush=True)
    write_rows("shape", rows)


if __name__ == "__main__":
    main()
