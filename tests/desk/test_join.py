"""The Join bench: two lenses are matched with one click, said in words, and taken back."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage

from adzer.core.cards import RigCard, find
from adzer.core.intake.take import read_file
from adzer.core.job import Part
from adzer.core.route import Route
from adzer.core.sim import pairs
from adzer.desk.shots import wait
from adzer.desk.stages.join.reach import AT, LEFT, RIGHT, place_of
from tests.core.test_eyes import cameras_of
from tests.core.test_join import shot_pair
from tests.core.test_together import film, hand, heard, talk


def _wiped(window, looking):
    """A line that is dragged over two pictures, which are put in place of what was made of the two: one each side of it."""
    looking.choice.choose("wipe")
    assert wait(lambda: looking.how == "wipe" and len(looking.pictures) == 2 and not window.desk.worker.busy, settle=0.1)
    red, blue = (QImage(320, 180, QImage.Format.Format_RGB32) for _ in range(2))
    red.fill(QColor(200, 0, 0)), blue.fill(QColor(0, 0, 200))
    looking.pictures = (red, blue)
    view = window.bench.picture
    view.grab()
    for x, done in ((0.5, False), (0.3, False), (0.25, True)):
        view.dragged.emit(QPointF(x, 0.5), done)
    view.dragged.emit(QPointF(0.6, 0.5), True)  # far from the line, which stays
    rect, image = view.picture_rect(), view.grab().toImage()
    at = [image.pixelColor(int(rect.left() + x * rect.width()), int(rect.center().y() * 0.8)) for x in (0.1, 0.22, 0.28, 0.9)]
    assert [c.red() > c.blue() for c in at] == [True, True, False, False]


def test_two_lenses_are_matched_with_one_click(window, tmp_path):
    desk = window.desk
    files, _ = shot_pair(tmp_path, 0.9, -0.7, 1.4, -0.5)
    facts, seen = read_file(files[0], rear=files[1])
    desk.unfold("join")
    bench = window.bench.bench
    lenses = bench.lenses
    assert lenses.stand.isHidden() and "nothing to join" in bench.quiet.reason
    route = Route().with_("read", projection="fisheye").with_("shape", across=200.0, view={"keys": [{"heading": 90, "fov": 100}]})
    desk.record(lambda: desk.job.add_shot(facts, "court", "lens pair", route, seen=seen), None)
    desk.select(len(desk.shots) - 1)
    assert not lenses.stand.isHidden() and bench.quiet.isHidden() and "not measured" in lenses.stand.reason
    lenses.across._move(180.0)
    assert "do not overlap" in lenses.sees.reason
    lenses.across._move(200.0)
    lenses.across.settled.emit(200.0)
    assert "20° of the same" in lenses.sees.reason and desk.shot.route.shape.across == 200.0
    lenses.law.chosen.emit("equisolid")
    assert "equisolid" in lenses.built.reason and lenses.law.value == "equisolid"
    lenses.across._move(196.0)  # the same law, written for another angle
    lenses.across.settled.emit(196.0)
    assert lenses.law.value == "equisolid" and desk.shot.route.shape.bend[0] == pytest.approx(-1 / 24, abs=0.002)  # 2 sin θ/2 = θ − θ³/24 …
    lenses.law.chosen.emit(None)
    lenses.across._move(200.0)
    lenses.across.settled.emit(200.0)
    assert not desk.shot.route.shape.bend and "equidistant" in lenses.built.reason
    assert any(f.code == "lenses-not-matched" for f in desk.walk(desk.shot).findings)
    assert wait(lambda: window.bench.picture.after is not None, settle=0.3)
    before = window.bench.picture.after.copy()
    lenses.button.click()
    assert wait(lambda: desk.shot.route.join.error is not None and not desk.worker.busy, seconds=60, settle=0.5), window.note.text()
    assert "±" in lenses.stand.reason and "1.4" in lenses.stand.reason and not lenses.forget.isHidden()
    assert wait(lambda: window.bench.picture.after != before), "the preview is made anew"
    assert desk.shot.route.join.met and "brought together" in lenses.tears.reason or "bent together" in lenses.tears.reason
    desk.answer("join", base=0.03)
    lenses.pointed.click()
    assert wait(lambda: len(lenses.looking.pictures) == 2 and not desk.worker.busy, settle=0.1), window.note.text()
    lenses.dragged(QPointF(0.5, 0.5), True)  # up, in the sky
    assert wait(lambda: "too plain" in window.note.text() or "far away" in window.note.text(), settle=0.1), window.note.text()
    lenses.looking.choice.choose("in pieces")
    assert wait(lambda: len(lenses.looking.pictures) == 1 and not desk.worker.busy, settle=0.1)
    lenses.looking.choice.choose("apart")
    assert wait(lambda: len(lenses.looking.pictures) == 1 and not desk.worker.busy, settle=0.1)
    _wiped(window, lenses.looking)
    window.bench.compare("wipe")
    assert lenses.looking.instead() is None and window.bench.picture.way is None
    # Two lenses are shown as their sphere, with the line where they meet on it, the view that is delivered beside it.
    view = window.bench.picture
    assert wait(lambda: view.after is not None and view.after.width() == pytest.approx(2 * view.after.height(), abs=2), settle=0.2)
    assert window.bench.side.isVisible() and window.bench.side.after is not None
    drawn, over = [], bench.overlay
    bench.overlay = lambda *to: (drawn.append(True), over(*to))
    window.bench.hold_before(True)
    view.grab()
    assert not drawn, "nothing lies over the recorded picture"
    window.bench.hold_before(False)
    rect, image = view.picture_rect(), view.grab().toImage()
    assert drawn
    row = [image.pixelColor(int(rect.left() + i), int(rect.center().y())) for i in range(int(rect.width()))]
    line = [i / rect.width() for i, c in enumerate(row) if c.red() > 200 and 120 < c.green() < 220 and c.blue() < 150]
    assert line and all(min(abs(x - 0.25), abs(x - 0.75)) < 0.06 for x in line) and min(line) < 0.5 < max(line), line
    worst = max(lenses.measuring.found(desk.shot).errors, key=lambda e: e.degrees)
    assert f"{worst.degrees:.3f}°, {worst.pixels:.1f} px" in lenses.agree.toolTip() and not lenses.agree.isHidden()
    bench.foot.here.click()
    assert desk.shot.route.join.foot.at == 0.0 and any(f.code == "foot-covered" for f in desk.walk(desk.shot).findings)
    bench.foot.take(str(tmp_path / "front.mp4.json"))
    assert "not a picture" in window.note.text() or "is not" in window.note.text()
    bench.foot.plain.click()
    lenses.keep.click()
    name = desk.shot.route.join.rig
    assert name is not None and find("rigs", name, RigCard).turn == desk.shot.route.join.turn and not lenses.keep.isVisible()
    desk.answer("join", met=[])
    assert not lenses.along.button.isHidden()
    lenses.along.button.click()
    assert wait(lambda: bool(desk.shot.route.join.met) and not desk.worker.busy, settle=0.2), window.note.text()
    assert "differ by" in window.note.text() and "bent together" in lenses.tears.reason
    lenses.blend.set_value(5.0)
    lenses.blend._move(8.0)
    lenses.blend.settled.emit(8.0)
    assert desk.shot.route.join.blend == 8.0
    # The handle in the picture: hidden while all is brought together, dragged along its line, one edit.
    assert not lenses.reach.shown
    desk.answer("join", close=False, distance=None)
    assert lenses.reach.shown and wait(lambda: not desk.worker.busy, settle=0.3)
    picture = window.bench.picture
    before = picture.after.copy()
    for x, done in ((0.85, False), (0.6, False), (LEFT + (RIGHT - LEFT) * place_of(1.0), False), (LEFT + (RIGHT - LEFT) * place_of(0.5), True)):
        picture.dragged.emit(QPointF(x, AT if not done else 0.5), done)  # once it is held, it need not be followed closely
    assert desk.shot.route.join.distance == 0.5 and "0.5 m away meets" in lenses.near.reason
    assert wait(lambda: picture.after is not None and picture.after != before, settle=0.2), "what tears there is another by now"
    picture.dragged.emit(QPointF(0.5, 0.5), True)
    assert desk.shot.route.join.distance == 0.5
    desk.undo()
    assert desk.shot.route.join.distance is None and lenses.reach.distance is None
    lenses.forget.click()
    assert desk.shot.route.join.error is None and desk.shot.route.join.blend == 8.0
    desk.undo()
    assert desk.shot.route.join.error is not None


def test_another_eye_and_its_clock_are_put_in_step(window, tmp_path):
    desk = window.desk
    world, path = talk(30, 3), hand(3, 30)
    files = [film(tmp_path / f"{n}.mov", 7, heard(world, t, 7, n, rate=48000), path, t) for n, t in ((1, 8.0), (2, 8.372))]
    facts, seen = read_file(files[0])
    desk.record(lambda: desk.job.add_shot(facts, "wheel", "eye pair", parts=(Part("second", str(files[1])),), seen=seen), None)
    desk.select(len(desk.shots) - 1)
    desk.unfold("join")
    bench = window.bench.bench
    assert not bench.step.isHidden() and "not measured" in bench.step.reason
    assert "2.mov" in bench.quiet.reason and "nothing to join" not in bench.quiet.reason
    bench.step.listen.click()
    assert bench.step.listen.text() == "Listening…" and not bench.step.listen.isEnabled()
    assert wait(lambda: bench.step.listen.isEnabled(), settle=0.2)
    assert "2.mov starts 0.372" in bench.step.reason and "by sound" in bench.step.reason
    assert "9 whole frames leave 0.30 of one" in bench.step.reason  # 0.372 s are 9.3 frames of 25
    curve = bench.step.found(desk.shot, desk.shot.parts[0]).curves["sound"]
    assert max(curve, key=lambda c: c[1])[0] == pytest.approx(0.372, abs=0.003) and not bench.step.curve.isHidden()
    desk.select(0)
    assert bench.step.isHidden()
    desk.select(len(desk.shots) - 1)
    assert "0.372" in bench.step.reason  # it is kept
    bench.step.together.click()
    assert wait(lambda: desk.shot.facts.beside is not None and not desk.worker.busy, settle=0.2), window.note.text()
    assert desk.shot.facts.starts == (9, 0) and desk.shot.route.read.eyes == "side by side" and bench.step.isHidden()
    assert desk.shot.route.join.slip == pytest.approx(9 / 25 - 0.372, abs=0.002) and desk.shot.stop == desk.shot.facts.frames
    desk.undo()
    assert desk.shot.facts.beside is None and not bench.step.isHidden()
    files[1].unlink()
    bench.step.listen.click()
    assert wait(lambda: bench.step.listen.isEnabled(), settle=0.2)
    assert "2.mov" in window.note.text() and "0.372" in bench.step.reason


def test_eyes_are_measured_looked_at_and_laid_out(window, qtbot, tmp_path):
    desk = window.desk
    files = pairs.shoot(cameras_of(640, roll=0.9, larger=1.5, tilt=0.5)[::-1], 2, (tmp_path / "one.mp4", tmp_path / "two.mp4"))  # right first
    facts, seen = read_file(files[0], rear=files[1])
    route = Route().with_("read", eyes="side by side", projection="flat")
    desk.record(lambda: desk.job.add_shot(facts, "wheel", "eye pair", route, seen=seen), None)
    desk.select(len(desk.shots) - 1)
    desk.unfold("join")
    pair = window.bench.bench.pair
    assert window.bench.bench.quiet.isHidden() and "not measured" in pair.which.reason
    pair.laid.chosen.emit("beside")
    assert desk.walk(desk.shot).stopped.code == "eyes-unknown"
    pair.button.click()
    assert wait(lambda: desk.shot.route.join.align is not None and not desk.worker.busy, settle=0.3), window.note.text()
    assert desk.shot.route.read.first == "right" and "to the second" in pair.which.reason
    assert desk.shot.route.join.align.roll == pytest.approx(0.9, abs=0.08) and "half of it is taken from each eye" in pair.line.reason
    assert desk.walk(desk.shot).stopped is None and "1280×360" in pair.lies.reason
    assert "within what can be looked at with ease" in pair.deep.reason
    pair.children.choose(True)
    pair.screen.setCurrentIndex(2)
    pair.screen.activated.emit(2)
    assert "a screen in a hall" in pair.deep.reason and desk.shot.route.join.screen == "hall"
    desk.answer("join", pin=2.0)
    assert any(f.code == "too-deep" and "outwards" in f.text for f in desk.walk(desk.shot).findings), "50 mm are half a per cent of it"
    desk.answer("join", pin=0.0)
    desk.answer("read", first="left")
    crossed = next(f for f in desk.walk(desk.shot).findings if f.code == "eyes-crossed")
    desk.mend(desk.shot, crossed.fix)
    assert desk.shot.route.read.first == "right"
    pair.looking.choice.choose("apart")
    pair.pinned.click()
    assert pair.looking.how is None, "it is clicked in the first eye as it lies"
    pair.dragged(QPointF(0.35, 0.5), True)  # the left eye's picture: the right one is the first
    assert "in the right eye's picture" in window.note.text() and pair._pinning
    pair.dragged(QPointF(0.85, 0.5), True)
    assert wait(lambda: desk.shot.route.join.pin != 0, settle=0.2), window.note.text()
    assert 0.2 < desk.shot.route.join.pin < 2.5 and "It costs" in pair.hold.reason
    held = desk.shot.route.join.pin
    pair.keyed.click()
    desk.go_to(1)
    pair.pin.drafted.emit(held + 1.0)
    desk.commit()
    assert desk.shot.route.join.pins == ((0.0, round(held, 3)), (0.04, held + 1.0)) and window.bench.bench.pegs(desk.shot) == [0, 1]
    assert "2 keys" in pair.hold.reason
    pair.unkeyed.click()
    assert desk.shot.route.join.pins == () and desk.shot.route.join.pin == pytest.approx(held + 1.0)
    desk.answer("join", pin=-3.0)
    pair.covered.click()
    assert max(desk.shot.route.join.edges) > 1.0 and "are black" in pair.frame.reason
    assert not any(f.code == "edge-cuts-near" for f in desk.walk(desk.shot).findings)
    pair.uncovered.click()
    desk.answer("join", pin=held)
    for how, count in (("coloured", 1), ("apart", 1), ("by turns", 2)):
        pair.looking.choice.choose(how)
        assert wait(lambda n=count, h=how: len(pair.looking.pictures) == n and pair.looking.how == h and not desk.worker.busy, settle=0.1)
        assert window.bench.bench.instead() is not None
    assert pair.looking.timer.isActive() and pair.looking.timer.interval() >= 500, "nothing flashes"
    window.bench.compare("wipe")
    _wiped(window, pair.looking)
    pair.looking.choice.choose(None)
    window.activateWindow()
    shown = []
    for _ in range(3):  # a key alternates them, and no faster than three times a second, though it be held
        qtbot.keyClick(window, Qt.Key.Key_E, Qt.KeyboardModifier.ShiftModifier)
        assert wait(lambda: len(pair.looking.pictures) == 2 and not desk.worker.busy, settle=0.4) and not pair.looking.timer.isActive()
        shown.append(pair.looking.instead().cacheKey())
    assert shown[0] == shown[2] != shown[1]
    for _ in range(6):
        pair.looking.flip()
    assert pair.looking.instead().cacheKey() == shown[1]
    window.bench.compare("turn")
    assert window.bench.bench.instead() is None and not pair.looking.timer.isActive()
    pair.forget.click()
    assert desk.shot.route.join.align is None and desk.shot.route.join.laid == "beside"
    window.go("Board")
    desk.unfold(None)
    assert not window.grab().isNull()


def test_pairs_of_two_cameras_are_found_and_put_together_in_one_go(window, tmp_path):
    """Three of one camera, two of another under other names, and one that belongs to nobody."""
    desk = window.desk
    made = {}
    for camera, starts in (("one", (8.0, 8.5, 9.0)), ("two", (8.2, 8.9))):
        for n, start in enumerate(starts):
            world, path = talk(30, 10 + n), hand(10 + n, 30)
            sound = heard(world, start, 6, 100 * len(camera) + 7 * n + (camera == "two"), rate=48000)
            made[camera, n] = film(tmp_path / f"{camera}-{(n * 2 + 1) % 5}.mov", 6, sound, path, start)
    before = len(desk.shots)
    rows = [(*key, read_file(file)[0]) for key, file in made.items()]
    desk.record(lambda: [desk.job.add_shot(f, f"{c} {n}", "flat", Route(), camera=c) for c, n, f in rows], None)
    desk.select(before)
    desk.unfold("join")
    card = window.bench.bench.quiet
    assert not card.search.isHidden() and card.table.isHidden()
    card.other.setCurrentText("two")
    card.search.click()
    assert wait(lambda: card.table.rowCount() > 0, seconds=90, settle=0.1), window.note.text()
    assert card.table.rowCount() == 2 and "2 pairs" in card.accept.text() and "of 1 recordings" in card.reason
    card.accept.click()
    assert wait(lambda: len(desk.shots) == before + 3 and not desk.worker.busy, settle=0.2), window.note.text()
    joined = [s for s in desk.shots if s.facts.beside is not None]
    assert {(s.name, s.facts.starts) for s in joined} == {("one 0", (5, 0)), ("one 1", (10, 0))}  # 0.2 and 0.4 s of 25 frames
    assert all(s.route.read.eyes == "side by side" for s in joined)
    desk.undo()
    assert len(desk.shots) == before + 5 and not any(s.facts.beside for s in desk.shots)
