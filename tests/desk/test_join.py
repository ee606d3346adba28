"""The Join bench: two lenses are matched with one click, said in words, and taken back."""

from __future__ import annotations

from adzer.core.intake.take import read_file
from adzer.core.job import Part
from adzer.core.route import Route
from adzer.desk.shots import wait
from tests.core.test_join import shot_pair
from tests.core.test_together import film, hand, heard, talk


def test_two_lenses_are_matched_with_one_click(window, tmp_path):
    desk = window.desk
    files, _ = shot_pair(tmp_path, 0.9, -0.7, 1.4, -0.5)
    facts, seen = read_file(files[0], rear=files[1])
    desk.unfold("join")
    bench = window.bench.bench
    assert bench.stand.isHidden() and "nothing to join" in bench.quiet.reason
    route = Route().with_("read", projection="fisheye").with_("shape", across=200.0, view={"keys": [{"heading": 90, "fov": 100}]})
    desk.record(lambda: desk.job.add_shot(facts, "court", "lens pair", route, seen=seen), None)
    desk.select(len(desk.shots) - 1)
    assert not bench.stand.isHidden() and bench.quiet.isHidden() and "Nobody has measured" in bench.stand.reason
    bench.across._move(180.0)
    assert "cannot be matched" in bench.sees.reason
    bench.across._move(200.0)
    bench.across.settled.emit(200.0)
    assert "20° of the same" in bench.sees.reason and desk.shot.route.shape.across == 200.0
    assert any(f.code == "lenses-not-matched" for f in desk.walk(desk.shot).findings)
    assert wait(lambda: window.bench.picture.after is not None, settle=0.3)
    before = window.bench.picture.after.copy()
    bench.button.click()
    assert wait(lambda: desk.shot.route.join.error is not None and not desk.worker.busy, settle=0.5), window.note.text()
    assert "±" in bench.stand.reason and "1.4" in bench.stand.reason and not bench.forget.isHidden()
    assert wait(lambda: window.bench.picture.after != before), "the preview is made anew"
    bench.blend.set_value(5.0)
    bench.blend._move(8.0)
    bench.blend.settled.emit(8.0)
    assert desk.shot.route.join.blend == 8.0
    bench.forget.click()
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
    assert not bench.step.isHidden() and "Nobody has measured" in bench.step.reason
    assert "2.mov" in bench.quiet.reason and "nothing to join" not in bench.quiet.reason
    bench.listen.click()
    assert bench.listen.text() == "Listening…" and not bench.listen.isEnabled()
    assert wait(lambda: bench.listen.isEnabled(), settle=0.2)
    assert "2.mov starts 0.372" in bench.step.reason and "by sound" in bench.step.reason
    assert "9 whole frames leave 0.30 of one" in bench.step.reason  # 0.372 s are 9.3 frames of 25
    desk.select(0)
    assert bench.step.isHidden()
    desk.select(len(desk.shots) - 1)
    assert "0.372" in bench.step.reason  # it is kept
    files[1].unlink()
    bench.listen.click()
    assert wait(lambda: bench.listen.isEnabled(), settle=0.2)
    assert "2.mov" in window.note.text() and "0.372" in bench.step.reason
