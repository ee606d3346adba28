"""A picture laid over a delivery on the Deliver bench."""

from __future__ import annotations

import numpy as np
from skimage import io

from adzer.core.finding import Fix
from adzer.desk.shots import wait


def test_a_picture_is_laid_over_moved_and_taken_off(window, tmp_path):
    desk = window.desk
    io.imsave(tmp_path / "title.png", np.full((40, 200, 4), 255, np.uint8), check_contrast=False)
    (tmp_path / "no.png").write_text("no picture")
    desk.mend(desk.shots[0], Fix("Declare fen log", "read", {"curve": "fen-log"}))
    desk.unfold("deliver")
    card = window.bench.bench.over_card
    assert card.place.isHidden() and "Nothing does" in card.reason
    card.lay(str(tmp_path / "no.png"))
    assert "not a picture" in window.note.text() and not desk.shot.route.deliver.over
    assert wait(lambda: window.bench.picture.after is not None, settle=0.3)
    before = window.bench.picture.after.copy()
    desk.go_to(desk.shot.start + 40)
    card.lay(str(tmp_path / "title.png"))
    assert desk.shot.route.deliver.over[0].shape == 5 and "shows on this frame" in card.reason and card.apart.isHidden()
    assert wait(lambda: window.bench.picture.after != before, settle=0.3)
    window.bench.compare("wipe")
    assert wait(lambda: window.bench.picture.before is not None, settle=0.3)
    recorded = window.bench.picture.before
    middle = recorded.pixelColor(recorded.width() // 2, int(recorded.height() * 0.8))
    assert min(middle.red(), middle.green(), middle.blue()) < 200  # as it was recorded, nothing lies over it
    shown = window.bench.picture.after.copy()
    card.wide._move(80.0)
    card.wide.settled.emit(80.0)
    assert desk.shot.route.deliver.over[0].wide == 0.8
    assert wait(lambda: window.bench.picture.after != shown)
    desk.go_to(desk.shot.start)
    assert "does not show on this frame" in card.reason
    card.drop.click()
    assert not desk.shot.route.deliver.over
    desk.undo()
    assert desk.shot.route.deliver.over[0].wide == 0.8
