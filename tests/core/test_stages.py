"""What the stages measure and advise, against the footage's own truth."""

from __future__ import annotations

import time
from dataclasses import replace
from fractions import Fraction

import av
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from adzer.core.cards import delivery
from adzer.core.colour import advise as colour_advise
from adzer.core.colour import measure as colour_measure
from adzer.core.colour.step import chain
from adzer.core.deliver.advise import Trial, estimate, size_text, time_text
from adzer.core.finding import Finding, Level, worst
from adzer.core.intake.take import read_file
from adzer.core.light import names as colour_cards
from adzer.core.light.chain import ColourChain
from adzer.core.media.decode import Reader
from adzer.core.media.encode import VideoTags
from adzer.core.read import advise
from adzer.core.read.measure import DOMAIN, Levels, bin_centres, measure
from adzer.core.read.step import assumed_samples, shown_timecode
from adzer.core.route import Route, load, walk
from adzer.core.run.ahead import ahead
from adzer.core.run.pixels import Processor
from adzer.core.sim import camera as cameras
from adzer.core.stage import STAGES

from .. import foreign
from ..conftest import write_clip


@pytest.fixture(scope="module")
def scope(scope_clip):
    return read_file(scope_clip)


def test_levels_are_what_a_full_decode_finds(scope, scope_clip):
    facts, seen = scope
    with Reader(scope_clip) as reader:
        luma = np.concatenate(
            [(reader.frame(n).cropped(0).astype(float).ravel() - 64) / 876 for n in seen.levels.sampled]
        )
    assert abs(seen.levels.low - np.quantile(luma, 0.001)) < 0.004
    assert abs(seen.levels.middle - np.median(luma)) < 0.004
    assert abs(sum(seen.levels.brightest) - 1) < 1e-4 and abs(sum(seen.levels.luma) - 1) < 1e-4
    centre = float((np.array(seen.levels.luma) * bin_centres()).sum())
    assert abs(centre - luma.mean()) < 0.004


def test_the_darkest_thing_measured_is_the_tar_and_the_brightest_the_sun(scope):
    _, seen = scope
    curve = colour_cards.curve("fen-log")
    assert curve.decode(np.array([seen.levels.low]))[0] < 0.02
    assert seen.levels.top() > 0.97 and seen.levels.share_above(0.95) < 0.01


@pytest.mark.parametrize("curve", ["fen-log", "reed-log", "acescct"])
@pytest.mark.parametrize("exposure", [-1.5, 0.0, 1.0])
def test_log_is_told_from_display_at_any_exposure(tmp_path, curve, exposure):
    """Two takes of the same moment, one in log and one as a display picture, neither tagged: the likelier answer is right,
    and where it is not sure, nothing is taken for granted."""
    camera = cameras.load("scope-lens").sized((160, 120))
    for name, log in ((curve, True), ("bt709", False)):
        recorder = replace(
            camera.recorder, curve=name, exposure=exposure, encoder="ffv1", options={}, rolls_off=not log,
            primaries="bt2020" if log else "bt709", tags=VideoTags(),
        )  # fmt: skip
        path = tmp_path / f"{name}.mkv"
        cameras.shoot(replace(camera, recorder=recorder, sound=False), 1, path, samples=1)
        facts, seen = read_file(path)
        look = advise.look(seen)
        assert look.kind == ("log" if log else "display"), look.saw
        walked = walk(Route(), facts, seen)
        assert walked.stopped.code == "curve-unknown" and walked.stopped.fix is None
        assert walked["read"].after.curve is None and [f.code for f in walked.findings].count("curve-unknown") == 1
        given = walk(Route(), facts, seen, given="reed-log").stopped.fix
        assert given.answers == {"curve": "reed-log"}  # only what this camera was given before is offered


@pytest.mark.parametrize("clip", ["bikes", "bigbuckbunny", "carphone_pristine", "carphone_distorted"])
def test_ordinary_footage_is_not_stopped(clip):
    """Eight bits, untagged, not ours: taken as BT.709, its pixels left as they are, said once, as a note."""
    facts, seen = read_file(foreign.clip(clip))
    walked = walk(Route(), facts, seen)
    assert facts.curve is None and walked.stopped is None and walked["read"].after.curve == "bt709"
    assert walked.draft.chain is None
    assert [f.code for f in walked.findings if "display" in f.code] == ["taken-as-display"]
    assert not [f for f in walked.findings if f.code in ("projection-asked", "eyes-asked", "turn-unsure")]


def _clip(path, pictures, codec="libx264", form="yuv420p", noise=0.0):
    rng = np.random.default_rng(1)
    with av.open(str(path), "w") as target:
        options = {"crf": "12", "preset": "ultrafast"} | ({"x265-params": "log-level=error"} if codec == "libx265" else {})
        stream = target.add_stream(codec, rate=25, options=options)
        stream.height, stream.width, stream.pix_fmt = pictures[0].shape[0] // 2 * 2, pictures[0].shape[1] // 2 * 2, form
        for n, picture in enumerate(pictures):
            grainy = np.clip(picture + rng.normal(0, noise, picture.shape), 0, 255).astype(np.uint8)
            cut = np.ascontiguousarray(grainy[: stream.height, : stream.width])
            frame = av.VideoFrame.from_ndarray(cut, "rgb24").reformat(format=form)
            frame.pts = n
            target.mux(stream.encode(frame))
        target.mux(stream.encode(None))
    return path


PHOTOGRAPHS = ("astronaut", "brick", "chelsea", "coffee", "coins", "grass", "motorcycle_left", "moon", "page", "rocket", "text")


def test_no_photograph_is_changed_by_its_look(tmp_path):
    """In ten bits and untagged all of them are asked about; none is surely HLG, PQ or linear, none a sphere or a round lens; and
    none is taken for log, where its black or white says that it is not."""
    for name in PHOTOGRAPHS:
        picture = foreign.photograph(name)[:400, :500].astype(float)
        moved = [picture[:, n : picture.shape[1] - 8 + n] for n in range(0, 8, 2)]
        facts, seen = read_file(_clip(tmp_path / f"{name}.mp4", moved, "libx265", "yuv420p10le"))
        walked = walk(Route(), facts, seen)
        assert walked.stopped.code == "curve-unknown" and walked.stopped.fix is None
        assert not (seen.curve.sure and seen.curve.value in ("hlg", "pq", "linear")), (name, seen.curve)
        if seen.levels.quantile(0.001) < 0.04 or seen.levels.quantile(0.999) > 0.97:
            assert seen.curve.value != "log" or not seen.curve.sure, (name, seen.curve)
        assert walked["read"].after.projection == "flat" and walked["read"].after.eyes == "one"
        assert not seen.projection.sure or seen.projection.value == "flat"


def test_bars_are_not_two_eyes_and_a_pair_that_does_not_converge_is_not_surely_one(tmp_path):
    colours = np.array([[235, 235, 235], [235, 235, 16], [16, 235, 235], [16, 235, 16], [235, 16, 235], [235, 16, 16], [16, 16, 235]])
    bars = np.broadcast_to(np.repeat(colours, 60, axis=0)[None], (240, 420, 3)).astype(float)
    _, seen = read_file(_clip(tmp_path / "bars.mp4", [bars] * 4, noise=1.0))
    assert not (seen.eyes.sure and seen.eyes.value != "one")
    left, right = foreign.photograph("motorcycle_left").astype(float), foreign.photograph("motorcycle_right").astype(float)
    for apart in (0, 60, 110):
        pair = np.concatenate([left[:, apart:], right[:, : right.shape[1] - apart]], axis=1)
        facts, seen = read_file(_clip(tmp_path / f"{apart}.mp4", [pair] * 3))
        assert seen.eyes.value == "side by side" or not seen.eyes.sure, (apart, seen.eyes)
        assert walk(Route(), facts, seen)["read"].after.eyes == "one"  # nothing is done without a word


def test_what_whites_cost_is_what_the_pixels_show(scope, scope_clip):
    """The share that ends in flat white, from the histogram, against the delivered frames themselves."""
    facts, seen = scope
    card = delivery("archive")
    for whites in ("let go", "roll off"):
        route = Route().with_("read", curve="fen-log", primaries="bt709").with_("colour", whites=whites, exposure=1.0)
        walked = walk(route, facts, seen, card)
        made = walked.draft.chain
        cost = colour_measure.cost(made, bin_centres(), np.array(seen.levels.brightest))
        shares = []
        with Reader(scope_clip) as reader:
            for n in seen.levels.sampled:
                frame = reader.frame(n)
                matrix = assumed_samples(facts).to_signal()
                codes = np.stack(
                    [np.repeat(frame.cropped(i), 2 if i else 1, axis=1) for i in range(3)], axis=-1
                ).astype(float)
                out = made.apply(codes @ matrix[:, :3].T + matrix[:, 3])
                shares.append((out.max(axis=-1) >= 0.9995).mean())
        assert abs(cost.clipped - np.mean(shares)) < 0.01
        assert f"{cost.clipped:.2%}" in colour_advise.whites_text(whites, cost)
        assert abs(cost.grey - made.tone(np.array([0.36]))[0]) < 1e-9


def test_stops_are_counted_from_grey():
    curve = colour_cards.curve("fen-log")
    light = 0.18 * 2.0 ** np.array([-3, 0, 0, 2, 5])
    signal = curve.encode(light)
    stops, shares = colour_measure.stops_from_grey(curve, 1.0, signal, np.full(5, 0.2))
    found = {int(s): round(float(v), 3) for s, v in zip(stops, shares, strict=True) if v}
    assert found == {-3: 0.2, 0: 0.4, 2: 0.2, 5: 0.2}
    brighter = colour_measure.stops_from_grey(curve, 2.0, signal, np.full(5, 0.2))[1]
    assert np.allclose(brighter[1:], shares[:-1])


@given(st.floats(-3, 3), st.floats(0.5, 2), st.sampled_from(("let go", "roll off", "keep all")))
def test_exposure_is_stops_and_contrast_turns_about_grey(exposure, contrast, whites):
    facts_picture = walk_picture()
    settings = Route().with_("colour", exposure=exposure, contrast=contrast, whites=whites).colour
    made = chain(facts_picture, settings, delivery("web-wide"))
    plain = chain(facts_picture, Route().colour, delivery("web-wide"))
    assert np.allclose(made.matrix, plain.matrix * 2**exposure)
    one = ColourChain(made.source, made.matrix, made.target, whites, contrast=contrast, peak=0.3)  # white stays below 1
    assert abs(one.tone(np.array([0.18]))[0] - made.target.encode(np.array([0.18]))[0]) < 1e-9
    x = np.linspace(0, 60, 500)
    assert np.all(np.diff(made.tone(x)) >= -1e-12) and made.tone(x).max() <= 1.0


_PICTURE = []


def walk_picture():
    if not _PICTURE:
        from adzer.core.sim.demo import CLIPS

        facts, seen = read_file(CLIPS / "sails-wide.mov")
        _PICTURE.append(walk(Route().with_("read", curve="fen-log"), facts, seen)["read"].after)
    return _PICTURE[0]


def test_white_balance_on_the_board_is_what_a_tinted_light_needs(tmp_path):
    """Shoot the grey patches under warm light (the primaries' light moved), tell Colour the kelvin: they come out grey."""
    from adzer.core.light.primaries import adaptation, daylight, rgb_to_xyz

    bt709 = rgb_to_xyz(colour_cards.primaries("bt709"))
    warm = np.linalg.inv(bt709) @ adaptation(daylight(6504), daylight(4500)) @ bt709
    grey = np.array([[0.18, 0.18, 0.18]]) @ warm.T
    picture = walk_picture().with_(primaries="bt709", curve="linear")
    fixed = chain(picture, Route().with_("colour", kelvin=4500.0, whites="let go").colour, delivery("web-wide")).apply(
        grey
    )[0]
    left = chain(picture, Route().with_("colour", whites="let go").colour, delivery("web-wide")).apply(grey)[0]
    assert np.ptp(fixed) < 1e-6 < 0.02 < np.ptp(left)


def test_saturation_scales_colour_difference_and_leaves_luma(scope, scope_clip):
    facts, seen = scope
    codes = {}
    for amount in (0.0, 1.0, 1.4):
        route = Route().with_("read", curve="fen-log").with_("colour", saturation=amount)
        walked = walk(route, facts, seen, delivery("archive"))
        plan = walked.draft.frozen(assumed_samples(facts))
        out = [
            np.zeros((h, w), np.uint16)
            for w, h in (plan.target.format.plane_size(plan.raster, i) for i in range(3))
        ]
        with Reader(scope_clip) as reader, Processor(plan, 2) as processor:
            processor.run([reader.frame(20).planes], tuple(out))
        codes[amount] = [o.astype(int) for o in out]
    assert np.abs(codes[0.0][0] - codes[1.4][0]).max() <= 1
    assert np.abs(codes[0.0][1] - 512).max() <= 1
    assert np.abs((codes[1.4][2] - 512) - 1.4 * (codes[1.0][2] - 512)).max() <= 2


def test_estimates_scale_the_measured_second():
    trial = Trial("web-wide", 25, 2.0, 1_000_000, (1920, 1080))
    assert estimate(trial, 250) == (10_000_000, 20.0)
    assert [size_text(v) for v in (1.94e9, 3.4e8, 12_000)] == ["1.9 GB", "340.0 MB", "12 kB"]
    assert [time_text(v) for v in (0.2, 40, 360, 7500)] == ["1 s", "40 s", "6 min", "2 h 05 min"]


def test_the_worst_finding_leads_and_rates_read_well():
    made = [Finding(level, level.value, "") for level in (Level.NOTE, Level.STOP, Level.WARN)]
    assert worst(made).level is Level.STOP and worst([]) is None
    assert [advise.rate_text(Fraction(r)) for r in ("25", "24000/1001", "30000/1001", "540000/17987")] == [
        "25",
        "23.976",
        "29.97",
        "30.02",
    ]
    assert advise.nearest_rate(Fraction(2997, 100)) == Fraction(30000, 1001)


def test_timecode_runs_on_from_the_recorded_one(scope, phone_clip):
    assert shown_timecode(scope[0], 30) == "10:14:23:05"
    assert shown_timecode(read_file(phone_clip)[0], 0) == "00:00:00:00"


def test_warnings_that_shape_and_colour_make(scope):
    facts, seen = scope
    base = Route().with_("read", curve="fen-log")

    def found(route):
        return {f.code: f for f in walk(route, facts, seen).findings}

    assert "much-lost" in found(base.with_("shape", squeeze="2", shape="0.5625"))
    stretched = found(base.with_("shape", squeeze="1.6", school="stretch"))["pixels-invented"]
    assert "38%" in stretched.text and stretched.fix.answers == {"school": "shrink"}
    assert found(base.with_("shape", squeeze="9"))["squeeze-out-of-range"].level is Level.STOP
    assert found(base.with_("shape", shape="40"))["shape-out-of-range"].level is Level.STOP
    assert found(base.with_("colour", whites="keep all"))["keep-all-dark"].fix.answers == {"whites": "roll off"}
    assert found(base.with_("deliver", cards=[]))["no-delivery"].level is Level.NOTE
    for code, finding in found(base.with_("shape", squeeze="9")).items():
        assert finding.stage in STAGES and finding.text.endswith("."), code


def test_a_card_that_wants_more_than_there_is_stops(tmp_path):
    facts, seen = read_file(write_clip(tmp_path / "x.mp4", 4))
    walked = walk(Route(), facts, seen, delivery("edit-intermediate"))
    assert walked.stopped.code == "raster-too-small-for-card"


# --- running ahead -------------------------------------------------------------------------------------------------
def test_ahead_keeps_order_hands_errors_on_and_closes_its_source():
    closed = []

    def source(fail=None):
        try:
            for n in range(50):
                if n == fail:
                    raise ValueError("here")
                yield n
        finally:
            closed.append(True)

    assert list(ahead(source())) == list(range(50))
    seen = []
    with pytest.raises(ValueError, match="here"):
        for n in ahead(source(fail=7)):
            seen.append(n)
    assert seen == list(range(7))
    early = ahead(source())
    assert next(early) == 0
    early.close()
    assert closed == [True, True, True]


def test_ahead_never_runs_further_than_it_may():
    made = []

    def source():
        for n in range(100):
            made.append(n)
            yield n

    line = ahead(source(), depth=2)
    next(line)
    time.sleep(0.3)
    assert len(made) <= 5
    line.close()


def test_levels_domain_holds_every_code():
    assert DOMAIN[0] < -64 / 876 and DOMAIN[1] > (1023 - 64) / 876
    assert Levels.__struct_fields__[0] == "sampled" and callable(measure)


def test_a_raster_beyond_what_was_recorded_is_told_with_the_one_that_is_enough():
    """Deliver knows from Shape what is left; its fix makes every card's raster as small as is still as sharp."""
    from adzer.core.deliver.settings import DeliverSettings
    from adzer.core.deliver.step import step
    from adzer.core.picture import Picture
    from adzer.core.stage import Context

    card = delivery("web-wide")
    base = Picture((1920, 1080), curve="bt709")
    for detail, lines in ((0.2, 360), (0.45, 540), (0.65, 720), (0.69, None), (1.0, None), (0.0, None), (None, None)):
        found = step(base.with_(detail=detail), DeliverSettings(), Context(None, card=card)).findings
        fix = next((f.fix.answers for f in found if f.code == "raster-beyond-detail"), None)
        assert fix == (lines and {"raster": [lines * 16 // 9, lines], "exact": False}), detail
    card = delivery("web-wide")
    assert DeliverSettings(raster=(960, 540)).on(card).max_raster == (960, 540) and not card.exact
    old = '{"schema": 1, "deliver": {"version": 1, "cards": ["archive"], "lines": 2160}}'
    assert load(old).deliver == DeliverSettings(cards=("archive",), raster=(3840, 2160))


@pytest.mark.parametrize("exact, raster, picture", [(True, (3840, 2160), (3840, 1606)), (False, (3840, 2160), (3840, 1606)),
                                                    (True, (1080, 1350), (1080, 452)), (True, (1920, 804), (1920, 804))])  # fmt: skip
def test_a_raster_is_what_was_asked(exact, raster, picture):
    """A 2.39:1 picture in UHD, in an upright post, and in its own shape."""
    from adzer.core.shape.geometry import fit

    made = fit((3840, 1606), "frame", raster, None, exact)
    assert made.raster == raster if exact else made.raster == (3840, 2160)
    assert all(abs(a - b) <= 2 for a, b in zip(made.picture, picture, strict=True))
    assert all(made.place[i] >= 0 and made.place[i] + made.picture[i] <= made.raster[i] for i in (0, 1))
    assert abs(made.picture[0] / made.picture[1] / (3840 / 1606) - 1) < 0.01


def test_shrinking_says_when_a_raster_is_not_reached_and_offers_to_stretch(scope):
    facts, seen = scope
    route = Route().with_("read", curve="fen-log").with_("shape", squeeze="8/5").with_("deliver", raster=(3840, 2160), exact=True)
    walked = walk(route, facts, seen, delivery("web-wide"))
    finding = next(f for f in walked.findings if f.code == "raster-not-reached")
    assert walked["deliver"].after.raster == (3840, 2160)
    wider = walk(route.mended(finding.fix), facts, seen, delivery("web-wide"))["shape"].result.shaped.framing.size
    assert wider[0] > walked["shape"].result.shaped.framing.size[0]
