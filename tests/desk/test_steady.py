"""The Steady bench: a shot's shake is measured with one click, stopped, gone on with, and shown on the Board."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QPointF
from PySide6.QtWidgets import QFileDialog, QPushButton

from adzer.core.look import passes
from adzer.core.run import analysing
from adzer.core.space.sphere import angles
from adzer.core.steady import solve
from adzer.core.steady.measure import words
from adzer.core.steady.step import found_of, shaken
from adzer.desk.cells import cell
from adzer.desk.shots import wait


def measured(window):
    """The phone's shot, unfolded at Steady, its shake measured."""
    desk, going = window.desk, window.analysing
    desk.select(next(i for i, s in enumerate(desk.shots) if s.camera == "phone"))
    desk.unfold("steady")
    bench = window.bench.bench
    bench.button.click()
    assert wait(lambda: going.running is None and not desk.worker.busy, settle=0.3)
    return desk, going, bench


def test_a_shake_is_measured_stopped_and_gone_on_with(window, monkeypatch):
    desk, going = window.desk, window.analysing
    desk.select(next(i for i, s in enumerate(desk.shots) if s.camera == "phone"))
    shot = desk.shot
    monkeypatch.setattr(passes, "SPAN", 20)
    desk.unfold("steady")
    bench = window.bench.bench
    assert "not measured" in bench.card.reason and bench.lines.isHidden() and cell(desk, shot, "steady").first == ""
    bench.button.click()
    assert going.waits(shot) and bench.button.text() == "Stop" and "frame 0 of" in bench.card.reason
    assert wait(lambda: len(analysing.missing(desk.job, "motion", shot.facts)) < len(passes.spans(shot.facts.frames)), settle=0)
    bench.button.click()
    assert going.running is None and not going.says() and "not measured" in bench.card.reason
    assert wait(lambda: not desk.worker.busy, settle=0.2)  # the span under way is kept, too, and nothing more is asked
    left = analysing.missing(desk.job, "motion", shot.facts)
    assert 0 < len(left) < len(passes.spans(shot.facts.frames)) and shaken(desk.found(shot)) is None
    asked = []
    real = desk.worker.chore
    monkeypatch.setattr(desk.worker, "chore", lambda what, args, then: asked.append((what, args[3:4])) or real(what, args, then))
    bench.button.click()
    assert wait(lambda: shaken(desk.found(shot)) is not None, settle=0.2)
    assert [a for w, (a,) in ((w, a) for w, a in asked if w == "analyse")] == left
    found = shaken(desk.found(shot))
    assert 3 < found.pixels < 8 and found.hz and bench.button.isHidden() and not bench.lines.isHidden() and not window.bench.shelf.isHidden()
    bench.method.choose("hold")
    assert wait(lambda: desk.shot.route.steady.method == "hold" and not desk.worker.busy, settle=0.2), window.note.text()
    assert "held still" in cell(desk, desk.shot, "steady").second and desk.walk(desk.shot).draft.held is not None
    bench.budget._move(15.0)
    bench.budget.settled.emit(15.0)
    assert wait(lambda: desk.shot.route.steady.budget == 0.15 and not desk.worker.busy, settle=0.2)
    desk.undo()
    desk.undo()
    assert desk.shot.route.steady.method == "off" and desk.walk(desk.shot).draft.held is None
    said = cell(desk, shot, "steady")
    assert f"{said.first} at {said.second.replace(' · ', ', ')}" == words(found).removeprefix("shakes ")
    sphere = next(i for i, s in enumerate(desk.shots) if s.name == "all round")
    desk.select(sphere)
    desk.answer("read", projection="equirectangular", turn=90)
    assert bench.button.isHidden() and "were not matched" in bench.card.reason
    desk.undo()


def test_a_sphere_is_measured_shown_its_horizon_and_stands_level(window):
    """The demo's sphere turns by 1.5° a second to the right, level."""
    desk, going = window.desk, window.analysing
    desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "all round"))
    desk.answer("read", projection="equirectangular", coverage="360")
    desk.answer("shape", view={"keys": [{"fov": 100.0}]})
    desk.unfold("steady")
    bench, shot = window.bench.bench, desk.shot
    assert bench.stands.isHidden() or not bench.what.isVisible()
    bench.button.click()
    assert wait(lambda: going.running is None and bench.button.isHidden(), seconds=60, settle=0.2)
    found = found_of(desk.walk(shot)["steady"].before, desk.walk(shot).draft, desk.shot.route.steady, desk.found(shot))
    assert found.known == 1.0 and found.degrees < 0.05 and abs(found.fastest - 1.5) < 0.1 and max(map(abs, found.lean[:2])) < 0.2
    assert cell(desk, shot, "steady").first == "turns 1.5°/s" and bench.cost.isHidden() and bench.headed.isHidden()
    bench.stands.choose("level")
    assert wait(lambda: desk.shot.route.steady.method == "level" and not desk.worker.busy, settle=0.2), window.note.text()
    assert desk.shot.route.steady.lean == found.lean[:2] and "horizon or uprights say" in bench.upright.reason
    last = shot.facts.frames - 1
    held = desk.walk(desk.shot).draft.held.matrices
    assert angles(held[last])[0] - angles(held[0])[0] == pytest.approx(-1.5 * last / 25, abs=0.15)
    # Two places that lie 3° and 5° above the middle of the view are said to be the horizon: it then leans.
    bench.horizon.click()
    for x, degrees in ((0.2, 3.0), (0.8, 5.0)):
        bench.dragged(QPointF(x, 0.5 - np.tan(np.radians(degrees)) / np.tan(np.radians(50)) * 16 / 18), True)
    assert wait(lambda: abs(desk.shot.route.steady.lean[0]) > 2 and not desk.worker.busy, settle=0.2), window.note.text()
    assert 3 < abs(desk.shot.route.steady.lean[0]) < 6 and "as you showed" in bench.upright.reason
    for _ in range(4):
        desk.undo()
    assert desk.shot.route.steady.method == "off"


def test_what_cannot_be_decoded_is_said_and_the_next_is_measured(window, monkeypatch):
    desk, going = window.desk, window.analysing
    said = []
    desk.said.connect(said.append)
    real = desk.worker.chore
    broken = desk.shots[0]

    def chore(what, args, then):
        if what == "analyse" and args[1].fingerprint == broken.facts.fingerprint:
            then(None, f"{broken.facts.path}: decoding stops at frame 3.")
        else:
            real(what, args, then)

    monkeypatch.setattr(desk.worker, "chore", chore)
    desk.marked = {0, 1}
    going.want_for_rows()
    assert wait(lambda: going.running is None, settle=0.2)
    assert any("decoding stops" in s for s in said)
    assert shaken(desk.found(broken)) is None and shaken(desk.found(desk.shots[1])) is not None


def test_the_recorded_picture_shows_what_was_followed(window, monkeypatch, tmp_path):
    """Strokes, the held frame and its instruments; the window's own picture is looked at."""
    desk, going = window.desk, window.analysing
    desk.select(next(i for i, s in enumerate(desk.shots) if s.camera == "phone"))
    desk.unfold("steady")
    bench, picture = window.bench.bench, window.bench.picture
    assert bench.look.isHidden()
    bench.button.click()
    assert wait(lambda: going.running is None and not desk.worker.busy, settle=0.3)
    assert not bench.thirds.isHidden() and bench.spent.isHidden() and bench.thirds.after is None
    bench.method.choose("hold")
    assert wait(lambda: desk.shot.route.steady.method == "hold" and not desk.worker.busy, settle=0.3)
    assert not bench.spent.isHidden() and (bench.thirds.after[4:] < 0.3 * bench.thirds.before[4:] + 0.05).all()
    assert bench.lines.title.startswith("Its way") and "of width and height" in bench.cost.reason
    desk.go_to(20)
    bench.look.choose(True)
    assert wait(lambda: bench.recorded.found is not None and not desk.worker.busy, settle=0.5)
    assert not window.bench.side.isHidden() and "stand still" in picture.caption_right
    found, rect = bench.recorded.found, picture.picture_rect()
    assert len(found.still) > 40 and 0.3 < found.still.mean() < 1 and len(found.excluded)  # the sails turn
    shown = picture.grab().toImage()

    def white(x, y):
        colour = shown.pixelColor(int(rect.left() + x * rect.width()), int(rect.top() + y * rect.height()))
        return min(colour.red(), colour.green(), colour.blue()) > 200

    edge = desk.walk(desk.shot).draft.panels[0]
    place = edge.recorded(np.array([0.0]), np.array([edge.size[1] / 2]), 20 / 29.5)[0] / np.array(desk.shot.raster)
    assert any(white(place[0] + dx / rect.width(), place[1]) for dx in range(-3, 4))
    bench.look.choose(False)
    assert wait(lambda: not desk.worker.busy, settle=0.2) and window.bench.side.isHidden()
    # The Board's cell has what is left.
    laid, was = desk.laid(desk.shot), desk.trace(desk.shot)
    assert laid.shape == was.shape and np.abs(laid[:, :2]).mean() < 0.3 * np.abs(was[:, :2]).mean()
    # What is left by other moves is not theirs.
    desk.answer("steady", moves=solve.packed(np.zeros((desk.shot.facts.frames, 4)), desk.shot.facts.raster))
    assert desk.laid(desk.shot) is None
    desk.undo()
    assert np.array_equal(desk.laid(desk.shot), laid)
    desk.undo()
    assert desk.laid(desk.shot) is None
    # A motion file of another shot is refused in words, and nothing is answered by it.
    turns = "\n".join(f"{t / 100},{20 * np.sin(t / 11)},{15 * np.cos(t / 14)},{9 * np.sin(t / 8)}" for t in range(500))
    (tmp_path / "other.csv").write_text(f"time,x,y,z\n{turns}\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (str(tmp_path / "other.csv"), ""))
    desk.answer("steady", method="hold")
    bench.file.click()
    assert wait(lambda: "does not turn as the picture does" in window.note.text(), settle=0.1), window.note.text()
    assert desk.shot.route.steady.sidecar is None and bench.file.text() == "Take a motion file"
    desk.answer("steady", sidecar=str(tmp_path / "other.csv"))
    assert bench.file.text() == "Without other.csv"
    bench.file.click()
    assert wait(lambda: desk.shot.route.steady.sidecar is None and not desk.worker.busy, settle=0.1)


def test_every_way_plays_beside_the_others(window):
    desk, going, bench = measured(window)
    bench.ways.beside.click()
    assert wait(lambda: bench.looping.plays, seconds=30, settle=0.4), window.note.text()
    assert bench.looping.names == ["as held", "hold", "no jitter", "even way"] and bench.instead() is not None
    as_held, hold = (k.frames for k in bench.looping.loops[:2])
    moves = [np.abs(np.diff(np.array([np.frombuffer(f, np.uint8)[1::4].astype(int) for f in each]), axis=0)).mean() for each in (as_held, hold)]
    assert moves[1] < 0.8 * moves[0]  # what is held changes less from frame to frame
    desk.go_to(desk.frame + 3)  # another moment: it is put away
    assert wait(lambda: not bench.looping.plays, settle=0.1) and bench.instead() is None


def test_one_key_holds_all_shots_alike(window):
    """Measured where nobody has, solved for each, one edit."""
    desk = window.desk
    at = next(i for i, s in enumerate(desk.shots) if s.camera == "phone")
    desk.select(at)
    below = desk.shots[at + 1]
    assert shaken(desk.found(below)) is None
    desk.unfold("steady")
    bench = window.bench.bench
    bench.button.click()
    assert wait(lambda: window.analysing.running is None and not desk.worker.busy, settle=0.3)
    bench.budget._move(12.0)
    bench.method.choose("drift")
    assert wait(lambda: desk.shot.route.steady.method == "drift" and not desk.worker.busy, settle=0.3)
    desk.select(at + 1)
    desk.fill_down()
    assert wait(lambda: not window.alike.busy and not desk.worker.busy, seconds=60, settle=0.3)
    held, model = desk.all[below.id].route.steady, desk.shots[at].route.steady
    assert (held.method, held.budget) == (model.method, model.budget) and held.moves and held.moves != model.moves
    assert desk.walk(desk.all[below.id])["steady"].result.says.startswith("its jitter gone") and desk.laid(desk.all[below.id]) is not None
    desk.undo()
    assert desk.all[below.id].route.steady.method == "off" and desk.shots[at].route.steady.method == "drift"
    # Light that is made even is, too, by what each one's own does.
    desk.select(at)
    desk.undo()
    bench.evens.choose(True)
    assert wait(lambda: desk.shot.route.steady.evens and not desk.worker.busy, settle=0.3)
    desk.select(at + 1)
    desk.fill_down()
    assert wait(lambda: not window.alike.busy and not desk.worker.busy, seconds=60, settle=0.3)
    held = desk.all[below.id].route.steady
    assert held.evens and held.light not in ("", desk.shots[at].route.steady.light) and not desk.walk(desk.all[below.id])["steady"].findings


def test_what_was_looked_at_is_kept_across_a_cut(window):
    """By trigonometry: what was clicked lies where it is looked at then, in a view of its own or where the shot above was looked at last."""
    desk = window.desk
    at = next(i for i, s in enumerate(desk.shots) if s.name == "all round")
    sphere = {"projection": "equirectangular", "coverage": "360"}
    desk.select(at - 1)
    desk.answer("read", **sphere)
    desk.answer("shape", view={"keys": [{"heading": -10.0}, {"t": 1.0, "heading": 25.0}]})
    desk.select(at)
    desk.answer("read", **sphere)
    desk.answer("steady", method="level", moves=solve.packed(np.zeros((desk.shot.facts.frames, 4)), (1, 1)), opens=7.0)
    desk.answer("shape", view={"keys": [{"fov": 100.0, "heading": 5.0}]})
    desk.unfold("steady")
    bench, mid = window.bench.bench, QPointF(0.5, 0.5)
    bench.kept.click()
    assert bench.kept.text() == "Click it on the picture"
    bench.dragged(QPointF(0.8, 0.5), False)
    bench.dragged(QPointF(0.8, 0.5), True)
    right = float(np.degrees(np.arctan(0.6 * np.tan(np.radians(50)))))
    assert desk.shot.route.steady.opens == pytest.approx(7.0 + right, abs=0.1) and bench.kept.text() == "Keep what was looked at"
    view = desk.walk(desk.shot).draft.panels[0].look
    ahead = view.directions(np.array([view.size[0] * mid.x()]), np.array([view.size[1] * mid.y()]), 0.0)[0]
    turned = np.radians(7.0 + 5.0 + right)
    assert ahead == pytest.approx([np.sin(turned), np.cos(turned), 0], abs=0.01)
    desk.answer("shape", view=None)
    desk.answer("steady", opens=0.0)
    bench.kept.click()
    bench.dragged(QPointF(0.75, 0.5), True)  # a quarter to the right in the whole sphere
    assert desk.shot.route.steady.opens == pytest.approx(90.0 - 25.0, abs=0.1)
    desk.select(0)
    assert bench.kept.isHidden()


def test_what_stands_still_can_be_boxed_in(window):
    """By a box on the recorded picture: it is measured anew within, and taken back without being measured again."""
    desk, going, bench = measured(window)
    whole = shaken(desk.found(desk.shot))
    assert not bench.still.isHidden() and "most corners agree" in bench.still.reason
    bench.stays.choose(True)
    assert bench.whole and "Draw a box" in bench.still.reason
    bench.dragged(QPointF(0.1, 0.55), False)
    bench.dragged(QPointF(0.6, 0.95), True)
    assert desk.shot.route.steady.still == pytest.approx((0.1, 0.55, 0.5, 0.4)) and going.waits(desk.shot)
    assert wait(lambda: going.running is None and not desk.worker.busy, settle=0.3)
    part = shaken(desk.found(desk.shot), desk.shot.route.steady.still)
    assert part is not None and part.pixels == pytest.approx(whole.pixels, rel=0.15) and part.pixels != whole.pixels
    assert cell(desk, desk.shot, "steady").first == f"{part.pixels:.1f} px" and "Only what lies in the box" in bench.still.reason
    bench.stays.choose(False)
    assert desk.shot.route.steady.still is None and not going.waits(desk.shot) and cell(desk, desk.shot, "steady").first == f"{whole.pixels:.1f} px"
    bench.speed.findChild(QPushButton).click()
    assert desk.stage == "shape"
