"""What happens above white: recorded 100–109 %, the ceiling, each shot's own peak, and hues."""

from __future__ import annotations

from dataclasses import replace

import av
import numpy as np
import pytest

from adzer.core.cards import delivery
from adzer.core.colour.step import chain
from adzer.core.compile import freeze
from adzer.core.intake.take import add_files
from adzer.core.job import Job
from adzer.core.light.chain import ColourChain
from adzer.core.light.curves import STANDARD
from adzer.core.picture import Picture
from adzer.core.route import Route, carried, walk
from adzer.core.run.pixels import Processor
from adzer.core.run.render import render

from .test_chroma import plan, run


def oklab_hue(rgb):
    """Ottosson's conversion written anew from its published form: degrees."""
    r, g, b = np.moveaxis(np.asarray(rgb, float), -1, 0)
    cone_l = np.cbrt(0.4122214708 * r + 0.5363325363 * g + 0.0514459929 * b)
    cone_m = np.cbrt(0.2119034982 * r + 0.6806995451 * g + 0.1073969566 * b)
    cone_s = np.cbrt(0.0883024619 * r + 0.2817188376 * g + 0.6299787005 * b)
    a = 1.9779984951 * cone_l - 2.4285922050 * cone_m + 0.4505937099 * cone_s
    bb = 0.0259040371 * cone_l + 0.7827717662 * cone_m - 0.8086757660 * cone_s
    return np.degrees(np.arctan2(bb, a)), np.hypot(a, bb)


def decode709(y):
    return np.where(y < 0.081, y / 4.5, ((np.maximum(y, 0.081) + 0.099) / 1.099) ** (1 / 0.45))


COLOURS = np.array([[1, 0.25, 0.05], [0.1, 0.35, 1], [0.9, 0.1, 0.5], [0.5, 1, 0.15], [0.15, 0.9, 0.8], [1, 0.6, 0.1]])


@pytest.mark.parametrize("whites, most", [("keep hue", 3.0), ("roll off", None)])
def test_hues_stay_where_that_is_asked_and_turn_where_each_channel_bends_by_itself(whites, most):
    made = ColourChain(STANDARD["linear"], np.eye(3), STANDARD["bt709"], whites, peak=2.0**5)
    worst = 0.0
    for stops in (0, 1, 2, 3, 4):
        light = COLOURS * 2.0**stops
        out = decode709(made.apply(light))
        before, _ = oklab_hue(light)
        after, chroma = oklab_hue(out)
        away = np.abs((after - before + 180) % 360 - 180)
        worst = max(worst, float(away[chroma > 0.03].max(initial=0)))
        assert out.max() <= 1 + 1e-9 and np.all(np.diff(out.sum(axis=-1)) == np.diff(out.sum(axis=-1)))
    assert worst < most if most else worst > 20
    assert (made.hue_turn() < 3) is (whites == "keep hue")
    neutral = made.apply(np.array([[0.18] * 3, [1.0] * 3, [9.0] * 3]))
    assert np.ptp(neutral, axis=1).max() < 1e-3 and abs(decode709(neutral[0, 0]) - 0.18) < 1e-3


def test_the_kernels_keep_hue_as_the_chain_does():
    made = ColourChain(STANDARD["bt709"], np.eye(3) * 4, STANDARD["bt709"], "keep hue", peak=4.8)
    both = plan("4:4:4", "4:4:4", chain=made)
    assert both.chain.together
    rng = np.random.default_rng(0)
    patches = [np.kron(rng.integers(100, 900, (10, 15)), np.ones((32, 32), int)) for _ in range(3)]
    patches[1:] = [np.clip(p // 3 + 350, 350, 670) for p in patches[1:]]
    out = run(both, patches)
    signal = np.stack([p.astype(float) for p in patches], -1) @ both.source.to_signal()[:, :3].T + both.source.to_signal()[:, 3]
    wanted = made.apply(signal) @ both.target.to_codes()[:, :3].T + both.target.to_codes()[:, 3]
    off = np.abs(np.stack(out, -1) - wanted)[16::32, 16::32]
    assert np.median(off) < 1.5 and np.quantile(off, 0.95) < 8  # between lattice points a bend is straight


@pytest.mark.parametrize("ceiling", [100, 105, 109])
@pytest.mark.parametrize("whites", ["roll off", "keep all", "let go", "keep hue"])
def test_recorded_109_percent_is_told_apart_up_to_the_ceiling(ceiling, whites):
    """A display recording with its whites at 100 … 109 %, a little corrected: under *roll off* and *keep all* no two of them
    become one, and nothing passes the ceiling."""
    picture = Picture((1920, 1080), curve="bt709", primaries="bt709", range="limited", bits=10)
    settings = Route().with_("colour", whites=whites, ceiling=ceiling, contrast=1.02).colour
    made = chain(picture, settings, delivery("web-wide"), top=1.09)
    steps = np.repeat(np.array([0.99, 1.0, 1.03, 1.06, 1.09])[:, None], 3, axis=1)
    out = made.apply(steps)[:, 0]
    assert out.max() <= ceiling / 100 + 1e-9 and out.max() > ceiling / 100 - 0.03
    if whites != "let go":
        assert np.all(np.diff(out) > 0.002), out
    codes = out * 876 + 64
    assert codes.max() <= {100: 940, 105: 983.8, 109: 1018.84}[ceiling] + 0.1


def test_the_peak_is_each_shots_own_and_does_not_travel():
    picture = Picture((1920, 1080), curve="fen-log", primaries="bt2020", range="limited", bits=10)
    settings = Route().with_("colour", whites="keep all").colour
    dim, bright = (chain(picture, settings, delivery("web-wide"), top=t) for t in (0.6, 0.9))
    assert dim.peak < bright.peak and dim.grey > bright.grey
    assert "peak" not in carried(replace_peak(settings)) and carried(settings)["whites"] == "keep all"


def replace_peak(settings):
    import msgspec

    return msgspec.structs.replace(settings, peak=3.0)


def test_codes_kept_for_timing_are_never_written():
    """BT.709-6, item 4.5: 1–254 of 8 bits, 4–1019 of 10; full range has all of them."""
    for bits, low, high in ((8, 1, 254), (10, 4, 1019)):
        made = plan("4:4:4", "4:4:4", bits=(bits, bits), matrices=("bt709", "bt601"))
        h, w = 320, 480
        wild = [np.tile(np.array([0, (1 << bits) - 1]), (h, w // 2)) for _ in range(3)]
        for out in run(made, wild):
            assert out.min() >= low and out.max() <= high
        target = replace(made.target, limited=False)
        full = replace(made, target=target)
        out = tuple(np.zeros((h, w), made.target.format.dtype) for _ in range(3))
        with Processor(full, 1) as processor:
            processor.run([tuple(p.astype(made.source.format.dtype) for p in wild)], out)
        assert out[0].min() == 0 and out[0].max() == (1 << bits) - 1


def test_floating_point_light_above_white_comes_through(tmp_path):
    """Frames of 0 to 16 times white, written by another library; four stops down they are what BT.709's formula says."""
    levels = np.array([0.0, 0.02, 0.18, 1.0, 4.0, 9.0, 15.9], np.float32)
    light = np.repeat(np.repeat(levels, 20)[None, :], 80, axis=0)
    light = np.pad(light, ((0, 0), (0, 4)), mode="edge")
    for n in range(3):
        with av.open(str(tmp_path / f"f.{n + 1:04d}.exr"), "w", format="image2", options={"update": "1"}) as out:
            stream = out.add_stream("exr", rate=25)
            stream.width, stream.height, stream.pix_fmt = light.shape[1], light.shape[0], "gbrpf32le"
            frame = av.VideoFrame(light.shape[1], light.shape[0], "gbrpf32le")
            for plane in frame.planes:
                rows = np.zeros((light.shape[0], plane.line_size // 4), np.float32)
                rows[:, : light.shape[1]] = light
                plane.update(rows.tobytes())
            out.mux(stream.encode(frame))
            out.mux(stream.encode(None))
    with Job.create(tmp_path / "j.adzer", "j") as job:
        (shot,) = add_files(job, [tmp_path])
        route = shot.route.with_("colour", exposure=-4.0, whites="let go")
        walked = walk(route, shot.facts, job.seen(shot.id))
        assert walked["read"].after.curve == "float-log" and walked["read"].after.range == "full" and not walked.stopped
        odd = walk(route.with_("read", curve="bt709"), shot.facts, job.seen(shot.id))
        assert odd.stopped.code == "float-is-light"
        for said in ({"curve": "bt709"}, {"applied": "display"}, {"applied": "display", "curve": "fen-log"}):
            stopped = walk(route.with_("read", **said), shot.facts, job.seen(shot.id))
            mended = stopped.route.mended(stopped.stopped.fix)
            assert walk(mended, shot.facts, job.seen(shot.id)).stopped is None, said  # the mend mends
        assert walk(route.with_("read", applied="nothing"), shot.facts, job.seen(shot.id)).stopped is None
        order = freeze("f", shot.facts, route, "archive", tmp_path / "m.mkv")
    render(order)
    with av.open(str(tmp_path / "m.mkv")) as made:
        got = next(made.decode(video=0)).to_ndarray()[0]
    dim = levels.astype(float) / 16
    wanted = 64 + 876 * np.where(dim < 0.018, 4.5 * dim, 1.099 * dim**0.45 - 0.099)
    assert np.abs(got[40, 10:140:20].astype(float) - wanted).max() <= 1.6, (got[40, 10:140:20], wanted)
