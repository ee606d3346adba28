"""Steady: what is held stays, what is meant goes on, and nothing bare ever enters; masters looked at by another library."""

from __future__ import annotations

import json
from fractions import Fraction

import cv2
import numpy as np
import pytest
import scipy.ndimage
import skimage.data
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation, Slerp
from skimage.feature import match_template
from skimage.registration import phase_cross_correlation
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core import cards
from adzer.core.cards import delivery
from adzer.core.errors import AdzerError
from adzer.core.intake.take import facts_of
from adzer.core.join.rig import text
from adzer.core.look.motion import Motion, path
from adzer.core.media.encode import VideoSpec, VideoTags, Writer
from adzer.core.route import Route, walk
from adzer.core.run import analysing, steadying, trying
from adzer.core.steady import solve
from adzer.core.steady.slow import slow
from adzer.core.steady.step import lying, named

from ..conftest import write_clip
from ..foreign import photograph
from ..masters import delivered, lumas, run

RATE = 25.0


def _hand(n, seed, pan=0.0, reach=6.0):
    """A path as hands make them: pixels, pixels, degrees, per cent."""
    rng = np.random.default_rng(seed)
    t = np.arange(n) / RATE
    made = np.zeros((n, 4))
    for k, size in enumerate((reach, reach, 0.05 * reach, 0.03 * reach)):
        for hz in rng.uniform(0.8, 6, 4):
            made[:, k] += size * rng.uniform(0.2, 1) * np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) / 2
        made[:, k] += size * np.cumsum(rng.standard_normal(n)) * 0.03
    made[:, 0] += pan * t
    return made


def _corners_outside(moves, size, kept, aspect=1.0):
    """By trigonometry of its own: how far the farthest corner of the window lies outside of the recorded picture."""
    worst = -1e9
    for dx, dy, degrees, per_cent in moves:
        k, a = kept * np.exp(per_cent / 100), np.deg2rad(degrees)
        for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
            x, y = sx * size[0] / 2 * k, sy * size[1] / 2 * k
            px, py = size[0] / 2 + dx + x * np.cos(a) - y / aspect * np.sin(a), size[1] / 2 + dy + x * aspect * np.sin(a) + y * np.cos(a)
            worst = max(worst, -px, -py, px - size[0], py - size[1])
    return worst


@settings(max_examples=150, deadline=None)
@given(
    st.integers(2, 90), st.integers(0, 10_000), st.floats(0.0, 0.5), st.sampled_from(["hold", "drift", "path"]), st.floats(0.5, 60), st.booleans(),
    st.sampled_from([1.0, 2.0, 0.6]), st.booleans(),
)  # fmt: skip
def test_nothing_bare_ever_enters(n, seed, budget, method, reach, roll, aspect, eases):
    path, pane = _hand(n, seed, reach=reach), solve.Pane((640, 360), aspect=aspect)
    moves = solve.solved(path, pane, RATE, method, budget, roll)
    if eases:
        own = moves
        moves = solve.eased(moves, pane, RATE, budget)
        assert (moves[:, 3] >= own[:, 3] - 1e-9).all() and np.array_equal(moves[:, :3], own[:, :3])
    assert np.isfinite(moves).all() and _corners_outside(moves, (640, 360), 1 - budget, aspect) < 1e-6
    assert roll or not moves[:, 2].any()


def test_a_window_closes_in_only_where_it_must():
    """Calm for six seconds, then shaken for four: the window is nearly whole while it is calm, and closes in without haste."""
    path = _hand(250, 2, reach=30.0)
    path[:150] = 0
    path[150:] *= np.linspace(0, 1, 100)[:, None] ** 0.5
    pane = solve.Pane((1280, 720))
    moves = solve.eased(solve.solved(path, pane, RATE, "drift", 0.12), pane, RATE, 0.12)
    window = 0.88 * np.exp(moves[:, 3] / 100)
    assert window[:75].min() > 0.985 and window[200:].min() < 0.93 and np.abs(np.diff(window)).max() * RATE < 0.12


@pytest.mark.parametrize("method", ["drift", "path"])
def test_jitter_goes_and_a_pan_keeps_its_speed(method):
    """Above 1 Hz a tenth is left at most, the pan's speed stays within 2 %, and both ends are nearly as calm as the middle."""
    path = _hand(300, 3, pan=55.0)
    steady = path - solve.solved(path, solve.Pane((1920, 1080)), RATE, method, 0.1)
    fast = lambda p: (p - slow(p, RATE, 1.0))[:, :2]  # noqa: E731
    assert np.sqrt((fast(steady) ** 2).mean()) < 0.1 * np.sqrt((fast(path) ** 2).mean())
    assert (steady[-30, 0] - steady[30, 0]) / (239 / RATE) == pytest.approx(55.0, rel=0.02 + 1.5 / 55)
    calm = np.abs(np.diff(steady[:, :2], 2, axis=0)).max(axis=1)
    assert max(calm[:25].max(), calm[-25:].max()) < 1.5 * max(calm[60:-60].max(), 0.05)


def test_a_long_way_is_solved_in_pieces_without_a_jolt(monkeypatch):
    monkeypatch.setattr(solve, "LONGEST", 240)
    monkeypatch.setattr(solve, "JOINED", 60)
    path = _hand(solve.LONGEST + 200, 4, pan=20.0)
    moves = solve.solved(path, solve.Pane((1280, 720)), RATE, "path", 0.08)
    steady = path - moves
    seam = solve.LONGEST - solve.JOINED
    assert _corners_outside(moves[::3], (1280, 720), 0.92) < 1e-6
    assert np.abs(np.diff(steady[seam - 5 : seam + 8, :2], axis=0)).max() < np.abs(np.diff(path[:, :2], axis=0)).max() / 3


def test_answers_are_whole_or_refused(tmp_path):
    moves = _hand(40, 5)
    text = solve.packed(moves, (640, 360))
    assert np.allclose(solve.unpacked(text, 40, (640, 360)), moves, atol=1e-4)
    assert np.allclose(solve.unpacked(text, 40, (160, 90)), moves * [0.25, 0.25, 1, 1], atol=1e-4)  # its proxy
    for broken, n in ((text, 41), (text[:-8], 40), ("no", 40), ("", 40)):
        assert solve.unpacked(broken, n, (640, 360)) is None


# --- from a file --------------------------------------------------------------------------------------------------
SIZE = (480, 320)


def _spec(size=SIZE):
    return VideoSpec("ffv1", size, 8, "4:2:0", Fraction(25), Fraction(1, 25), VideoTags("bt709", "bt709", "bt709", "limited"), 1, {})


def _written(path, lumas):
    """In 8-bit FFV1, grey."""
    with Writer(path, _spec()) as writer:
        for n, luma in enumerate(lumas):
            frame, target = writer.blank()
            target[0][: SIZE[1], : SIZE[0]] = np.clip(np.rint(luma), 16, 235)
            target[1][:], target[2][:] = 128, 128
            writer.write(frame, n)


def _shaken(path, moves):
    """A photograph, moved by another library's splines, in 8-bit FFV1; brighter than black everywhere."""
    photo, middle = 60 + 0.6 * skimage.data.camera().astype(float), np.array([(SIZE[1] - 1) / 2, (SIZE[0] - 1) / 2])

    def at(dx, dy, degrees, _):
        a = np.deg2rad(degrees)
        back = np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]]).T  # of (row, column)
        # Recorded place p shows the photograph at R⁻¹(p − middle − d) + its own middle.
        offset = np.array([255.5, 255.5]) - back @ (middle + np.array([dy, dx]))
        return scipy.ndimage.affine_transform(photo, back, offset, SIZE[::-1], order=3, mode="reflect")

    _written(path, (at(*each) for each in moves))


def _made(facts, rows, out, read=None, shape=None, **steady):
    """Steadied as its footage shows it, and delivered; what the command line does is tested once."""
    route = Route().with_("read", **(read or {})).with_("shape", **(shape or {})).with_("steady", **steady)
    route = steadying.as_it_shows(rows, facts, route)
    return delivered(facts, route.with_("steady", **steadying.answers(rows, facts, route)), "archive", out)


def test_a_master_is_held_as_on_a_tripod(tmp_path):
    hand = _hand(24, 8, reach=4.0)
    hand[:, 3] = 0
    _shaken(tmp_path / "a.mkv", hand)
    out = ("--card", "archive", "--out", tmp_path / "b.mkv", "--json")
    told = json.loads(run("steady", tmp_path / "a.mkv", "--method", "hold", "--budget", "12%", *out))
    assert told["method"] == "hold" and told["budget"] == 0.12
    off = {}
    for name in ("a.mkv", "b.mkv"):
        frames = lumas(tmp_path / name)
        found = [phase_cross_correlation(frames[0][24:-24, 24:-24], f[24:-24, 24:-24], upsample_factor=50)[0] for f in frames[1:]]
        off[name] = float(np.sqrt((np.array(found) ** 2).sum(axis=1).mean()))
    assert off["a.mkv"] > 2.0 and off["b.mkv"] < 0.5, off
    assert min(f.min() for f in lumas(tmp_path / "b.mkv")) > 40 * 256 / 1.2  # nothing of the bars' black
    told = json.loads(run("shake", tmp_path / "a.mkv", "--compare", "--budget", "12%", "--json"))
    ways = {w["method"]: w for w in told["ways"]}
    assert set(ways) == {"off", "hold", "drift", "path"} and all(not w["why"] for w in ways.values())
    for method in ("hold", "path"):
        assert sum(ways[method]["left"][1:]) < 0.2 * sum(ways["off"]["left"][1:])
    assert ways["hold"]["kept"] == pytest.approx(0.88**2, abs=1e-3) and told["recommended"] in ("hold", "path")


@pytest.mark.parametrize("read, shape", [({}, {"speed": "2/3"}), ({"timing": "even", "even_rate": "30"}, {})])
def test_what_is_shown_again_is_held_as_when_it_was_recorded(tmp_path, read, shape):
    """Delivered moments that lie between two frames show one of them: told by another library's correlation. What is made for its moment is not."""
    hand = _hand(16, 8, reach=4.0)
    hand[:, 3] = 0
    _shaken(tmp_path / "a.mkv", hand)
    facts = facts_of(tmp_path / "a.mkv")
    rows = steadying.rows_of(facts, Route())
    frames = _made(facts, rows, tmp_path / "b.mkv", read, shape, method="hold", budget=0.12, readout=0.0, evens=True)
    gone = [phase_cross_correlation(frames[0][24:-24, 24:-24], f[24:-24, 24:-24], upsample_factor=50)[0] for f in frames[1:]]
    assert len(frames) > 18 and np.sqrt((np.array(gone) ** 2).sum(axis=1).mean()) < 0.3
    route = Route().with_("steady", method="hold", budget=0.12, evens=True)
    route = route.with_("steady", **steadying.answers(rows, facts, route))
    for between in (False, True):
        (patch,) = walk(route.with_("shape", speed="1/2", between=between), facts).draft.panels[0].patches
        assert (patch.turning.frames is None) == patch.tone.made == between


def test_a_thing_that_goes_its_own_way_keeps_its_place(tmp_path, monkeypatch):
    """A photograph's piece that is carried across another which shakes; where it is in the master is told by another library."""
    hand = _hand(24, 8, reach=3.0)
    hand[:, 2:] = 0
    _shaken(tmp_path / "a.mkv", hand)
    thing = 60 + 0.6 * photograph("coffee").mean(axis=2)[100:148, 200:256]
    goes = [(round(150 + 1.5 * n + hand[n, 0] - hand[0, 0]), round(110 + 10 * np.sin(n / 5) + hand[n, 1] - hand[0, 1])) for n in range(24)]
    shaken = [np.clip(f / 256, 16, 235) for f in lumas(tmp_path / "a.mkv")]
    with Writer(tmp_path / "b.mkv", _spec()) as writer:
        for n, (luma, (x, y)) in enumerate(zip(shaken, goes, strict=True)):
            luma[y : y + 48, x : x + 56] = thing
            frame, target = writer.blank()
            target[0][: SIZE[1], : SIZE[0]] = np.rint(luma)
            target[1][:], target[2][:] = 128, 128
            writer.write(frame, n)
    out = ("--card", "archive", "--out", tmp_path / "c.mkv")
    run("steady", tmp_path / "b.mkv", "--method", "lock", "--mark", "150,110,56,48", "--budget", "25%", "--readout", "0", *out)
    frames = lumas(tmp_path / "c.mkv")
    looks = scipy.ndimage.zoom(thing, 1 / 0.75, order=1)  # three quarters of the picture are left, enlarged to all of it
    found = [match_template(f / 256, looks) for f in frames]
    at = [np.unravel_index(f.argmax(), f.shape) for f in found]
    assert np.ptp(at, axis=0).max() <= 1 and np.ptp(goes, axis=0).min() > 15
    # The table says so, too, of what is delivered.
    facts = facts_of(tmp_path / "b.mkv")
    route = Route().with_("steady", mark=(0, 150 / SIZE[0], 110 / SIZE[1], 56 / SIZE[0], 48 / SIZE[1]))
    monkeypatch.setattr(trying, "METHODS", trying.METHODS[:2])
    route = route.with_("steady", moves=solve.packed(np.zeros((24, 4)), SIZE))  # what it was held by before
    ways = {w.method: w for w in trying.compared(facts, None, route, delivery("archive"), 0.25)[1]}
    meant = float(np.sqrt((np.subtract(goes, goes[0])[1:] ** 2).sum(axis=1).mean()))
    assert ways["off"].offset == pytest.approx(meant, rel=0.1) and ways["lock"].offset < 1.0 < 5 < ways["hold"].offset
    assert ways["off"].kept == 1.0 and ways["off"].spends == 0.0 and ways["hold"].kept == pytest.approx(0.75**2)
    assert ways["off"].left[1] == pytest.approx(np.hypot(ways["off"].axes["right"][1], ways["off"].axes["down"][1]), abs=0.01)
    made = CliRunner().invoke(app, ["steady", str(tmp_path / "b.mkv"), "--method", "lock", "--card", "archive", "--out", str(tmp_path / "d.mkv")])
    assert made.exit_code and "nothing is marked" in made.output + str(made.exception)


def test_what_is_marked_later_keeps_the_place_that_it_has_there():
    """By trigonometry of its own: where the thing lies in the window, at every frame; rows of a picture on its head are read out upwards."""
    path = _hand(30, 9, reach=2.0)
    grows = np.linspace(-4, 8, 30)
    places = np.stack([400 + 1.5 * np.arange(30), 300 - 1.0 * np.arange(30), path[:, 2] + 0.1 * np.arange(30), path[:, 3] + grows], axis=1)
    places[12:15] = np.nan
    middle, seen = np.array([480.0, 270.0]), np.isfinite(places[:, 0])
    for aspect, size in ((1.0, False), (1.6, False), (1.6, True)):
        moves = solve.locked(places, path, 20, solve.Pane((960, 540), aspect=aspect), RATE, 0.3, grows=size)
        a, grown = np.deg2rad(moves[:, 2]), np.exp(moves[:, 3] / 100)[:, None]
        d = (places[:, :2] - middle - moves[:, :2]) * (aspect, 1)
        held = np.stack([np.cos(a) * d[:, 0] + np.sin(a) * d[:, 1], np.cos(a) * d[:, 1] - np.sin(a) * d[:, 0]], axis=1) / grown
        assert np.allclose(held[seen], held[20], atol=1e-6) and np.isfinite(moves).all() and not moves[20, :3].any()
        assert np.ptp((moves - places)[seen, 2]) < 0.1  # the thing's own turn
        assert np.ptp((moves - places)[seen, 3]) < 0.5 and moves[:, 3].min() == 0.0 if size else not moves[:, 3].any()


@pytest.mark.parametrize("aspect", [1.0, 1.8, 0.5])
def test_a_turn_is_told_through_squeezed_pixels(aspect):
    turn = Rotation.from_euler("z", 7, degrees=True).as_matrix()[:2, :2]  # x goes right and y down: clockwise
    recorded = np.diag([1 / aspect, 1]) @ turn @ np.diag([aspect, 1])
    assert steadying._turn_and_size(1.1 * recorded, aspect) == pytest.approx((7.0, 100 * np.log(1.1)), abs=1e-9)


def test_how_a_thing_turns_and_grows_is_found(tmp_path):
    """A piece of a photograph, turned and enlarged by another library before another photograph."""
    thing = 60 + 0.6 * photograph("coffee").mean(axis=2)[60:220, 140:320]
    back = 60 + 0.3 * photograph("gravel").mean(axis=2)[: SIZE[1], : SIZE[0]]
    sizes, turns = 100 * np.log(np.linspace(1.0, 1.18, 16)), np.linspace(0, -5, 16)
    frames = []
    for n, (size, turn) in enumerate(zip(sizes, turns, strict=True)):
        matrix = cv2.getRotationMatrix2D((90, 80), -turn, 0.5 * np.exp(size / 100))
        matrix[:, 2] += (220 - 90 + 2 * n, 160 - 80 - n)
        over = cv2.warpAffine(thing, matrix, SIZE, flags=cv2.INTER_AREA)
        mask = cv2.warpAffine(np.ones_like(thing), matrix, SIZE)
        frames.append(mask * over + (1 - mask) * back)
    _written(tmp_path / "a.mkv", frames)
    mark = (0, 178 / SIZE[0], 123 / SIZE[1], 84 / SIZE[0], 74 / SIZE[1])
    found, at = steadying.followed(facts_of(tmp_path / "a.mkv"), Route().with_("steady", method="lock", mark=mark))
    known = np.isfinite(found[:, 0])
    assert at == 0 and known.mean() > 0.9
    off = found - np.stack([220 + 2.0 * np.arange(16), 160 - 1.0 * np.arange(16), turns, sizes], axis=1)
    assert np.abs(off[known, :2]).max() < 1.0 and np.abs(off[known, 2]).max() < 0.5 and np.abs(off[known, 3]).max() < 1.5


def test_rows_that_were_read_out_one_after_another_stand_where_they_belong(tmp_path):
    """Each row of a photograph taken at its own moment; how far its upper and its lower half go apart is told by another library."""
    photo = 60 + 0.6 * photograph("brick").mean(axis=2)  # as fine above as below
    y, x = np.mgrid[: SIZE[1], : SIZE[0]].astype(float)

    def at(n):
        t = n + 0.5 * ((y + 0.5) / SIZE[1] - 0.5)
        dx, dy = 6 * np.sin(2 * np.pi * t / 9.3), 4 * np.sin(2 * np.pi * t / 7.1 + 1)
        return scipy.ndimage.map_coordinates(photo, [y + 96 - dy, x + 16 - dx], order=3, mode="reflect")

    _written(tmp_path / "a.mkv", map(at, range(24)))
    facts = facts_of(tmp_path / "a.mkv")
    rows = steadying.rows_of(facts, Route())
    assert steadying.said(rows, facts, Route()).readout[0] == pytest.approx(20.0, abs=0.7)  # half a frame at 25 a second
    apart = {}
    for name, turn, readout in (("as one", 0, 0.0), ("by row", 0, None), ("turned", 90, None), ("turned back", 270, None)):
        made = _made(facts, rows, tmp_path / f"{name}.mkv", {"turn": turn}, method="hold", budget=0.12, readout=readout)
        frames = [np.rot90(f, {"turned": 1, "turned back": 3}.get(name, 0)) for f in made]  # as it was recorded

        def gone(frame, rows, frames=frames):
            return phase_cross_correlation(frames[0][rows, 24:-24], frame[rows, 24:-24], upsample_factor=50)[0]

        apart[name] = float(np.sqrt(np.mean([((gone(f, slice(10, 90)) - gone(f, slice(-90, -10))) ** 2).sum() for f in frames[1:]])))
    assert apart["as one"] > 1.0 and max(apart[name] for name in apart if name != "as one") < 0.2 * apart["as one"], apart


def test_a_pan_stands_upright(tmp_path):
    """What was read out row by row while the camera was panned leans; how far the delivered picture still does, above against below, is told by
    another library against what all rows of one moment would show."""
    photo = 60 + 0.6 * photograph("coffee").mean(axis=2)
    y, x = np.mgrid[: SIZE[1], : SIZE[0]].astype(float)

    def at(n, frames):
        t = n + frames * ((y + 0.5) / SIZE[1] - 0.5)
        return scipy.ndimage.map_coordinates(photo, [y + 40 + 0.5 * np.sin(1.9 * n), x + 6.0 * t], order=3, mode="reflect")

    _written(tmp_path / "a.mkv", (at(n, 0.8) for n in range(16)))
    leans = {}
    facts = facts_of(tmp_path / "a.mkv")
    rows = steadying.rows_of(facts, Route())
    for name, readout in (("as one", 0.0), ("by row", 32.0)):
        made, apart = _made(facts, rows, tmp_path / f"{name}.mkv", method="drift", budget=0.08, readout=readout), []
        for n in range(2, 14):
            meant = cv2.resize(at(n, 0.0)[13:-13, 19:-19].astype(np.float32), SIZE, interpolation=cv2.INTER_CUBIC)
            two = ((meant[rows, 24:-24], made[n][rows, 24:-24]) for rows in (slice(8, 80), slice(-80, -8)))
            above, below = (phase_cross_correlation(a, b, upsample_factor=50)[0][1] for a, b in two)
            apart.append(above - below)
        leans[name] = float(np.median(apart))
    assert abs(leans["as one"]) > 3.0 and abs(leans["by row"]) < 0.1 * abs(leans["as one"]), leans


def test_a_proxy_says_how_its_master_moves(tmp_path):
    """Both enlarged by another library. The master is looked at where there is no proxy, or one that lacks a frame; else it need not be there."""
    _shaken(tmp_path / "a.mkv", _hand(20, 8, reach=4.0))
    frames = [f / 256 for f in lumas(tmp_path / "a.mkv")]
    made = {}
    for name, size, some in (("master", (1320, 880), frames), ("proxy", (660, 440), frames), ("cut", (660, 440), frames[:-1])):
        with Writer(tmp_path / f"{name}.mkv", _spec(size)) as writer:
            for n, luma in enumerate(some):
                frame, target = writer.blank()
                large = cv2.resize(luma, size, interpolation=cv2.INTER_CUBIC)
                target[0][: size[1], : size[0]], target[1][:], target[2][:] = np.clip(np.rint(large), 16, 235), 128, 128
                writer.write(frame, n)
        made[name] = facts_of(tmp_path / f"{name}.mkv")

    def rows(instead):
        body = analysing.analyse("motion", made["master"], Route(), (0, 19), None, None if instead is None else (made[instead], Route()))
        return np.frombuffer(body, "<f4").reshape(19, -1)

    own, by_proxy = rows(None), rows("proxy")
    assert np.array_equal(rows("cut"), own) and not np.array_equal(by_proxy, own) and np.abs(own[:, :2]).max() > 5
    assert np.sqrt(((by_proxy - own)[:, :2] ** 2).mean()) < 0.2 and np.sqrt(((by_proxy - own)[:, 2:4] ** 2).mean()) < 0.03
    (tmp_path / "master.mkv").unlink()
    assert np.array_equal(rows("proxy"), by_proxy)
    with pytest.raises(AdzerError, match=r"master\.mkv"):
        rows("cut")


def test_a_squeezed_picture_rolls_as_its_lens_saw_it(tmp_path):
    """A photograph that rolls and is then squeezed, by another library: held, its corners stand still only where it is rolled back unsqueezed."""
    photo, rng = cv2.GaussianBlur(photograph("brick").mean(axis=2).astype(np.float32), (0, 0), 1.2), np.random.default_rng(4)
    (w, h), squeeze, frames = SIZE, 1.6, []
    for n in range(30):
        a, dx, dy = np.deg2rad(2.0 * np.sin(n * 0.4) + 0.5 * np.sin(n * 1.1)), 5 * np.sin(n * 1.1), 4 * np.sin(n * 0.7)
        # Recorded places to those of the photograph: unsqueezed about the middle, rolled, moved.
        wide = np.array([[squeeze, 0], [0, 1.0]])
        turn = np.array([[np.cos(a), np.sin(a)], [-np.sin(a), np.cos(a)]]) @ wide * 0.55
        shift = np.array([256 + dx, 256 + dy]) - turn @ [w / 2 - 0.5, h / 2 - 0.5]
        how = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        made = cv2.warpAffine(photo, np.column_stack([turn, shift]), SIZE, flags=how, borderMode=cv2.BORDER_REFLECT)
        frames.append(60 + 0.6 * made + rng.normal(0, 1, made.shape))
    _written(tmp_path / "a.mkv", frames)
    facts, left = facts_of(tmp_path / "a.mkv"), {}
    rows = steadying.rows_of(facts, Route())
    for name, squeeze in (("unsqueezed", "8/5"), ("as it is", "1")):
        made = _made(facts, rows, tmp_path / f"{name}.mkv", shape={"squeeze": squeeze}, method="hold", budget=0.2, readout=0.0)
        corners = [(slice(8, 72), slice(8, 104)), (slice(-72, -8), slice(-104, -8))]
        gone = np.array([[phase_cross_correlation(made[0][c], f[c], upsample_factor=50)[0] for f in made[1:]] for c in corners])
        left[name] = float(np.sqrt((gone**2).sum(axis=2).mean()))
    assert left["unsqueezed"] < 0.15 and left["as it is"] > 1.5, left
    route = Route().with_("steady", **steadying.answers(rows, facts, Route().with_("steady", method="drift")))
    # A window that eases keeps more than it promises, and says so.
    eased = Route().with_("shape", squeeze="8/5").with_("steady", method="drift", budget=0.3, eases=True)
    says = walk(eased.with_("steady", **steadying.answers(rows, facts, eased)), facts)["steady"].result.says
    assert int(says.split()[-1].rstrip("%")) > 52  # of 49
    # What the lens's card says comes before what the footage shows, and what a person says before both.
    card = tmp_path / "wide-lens.toml"
    card.write_text('title = "Wide"\nsqueeze = 1.6\nview = 71.5\nreadout = 12.5\n')
    by_card = Route().with_("shape", squeeze="1.6", lens=str(card))
    told = [steadying.as_it_shows(rows, facts, r).steady for r in (by_card, by_card.with_("steady", view=60.0))]
    assert [(s.view, s.readout) for s in told] == [(71.5, 12.5), (60.0, 12.5)]
    lenses = cards.RigLens(0.5, 0.5, 0.48, 190.0), cards.RigLens(1.5, 0.5, 0.48, 190.0)
    two = cards.RigCard("Mill", lenses, (0.0,) * 3, (1.0,) * 3, 0.02, readout=-17.5)
    (rig := tmp_path / "mill.toml").write_text(text(two))
    assert steadying.as_it_shows(rows, facts, Route().with_("join", rig=str(rig))).steady.readout == -17.5
    codes = [[f.code for f in walk(r, facts).findings] for r in (route, route.with_("shape", squeeze="1.6"))]
    assert "steadied-otherwise" not in codes[0] and "steadied-otherwise" in codes[1]


def test_the_way_that_suits_hangs_on_what_matters():
    way = trying.Way
    off = way("off", (0.0, 2.0, 2.0), 0.1, 1.0, detail=1.05, spends=0.0)
    hold = way("hold", (0.0, 0.2, 0.1), 0.0, 0.8464, needed=0.07, detail=0.97, spends=0.07)
    drift = way("drift", (0.0, 0.6, 0.4), 0.0, 0.8464, needed=0.04, detail=0.97, spends=0.03)
    path = way("path", (0.0, 0.5, 0.2), 0.0, 0.8464, detail=0.97, spends=0.08)
    ways = (off, hold, drift, path)
    picked = {m: trying.best(ways, True, m) for m in ("calm", "picture", "resolution")}
    assert picked["calm"][0] is hold and picked["picture"][0] is drift and picked["resolution"][0] is drift
    assert "3.0%" in picked["picture"][1] and "1.02 recorded pixels" in picked["resolution"][1] and "0.3 of 4 pixels" in picked["calm"][1]
    assert trying.best(ways, False)[0] is path  # it goes somewhere: no tripod
    assert trying.best((way("off", (0.0, 0.1, 0.1), 0.0, 1.0),), True) == (None, "It hardly shakes. Leave it.")
    assert trying.best((way("off", (0.0,) * 3, 0.0, 0.0, why="It is fog."),), True) == (None, "No way could be tried: It is fog.")


def _turned(photo, fov, seed, n=48):
    """What a lens that sees ``fov`` degrees across shows of a photograph on a wall while it is turned by a hand: another library's rotations and
    warp. The pictures, and (n, 3, 3) from the wall to the camera's right, down and ahead."""
    rng, t = np.random.default_rng(seed), np.arange(n) / RATE
    (w, h), far = SIZE, SIZE[0] / 2 / np.tan(np.radians(fov / 2))
    swings = [sum(0.5 * rng.uniform(0.3, 1) * np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) for hz in rng.uniform(0.6, 5, 4)) for _ in range(3)]
    turns = Rotation.from_euler("yxz", np.stack(swings, axis=1), degrees=True).as_matrix()
    lens = np.array([[far, 0, w / 2 - 0.5], [0, far, h / 2 - 0.5], [0, 0, 1]])
    k = photo.shape[1] / w * 0.8
    wall = np.array([[far * k, 0, photo.shape[1] / 2 - 0.5], [0, far * k, photo.shape[0] / 2 - 0.5], [0, 0, 1]])
    soft = cv2.GaussianBlur(photo.astype(np.float32), (0, 0), 1.0)
    how = {"flags": cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP, "borderMode": cv2.BORDER_REFLECT}
    return [cv2.warpPerspective(soft, wall @ turn @ np.linalg.inv(lens), SIZE, **how) + rng.normal(0, 1, (h, w)) for turn in turns], turns


@pytest.mark.parametrize("name, fov", [("coffee", 35), ("gravel", 70), ("astronaut", 100)])
def test_the_field_of_view_is_found_and_the_picture_turned_as_its_camera_was(tmp_path, name, fov):
    """Within 3 %; and held, the corners of a wide lens's picture stay as still as its middle, where shifting alone leaves them shaking."""
    frames, _ = _turned(cv2.resize(photograph(name).mean(axis=2), (1100, 760)), fov, fov)
    _written(tmp_path / "a.mkv", (40 + 0.7 * luma for luma in frames))
    facts = facts_of(tmp_path / "a.mkv")
    rows = steadying.rows_of(facts, Route())
    view = steadying.said(rows, facts, Route()).view
    assert view[0] == pytest.approx(fov, rel=0.03) and view[1] < 0.05 * fov
    left = {}
    for way, sees in (("turned", None), ("shifted", 5.0)):  # so long a lens that a turn is a shift
        made = _made(facts, rows, tmp_path / f"{way}.mkv", method="hold", budget=0.16, view=sees)
        corners = [(slice(8, 88), slice(8, 120)), (slice(-88, -8), slice(-120, -8))]
        gone = np.array([[phase_cross_correlation(made[0][c], f[c], upsample_factor=50)[0] for f in made[1:]] for c in corners])
        left[way] = float(np.sqrt((gone**2).sum(axis=2).mean()))
    assert left["turned"] < 0.35 and (fov < 50 or left["turned"] < 0.4 * left["shifted"]), left


def test_a_turned_way_stays_even_up_to_its_budget():
    """What a wide lens's corners need is known to the programme, so that nothing has to be taken back of an even way afterwards."""
    t = np.arange(120) / RATE
    path = np.zeros((120, 4))
    path[:, 0], path[:, 1] = 22 * np.sin(2 * np.pi * 1.3 * t), 14 * np.sin(2 * np.pi * 1.7 * t + 1)
    turned, squeezed = solve.Pane((640, 360), 320 / np.tan(np.radians(50))), solve.Pane((320, 360), None, 2.0)
    rolls = path * (0.25, 0.5, 0, 0)
    rolls[:, 2] = 2.0 * np.sin(2 * np.pi * 0.9 * t)
    for way, pane, budget in ((path, turned, 0.06), (path, turned, 0.09), (rolls, squeezed, 0.06)):
        moves = solve.solved(way, pane, RATE, "path", budget)
        taken_back = solve.share_inside(way - solve._evenly(way, pane, 1 - budget, True), pane, 1 - budget)
        assert taken_back.min() > 0.95 and solve.spent(moves, pane).max() > 0.9 * budget


def test_a_motion_file_carries_a_flat_picture_through_fog(tmp_path):
    """The recorder's axes and clock are its own, and it has a bias; the way across the fog is by another library's rotations."""
    frames, turns = _turned(cv2.resize(photograph("coffee").mean(axis=2), (1100, 760)), 60, 3)
    frames[20:30] = [np.full(SIZE[::-1], 120.0)] * 10
    _written(tmp_path / "a.mkv", (40 + 0.7 * luma for luma in frames))
    # The camera's right, down and ahead against the wall's are the turns themselves; a recorder turned against it by no whole angle.
    times = np.arange(len(turns)) / RATE
    fine = np.arange(0, times[-1], 1 / 200)
    stood = Slerp(times, Rotation.from_matrix(turns))(fine)
    speed = (stood[:-1].inv() * stood[1:]).as_rotvec(degrees=True) * 200
    speed = Rotation.from_euler("xyz", [80, -20, 35], degrees=True).apply(speed) + (0.7, -0.4, 0.2)
    lines = ["time,x,y,z", *(f"{t + 0.0025 + 55.5},{x},{y},{z}" for t, (x, y, z) in zip(fine, speed, strict=False))]
    (tmp_path / "m.csv").write_text("\n".join(lines))
    facts = facts_of(tmp_path / "a.mkv")
    route = Route().with_("read", curve="bt709", primaries="bt709", range="limited")
    route = route.with_("steady", method="hold", view=60.0, sidecar=str(tmp_path / "m.csv"))
    rows = steadying.rows_of(facts, route)
    assert not rows[21:29, 4].any()
    made, fit = steadying.told(rows, facts, route, True)
    far = SIZE[0] / 2 / np.tan(np.radians(30))
    middle = turns.transpose(0, 2, 1) @ turns[0] @ [0, 0, 1]  # where what the first frame has in its middle lies in each
    truth = far * np.arctan(np.hypot(*middle[:, :2].T) / middle[:, 2])[:, None] * middle[:, :2] / np.hypot(*middle[:, :2].T)[:, None]
    truth[0] = 0
    off = {name: np.linalg.norm(path(each)[:, :2] - truth, axis=1).max() for name, each in (("seen", rows), ("told", made))}
    assert off["told"] < 1.2 < 3 < off["seen"] and fit.told > 0.9 and (made[1:, 4] > 0).all(), off
    with pytest.raises(AdzerError, match="how many its lens sees across"):
        steadying.told(rows, facts, route.with_("steady", view=None), True)


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 10_000), st.floats(0.02, 0.5), st.sampled_from(["hold", "drift", "path"]), st.floats(20, 120), st.floats(1, 60))
def test_nothing_bare_enters_where_it_is_turned_either(seed, budget, method, fov, reach):
    path, far = _hand(40, seed, reach=reach), 320 / np.tan(np.radians(fov / 2))
    moves = solve.solved(path, solve.Pane((640, 360), far), RATE, method, budget)
    for dx, dy, degrees, per_cent in moves:
        turn = Rotation.from_rotvec(np.array([-dy, dx, 0]) / far)
        grown = (1 - budget) * np.exp(per_cent / 100)
        corners = np.array([(x, y) for x in (-320, 320) for y in (-180, 180)], float) * grown
        corners = Rotation.from_euler("z", degrees, degrees=True).apply(np.column_stack([corners, np.zeros(4)]))[:, :2]
        seen = turn.apply(np.column_stack([corners, np.full(4, far)]))
        assert (seen[:, 2] > 0).all() and (np.abs(seen[:, :2] / seen[:, 2:] * far) <= np.array([320, 180]) + 1e-6).all()


def test_what_cannot_be_followed_is_said(tmp_path):
    with Writer(tmp_path / "fog.mkv", _spec((64, 48))) as writer:
        for n in range(8):
            frame, target = writer.blank()
            for plane, code in zip(target, (120, 128, 128), strict=True):
                plane[:] = code
            writer.write(frame, n)
    from adzer.core.intake.take import facts_of

    facts = facts_of(tmp_path / "fog.mkv")
    rows = steadying.rows_of(facts, Route())
    with pytest.raises(AdzerError, match=r"fog\.mkv.*nothing can be followed"):
        steadying.answers(rows, facts, Route().with_("steady", method="hold", budget=0.1))
    calm = Route().with_("steady", method="hold", moves=solve.packed(np.zeros((8, 4)), (64, 48)), readout=20.0)
    box = calm.with_("steady", still=(0.1, 0.2, 0.3, 0.25))
    parts = {turn: lying(box.steady, turn) for turn in (0, 90, 180, 270)}  # of what lay so before it was turned clockwise
    assert parts[90] == pytest.approx((0.2, 0.6, 0.25, 0.3)) and parts[180] == pytest.approx((0.6, 0.55, 0.3, 0.25))
    assert parts[0] == (0.1, 0.2, 0.3, 0.25) and parts[270] == pytest.approx((0.55, 0.1, 0.25, 0.3))
    assert walk(box, facts)["steady"].result.wants == named("motion", parts[0]) != walk(calm, facts)["steady"].result.wants == "motion"
    reads = {turn: walk(calm.with_("read", turn=turn), facts) for turn in (0, 180, 90)}
    assert reads[0].draft.readout == 0.02 and reads[180].draft.readout == -0.02
    assert reads[90].draft.readout == -0.02 and reads[90].draft.across and not reads[180].draft.across
    stop = walk(Route().with_("steady", method="hold", moves="none"), facts)["steady"]
    assert stop.findings[0].code == "moves-missing" and walk(Route().mended(stop.findings[0].fix), facts)["steady"].findings == ()
    none = walk(Route().with_("steady", method="hold", budget=0.0, moves=solve.packed(np.zeros((8, 4)), (64, 48))), facts)["steady"]
    assert [f.code for f in none.findings] == ["nothing-spent"]
    with pytest.raises(AdzerError, match="the box that stands still"):
        steadying.answers(rows, facts, Route().with_("steady", method="hold", still=(0.1, 0.1, 0.2, 0.2)))
    with pytest.raises(AdzerError, match="has 8 frames, and a thing is marked on number 20"):
        steadying.followed(facts, Route().with_("steady", method="lock", mark=(20, 0.1, 0.1, 0.2, 0.2)))
    far = solve.packed(np.full((8, 4), 20.0), (64, 48))
    assert walk(Route().with_("steady", method="hold", moves=far), facts)["steady"].findings[0].code == "moves-too-far"


def test_what_the_budget_leaves_moving_is_said(tmp_path):
    """A picture that sways by 9 pixels either way, 192 wide: to hold it takes 2·9/192 of its width."""
    facts = facts_of(write_clip(tmp_path / "sway.mov", 50))
    rows = np.zeros((50, len(Motion.columns)), np.float32)
    rows[1:, 0], rows[:, 4] = np.diff(9 * np.cos(np.pi * np.arange(50) / 7)), 1
    codes = {}
    for budget in (0.05, 0.12):
        route = Route().with_("steady", method="hold", budget=budget)
        route = route.with_("steady", **steadying.answers(rows, facts, route))
        assert route.steady.needs == pytest.approx(18 / 192, abs=0.002)
        codes[budget] = {f.code: f.text for f in walk(route, facts)["steady"].findings}
    assert "9.4%" in codes[0.05]["held-less"] and "held-less" not in codes[0.12]
