"""Chosen rows act together, visibly: answers, the queue, and what is measured on each for itself."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt

from adzer.core.develop import noise
from adzer.desk.board import ROW
from adzer.desk.shots import wait
from adzer.desk.theme import theme

from .test_widgets import contrast


def _chosen(window, *names):
    desk = window.desk
    at = {s.name: n for n, s in enumerate(desk.shots)}
    desk.select(at[names[0]])
    desk.marked = {at[n] for n in names}
    desk.moved.emit()
    return [desk.shots[at[n]] for n in names]


@pytest.mark.parametrize("dim", [False, True])
def test_chosen_rows_are_seen_in_both_lights(window, dim):
    window.set_lights(dim)
    desk = window.desk
    desk.select(0)
    desk.marked = {1, 2}
    window.refresh()
    shown = window.board.viewport().grab().toImage()
    scale = shown.width() / window.board.viewport().width()

    def mark(row):
        return shown.pixelColor(QPoint(int(2 * scale), int((row * ROW + ROW / 2 - window.board.verticalScrollBar().value()) * scale)))

    assert all(contrast(mark(n), theme.p.paper) >= 3 for n in (0, 1, 2)) and mark(3) == theme.p.paper
    assert "3 chosen" in window.next.keys.text()
    assert window.next.queue.isVisible() and "3" in window.next.queue.text()
    desk.select(3)
    assert not window.next.queue.isVisible()


def test_answers_of_a_bench_go_to_all_chosen_rows_as_one_edit(window):
    desk = window.desk
    names = [s.name for s in desk.shots[:3]]
    first, second, third = _chosen(window, *names)
    untouched = desk.shots[3].route
    desk.unfold("colour")
    desk.answer("colour", exposure=0.7)
    desk.answer("deliver", cards=["web-square", "web-wide"])
    desk.answer("read", turn=90)
    for shot in (first, second, third):
        now = desk.all[shot.id].route
        assert now.colour.exposure == 0.7 and now.deliver.cards == ("web-square", "web-wide") and now.read.turn == 90
        assert now.shape == shot.route.shape, "what was not answered is each shot's own"
    assert desk.shots[3].route == untouched and [s.name for s in desk.rows()] == names, "they stay chosen"
    for _ in range(3):
        desk.undo()
    assert all(desk.all[s.id].route == s.route for s in (first, second, third))
    # What is marked on one picture stays there; what a measurement answers is of its own shot.
    desk.answer("shape", keep=[0.1, 0.1, 0.5, 0.5])
    assert desk.all[second.id].route.shape.keep is None
    desk.worker.answering = True
    desk.answer("colour", exposure=-1.0)
    desk.worker.answering = False
    assert desk.all[second.id].route.colour.exposure == second.route.colour.exposure


def test_all_chosen_rows_are_queued_and_filled(window, qtbot, monkeypatch):
    desk = window.desk
    monkeypatch.setattr(desk.queue, "start", lambda path: None)
    window.choose_all()
    desk.column = 5
    desk.fill_down()
    assert all(s.route.colour == desk.shots[0].route.colour for s in desk.shots), "as in the first, if all are chosen"
    desk.undo()
    before = {s.id for s in desk.slips}
    flat = [s.name for s in desk.shots if desk.walk(s).stopped is None][:4]
    chosen = _chosen(window, *flat)
    qtbot.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    made = [s for s in desk.slips if s.id not in before]
    wanted = {(s.id, c) for s in chosen for c in s.route.deliver.cards}
    assert {(s.shot_id, s.order.card_name) for s in made} == wanted and len(made) == len(wanted)
    assert f"of {len(chosen)} shots are queued" in window.note.text()
    assert desk.enqueue() == 0 and "in the queue already" in window.note.text()


def test_each_is_held_by_what_suits_it_and_cleaned_by_its_own_noise(window):
    desk = window.desk
    phones = [s.name for s in desk.shots if s.camera in ("phone", "log body")][:2]
    chosen = _chosen(window, *phones)
    window.many.stabilise()
    window.many.denoise()  # waits for its turn
    assert wait(lambda: not window.alike.busy and not desk.worker.busy and all(desk.all[s.id].route.develop.clean for s in chosen), settle=0.3)
    held = [desk.all[s.id].route for s in chosen]
    assert all(r.steady.method in ("hold", "path", "drift") and r.steady.moves for r in held)
    own = [noise.found(desk.found(s)).grain for s in chosen]
    assert [r.develop.noise for r in held] == own and own[0] != own[1]
    desk.undo(), desk.undo()
    assert all(desk.all[s.id].route == s.route for s in chosen)


def test_spheres_and_flat_views_of_all_chosen(window):
    desk = window.desk
    names = [s.name for s in desk.shots]
    assert wait(lambda: window.reading.waiting == 0 and not desk.worker.busy, settle=0.2)
    (sphere,) = [s for s in desk.shots if s.name == "all round"]
    assert desk.walk(sphere)["read"].after.projection == "flat", "not declared yet"
    _chosen(window, *names)
    window.many.make_flat_views()
    viewed = [s.name for s in desk.shots if s.route.shape.view is not None]
    assert viewed == ["all round"] and desk.all[sphere.id].route.read.projection == "equirectangular"
    assert "no sphere is exported" in window.note.text()
    assert desk.walk(desk.all[sphere.id]).draft.raster[0] * 9 == desk.walk(desk.all[sphere.id]).draft.raster[1] * 16
    desk.undo()
    window.many.make_spheres()
    assert wait(lambda: desk.all[sphere.id].route.steady.method == "level" and not window.alike.busy, seconds=120, settle=0.3), window.note.text()
    now = desk.all[sphere.id].route
    assert now.deliver.cards == ("web-sphere",) and now.shape.view is None and now.steady.moves
    assert all(s.route.deliver.cards != ("web-sphere",) for s in desk.shots if s.id != sphere.id)
    _chosen(window, "by the canal", "sails, wide")
    window.many.make_spheres()
    assert "None of these" in window.note.text()


def test_a_method_chosen_on_the_bench_is_asked_of_every_chosen_shot(window, monkeypatch):
    """Each is measured and solved for itself, and nothing that was solved of one picture is taken over."""
    desk, asked = window.desk, []
    chosen = _chosen(window, "by the canal", "sails, wide")
    monkeypatch.setattr(window.alike, "want", lambda *a: asked.append(a))
    desk.alike_wanted.disconnect()
    desk.alike_wanted.connect(lambda *a: asked.append(a))
    desk.unfold("steady")
    window.bench.bench.method.choose("drift")
    ((shots, stage, answers, words),) = asked
    assert {s.id for s in shots} == {s.id for s in chosen} and stage == "steady" and answers["method"] == "drift"
    assert not set(answers) & {"moves", "goes", "light", "lean", "mark", "still"} and "2 shots" in words
    assert desk.shot.route.steady.method == "off", "not before it was measured"
