"""The Develop bench: sensor values are looked at, balanced by a click, cleaned by what was measured, and rendered as they were shown."""

from __future__ import annotations

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QApplication

from adzer.core.develop import measure, noise
from adzer.core.records import to_json, to_plain
from adzer.desk.shots import wait


@pytest.fixture
def bench(window):
    desk = window.desk
    desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "reeds at dusk"))
    desk.unfold("develop")
    assert wait(lambda: window.bench.picture.after is not None, settle=0.2), window.note.text()
    return window.bench.bench


def _grey(window):
    """Mean R, G, B of the white card as it is shown."""
    picture = window.bench.picture.after
    x, y = round(0.267 * picture.width()), round(0.83 * picture.height())
    colours = [picture.pixelColor(x + dx, y + dy) for dx in range(-3, 4) for dy in range(-3, 4)]
    return np.array([[c.red(), c.green(), c.blue()] for c in colours]).mean(axis=0)


def test_values_are_balanced_looked_at_and_healed(window, bench):
    desk = window.desk
    assert all(not card.isHidden() for card in bench.of_values) and "3950 K" in bench.white_card.reason
    grey = _grey(window)
    assert np.ptp(grey) < 0.12 * grey.mean()  # as shot
    bench.white.choose("light")
    bench.kelvin._move(6500.0)
    bench.kelvin.settled.emit(6500.0)
    assert desk.shot.route.develop.kelvin == 6500 and wait(lambda: _grey(window)[0] > 1.2 * _grey(window)[2])
    places = [bench.lights.place(light) for light in ((2500.0, 0.0), (5600.0, 0.0), (5600.0, 20.0))]
    assert places[0].x() < places[1].x() == places[2].x() and places[2].y() < places[1].y()  # warm to cool, greener above
    outside = QPointF(places[2].x(), -40.0)  # where it is let go
    for kind, button, at in (("MouseButtonPress", 1, places[1]), ("MouseMove", 1, places[2]), ("MouseButtonRelease", 0, outside)):
        left, plain = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        QApplication.sendEvent(bench.lights, QMouseEvent(getattr(QEvent.Type, kind), at, at, left, Qt.MouseButton(button), plain))
    s = desk.shot.route.develop
    assert (s.white, s.kelvin, s.tint) == ("light", 5600, 50)  # as green as can be
    desk.undo()
    assert desk.shot.route.develop.kelvin == 6500  # the drag was one edit
    bench.white.choose("patch")
    bench.dragged(QPointF(0.267, 0.83), True)
    assert wait(lambda: desk.shot.route.develop.white == "patch" and not desk.worker.busy, settle=0.5), window.note.text()
    assert wait(lambda: np.ptp(_grey(window)) < 0.08 * _grey(window).mean(), settle=0.1), _grey(window)
    bench.looking.start()
    assert wait(lambda: "values" in desk.found(desk.shot) and not desk.worker.busy, settle=0.2)
    held = measure.found(desk.found(desk.shot))
    fix = next(f for f in desk.walk(desk.shot)["develop"].findings if f.code == "hot-values")
    desk.mend(desk.shot, fix.fix)
    assert len(held.hot) == len(desk.shot.route.develop.hot) > 0
    assert not any(f.code == "hot-values" for f in desk.walk(desk.shot)["develop"].findings)
    for _ in range(4):
        desk.undo()
    assert desk.shot.route.develop.white == "as shot" and not desk.shot.route.develop.hot


def test_it_is_cleaned_by_what_was_measured(window, bench):
    desk = window.desk
    assert "not measured" in bench.noise_card.reason
    bench.much.choose("best")
    assert desk.shot.route.develop.clean is None and "measured first" in window.note.text()
    bench.measuring.start()
    assert wait(lambda: bool(bench.tried) and not desk.worker.busy, seconds=60, settle=0.3), window.note.text()
    held = noise.found(desk.found(desk.shot))
    assert held is not None and "show it" in bench.noise_card.reason and "structure" in bench.noise_card.reason
    bench.much.choose("best")
    settings = desk.shot.route.develop
    assert settings.noise == held.grain and settings.clean in {t.amount for t in bench.tried}
    desk.answer("develop", exposure=1.0)  # what is seen of it is judged anew, and comes when the answers are others by then
    desk.answer("develop", clean=0.55)
    assert wait(lambda: bench._seen[1] is not None and not desk.worker.busy, settle=0.3)
    assert bench.luma.value == 0.55
    desk.undo()
    desk.undo()
    assert bench.luma.value == settings.clean
    assert wait(lambda: bench.loupe.pieces == 3 and not desk.worker.busy, settle=0.2), window.note.text()
    before, after = (np.frombuffer(piece.constBits(), np.uint8).reshape(piece.height(), -1).astype(float) for _, piece in bench.loupe._pieces[:2])
    assert np.abs(np.diff(after, axis=0)).mean() < 0.8 * np.abs(np.diff(before, axis=0)).mean()
    bench.look_at(0.2, 0.8)
    bench.pin.click()
    bench.look_at(0.7, 0.3)
    assert wait(lambda: bench.loupe.pieces == 6 and not desk.worker.busy, settle=0.2)
    bench.pin.click()
    bench.look_at(0.5, 0.5)
    assert wait(lambda: bench.loupe.pieces == 9 and not desk.worker.busy, settle=0.2) and not bench.pin.isEnabled()
    pieces = [picture.copy() for _, picture in bench.loupe._pieces]
    bench.look_at(0.3, 0.6)  # what is kept stays while another place is looked at
    assert wait(lambda: bench.loupe._pieces[0][1] != pieces[0] and not desk.worker.busy, settle=0.2)
    assert [picture == was for (_, picture), was in zip(bench.loupe._pieces, pieces, strict=True)] == [False] * 3 + [True] * 6
    assert bench.loupe._pieces[3][0] == "1 before"
    bench.unpin.click()
    assert wait(lambda: bench.loupe.pieces == 3 and not desk.worker.busy, settle=0.2) and bench.unpin.isHidden()
    bench.smoother.choose("tone")
    assert desk.shot.route.develop.smooth is None and "Click what is to be smooth" in window.note.text()
    bench.dragged(QPointF(0.267, 0.83), True)
    assert wait(lambda: desk.shot.route.develop.smooth is not None and not desk.worker.busy, settle=0.3), window.note.text()
    cleaned = desk.walk(desk.shot).draft.inputs[0].prepares[0]
    assert cleaned.smooth == desk.shot.route.develop.smooth
    bench.smoother.choose(None)
    assert desk.shot.route.develop.smooth is None and desk.shot.route.develop.clean == settings.clean
    desk.select(0)  # another shot: pictures, not values
    assert wait(lambda: window.bench.picture.after is not None, settle=0.2)
    assert all(card.isHidden() for card in bench.of_values) and "not measured" in bench.noise_card.reason
    desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "sails, close"))
    desk.fill_down()
    assert desk.shot.route.develop.noise is None
    # A shot that is to be cleaned as the one above has its own noise measured for it.
    below = desk.shot.id
    desk.select(desk.selected - 1)
    desk.answer("develop", noise=to_plain(held.grain), clean=0.8)
    desk.select(desk.selected + 1)
    desk.fill_down()
    assert wait(lambda: not window.alike.busy and not desk.worker.busy, seconds=60, settle=0.2)
    own = desk.all[below].route.develop
    assert own.clean == 0.8 and own.noise == noise.found(desk.found(desk.all[below])).grain != held.grain
    assert not any(f.code == "noise-not-measured" for f in desk.walk(desk.all[below]).findings)
    desk.undo()
    assert desk.all[below].route.develop.clean is None


def test_what_a_camera_holds_is_kept_as_its_baseline(window, bench):
    desk = window.desk
    raw, log = desk.shot, next(s for s in desk.shots if s.facts.mosaic is None and s.id != desk.shot.id and desk.walk(s)["read"].after.curve)
    assert "Record one scene both ways" in bench.either_card.reason
    bench.ranging.start()
    assert wait(lambda: bench.ranging.found(raw) is not None and not desk.worker.busy, settle=0.2), window.note.text()
    found = bench.ranging.found(raw)
    assert found.raw and found.stops > found.stops_at_2 > 3 and f"{raw.name}: " in bench.either_card.reason
    less = msgspec.structs.replace(found, stops=found.stops - 1.5, raw=False)  # of the same camera, seen as another recording of it
    desk.job.keep_measured(log.facts.fingerprint, "range", to_json(less).encode())
    desk.learn_found(log.facts.fingerprint)
    for camera, says in ((raw.camera, True), ("another", False)):
        bench._show_either(msgspec.structs.replace(log, camera=camera))
        assert raw.camera and ("RAW holds 1.5 stops more" in bench.either_card.reason) == says
        assert f"{log.name}: " in bench.either_card.reason


def test_what_was_measured_before_is_tried_again_and_colour_says_nothing_of_raw_codes(window, bench):
    desk = window.desk
    bench.measuring.start()
    assert wait(lambda: bool(bench.tried) and not desk.worker.busy, seconds=60, settle=0.3), window.note.text()
    bench._tried.clear()  # as after a restart: the noise is kept, what was tried is not
    bench._trying.clear()
    bench.refresh(desk.shot, desk.walk(desk.shot))
    assert wait(lambda: bool(bench.tried) and not desk.worker.busy, seconds=60, settle=0.2)
    bench.detail._move(0.2)
    bench.detail.settled.emit(0.2)
    assert desk.shot.route.develop.noise is not None and desk.shot.route.develop.detail == 0.2
    assert not any(f.code == "noise-not-measured" for f in desk.walk(desk.shot).findings)
    desk.unfold("colour")
    assert "told on Develop" in window.bench.bench.whites_card.reason
    desk.select(1)
    assert "told on Develop" not in window.bench.bench.whites_card.reason
