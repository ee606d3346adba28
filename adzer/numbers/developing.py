"""Measures Develop and writes the part ``develop`` of ``docs/numbers.md``: sensor values made picture, against LibRaw; noise taken off, against
libavfilter's own filters on two threads; how fast the whole route to the encoder is, and how soon a long sequence opens."""

from __future__ import annotations

import os
import tempfile
import time
from dataclasses import replace
from functools import partial
from pathlib import Path

import av
import numpy as np
import rawpy
from numpy.typing import NDArray

from ..core.compile import pixel_plan
from ..core.develop import noise, values
from ..core.develop.cleaning import Cleaned
from ..core.develop.grain import Grain
from ..core.develop.settings import DevelopSettings
from ..core.intake.take import facts_of
from ..core.light.samples import Samples
from ..core.media import dng
from ..core.media.formats import PixelFormat
from ..core.plan import Planes
from ..core.route import Route, walk
from ..core.run.ahead import ahead
from ..core.run.frames import Inputs
from ..core.run.pixels import Processor
from ..core.sim import camera as cameras
from ..core.sim import raw
from ..core.sim.dng import write
from .rendering import THREADS, filtered, in_turn, write_rows

YUV, GREY = Samples(PixelFormat(8, "4:2:0"), "bt709", True), Samples(PixelFormat(8, "4:0:0"), "bt709", True)
UHD, SIGMA = (3840, 2160), 0.02
Row = tuple[str, str, str, bool]


def _values(folder: Path) -> Path:
    """A UHD frame of the raw body, 12 bits packed."""
    camera = cameras.load("raw-body").sized((960, 540))
    small = raw.mosaic(camera, 0.04)
    cells = small.reshape(270, 2, 480, 2)
    whole = np.ascontiguousarray(np.tile(cells, (4, 1, 4, 1)).reshape(UHD[1], UHD[0]))
    path = folder / "frame.0001.dng"
    write(path, whole, raw.Body().writing(camera))
    return path


def of_values(folder: Path) -> list[Row]:
    path = _values(folder)
    sensor, layout = dng.header(path)
    frame: Planes = (dng.values(path, sensor, layout),)
    fine = values.developed(sensor, DevelopSettings())
    quick = fine.quick()

    def theirs() -> object:
        with rawpy.imread(str(path)) as held:
            return held.postprocess(demosaic_algorithm=rawpy.DemosaicAlgorithm.DHT, output_bps=16, no_auto_bright=True)

    pair = in_turn(lambda: fine.run([frame], 0), theirs, 5)
    small = in_turn(lambda: quick.run([frame], 0), lambda: fine.run([frame], 0), 7)
    rows: list[Row] = [
        ("(y) a UHD frame of sensor values made 16-bit light of wide primaries, finely (LibRaw's best and slowest beside it)",
         f"{pair.ours * 1000:.0f} ms ({pair.theirs * 1000:.0f} ms)", "≤ 150 ms", pair.ours <= 0.15),
        ("(y) the same quickly, to be looked at", f"{small.ours * 1000:.0f} ms", "≤ 100 ms", small.ours <= 0.1),
    ]  # fmt: skip
    for n in range(2, 1001):
        os.link(path, folder / f"frame.{n:04d}.dng")
    begun = time.perf_counter()
    facts = facts_of(folder)
    opened = time.perf_counter() - begun
    rows.append(("(y) a sequence of 1,000 UHD frames of 12 bits opened", f"{opened:.2f} s", "≤ 2 s", opened <= 2))
    draft = walk(Route(), facts).draft
    plan = pixel_plan(walk(Route(), facts))
    assert draft.pace is not None
    out = tuple(np.zeros(plan.target.format.plane_size(plan.raster, i)[::-1], plan.target.format.dtype) for i in range(3))
    numbers = np.arange(24)
    with Inputs(plan.inputs, facts) as inputs, Processor(plan, THREADS) as processor:
        begun = time.perf_counter()
        for planes in ahead(inputs.along(numbers, numbers / 25.0)):
            processor.run(planes, out)
        rate = len(numbers) / (time.perf_counter() - begun)
    w, h = plan.raster
    rows.append((f"(y) from DNG to delivered codes, UHD → {w}×{h}, before the encoder", f"{rate:.1f} frames/s", "≥ 5", rate >= 5))
    return rows


def _moving(speed: float) -> tuple[list[NDArray[np.float64]], list[NDArray[np.uint8]]]:
    """Luma of seven 1080p frames of the simulated world that pan by parts of pixels, and the same with noise."""
    pose = lambda t: cameras.Pose((0.5, 2.0, 1.6), 9.0 + t * 25 * 0.12 * speed, 4.0 + t * 25 * 0.05 * speed)  # noqa: E731
    camera = replace(cameras.load("log-body"), raster=(1920, 1080), pose=pose)
    rng = np.random.default_rng(1)
    clean, noisy = [], []
    for n in range(7):
        light = np.clip(camera.light(1 + n / 25 * (speed > 0), 1), 0, 1) @ [0.2126, 0.7152, 0.0722]
        luma = 16 + 219 * light**0.45
        clean.append(luma)
        noisy.append(np.clip(np.rint(luma + SIGMA * 219 * rng.standard_normal(luma.shape)), 0, 255).astype(np.uint8))
    return clean, noisy


def _decibels(a: NDArray[np.float64], b: NDArray[np.float64]) -> float:
    return float(-10 * np.log10(((a - b)[16:-16, 16:-16] ** 2).mean() / 219**2))


def _filtered(frames: list[NDArray[np.uint8]], name: str, options: str) -> tuple[NDArray[np.float64], float]:
    """The middle frame as a filter of libavfilter makes it on ``THREADS`` threads, and seconds a frame."""
    work = filtered(av.VideoFrame.from_ndarray(frames[3], format="gray"), [(name, options)], THREADS)
    work()
    begun = time.perf_counter()
    made = work()
    return made.to_ndarray().astype(np.float64), time.perf_counter() - begun


def of_noise() -> list[Row]:
    rows: list[Row] = []
    for speed, what, least in ((0.0, "still", 6.0), (1.0, "panned by parts of pixels", 3.5)):
        clean, noisy = _moving(speed)
        grain = Grain((0.0, 255.0), ((SIGMA * 219,) * 2,))
        one = Cleaned(GREY, (1920, 1080), grain)
        frames: list[Planes] = [(v,) for v in noisy]
        made = one.run(frames[1:6], 2)[0] / 256.0
        begun = time.perf_counter()
        one.run(frames[0:5], 2), one.run(frames[2:7], 2)
        ours = (time.perf_counter() - begun) / 2
        before, after = _decibels(noisy[3].astype(np.float64), clean[3]), _decibels(made, clean[3])
        others: dict[str, tuple[float, float]] = {}
        ways = {"nlmeans": [f"s={s}:p=7:r=15" for s in (2, 3, 4)], "bm3d": [f"sigma={s}:block=8:bstep=4:group=16" for s in (5, 15, 30)]}
        for name, each in ways.items():
            for options in each:
                picture, seconds = _filtered(noisy, name, options)
                found = _decibels(picture, clean[3]), seconds
                if name not in others or found > others[name]:
                    others[name] = found
        most = max(db for db, _ in others.values())
        best = most, min(s for db, s in others.values() if db > most - 0.2)
        told = ", ".join(f"{name} +{db - before:.1f} dB in {s:.2f} s" for name, (db, s) in others.items())
        rows.append((
            f"(z) luma of 1080p with noise of 2 %, {what}: gain, and seconds a frame (libavfilter's at their best of three strengths: {told})",
            f"+{after - before:.1f} dB in {ours:.2f} s: {after - best[0]:+.1f} dB, **{best[1] / ours:.1f}×** as fast as the quicker of those as good",
            f"≥ {least} dB, ≥ 1 dB better, ≥ 3×", after - before >= least and after - best[0] >= 1 and best[1] / ours >= 3,
        ))  # fmt: skip
        print(rows[-1], flush=True)
    return rows


def _panned(pose: cameras.Pose, speed: float, time_: float) -> cameras.Pose:
    return replace(pose, heading=pose.heading + time_ * speed)


def of_measuring() -> list[Row]:
    """How often footage without visible noise is told that it needs none."""
    told = 0
    rng = np.random.default_rng(2)
    for n in range(40):
        pose = cameras.Pose((rng.uniform(-1, 1), rng.uniform(0, 3), rng.uniform(1, 2)), rng.uniform(-30, 30), rng.uniform(-5, 8))
        camera = replace(cameras.load("phone"), raster=(480, 270), pose=partial(_panned, pose, rng.uniform(0, 2)))
        recorder = replace(camera.recorder, full_well=60000.0, read_noise=2.0)
        camera = replace(camera, recorder=recorder)
        frames = [tuple(p.astype(np.uint8) for p in cameras.record(camera, camera.light(n + k / 25, 1), k)) for k in range(3)]
        kind = noise.Kind(recorder.samples, (480, 270), False, (16.0,) * 3, (235.0, 240.0, 240.0))
        held = noise.measured(kind, [list(enumerate(frames))])
        told += not noise.delivered(held, kind, (), None).needed
    return [("(z) of 40 clean recordings, told that they need none", f"{told / 40:.0%}", "≥ 95 %", told >= 38)]


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="adzer-bench-") as name:
        rows = of_values(Path(name))
    for row in rows:
        print(row, flush=True)
    rows += of_noise() + of_measuring()
    write_rows("develop", rows)


if __name__ == "__main__":
    main()
