"""Two eyes: found to lie as the world and warps of other libraries made them lie, told apart, laid out and tagged."""

from __future__ import annotations

import json
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import pytest
from scipy.optimize import fsolve
from skimage.transform import ProjectiveTransform, resize, warp

from adzer.core import cards
from adzer.core.compile import freeze
from adzer.core.deliver.step import pair_told
from adzer.core.errors import AdzerError, Stopped, UnreadableError
from adzer.core.intake.take import join_files, read_file
from adzer.core.job import Job
from adzer.core.join import comfort
from adzer.core.join.align import Align
from adzer.core.join.eyes import Shown, answers, depth_at, measure
from adzer.core.join.settings import JoinSettings
from adzer.core.light.curves import STANDARD
from adzer.core.media import probe
from adzer.core.media.decode import opened
from adzer.core.media.told import told
from adzer.core.records import to_json
from adzer.core.route import Route, walk
from adzer.core.run.matching import look_at_eyes
from adzer.core.run.render import render
from adzer.core.sim import pairs, player, world

from ..foreign import clip, photograph
from .test_cli import adzer
from .test_shutter import written

BT709 = STANDARD["bt709"]


def cameras_of(wide, roll=0.0, larger=0.0, tilt=0.0, heading=0.0):
    """Left and right, 65 mm apart, the faults halved between them; (wide) × 9/16 pixels."""
    return pairs.eyes(pairs.Held(0.065, heading, tilt, roll, larger), (wide, wide * 9 // 16))


def recorded(camera, gains=(1.0, 1.0, 1.0), seed=1):
    """Signal in 8 bits with noise."""
    rng = np.random.default_rng(seed)
    signal = BT709.encode(np.clip(camera.light(0.0, 2) * gains, 0, 1))
    return np.round(np.clip(signal + rng.normal(0, 0.006, signal.shape), 0, 1) * 255) / 255


FAULTS = {"roll": 1.5, "larger": 3.0, "tilt": 1.2, "heading": 1.0}


@pytest.fixture(scope="module")
def faulty():
    both = cameras_of(960, **FAULTS)
    shown = Shown(recorded(both[0]), recorded(both[1], (0.8, 1.0, 1.1), 2), 0.0)
    return both, shown, measure([shown], 1.0, BT709)


def lies(panel, point):
    """Where a panel shows what was recorded at a place: its own map undone by another library's solver."""
    start = np.array(panel.size) * point / np.array(panel.region[2:])
    return fsolve(lambda p: panel.recorded(np.array([p[0]]), np.array([p[1]]), 0.0)[0] - point, start, xtol=1e-10)


def test_faults_are_found_and_what_is_delivered_lies_in_line(faulty):
    both, _, found = faulty
    a = found.align
    assert a.roll == pytest.approx(-FAULTS["roll"], abs=0.05) and a.size == pytest.approx(FAULTS["larger"], abs=0.06)
    facts = join_stub((960, 540))
    route = Route().with_("read", eyes="side by side", first="left", curve="bt709").with_("join", laid="beside", **answers(found))
    walked = walk(route, facts)
    left, right = walked.draft.panels
    rng = np.random.default_rng(3)
    d = rng.uniform([-0.45, -0.25], [0.45, 0.22], (60, 2))
    rays = np.stack([d[:, 0], np.ones(60), d[:, 1]], -1) @ both[0].pose(0).rotation().T
    _, depth = world.trace(np.array(both[0].pose(0).place), rays / np.linalg.norm(rays, axis=1, keepdims=True), 0.0)
    points = np.array(both[0].pose(0).place) + rays / np.linalg.norm(rays, axis=1, keepdims=True) * np.minimum(depth, 500)[:, None]
    offs, before = [], []
    for point in points:
        one, two = (c.project(point[None], 0.0)[0] for c in both)
        before.append(two[1] - one[1])
        offs.append(lies(right, two + np.array(right.region[:2]))[1] - lies(left, one + np.array(left.region[:2]))[1])
    scale = 1920 / 960
    assert np.quantile(np.abs(before), 0.95) * scale > 30
    assert np.quantile(np.abs(offs), 0.95) * scale < 0.3, np.quantile(np.abs(offs), 0.95) * scale
    corners = np.array([[0.0, 960, 0, 960], [0, 0, 540, 540]])
    edge = np.concatenate([p.recorded(*corners, 0.0) - p.region[:2] for p in (left, right)])
    assert edge.min() > -0.01 and (edge <= np.array([960, 540]) + 0.01).all(), "nothing bare is delivered"


def join_stub(raster):
    """Facts of a recording with two eyes side by side, each of ``raster``."""
    import msgspec

    from adzer.core.sim.demo import CLIPS

    return msgspec.structs.replace(probe.probe(CLIPS / "cartwheel-eyes.mp4"), raster=(2 * raster[0], raster[1]), sphere=None)


def test_the_left_eye_is_known_by_what_covers_what_and_depth_is_as_it_was(faulty):
    both, shown, found = faulty
    assert found.which.left == "first" and found.which.confidence > 0.98
    swapped = measure([Shown(shown.second, shown.first, 0.0)], 1.0, BT709)
    assert swapped.which.left == "second"
    assert swapped.align.roll == pytest.approx(-found.align.roll, abs=0.05)
    straight = cameras_of(960)
    plain = Shown(recorded(straight[0]), recorded(straight[1], seed=2), 0.0)
    seen = measure([plain], 1.0, BT709)
    # depth from the world's own tracing: parallax = spacing / distance along the axis, in shares of the picture's width there
    x, y = np.meshgrid(np.linspace(40, 920, 60), np.linspace(20, 520, 40))
    origin, rays = straight[0].rays(x.ravel(), y.ravel(), 0.0)
    _, depth = world.trace(origin, np.ascontiguousarray(rays), 0.0)
    ahead = depth * (rays @ straight[0].pose(0).rotation()[:, 1])
    parallax = -100 * 0.065 / ahead / (2 * np.tan(np.radians(32)))
    assert seen.depth.near == pytest.approx(np.quantile(parallax, 0.02), abs=0.06)  # per cent: 0.6 pixels
    assert -0.25 < seen.depth.far < 0.1
    # What the edges cut: the board on the left, ground on the right; the world says how near it is there, a twelfth of the height nearer still
    for n, columns in ((1, (30, 70)), (2, (890, 930))):
        x, y = np.meshgrid(np.linspace(*columns, 9), np.linspace(4, 536, 133))
        origin, rays = straight[0].rays(x.ravel(), y.ravel(), 0.0)
        _, depth = world.trace(origin, np.ascontiguousarray(rays), 0.0)
        ahead = (depth * (rays @ straight[0].pose(0).rotation()[:, 1])).reshape(x.shape)
        rows = np.sort(np.median(-100 * 0.065 / ahead / (2 * np.tan(np.radians(32))), axis=1))
        assert seen.depth.edges[0][n] == pytest.approx(rows[len(rows) // 12], abs=0.12)
    wheel = straight[0].project(np.array([[world.WHEEL_X, world.WHEEL_Y, world.WHEEL_Z]]), 0.0)[0]
    at = depth_at(plain, seen.align.terms, 1.0, wheel[0] / 960, wheel[1] / 540, "left")
    away = (np.array([world.WHEEL_X, world.WHEEL_Y, world.WHEEL_Z]) - straight[0].pose(0).place) @ straight[0].pose(0).rotation()[:, 1]
    assert at == pytest.approx(-100 * 0.065 / away / (2 * np.tan(np.radians(32))), abs=0.05)
    with pytest.raises(AdzerError, match="not surely found"):
        depth_at(plain, seen.align.terms, 1.0, 0.001, 0.02, "left")


def test_colours_of_the_eyes_are_brought_together(faulty):
    both, shown, found = faulty
    matrix = np.array(found.colours).reshape(3, 3)
    assert np.abs(np.diag(matrix) * [0.8, 1.0, 1.1] - 1).max() < 0.04 and np.abs(matrix - np.diag(np.diag(matrix))).max() < 0.05
    assert found.differ[1] * 3 < found.differ[0]


@pytest.mark.parametrize("name, near", [("astronaut", "coffee"), ("coffee", "astronaut")])
def test_photographs_warped_by_another_library(name, near):
    """A photograph far away and a piece of another before it; the second eye's picture bent by a homography of skimage's own."""
    photo = photograph(name)[:360, :500] / 255.0
    h, w = photo.shape[:2]
    piece = photograph(near)[100:280, 100:260] / 255.0
    first, second = photo.copy(), photo.copy()
    first[90:270, 190:350] = piece
    second[90:270, 178:338] = piece  # nearer: farther left to the right eye
    angle, size, down = np.radians(1.0), 1.02, 4.0
    c, s = size * np.cos(angle), size * np.sin(angle)
    middle = np.array([[1, 0, w / 2], [0, 1, h / 2], [0, 0, 1]])
    to = middle @ np.array([[c, -s, 0], [s, c, down], [0, 0, 1]]) @ np.linalg.inv(middle)
    bent = warp(second, ProjectiveTransform(np.linalg.inv(to)), order=3, mode="edge")
    found = measure([Shown(first, np.clip(bent, 0, 1), 0.0)], 1.0, None)
    assert found.align.roll == pytest.approx(1.0, abs=0.06) and found.align.size == pytest.approx(2.0, abs=0.12)
    assert found.align.shift == pytest.approx(100 * down / w, abs=0.05) and found.align.rest < 1.5
    assert found.which.left == "first", found.which
    same = measure([Shown(photo, photo, 0.0)], 1.0, None)
    assert same.which.left is None and "same" in same.which.saw and same.align.rest < 0.1
    mirrored = photo[:, ::-1]
    with pytest.raises(AdzerError, match="too little in common"):
        measure([Shown(photo, mirrored, 0.0)], 1.0, None)
    with pytest.raises(AdzerError, match="too little in common"):
        measure([Shown(photo, np.full_like(photo, 0.5), 0.0)], 1.0, None)


def test_a_zoom_that_drifts_is_followed_and_one_that_stays_is_not():
    """Five moments of a photograph; the second eye's picture grows by 1.2 % over them, and rolls 0.4° back, by another library."""
    photo = photograph("coffee")[:360, :500] / 255.0
    h, w = photo.shape[:2]
    middle = np.array([[1, 0, w / 2], [0, 1, h / 2], [0, 0, 1]])

    def moments(grown, rolled):
        for n in range(5):
            angle, size = np.radians(0.5 - rolled * n / 4), 1.01 + grown * n / 4
            c, s = size * np.cos(angle), size * np.sin(angle)
            to = middle @ np.array([[c, -s, 0], [s, c, 2.0], [0, 0, 1]]) @ np.linalg.inv(middle)
            rng = np.random.default_rng(n)
            second = warp(photo, ProjectiveTransform(np.linalg.inv(to)), order=3, mode="edge") + rng.normal(0, 0.004, photo.shape)
            yield Shown(photo + rng.normal(0, 0.004, photo.shape), np.clip(second, 0, 1), n / 2)

    found = measure(list(moments(0.012, 0.4)), 1.0, None)
    assert [t for t, _ in found.over] == [0.0, 0.5, 1.0, 1.5, 2.0] and found.align.rest < 0.8
    for n, (_, a) in enumerate(found.over):
        assert a.size == pytest.approx(1.0 + 0.3 * n, abs=0.06) and a.roll == pytest.approx(0.5 - 0.1 * n, abs=0.03), (n, a)
    settings = JoinSettings(**{k: v for k, v in answers(found).items() if k == "align"}, aligns=found.over)
    assert settings.aligned(0.75)[2] * 100 == pytest.approx(1.45, abs=0.06)
    assert measure(list(moments(0.0, 0.0)), 1.0, None).over == ()


def test_a_clip_that_is_not_ours_is_put_in_line_from_its_files(tmp_path):
    """A film of the street, and the same turned, larger and lower by another library, as files; without depth nobody tells the eyes."""
    with av.open(str(clip("bikes"))) as container:
        frames = [f.to_ndarray(format="rgb24") for _, f in zip(range(4), container.decode(video=0), strict=False)]
    h, w = frames[0].shape[:2]
    middle = np.array([[1, 0, (w - 1) / 2], [0, 1, (h - 1) / 2], [0, 0, 1]])
    c, s = 1.015 * np.cos(np.radians(0.8)), 1.015 * np.sin(np.radians(0.8))
    to = ProjectiveTransform(np.linalg.inv(middle @ np.array([[c, -s, 0], [s, c, 3.0], [0, 0, 1]]) @ np.linalg.inv(middle)))
    for name, made in (("a", frames), ("b", [np.round(warp(f, to, order=3, mode="edge") * 255).clip(0, 255).astype(np.uint8) for f in frames])):
        with av.open(str(tmp_path / f"{name}.mp4"), "w") as out:
            stream = out.add_stream("libx264", rate=25, options={"crf": "14"})
            stream.width, stream.height, stream.pix_fmt = w, h, "yuv420p"
            for frame in made:
                out.mux(stream.encode(av.VideoFrame.from_ndarray(frame, format="rgb24")))
            out.mux(stream.encode(None))
    facts, seen = read_file(tmp_path / "a.mp4", rear=tmp_path / "b.mp4")
    found = look_at_eyes(facts, Route().with_("read", eyes="side by side", projection="flat"), seen, 2)
    assert found.align.roll == pytest.approx(0.8, abs=0.03) and found.align.size == pytest.approx(1.5, abs=0.06)
    assert found.align.shift == pytest.approx(300 / w, abs=0.02) and found.before > 10 > 1 > found.align.rest
    assert found.which.left is None and max(abs(found.depth.near), abs(found.depth.far)) < 0.2


def test_depth_that_jumps_where_a_film_was_cut_is_told_and_pinned_away(tmp_path):
    """A film of the street that was cut at its 31st, 77th and 138th frame, as an independent look at all its frames tells; the second eye's pictures
    lie aside by 7, −5, −5 and 6 pixels, shot by shot."""
    with av.open(str(clip("bikes"))) as container:
        frames = [f.to_ndarray(format="gray")[::2, ::2] for _, f in zip(range(150), container.decode(video=0), strict=False)]
    h, w = frames[0].shape
    small = [resize(f.astype(float), (24, 24), anti_aliasing=True).ravel() for f in frames]
    torn = [n for n in range(1, 150) if np.corrcoef(small[n - 1], small[n])[0, 1] < 0.4]
    assert torn == [30, 76, 137]
    aside = [7 if n < 30 else -5 if n < 137 else 6 for n in range(150)]
    written(tmp_path / "cut.mkv", [np.hstack([f, np.roll(f, s, 1)]) * 3.4 + 64 for f, s in zip(frames, aside, strict=True)], 25)
    facts, seen = read_file(tmp_path / "cut.mkv")
    route = Route().with_("read", eyes="side by side", first="left", projection="flat", curve="bt709", packing="full")
    found = look_at_eyes(facts, route, seen)
    jumps = {round(t * 25): (before, after) for t, before, after in found.depth.jumps}
    assert set(torn) <= set(jumps) and len(jumps) <= 5
    for n in torn:
        assert jumps[n] == pytest.approx([100 * aside[n - 1] / w, 100 * aside[n] / w], abs=0.1), (n, jumps)
    measured = {"eyes": to_json(found).encode()}

    def told_of(route):
        walked = walk(route.with_("join", laid="beside", align=answers(found)["align"], screen="hall"), facts, seen, measured=measured)
        return [f for f in walked.findings if f.code == "depth-jumps"]

    (told_,) = told_of(route)
    mended = route.with_("join", pins=told_.fix.answers["pins"])
    after = told_of(mended)
    assert "6.0 s" not in told_.text and len(after) == 1 and after[0].text != told_.text, "the largest is gone, another is left"
    assert not told_of(mended.with_("join", pins=after[0].fix.answers["pins"]))


# ---- from files -----------------------------------------------------------------------------------------------------
def film(path, colour, frames=6, size=(128, 72), tracks=1, codec="mpeg4", rate=25):
    """Each frame's blue says its number; left is darker than right, so that a crop shows."""
    with av.open(str(path), "w") as out:
        streams = [out.add_stream(codec, rate=rate) for _ in range(tracks)]
        for stream in streams:
            stream.width, stream.height, stream.pix_fmt, stream.bit_rate = *size, "yuv420p", 4_000_000
        for k in range(frames):
            for n, stream in enumerate(streams):
                rgb = np.zeros((size[1], size[0], 3), np.uint8)
                rgb[..., :2] = colour if n == 0 else colour[::-1]
                rgb[..., 2] = 20 * k
                out.mux(stream.encode(av.VideoFrame.from_ndarray(rgb, format="rgb24")))
        for stream in streams:
            out.mux(stream.encode(None))
    return path


RED, GREEN = (200, 0), (0, 200)


@pytest.fixture(scope="module")
def files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("eyes")
    return film(folder / "a.mov", RED), film(folder / "b.mov", GREEN, 9), film(folder / "two.mov", RED, tracks=2)


def seen_in(path, n=0):
    with av.open(str(path)) as container:
        return next(f for k, f in enumerate(container.decode(video=0)) if k == n).to_ndarray(format="rgb24").astype(int)


def delivered(tmp_path, facts, card="web-wide", n=0, shape=None, **join):
    route = Route().with_("read", eyes="side by side", first="left", projection="flat").with_("join", **join)
    route = route.with_("shape", shape=shape) if shape else route
    out = tmp_path / f"m{len(list(tmp_path.iterdir()))}.{cards.delivery(card).container}"
    report = render(freeze("x", facts, route, card, out))
    assert report.passed
    return seen_in(out, n), out


def is_red(part):
    return bool(part[..., 0].mean() > 100 > part[..., 1].mean() + 30)


@pytest.mark.parametrize("laid, half, leading, size", [
    ("beside", False, "left", (256, 72)), ("beside", True, "right", (128, 72)), ("over", False, "right", (128, 144)),
    ("over", True, "left", (128, 72)), ("left", False, "left", (128, 72)), ("right", False, "left", (128, 72)),
])  # fmt: skip
def test_layouts(tmp_path, files, laid, half, leading, size):
    """The left eye is red, the right one green, whichever files and halves they come in."""
    picture, out = delivered(tmp_path, join_files(*map(str, files[:2])), laid=laid, half=half, leading=leading)
    assert picture.shape[1::-1] == size
    heeding, plain = player.shown(out), player.shown(out, heeds=False)
    if laid in ("left", "right"):
        assert is_red(picture) is (laid == "left") and np.array_equal(heeding["left"], heeding["right"])
        return
    assert is_red(heeding["left"][80:-80, 80:-80]) and not is_red(heeding["right"][80:-80, 80:-80]), "whoever heeds it sees each eye's own"
    assert np.array_equal(plain["left"], plain["right"]) and np.ptp(plain["left"][..., 0]) > 100, "whoever does not sees both in one"
    w, h = size
    first, second = (picture[:, : w // 2], picture[:, w // 2 :]) if laid == "beside" else (picture[: h // 2], picture[h // 2 :])
    assert is_red(first) is (leading == "left") and is_red(second) is (leading == "right")
    said = told(out)
    assert said.eyes == {"beside": "side by side", "over": "over under"}[laid] and said.first == leading
    sheet = out.with_name(out.name + ".txt").read_text()
    assert f"First eye: the {leading} one" in sheet and ("squeezed into its half" in sheet) is half


def test_edges_are_covered_each_in_its_own_eye_and_pins_move_over_time(tmp_path, files):
    facts = join_files(*map(str, files[:2]))
    picture, _ = delivered(tmp_path, facts, laid="beside", leading="right", edges=[5.0, 10.0])
    left, right = picture[:, 128:], picture[:, :128]
    wide = [int((p.mean(axis=(0, 2)) < 12).sum()) for p in (left, right)]
    assert wide[0] == pytest.approx(6, abs=1) and wide[1] == pytest.approx(12, abs=1)  # of 128
    assert left[:, 0].max() < 20 < left[:, -1].max() and right[:, -1].max() < 20 < right[:, 0].max()
    route = Route().with_("read", eyes="side by side", first="left", projection="flat")
    walked = walk(route.with_("join", laid="beside", pins=[[0.0, 0.0], [1.0, 4.0]]), facts)
    panels = {e: p for e, p in zip(("left", "right"), walked.draft.panels, strict=True)}
    middle, scale = np.array(64.0), np.array([60.0, 68.0])
    for time, pin in ((0.0, 0.0), (0.5, 2.0), (1.0, 4.0), (9.0, 4.0)):
        at = {e: float(p.recorded(middle, np.array(36.0), time)[0]) for e, p in panels.items()}
        assert at["left"] - at["right"] == pytest.approx(pin / 100 * 128, abs=0.01), "farther away: each eye looks towards the other's side"
        grown = np.diff(panels["left"].recorded(scale, np.full(2, 36.0), time)[:, 0])[0] / 8
        assert grown == pytest.approx(1 / 1.02 * 1.0, abs=0.03) and not panels["left"].patches[0].still


def test_a_second_file_that_is_shorter_ends_both(tmp_path):
    """Eight frames of one and five of the other, the second from its own second frame on: four are left, by every reader."""
    for name, frames in (("a", 8), ("b", 5)):
        film(tmp_path / f"{name}.mp4", 80 if name == "a" else 160, frames)
    sizes = [(tmp_path / f"{n}.mp4").stat().st_size for n in "ab"]
    facts = join_files(str(tmp_path / "a.mp4"), str(tmp_path / "b.mp4"), (1, 1))
    assert (facts.frames, facts.duration, facts.size, facts.raster) == (4, Fraction(4, 25), sum(sizes), (256, 72))
    with opened(facts.sources, facts.fingerprint) as reader:
        frames = list(reader.frames())
        assert len(reader) == len(frames) == 4 and reader.pixels == 256 * 72
        left, right = (frames[-1].cropped(0)[:, part].mean() for part in (slice(0, 128), slice(128, 256)))
        assert right - left > 40 and frames[-1].raster == (256, 72) and reader.keyframe(0).raster == (256, 72)


def test_two_eyes_in_two_files(files):
    facts = join_files(*map(str, files[:2]))
    route = Route().with_("read", eyes="side by side", first="left", projection="flat").with_("join", laid="files")
    (left, first), (right, second) = route.masters
    assert (left, right) == (" left", " right") and Route().masters == (("", Route()),)
    made = [walk(r, facts).draft for r in (first, second)]
    assert [d.panels[0].patches[0].input for d in made] == [0, 0] and [d.inputs[0].sources[0].name for d in made] == ["a.mov", "b.mov"]
    assert walk(route, facts).stopped is None and walk(route, facts)["deliver"].after.eyes == "one"


def test_what_is_cropped_is_cropped_of_both_and_never_across_the_middle(tmp_path, files):
    facts = join_files(*map(str, files[:2]))
    picture, _ = delivered(tmp_path, facts, "native-wide", laid="beside", shape=Fraction(1))
    assert picture.shape == (72, 144, 3) and is_red(picture[:, :72]) and not is_red(picture[:, 72:])
    plain = Route().with_("read", eyes="side by side", first="left", projection="flat")
    assert walk(plain.with_("shape", shape=Fraction(1)), facts).stopped.code == "pair-cropped"
    assert walk(plain.with_("read", first=None).with_("join", laid="beside"), facts).stopped.code == "eyes-unknown"
    assert walk(Route(), facts).stopped.code == "two-pictures"
    assert walk(Route().mended(walk(Route(), facts).stopped.fix).with_("read", first="left"), facts).stopped is None


def test_two_tracks_and_files_that_began_apart_are_one_recording(tmp_path, files):
    two, _ = read_file(files[2])
    assert two.beside and two.raster == (256, 72) and two.tracks == 2
    picture, _ = delivered(tmp_path, two, laid="over", n=4)
    assert is_red(picture[:72]) and not is_red(picture[72:]) and abs(picture[:72, :, 2].mean() - picture[72:, :, 2].mean()) < 8
    late = join_files(str(files[0]), str(files[1]), (0, 3))
    assert late.frames == 6 and late.fingerprint != join_files(str(files[0]), str(files[1])).fingerprint
    with opened(late.sources) as reader:
        for n in (0, 5, 2):
            blue = reader.frame(n).cropped(1).astype(int)
            assert len(reader) == 6 and blue.shape[1] == 128
    picture, _ = delivered(tmp_path, late, laid="beside", n=2)
    assert picture[:, :128, 2].mean() == pytest.approx(40, abs=12) and picture[:, 128:, 2].mean() == pytest.approx(100, abs=12)
    other = film(tmp_path / "c.mov", GREEN, size=(96, 72))
    with pytest.raises(UnreadableError, match="two eyes: their raster differs"):
        join_files(str(files[0]), str(other))
    gone = film(tmp_path / "d.mov", GREEN)
    pair = join_files(str(files[0]), str(gone))
    gone.unlink()
    with pytest.raises(UnreadableError, match=r"d\.mov is not there|is not there any more"):
        render(freeze("x", pair, Route().with_("read", eyes="side by side", first="left"), "web-wide", tmp_path / "x.mp4"))


def test_a_clock_that_drifts_is_followed(tmp_path, files):
    """A second clock that runs a fifth fast (no camera's does): after five frames its sixth."""
    facts = join_files(*map(str, files[:2]))
    route = Route().with_("read", eyes="side by side", first="left", projection="flat")
    route = route.with_("join", laid="beside", drift=1000.0, slip=0.0)
    walked = walk(route, facts)
    assert [i.drift for i in walked.draft.inputs] == [1.0, 1.001]
    from adzer.core.run.frames import numbers

    held = replace(walked.draft.inputs[1], drift=1.2)
    with opened(held.sources) as reader:
        moments = np.arange(6) / 25
        assert numbers(held, reader, np.arange(6), moments).tolist() == [0, 1, 2, 4, 5, 6]


@pytest.mark.parametrize("card, first, container, pictures", [
    ("web-wide", "left", True, True), ("web-wide", "right", False, True), ("native-wide", "right", False, True),
    ("archive", "right", True, False), ("archive", "left", True, False), ("edit-intermediate", "left", True, False),
])  # fmt: skip
@pytest.mark.parametrize("laid", ["beside", "over"])
def test_every_container_and_codec_says_it_to_another_reader(tmp_path, card, first, container, pictures, laid):
    size = (512, 288) if card == "edit-intermediate" else (128, 72)
    facts = join_files(str(film(tmp_path / "a.mov", RED, 2, size)), str(film(tmp_path / "b.mov", GREEN, 2, size)))
    _, out = delivered(tmp_path, facts, card, laid=laid, leading=first)
    said = told(out)
    assert (said.eyes, said.first) == ({"beside": "side by side", "over": "over under"}[laid], first)
    assert (said.tags is not None) is container
    assert f"for the {first} eye" in said.others


def test_what_cannot_be_said_is_a_stop(tmp_path, files):
    facts = join_files(*map(str, files[:2]))
    route = Route().with_("read", eyes="side by side", first="left", curve="bt709").with_("join", laid="beside", leading="right")
    with pytest.raises(Stopped, match="nothing in it says that they are eyes"):
        freeze("x", facts, route, "edit-intermediate", tmp_path / "x.mov")
    assert pair_told(walk(route.with_("read", first=None), facts)["read"].after, cards.delivery("web-wide")) == (None, None)


def test_what_an_edge_cuts_before_the_screen_is_said(faulty):
    _, _, found = faulty
    facts = join_stub((960, 540))
    route = Route().with_("read", eyes="side by side", first="left", curve="bt709").with_("join", laid="beside", **answers(found))
    measured = {"eyes": to_json(found).encode()}
    codes = {f.code: f for f in walk(route, facts, measured=measured).findings}
    assert "edge-cuts-near" in codes, found.depth
    mended = walk(route.mended(codes["edge-cuts-near"].fix), facts, measured=measured)
    assert not any(f.code == "edge-cuts-near" for f in mended.findings)


def test_how_deep_it_may_be():
    """Arithmetic: on a screen 10 m wide 1 % is 100 mm, more than eyes are apart."""
    hall = comfort.SCREENS["hall"]
    assert comfort.limits(hall)[1] == pytest.approx(0.65, abs=0.01) and comfort.limits(hall, children=True)[1] == pytest.approx(0.5, abs=0.01)
    faults = comfort.judged(-1.0, 1.0, hall).faults
    assert len(faults) == 1 and "outwards by 35 mm" in faults[0]
    assert comfort.judged(-4.0, 0.1, comfort.SCREENS["room"]).faults[0].startswith("the nearest lies 4.0 %")
    near = comfort.SCREENS["desk"]
    away = 0.065 * near.distance / (0.065 + 0.02 * near.width)  # where lines to eyes meet that lie 2 % crossed
    angle = 2 * np.degrees(np.arctan(0.0325 / away) - np.arctan(0.0325 / near.distance))
    assert comfort.degrees(-2.0, near) == pytest.approx(-angle, rel=0.01)


def test_the_command_line_measures_and_lays_out(tmp_path):
    both = cameras_of(480, roll=0.8, larger=1.0, tilt=0.4)
    pairs.shoot(both, 3, (tmp_path / "b.mp4", tmp_path / "a.mp4"))
    a, b, out = tmp_path / "a.mp4", tmp_path / "b.mp4", tmp_path / "o.mp4"
    found = adzer("eyes", a, b, "--offset", "0", "--json")
    assert found.returncode == 0, found.stderr
    plain = json.loads(found.stdout)
    assert plain["left"] == str(b) and plain["confidence"] > 0.97 and {"alignment", "depth", "drift_ppm", "offset"} <= set(plain)
    assert plain["alignment"]["roll"] == pytest.approx(0.8, abs=0.08)  # the second is the left one here
    done = adzer(
        "eyes", a, b, "--offset", "0", "--layout", "beside", "--half", "--first", "right", "--pin", "322,142", "--exposure", "0.2",
        "--curve", "bt709", "--card", "web-wide", "--out", out, "--json",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["pin"] > 0.1 and told(out).first == "right"
    two = adzer("eyes", a, b, "--offset", "0", "--layout", "files", "--card", "web-wide", "--out", tmp_path / "e.mp4", "--json")
    assert [Path(m["master"]).name for m in json.loads(two.stdout)["masters"]] == ["e left.mp4", "e right.mp4"], two.stderr
    tags = json.loads(adzer("tags", out, "--json").stdout)
    assert tags["eyes"] == "side by side" and tags["tags"] is None and "in depth" in tags["knowing"]
    facts, seen = read_file(out)
    again = look_at_eyes(facts, Route().with_("read", eyes="side by side", first="right", packing="half"), seen)
    assert abs(again.align.roll) < 0.08 and again.before < 2.0 and again.which.left == "second"
    job = tmp_path / "mill.adzer"
    joined, looked = read_file(a, rear=b)
    with Job.create(job, "mill") as held:
        held.add_shot(joined, "wheel", "eye pair", Route().with_("read", eyes="side by side", projection="flat"), seen=looked)
    (row,) = json.loads(adzer("eyes", job, "--json").stdout)["eyes"]
    with Job.open(job) as held:
        (shot,) = held.shots()
        assert row["which"]["left"] == "second" and shot.route.join.align.roll == row["align"]["roll"] == pytest.approx(0.8, abs=0.08)
        assert "eyes" in held.found(shot.facts.fingerprint)
    wrong = adzer("eyes", a, b, "--pin", "left", "--offset", "0")
    assert wrong.returncode == 2 and "give two numbers" in wrong.stderr
    silent = adzer("eyes", a, b)
    assert silent.returncode == 2 and "started at once" in silent.stderr


def test_align_is_kept_as_it_was_said():
    terms = np.array([0.01, -0.02, 0.015, 0.003, -0.002])
    assert np.allclose(Align.of(terms).terms, terms, atol=1e-6)
