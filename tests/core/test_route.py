"""Routes: type errors are found before anything is rendered, and each has its fix."""

from __future__ import annotations

import json
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from adzer.core import cards, records, route
from adzer.core.compile import compile_order, freeze
from adzer.core.errors import AdzerError, Stopped, UnreadableError
from adzer.core.intake.take import read_file, source_problem
from adzer.core.media import probe
from adzer.core.media.encode import VideoTags
from adzer.core.pace import Pace
from adzer.core.route import Route, walk
from adzer.core.stage import STAGES

from ..conftest import write_clip


@pytest.fixture(scope="module")
def scope(scope_clip):
    return read_file(scope_clip)


def codes(walked):
    return {f.code for f in walked.findings}


def test_log_that_is_tagged_display_is_found_and_mended(scope):
    facts, seen = scope
    walked = walk(Route(), facts, seen, job_rate=Fraction(25))
    assert next(f for f in walked.findings if f.code == "log-tagged-display").fix is None
    walked = walk(Route(), facts, seen, job_rate=Fraction(25), given="fen-log")
    finding = next(f for f in walked.findings if f.code == "log-tagged-display")
    assert finding.fix.answers == {"curve": "fen-log"} and "%" in finding.text
    mended = walk(Route().mended(finding.fix), facts, seen, job_rate=Fraction(25))
    assert "log-tagged-display" not in codes(mended) and mended["read"].after.curve == "fen-log"
    assert mended["read"].after.primaries == "bt2020"
    assert "agrees" in mended["read"].result.evidence["curve"]


def test_a_display_picture_is_left_alone_not_transformed_twice(phone_clip):
    facts, seen = read_file(phone_clip)
    walked = walk(Route(), facts, seen, job_rate=Fraction(25))
    assert walked.draft.chain is None and walked["colour"].result.says == "unchanged"
    assert "variable-rate" in codes(walked) and "log-tagged-display" not in codes(walked)
    fix = next(f.fix for f in walked.findings if f.code == "variable-rate")
    even = walk(Route().mended(fix), facts, seen, job_rate=Fraction(25))
    assert even["read"].after.constant_rate and not codes(even) & {"variable-rate", "rate-differs"}


def test_findings_that_read_makes(tmp_path):
    made = {}
    for name, options in {
        "untagged": {"tags": VideoTags(None, None, None, None)},
        "odd": {"raster": (193, 109), "encoder": "ffv1"},
        "rate": {"rate": Fraction(24000, 1001)},
        "small": {"raster": (8, 8), "encoder": "ffv1"},
    }.items():
        path = write_clip(tmp_path / f"{name}.{'mkv' if 'encoder' in options else 'mp4'}", 8, **options)
        made[name] = walk(Route(), probe.probe(path), None, job_rate=Fraction(25))
    assert "taken-as-display" in codes(made["untagged"]) and made["untagged"].stopped is None
    ten = probe.probe(write_clip(tmp_path / "ten.mkv", 4, encoder="ffv1", bits=10, tags=VideoTags(None, None, None, None)))
    waiting = walk(Route(), ten, None)
    assert waiting.stopped.code == "curve-unknown" and waiting["colour"].result.says == "waits for Read"
    assert sum(f.level == "stop" for f in waiting.findings) == 1  # one cause is one finding
    assert "odd-raster" in codes(made["odd"]) and not made["odd"].stopped
    assert "1001/960" in next(f.text for f in made["rate"].findings if f.code == "rate-differs")
    assert "raster-too-small" in codes(made["small"])
    eight = walk(Route().with_("read", curve="fen-log"), probe.probe(tmp_path / "rate.mp4"))
    assert "log-8-bit" in codes(eight)


def test_every_stage_is_walked_and_idle_ones_say_so(scope):
    walked = walk(Route(), *scope)
    assert [s.stage for s in walked.stops] == list(STAGES)
    for stage in ("join", "develop", "steady"):
        assert walked[stage].result.idle and walked[stage].result.says and walked[stage].before == walked[stage].after
    for a, b in zip(walked.stops, walked.stops[1:], strict=False):
        assert a.after == b.before


def test_missing_cards_and_changed_sources_stop_with_a_sentence(scope, tmp_path):
    facts, seen = scope
    walked = walk(Route().with_("read", curve="no-such-log"), facts, seen)
    assert walked.stopped and "no-such-log" in walked.stopped.text
    with pytest.raises(Stopped):
        freeze("x", facts, Route().with_("read", curve="no-such-log"), "web-wide", tmp_path / "x.mp4")
    copy = write_clip(tmp_path / "c.mov", 6)
    read, _ = read_file(copy)
    order = freeze("x", read, Route(), "web-wide", tmp_path / "x.mp4")
    assert source_problem(read) is None
    copy.write_bytes(copy.read_bytes() + b"x")
    assert source_problem(read).code == "source-changed"
    with pytest.raises(UnreadableError, match="has changed"):
        compile_order(order)
    copy.unlink()
    assert source_problem(read).code == "source-missing"
    with pytest.raises(UnreadableError, match="not there any more"):
        compile_order(order)


def test_frozen_orders_keep_their_cards(scope, tmp_path, monkeypatch):
    facts, seen = scope
    order = freeze("x", facts, Route().with_("read", curve="fen-log"), "web-wide", tmp_path / "x.mp4", seen=seen)
    own = tmp_path / "own"
    monkeypatch.setattr(cards, "own_folder", lambda: own)
    (own / "curves").mkdir(parents=True)
    text = (cards.SHIPPED / "curves" / "fen-log.toml").read_text().replace("c = 0.255", "c = 0.2551")
    (own / "curves" / "fen-log.toml").write_text(text)
    x = np.linspace(0.2, 0.9, 9)
    fresh = freeze("x", facts, order.route, "web-wide", tmp_path / "y.mp4", seen=seen) if "0.2551" in text else order
    again = records.from_json(records.to_json(order), type(order))
    assert np.array_equal(compile_order(again).pixels.chain.decode(x), compile_order(order).pixels.chain.decode(x))
    assert not np.array_equal(compile_order(fresh).pixels.chain.decode(x), compile_order(order).pixels.chain.decode(x))
    assert fresh.digest != order.digest == again.digest


SETTINGS = {
    "read": st.fixed_dictionaries(
        {"curve": st.none() | st.sampled_from(("fen-log", "pq")), "timing": st.sampled_from(("recorded", "even"))}
    ),
    "shape": st.fixed_dictionaries(
        {
            "squeeze": st.fractions(Fraction(1, 3), Fraction(3), max_denominator=1000),
            "school": st.sampled_from(("shrink", "stretch")),
        }
    ),
    "colour": st.fixed_dictionaries(
        {
            "exposure": st.floats(-8, 8),
            "kelvin": st.floats(1700, 25000),
            "whites": st.sampled_from(("let go", "keep all")),
        }
    ),
}


@given(st.sampled_from(tuple(SETTINGS)).flatmap(lambda s: SETTINGS[s].map(lambda v: (s, v))))
def test_routes_come_back_from_json(pair):
    stage, values = pair
    made = Route().with_(stage, **values)
    assert route.load(records.to_json(made)) == made


@pytest.mark.parametrize(
    "text",
    [
        '{"schema": 99}',
        "[]",
        '{"shape": {"squeeze": "nan"}}',
        '{"colour": {"exposure": 1e9}}',
        '{"colour": {"exposure": NaN}}',
        "{" * 5000,
    ],
)
def test_hostile_routes_are_refused(text):
    with pytest.raises(UnreadableError):
        route.load(text)


def test_answers_that_cannot_be_are_refused():
    for stage, change in (
        ("shape", {"squeeze": "wide"}),
        ("colour", {"whites": "gone"}),
        ("read", {"range": "most"}),
        ("nothing", {}),
    ):
        with pytest.raises(AdzerError):
            Route().with_(stage, **change)


@given(st.integers(1, 120), st.sampled_from(("24", "25", "30", "60", "24000/1001")), st.integers(0, 40))
def test_evened_frames_are_always_the_nearest_in_time(frames, rate, seed):
    rng = np.random.default_rng(seed)
    pts = np.concatenate([[0], np.cumsum(rng.integers(1500, 6000, frames))])
    index = probe.FrameIndex(pts, pts[:1], 3000)
    base = Fraction(1, 90000)
    facts = records.from_plain(
        dict(path="/x", size=1, fingerprint="x", container="mov", codec="x", profile=None, pix_fmt="x", raster=[64, 64], pixel_aspect=None,
             bits=8, chroma="4:2:0", rgb=False, curve=None, primaries=None, matrix=None, range=None, rate="30", time_base="1/90000",
             timecode=None, frames=len(pts), start="0", duration=str((int(pts[-1]) + 3000) * base), spacing=["0", "0", "0"], constant_rate=False),
        probe.FileFacts,
    )  # fmt: skip
    made = Pace(facts, Fraction(rate)).over(index, 0, len(pts))
    ticks = made.stamps / float(Fraction(rate)) * 90000
    off = np.abs(pts[made.frames] - ticks)
    assert np.all(off <= np.abs(pts[None, :] - ticks[:, None]).min(axis=1) + 1e-6)
    assert made.start == 0 and made.stop == len(made) / Fraction(rate)
    assert abs(len(made) - float(facts.duration * Fraction(rate))) <= 0.5 + 1e-9 or len(made) == 1


def test_every_version_of_settings_is_read_and_a_newer_one_refused():
    """An old delivery of lines becomes a raster; what a newer Adzer wrote is not guessed at, stage by stage."""
    old = route.load('{"schema": 1, "deliver": {"version": 1, "cards": ["archive"], "lines": 720}, "read": {"version": 1, "curve": "hlg"}}')
    assert old.deliver.raster == (1280, 720) and old.deliver.version == 2 and old.read.curve == "hlg" and old.read.version == 4
    for stage in STAGES:
        newest = getattr(Route(), stage).version
        assert set(type(getattr(Route(), stage)).FROM) == set(range(1, newest)), "each older version has its way up"
        with pytest.raises(UnreadableError, match="made by a newer Adzer"):
            route.load(json.dumps({"schema": 1, stage: {"version": newest + 1}}))


def test_what_stays_with_a_shot_are_fields_that_there_are():
    for stage in STAGES:
        settings = getattr(Route(), stage)
        assert set(settings.__struct_fields__) >= settings.OWN
        assert not set(route.carried(settings)) & (settings.OWN | {"version"})
