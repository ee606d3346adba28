"""The Shape bench: views of a sphere by dragging, typing and keys; squeeze by a marked wheel; every shape at once."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
import pytest
from PySide6.QtCore import QPointF, QRectF

from adzer.core import cards
from adzer.core.cards import delivery
from adzer.core.compile import freeze
from adzer.core.job import take_before
from adzer.core.space import sphere
from adzer.core.space.path import Sides, views_at
from adzer.desk.shots import wait
from adzer.desk.widgets.picture import GUIDES


@pytest.fixture
def bench(window):
    """The bench of the sphere shot, with a flat view of it."""
    desk = window.desk
    desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "all round"))
    desk.answer("read", projection="equirectangular", coverage="360")  # which its look alone does not make it
    desk.unfold("shape")
    assert wait(lambda: window.bench.picture.after is not None, settle=0.05)
    window.bench.bench.what.choose(True)
    assert wait(lambda: desk.shot.route.shape.view is not None, settle=0.05)
    return window.bench.bench


def test_a_sphere_becomes_a_flat_view_and_can_be_queued(window, bench):
    desk = window.desk
    shot = desk.shot
    walked = desk.walk(shot)
    assert walked["shape"].result.viewed is not None and walked.stopped is None
    assert walked["shape"].after.projection == "flat" and walked["shape"].after.raster == (1920, 1080)
    order = freeze(
        shot.name, shot.facts, shot.route, "web-upright", desk.job.out_folder / "x.mp4", seen=desk.seen(shot)
    )
    assert order.card.wanted == Fraction(9, 16)
    assert "recorded pixels lie behind" in bench.wide_card.reason
    bench.what.choose(False)
    assert desk.shot.route.shape.view is None and desk.walk(desk.shot).stopped.code == "projection-needs-metadata"
    desk.mend(desk.shot, desk.walk(desk.shot).stopped.fix)
    assert desk.walk(desk.shot).stopped is None


def test_dragging_on_the_sphere_turns_the_view_under_the_hand(window, bench):
    desk = window.desk
    for x in (0.5, 0.55, 0.6):
        bench.dragged(QPointF(x, 0.5), False)
    assert desk.drafting and desk.route_of(desk.shot).shape.view.keys[0].heading == pytest.approx(36, abs=0.1)
    bench.dragged(QPointF(0.6, 0.4), False)
    bench.dragged(QPointF(0.6, 0.4), True)
    key = desk.shot.route.shape.view.keys[0]
    assert not desk.drafting and key.heading == pytest.approx(36, abs=0.1) and key.tilt == pytest.approx(18, abs=0.1)
    desk.undo()
    assert desk.shot.route.shape.view.keys[0].heading == 0


def test_keyframes_are_set_taken_off_eased_and_gone_to_by_keys(window, bench):
    desk = window.desk
    window.on_shape("set_key")
    desk.go_to(50)
    window.on_shape("set_key")
    bench.heading._move(30)
    bench.heading.settled.emit(30)
    keys = desk.shot.route.shape.view.keys
    assert [round(k.t, 2) for k in keys] == [0, 2] and keys[1].heading == 30 and bench.pegs(desk.shot) == [0, 50]
    desk.go_to(25)
    assert wait(lambda: bench.heading.value == pytest.approx(15, abs=0.1), settle=0.05)
    assert "Between keyframes" in bench.where_card.reason
    bench.keys.set_ease("hold")
    assert desk.shot.route.shape.view.keys[0].ease == "hold"
    bench.keys.set_ease("sides")
    assert desk.shot.route.shape.view.keys[0].ease.start == pytest.approx(0.4)
    window.on_shape("next_key", 1)
    assert desk.frame == 50
    window.on_shape("drop_key")
    assert len(desk.shot.route.shape.view.keys) == 1
    said = []
    desk.said.connect(said.append)
    window.on_shape("drop_key")
    assert "no keyframe here" in said[-1]


def test_the_horizon_is_marked_with_two_clicks(window, bench):
    desk = window.desk
    lens = desk.walk(desk.shot)["shape"].result.viewed.lens
    w, h = desk.shot.facts.raster
    lean = sphere.rotation(0, 6.0, 3.0)
    window.on_shape("mark_horizon")
    for heading in (-20.0, 100.0):
        place = lens.place(sphere.direction(heading, 0.0) @ lean.T)
        for done in (False, True):
            bench.dragged(QPointF(place[0] / w, place[1] / h), done)
    assert desk.shot.route.shape.level == pytest.approx((6.0, 3.0), abs=0.01)
    assert "leans 6.0°" in bench.level_card.reason


def test_every_shape_is_shown_and_one_can_be_moved_alone(window, bench):
    desk = window.desk
    assert wait(lambda: len(bench.shapes.frames) >= 4 and all(f.picture for f in bench.shapes.frames), settle=0.05)
    names = bench.delivered(desk.shot)
    upright = names.index("web-upright")
    assert bench.shapes.frames[upright].shape == pytest.approx(9 / 16, abs=0.002)
    assert bench.shapes.frames[upright].covered == delivery("web-upright").covered
    bench.take_in_hand(upright)
    assert wait(lambda: bench.alone.isVisible(), settle=0.05) and desk.card_of(desk.shot) == "web-upright"
    bench.alone.right._move(10)
    bench.alone.right.settled.emit(10)
    bench.alone.fill.choose(True)
    fitted = desk.walk(desk.shot)["shape"].result.viewed.fitted
    assert fitted.raster == (1080, 1920) and fitted.picture == (1080, 606) and fitted.place[1] > 600
    bench.alone.fill.choose(False)
    assert desk.walk(desk.shot)["shape"].result.viewed.fitted.picture == (1080, 1920)
    shape = desk.shot.route.shape
    assert shape.nudge(Fraction(9, 16)) == (0.1, 0.0) and shape.nudge(Fraction(1)) == (0.0, 0.0)
    desk.unfold(None)
    assert desk.card_of(desk.shot) != "web-upright"
    desk.unfold("read")  # which draws on the picture where it can, and does not fail where it cannot
    assert wait(lambda: window.bench.picture.after is not None, settle=0.1)
    assert not window.bench.picture.grab().isNull() and window.bench.bench._panel is None


def test_a_marked_wheel_says_the_squeeze(window):
    desk = window.desk
    desk.unfold("shape")
    assert wait(lambda: window.bench.picture.after is not None, settle=0.05)
    bench = window.bench.bench
    desk.answer("shape", squeeze="3/2")
    window.on_shape("mark_round")
    for x, y, done in ((945, 585, False), (1050, 700, False), (1140, 897, False), (1140, 897, True)):
        bench.dragged(QPointF(x / 1440, y / 1080), done)
    assert wait(lambda: desk.shot.route.shape.measured is not None, settle=0.05)
    value, error = desk.shot.route.shape.measured
    assert (
        value == pytest.approx(1.6, rel=0.02) and abs(value - 1.6) < 3 * error
    )  # the wheel is not quite square to the lens
    finding = next(f for f in desk.walk(desk.shot).findings if f.code == "squeeze-differs")
    desk.mend(desk.shot, finding.fix)
    assert float(desk.shot.route.shape.squeeze) == pytest.approx(value, abs=1e-3)
    assert not any(f.code == "squeeze-differs" for f in desk.walk(desk.shot).findings)
    bench.squeeze_card.take_lens("scope-160")
    assert desk.shot.route.shape.squeeze == Fraction(8, 5) and desk.shot.route.shape.lens == "scope-160"
    desk.answer("shape", squeeze="3/2", lens=None)
    desk.select(1)
    desk.column = 4
    desk.fill_down()
    assert float(desk.shots[1].route.shape.squeeze) == 1.5 and desk.shots[1].route.shape.marks == ()
    window.on_shape("mark_horizon")  # belongs to spheres; says so instead of failing
    assert "sphere or round lens" in window.note.text()


@pytest.fixture
def flat(window):
    """The bench of the squeezed shot."""
    window.desk.unfold("shape")
    assert wait(lambda: window.bench.picture.after is not None, settle=0.05)
    return window.bench.bench


def _boxed(bench, x0, y0, x1, y1):
    for x, y, done in ((x0, y0, False), ((x0 + x1) / 2, (y0 + y1) / 2, False), (x1, y1, False), (x1, y1, True)):
        bench.dragged(QPointF(x, y), done)


def test_known_lengths_and_a_lens_card_answer_for_the_squeeze(window, flat):
    """A thing of known size gives the factor; a card gives it by its focus, and straightens what its lens bends."""
    desk, card = window.desk, flat.squeeze_card
    card.wide.set_value(1.0)
    card.high.set_value(2.0)
    card.mark_lengths.click()
    _boxed(flat, 0.4, 0.3, 0.4 + 100 / 1440, 0.3 + 320 / 1080)
    assert wait(lambda: desk.shot.route.shape.measured is not None, settle=0.05)
    assert desk.shot.route.shape.measured[0] == pytest.approx(1.6, abs=1e-3) and len(desk.shot.route.shape.lengths) == 1
    folder = cards.own_folder() / "lenses"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "fen-scope.toml").write_text(
        'title = "fen scope 2×"\nsqueeze = 2.0\nfocus = [[1.0, 1.8], [4.0, 1.95]]\nbent = [-0.08, 0.01]\n'
    )
    card.focus.set_value(2.0)
    card.take_lens("fen-scope")
    shape = desk.shot.route.shape
    assert float(shape.squeeze) == pytest.approx(1.9, abs=1e-3) and shape.bent == (-0.08, 0.01) and shape.focus == 2.0
    assert desk.walk(desk.shot)["shape"].result.shaped.moving is not None
    card.focus._move(1.0)
    card.focus.settled.emit(1.0)
    assert float(desk.shot.route.shape.squeeze) == pytest.approx(1.8, abs=1e-3)
    edge = flat._outline(QRectF(0, 0, 1440, 1080))
    rows = [p.y() for p in edge][:20]
    assert max(rows) - min(rows) > 1  # its straight edge is curved where it was recorded
    assert desk.walk(desk.shot).stopped is None
    card.take_lens(None)
    assert desk.shot.route.shape.bent == ()


def test_a_flat_crop_moves_by_keyframes_and_by_what_it_follows(window, flat):
    desk = window.desk
    desk.answer("shape", shape="16/9", enlarged=1.5)
    window.on_shape("set_key")
    desk.go_to(50)
    window.on_shape("set_key")
    flat.closer._move(200)
    flat.closer.settled.emit(200)
    flat.dragged(QPointF(0.5, 0.5), False)
    flat.dragged(QPointF(0.6, 0.5), False)
    flat.dragged(QPointF(0.6, 0.5), True)
    keys = desk.shot.route.shape.moves.keys
    assert [(k.t, round(k.x, 2), k.enlarged) for k in keys] == [(0, 0.5, 1.5), (2, 0.6, 2.0)]
    flat.course.eased.emit(0, 0.2, 0.7)
    flat.course.let_go.emit()
    assert desk.shot.route.shape.moves.keys[0].ease == Sides(0.2, 0.7)
    flat.course.pegged.emit(1, 3.0)
    flat.course.let_go.emit()
    assert desk.shot.route.shape.moves.keys[1].t == 3 and flat.pegs(desk.shot) == [0, 75]
    made = desk.walk(desk.shot)["shape"].result.shaped
    assert made.fitted.raster == (1200, 674) or made.fitted.raster[0] % 2 == 0
    window.on_shape("follow_thing")
    x, y = (945 + 1140) / 2 / 1440, (585 + 897) / 2 / 1080
    desk.go_to(0)
    _boxed(flat, x - 0.07, y - 0.14, x + 0.07, y + 0.14)
    assert wait(lambda: flat.follow.points and not flat.follow._running and not desk.worker.busy, settle=0.2)
    moves = desk.shot.route.shape.moves
    assert 2 <= len(moves.keys) <= 7 and moves.keys[0].ease in ("through", "ease")
    assert "Seen on" in flat.follow.reason and desk.walk(desk.shot).stopped is None
    flat.hold_still()
    assert desk.shot.route.shape.moves is None and desk.shot.route.shape.centre is not None


def test_what_must_stay_in_stays_in_every_shape(window, flat):
    desk = window.desk
    window.on_shape("mark_keep")
    _boxed(flat, 0.66, 0.5, 0.8, 0.85)
    keep = desk.shot.route.shape.keep
    assert keep == pytest.approx((0.66, 0.5, 0.8, 0.85))
    for name in ("web-upright", "web-square", "web-portrait", "web-wide"):
        made = desk.walk_as(desk.shot, name)["shape"].result.shaped
        x, y, w, h = (float(v) for v in made.framing.crop)
        assert x <= keep[0] * 1440 + 1 and x + w >= keep[2] * 1440 - 1 and y <= keep[1] * 1080 + 1, name
        assert y + h >= keep[3] * 1080 - 1 or name == "web-wide"
    desk.answer("shape", enlarged=6.0)
    assert any(f.code == "must-stay-cut" for f in desk.walk(desk.shot).findings)
    window.on_shape("mark_keep")
    said = []
    desk.said.connect(said.append)
    _boxed(flat, 0.5, 0.5, 0.5, 0.5)
    assert "no box" in said[-1] and desk.shot.route.shape.keep == keep


def _second_take(window, card):
    """The bench of a take that begins at frame 40, where its button to hide the cut is shown and the card says why."""
    window.desk.go_to(40)
    window.desk.add_take(True)
    bench = window.bench.bench
    assert wait(lambda: not bench.cut.button.isHidden(), settle=0.05) and "seen to jump" in getattr(bench, card).reason
    return bench


def test_a_second_take_is_enlarged_enough_to_hide_the_cut(window, flat):
    desk, flat = window.desk, _second_take(window, "closer_card")
    flat.cut.button.click()
    assert desk.shot.route.shape.enlarged == pytest.approx(1.2) and flat.cut.button.isHidden()
    before = desk.walk(take_before(desk.shot, desk.all.values()))["shape"].result.shaped
    assert desk.walk(desk.shot)["shape"].result.shaped.fitted == before.fitted


def test_a_second_take_of_a_view_is_taken_narrower_or_looks_elsewhere(window, bench):
    desk, bench = window.desk, _second_take(window, "wide_card")
    bench.cut.button.click()
    assert desk.shot.route.shape.view.keys[0].fov == pytest.approx(79.6, abs=0.1) and bench.cut.button.isHidden()
    desk.undo()
    assert not bench.cut.button.isHidden()
    bench.heading._move(60)
    bench.heading.settled.emit(60)
    assert bench.cut.button.isHidden()


def test_the_shot_is_played_slower_or_fitted_to_a_length(window, flat):
    desk = window.desk
    flat.speed_card.seconds._move(8.0)
    flat.speed_card.seconds.settled.emit(8.0)
    assert desk.shot.route.shape.speed == Fraction(1, 2)
    assert "stutters" in flat.speed_card.reason and any(f.code == "uneven-pace" for f in desk.walk(desk.shot).findings)
    flat.speed_card.percent._move(200)
    flat.speed_card.percent.settled.emit(200)
    assert desk.shot.route.shape.speed == 2 and "evenly" in flat.speed_card.reason


def test_guides_go_round_and_frames_have_any_shape(window, flat):
    view = window.bench.side
    seen = []
    for _ in GUIDES:
        window.bench.next_guide()
        seen.append(view.guide)
        view.grab()
    assert set(seen) == set(GUIDES) and view.guide == "none"
    window.desk.answer("shape", shape="239/100")
    flat.hold.choose("frame")
    flat.around.choose(Fraction(1))
    made = window.desk.walk(window.desk.shot)["shape"].result.shaped.fitted
    assert abs(made.raster[0] - made.raster[1]) <= 2 and made.picture[0] > 2 * made.picture[1]


def test_pegs_on_the_sphere_are_taken_hold_of_and_the_lens_ends_the_view(window, bench):
    desk = window.desk
    window.on_shape("set_key")
    desk.go_to(50)
    window.on_shape("set_key")
    bench.heading._move(60)
    bench.heading.settled.emit(60)
    desk.go_to(20)
    x = 0.5 + 60 / 360
    for at, done in ((x, False), (x + 0.05, False), (x + 0.05, True)):
        bench.dragged(QPointF(at, 0.5), done)
    keys = desk.shot.route.shape.view.keys
    assert desk.frame == 50 and [round(k.heading) for k in keys] == [0, 78]
    desk.answer("read", projection="fisheye")
    desk.answer("shape", view={"keys": [{"fov": 60}]}, inside=True, across=180)
    bench = window.bench.bench
    for heading in (10, 20, 30, 50, 80, 120):
        bench.heading._move(heading)
    bench.heading.settled.emit(0)
    assert desk.walk(desk.shot).stopped is None or desk.walk(desk.shot).stopped.code != "view-beyond-picture"
    assert 0 < desk.shot.route.shape.view.keys[0].heading < 120
    desk.answer("shape", view={"keys": [{"heading": 120, "fov": 60}]})
    assert desk.walk(desk.shot).stopped.code == "view-beyond-picture"


def test_the_view_follows_what_is_marked(window, bench):
    """The cartwheel, boxed on the unrolled picture: the path keeps it in the middle; on a third it is moved there at once."""
    desk = window.desk
    w, h = desk.shot.facts.raster
    place = wheel_place(desk.shot, 0)
    window.on_shape("follow_thing")
    r = 16
    for x, y, done in ((-r, -r, False), (0, 0, False), (r, r, False), (r, r, True)):
        bench.dragged(QPointF((place[0] + x) / w, (place[1] + y) / h), done)
    assert wait(lambda: len(bench.follow.points) == desk.shot.facts.frames and not desk.worker.busy, settle=0.2)
    view = desk.shot.route.shape.view
    assert 2 <= len(view.keys) <= 6 and "Seen on 60 of 60" in bench.follow.reason
    lens = desk.walk(desk.shot)["shape"].result.viewed.lens
    for frame in (0, 30, 59):
        turns, _ = views_at(view, [frame / 25])
        assert sphere.between(turns[0, :, 1], lens.direction(wheel_place(desk.shot, frame))) < 6
    bench.follow.place.choose(1 / 3)
    turns, _ = views_at(desk.shot.route.shape.view, [1.2])
    local = lens.direction(wheel_place(desk.shot, 30)) @ turns[0]
    x, _ = sphere.view_places("straight", view.keys[0].fov, 1.0, local)
    assert 0.15 < x < 0.55


def wheel_place(shot, frame):
    """Recorded pixels of the cartwheel's middle."""
    from adzer.core.sim import camera as cameras
    from adzer.core.sim import world

    middle = np.array([[world.WHEEL_X, world.WHEEL_Y, world.WHEEL_Z]])
    return cameras.load("sphere").sized(shot.facts.raster).project(middle, frame / 25)[0]


def test_takes_have_their_own_range_and_view(window, bench):
    """A cut makes two takes of one recording, each on its line and with its view; each renders as its own master."""
    desk = window.desk
    at, first = desk.selected, desk.shot.id
    desk.go_to(0)
    said = []
    desk.said.connect(said.append)
    desk.add_take(True)
    assert "nothing for a take" in said[-1] and len(desk.all) == 6  # nothing lies before the first frame
    desk.go_to(24)
    desk.add_take(True)
    second = desk.shot
    assert desk.selected == at + 1 and second.name == "all round · 2"
    assert (desk.all[first].start, desk.all[first].stop, second.start, second.stop) == (0, 24, 24, 60)
    bench = window.bench.bench
    bench.heading._move(120)
    bench.heading.settled.emit(120)
    assert desk.shot.route.shape.view.keys[0].heading == 120 and desk.all[first].route.shape.view.keys[0].heading == 0
    names = {desk.job.master_path(s.name, delivery("web-wide")) for s in (desk.all[first], desk.shot)}
    assert len(names) == 2 and desk.walk(desk.shot).stopped is None
    desk.add_take(False)
    assert desk.shot.name == "all round · 3" and (desk.shot.start, desk.shot.stop) == (24, 60)
    for _ in range(3):
        desk.undo()
    assert len(desk.all) == 6 and desk.all[first].stop == 60
