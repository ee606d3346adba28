"""Measures speed as ratios within one run and writes ``docs/numbers.md``. ``./run bench`` calls it.

Every comparison is made in turn (A B A B …) with the same two threads, and the median ratio is quoted: machines are noisy.
"""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
import av.filter
import numpy as np

from ..core.cards import delivery
from ..core.compile import Order, compile_order, freeze, pixel_plan
from ..core.intake.take import read_file
from ..core.light.chain import ColourChain
from ..core.media.decode import Reader, planes_of
from ..core.media.encode import VideoSpec, VideoTags, Writer
from ..core.media.formats import PixelFormat
from ..core.plan import Plan
from ..core.route import Route, walk
from ..core.run.pixels import Processor
from ..core.run.reference import delivered_444
from ..core.run.render import render
from ..core.space.looks import AxisLook

NUMBERS = Path(__file__).resolve().parents[2] / "docs" / "numbers.md"
THREADS = 2
UHD = (3840, 2160)


@dataclass(frozen=True)
class Pair:
    """Median seconds of both sides and the median of the ratios B/A taken pair by pair."""

    ours: float
    theirs: float
    ratio: float


def in_turn(ours: Callable[[], object], theirs: Callable[[], object], rounds: int) -> Pair:
    ours(), theirs()
    times: list[tuple[float, float]] = []
    for _ in range(rounds):
        both = []
        for work in (ours, theirs):
            began = time.perf_counter()
            work()
            both.append(time.perf_counter() - began)
        times.append((both[0], both[1]))
    a, b = np.array(times).T
    return Pair(float(np.median(a)), float(np.median(b)), float(np.median(b / a)))


def footage(folder: Path, seconds: int, name: str = "uhd.mov", preset: str = "ultrafast") -> Path:
    """UHD 10-bit 4:2:2 log: a frame of the simulated world, moved a little each time, with the recorder's noise."""
    from ..core.sim import camera as cameras

    path = folder / name
    camera = cameras.load("scope-lens").sized((960, 540))
    small = cameras.record(camera, camera.light(1.0, 1), 0)
    form = PixelFormat(10, "4:2:2")
    planes = [np.kron(p, np.ones((4, 4), np.int64)).astype(np.uint16) for p in small]
    rng = np.random.default_rng(3)
    noise = [rng.integers(-6, 7, p.shape) for p in planes]
    spec = VideoSpec(
        encoder="h264", raster=UHD, bits=10, chroma="4:2:2", rate=Fraction(25), time_base=Fraction(1, 25),
        tags=VideoTags(None, None, "bt709", "limited"), gop=25, options={"preset": preset, "crf": "22"},
    )  # fmt: skip
    with Writer(path, spec) as writer:
        for n in range(seconds * 25):
            frame, target = writer.blank()
            for i, plane in enumerate(planes):
                w, h = form.plane_size(UHD, i)
                moved = np.roll(plane, 2 * n, axis=1) + np.roll(noise[i], 7 * n, axis=0)
                target[i][:h, :w] = np.clip(moved, 4, 1019)
            writer.write(frame, n)
    return path


def repeated(clip: Path, times: int) -> Path:
    """The clip several times over, by stream copy."""
    path = clip.with_name(f"{clip.stem}-{times}{clip.suffix}")
    with av.open(str(clip)) as source, av.open(str(path), "w") as target:
        video = source.streams.video[0]
        stream = target.add_stream_from_template(video)
        packets = [(bytes(p), p.pts, p.dts, p.duration, p.is_keyframe) for p in source.demux(video) if p.size]
        span = sum(p[3] or 0 for p in packets)
        for n in range(times):
            for data, pts, dts, duration, key in packets:
                packet = av.Packet(data)
                packet.stream, packet.time_base, packet.is_keyframe = stream, video.time_base or Fraction(1, 90000), key
                packet.pts, packet.dts, packet.duration = (pts or 0) + n * span, (dts or 0) + n * span, duration
                target.mux(packet)
    return path


def cube(path: Path, chain: ColourChain, size: int = 33) -> Path:
    """The same colour as a .cube file of ``size`` points for the library's own 3D table filter."""
    axis = np.linspace(0, 1, size)
    b, g, r = np.meshgrid(axis, axis, axis, indexing="ij")
    out = chain.apply(np.stack([r, g, b], axis=-1)).reshape(-1, 3)
    path.write_text(f"LUT_3D_SIZE {size}\n" + "\n".join(" ".join(f"{v:.6f}" for v in row) for row in out))
    return path


def filter_chain(frame: av.VideoFrame, plan: Plan, table: Path) -> Callable[[], av.VideoFrame]:
    """libavfilter doing what the plan does: crop, Lanczos scale, tetrahedral 3D table, format; the library takes a thread a core."""
    look = plan.panels[0].look
    assert isinstance(look, AxisLook)
    w, h = (round(float(look.size[i] * look.scale[i])) for i in (0, 1))
    x, y = (round(float(look.offset[i])) // 2 * 2 for i in (0, 1))
    steps = [
        ("crop", f"{w}:{h}:{x}:{y}"),
        (
            "scale",
            f"{look.size[0]}:{look.size[1]}:flags=lanczos+accurate_rnd+full_chroma_int:in_color_matrix=bt709:in_range=tv",
        ),
        ("format", "gbrp10le"),
        ("lut3d", f"{table}:interp=tetrahedral"),
        ("scale", "out_color_matrix=bt709:out_range=tv:flags=lanczos+accurate_rnd+full_chroma_int"),
        ("format", "yuv420p10le"),
    ]
    return filtered(frame, steps)


def filtered(frame: av.VideoFrame, steps: list[tuple[str, str]], threads: int = 0) -> Callable[[], av.VideoFrame]:
    """A frame through the library's own filters, one after another; ``threads`` 0: as many as the library takes."""
    graph = av.filter.Graph()
    if threads:
        graph.threads = threads
    source = graph.add_buffer(
        template=None, width=frame.width, height=frame.height, format=frame.format, time_base=Fraction(1, 25)
    )
    last = source
    for name, args in steps:
        node = graph.add(name, args)
        last.link_to(node)
        last = node
    sink = graph.add("buffersink")
    last.link_to(sink)
    graph.configure()

    def run() -> av.VideoFrame:
        frame.pts = None
        _ = graph  # its nodes live only as long as it does
        source.push(frame)
        return cast(av.VideoFrame, sink.pull())

    return run


def decibels(found: np.ndarray, truth: np.ndarray) -> float:
    return float(10 * np.log10(1023.0**2 / np.mean((found.astype(np.float64) - truth) ** 2)))


def kernels_against_filters(clip: Path, folder: Path) -> dict[str, Any]:
    facts, seen = read_file(clip)
    # The crop starts on an even column, as the filter's own crop must in 4:2:2.
    route = (
        Route().with_("read", curve="fen-log").with_("shape", squeeze="8/5", shape="239/100", position=(0.4984, 0.5))
    )
    card = delivery("native-wide")
    plan = pixel_plan(walk(route, facts, seen, card))
    assert plan.chain is not None
    table = cube(folder / "same.cube", plan.chain)
    with av.open(str(clip)) as container:
        raw = next(iter(container.decode(video=0)))
    raw.colorspace, raw.color_range = 1, 1
    _, planes = planes_of(raw)
    w, h = plan.raster
    out = [np.zeros(plan.target.format.plane_size((w, h), i)[::-1], np.uint16) for i in range(3)]
    theirs = filter_chain(raw, plan, table)
    with Processor(plan, THREADS) as processor:
        pair = in_turn(lambda: processor.run([planes], tuple(out)), theirs, 15)
    form = PixelFormat(10, "4:2:2")
    cropped = tuple(p[: form.plane_size(UHD, i)[1], : form.plane_size(UHD, i)[0]] for i, p in enumerate(planes))
    truth = delivered_444(plan, plan.panels[0], [cropped])[..., 0]
    other = planes_of(theirs())[1][0][:h, :w]
    return {
        "ours_ms": pair.ours * 1000, "theirs_ms": pair.theirs * 1000, "ratio": pair.ratio,
        "ours_db": decibels(out[0], truth), "theirs_db": decibels(other, truth),
        "raster": f"{w}×{h}",
    }  # fmt: skip


def render_against_codec(clip: Path, folder: Path) -> dict[str, Any]:
    """A whole render against decoding the same frames and encoding the same pictures, with nothing between."""
    facts, seen = read_file(clip)
    route = Route().with_("read", curve="fen-log").with_("shape", squeeze="8/5", shape="239/100", hold="native")
    stamp = [0]

    def order() -> Order:
        stamp[0] += 1
        return freeze("bench", facts, route, "web-wide", folder / f"out{stamp[0]}.mp4", seen=seen)

    plan = compile_order(order())
    pictures = []
    with Reader(clip, print_=facts.fingerprint) as reader, Processor(plan.pixels, THREADS) as processor:
        for frame in reader.frames():
            sizes = [plan.spec.format.plane_size(plan.spec.raster, i) for i in range(3)]
            made = tuple(np.zeros((h, w), plan.spec.format.dtype) for w, h in sizes)
            processor.run([frame.planes], made)
            pictures.append(made)

    def whole() -> None:
        render(order(), threads=THREADS)

    def codec() -> None:
        from ..core.run.ahead import ahead

        with (
            Reader(clip, print_=facts.fingerprint) as reader,
            Writer(folder / f"codec{time.monotonic_ns()}.mp4", plan.spec, THREADS) as writer,
        ):
            for n, _ in enumerate(ahead(reader.frames())):
                frame, target = writer.blank()
                for plane, picture in zip(target, pictures[n], strict=True):
                    plane[: picture.shape[0], : picture.shape[1]] = picture
                writer.write(frame, n)

    pair = in_turn(whole, codec, 3)
    return {
        "ours_s": pair.ours,
        "codec_s": pair.theirs,
        "ratio": 1 / pair.ratio,
        "raster": f"{plan.spec.raster[0]}×{plan.spec.raster[1]}",
        "frames": len(pictures),
    }


_MEMORY = """
import sys
from pathlib import Path
from adzer.core.compile import freeze
from adzer.core.intake.take import read_file
from adzer.core.run.render import render
from adzer.core.route import Route
facts, seen = read_file(sys.argv[1])
route = Route().with_("read", curve="fen-log")
render(freeze("memory", facts, route, "web-wide", Path(sys.argv[2]), seen=seen), threads=2)
print(next(int(v.split()[1]) for v in open("/proc/self/status") if v.startswith("VmHWM")) / 1e6)
"""


def peak_memory(clip: Path, folder: Path) -> float:
    """Peak resident gigabytes of a process that renders the clip (its own high-water mark, not its parent's)."""
    out = folder / f"memory{time.monotonic_ns()}.mp4"
    done = subprocess.run(
        [sys.executable, "-c", _MEMORY, str(clip), str(out)], capture_output=True, text=True, check=True
    )
    out.unlink()
    return float(done.stdout.split()[-1])


def first_window() -> float:
    """Seconds from starting a process to the first window being painted, warm."""
    code = (
        "import time, sys; began = float(sys.argv[1])\n"
        "from adzer.desk.app import application\nfrom adzer.core.job import Job\nfrom pathlib import Path\n"
        "from adzer.core.sim.demo import demo_job\nfrom adzer.desk.model import Desk\nfrom adzer.desk.window import Window\n"
        "app = application(); w = Window(Desk(Job.open(Path(sys.argv[2])))); w.show(); app.processEvents()\n"
        "print(time.time() - began); w.close()\n"
    )
    from ..core.sim.demo import demo_job

    with tempfile.TemporaryDirectory() as folder:
        job = demo_job(Path(folder))
        env = os.environ | {"QT_QPA_PLATFORM": os.environ.get("QT_QPA_PLATFORM", "offscreen")}
        times = []
        for _ in range(4):
            done = subprocess.run(
                [sys.executable, "-c", code, str(time.time()), str(job)],
                capture_output=True,
                text=True,
                env=env,
                check=True,
            )
            times.append(float(done.stdout.split()[-1]))
    return float(np.median(times[1:]))


def preview_latency() -> float:
    """Milliseconds from asking to a changed preview of a UHD log frame, 1280 wide, kernels and scopes included."""
    from ..core.run.service import Pictures, Picturing

    with tempfile.TemporaryDirectory() as name:
        clip = footage(Path(name), 1)
        facts, seen = read_file(clip)
        pictures = Pictures(THREADS)
        times = []
        for n in range(14):
            route = (
                Route()
                .with_("read", curve="fen-log")
                .with_("shape", squeeze="8/5", shape="239/100")
                .with_("colour", exposure=0.05 * n)
            )
            ask = Picturing("main", n, facts, seen, route, "native-wide", 5, (1280, 720), scopes=True)
            began = time.perf_counter()
            pictures.make(ask)
            times.append(time.perf_counter() - began)
        pictures.close()
    return float(np.median(times[3:])) * 1000


def longest_hold() -> float:
    """Milliseconds that the UI thread was away from its events at most, while a person works in a window whose benches have been
    opened before; the least of three runs, as what the machine does beside it only adds."""
    from ..core.job import Job
    from ..core.sim.demo import demo_job
    from ..desk.app import application
    from ..desk.model import Desk
    from ..desk.shots import wait, wander
    from ..desk.window import Window

    with tempfile.TemporaryDirectory() as folder:
        app = application()
        window = Window(Desk(Job.open(demo_job(Path(folder)))))
        window.show()
        app.processEvents()
        for stage in ("read", "shape", "colour", "deliver"):
            window.desk.unfold(stage)
            wait(lambda: window.bench.picture.after is not None, settle=0.3)
        held = min(max(wander(window)) for _ in range(3))
        window.close()
    return held


def write_part(name: str, text: str) -> None:
    """Puts a part into ``docs/numbers.md`` between its marks; the rest of the file stays as it is."""
    start, stop = f"<!-- {name} -->\n", f"<!-- /{name} -->\n"
    held = NUMBERS.read_text()
    before, _, rest = held.partition(start)
    after = rest.partition(stop)[2]
    NUMBERS.write_text(f"{before}{start}{text.rstrip()}\n{stop}{after}")


def verdict(met: bool) -> str:
    return "met" if met else "**missed**"


def write_rows(part: str, rows: list[tuple[str, str, str, bool]]) -> None:
    """A part as a table: what, measured, asked, met."""
    text = f"## {part.capitalize()}\n\n| what | measured | asked | |\n| --- | --- | --- | --- |\n"
    text += "".join(f"| {what} | {found} | {asked} | {verdict(met)} |\n" for what, found, asked, met in rows)
    write_part(part, text)
    print(text)


def window() -> None:
    """How soon a person sees something."""
    first, preview, held = first_window(), preview_latency(), longest_hold()
    write_rows("window", [
        ("first window, warm", f"{first:.2f} s", "≤ 1.5 s", first <= 1.5),
        ("preview after a changed control, UHD source, 1280 wide, with scopes", f"{preview:.0f} ms", "≤ 100 ms", preview <= 100),
        ("longest hold of the UI thread while numbers are dragged, the shot plays and benches change", f"{held:.0f} ms", "≤ 50 ms", held <= 50),
    ])  # fmt: skip


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="adzer-bench-") as name:
        folder = Path(name)
        short = footage(folder, 5)
        ten, long = repeated(short, 2), repeated(short, 12)
        a = kernels_against_filters(short, folder)
        print("(a)", a, flush=True)
        gc.collect()
        five, sixty = peak_memory(short, folder), peak_memory(long, folder)
        print("(c)", five, sixty, flush=True)
        long.unlink()
        b = render_against_codec(ten, folder)
        print("(b)", b, flush=True)
    what = f"desqueeze + crop + log→BT.709, UHD 10-bit 4:2:2 → {a['raster']} 10-bit 4:2:0"
    rows = [
        (
            f"(a) {what}, against libavfilter (Lanczos scale, tetrahedral 33³ lut3d, formats)",
            f"{a['ours_ms']:.0f} ms against {a['theirs_ms']:.0f} ms a frame: **{a['ratio']:.1f}×** faster",
            "≥ 2.5×",
            a["ratio"] >= 2.5,
        ),
        (
            "(a) luma error of both against the float reference",
            f"{a['ours_db']:.1f} dB against {a['theirs_db']:.1f} dB",
            "better",
            a["ours_db"] > a["theirs_db"],
        ),
        (
            f"(b) whole render of {b['frames']} UHD frames to H.264 {b['raster']}, with join and check, "
            "against decode + encode alone",
            f"{b['ours_s']:.1f} s against {b['codec_s']:.1f} s: **{b['ratio']:.2f}×**",
            "≤ 1.5×",
            b["ratio"] <= 1.5,
        ),
        (
            "(c) peak memory of a UHD render, 5 s and 60 s",
            f"{five:.2f} GB and {sixty:.2f} GB",
            "≤ 1.2 GB, the same",
            max(five, sixty) <= 1.2 and sixty < five * 1.1,
        ),
    ]
    write_rows("render", rows)


if __name__ == "__main__":
    window() if sys.argv[1:] == ["window"] else main()
