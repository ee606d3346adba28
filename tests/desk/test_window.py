"""The real window, offscreen, with the demo job: what a person does, and that it never stalls."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections import Counter
from fractions import Fraction
from itertools import pairwise
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, QRect, Qt, QUrl
from PySide6.QtGui import QAccessible, QDropEvent, QKeyEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

import adzer.core
from adzer.core import journal
from adzer.core.compile import freeze
from adzer.core.deliver.advise import Trial
from adzer.core.finding import Fix, Level
from adzer.core.job import Job
from adzer.core.media import prints
from adzer.core.stage import STAGES
from adzer.desk import remembered, workers
from adzer.desk.app import Desktop
from adzer.desk.model import Desk
from adzer.desk.palette import Words
from adzer.desk.shots import wait, wander
from adzer.desk.stages.colour.bench import ColourBench
from adzer.desk.stages.deliver.bench import DeliverBench
from adzer.desk.stages.shape.bench import ShapeBench
from adzer.desk.theme import DAY, DIM, style_sheet, theme
from adzer.desk.vocabulary import ALSO
from adzer.desk.window import Window

from ..conftest import write_clip

FEN_LOG = Fix("Declare fen log", "read", {"curve": "fen-log"})


def pictured(window):
    assert wait(lambda: window.bench.picture.after is not None, settle=0.2)
    return window.bench.picture.after


def mean_colour(image):
    small = image.scaled(16, 16)
    return np.mean([[small.pixelColor(x, y).getRgb()[:3] for x in range(16)] for y in range(16)], axis=(0, 1))


def spread(image):
    """How far apart light and dark lie; log is flat."""
    small = image.scaled(48, 48)
    return np.std([[small.pixelColor(x, y).green() for x in range(8, 40)] for y in range(14, 34)])


def key(window, qtbot, code, modifier=Qt.KeyboardModifier.NoModifier):
    window.activateWindow()
    qtbot.keyClick(window, code, modifier)


def test_from_the_first_look_to_two_checked_masters(window):
    """The whole way: fix the finding, go through the benches, queue, watch, find the files."""
    desk = window.desk
    finding = window.next.shown[1]
    assert finding.code == "log-tagged-display" and finding.level is Level.WARN
    desk.unfold("read")
    grey = spread(pictured(window))
    assert finding.fix is None  # no card was given for this camera yet, so none is offered
    desk.answer("read", curve="fen-log")
    assert all(c.finding.level is Level.NOTE for c in window.bench._findings["read"].cards)
    assert desk.shot.route.read.curve == "fen-log"
    assert wait(lambda: spread(window.bench.picture.after) > grey * 1.3)
    desk.set_range(0, 12)
    desk.unfold("deliver")
    bench = window.bench.bench
    assert isinstance(bench, DeliverBench) and bench.queue.text() == "Queue 2 deliveries"
    bench.measure.click()
    assert wait(lambda: len(desk.shot.trials) == 2, seconds=120)
    assert "frames a second" in bench.size_card.reason
    bench.queue.click()
    assert len(desk.open_slips(desk.shot)) == 2
    desk.unfold("colour")
    desk.answer("colour", exposure=1.0)
    assert desk.changed_since_queued(desk.shot) or not desk.open_slips(desk.shot)
    window.go("Queue")
    said: list[str] = []
    desk.said.connect(said.append)
    assert wait(lambda: all(s.state == "done" for s in desk.slips), seconds=180)
    assert wait(lambda: any("The queue is done: 2 files are rendered and checked." in s for s in said)), said
    for slip in desk.slips:
        out = Path(slip.order.out)
        assert out.parent.name == "masters" and prints.checksum(out) == slip.report["checksum"]
        assert slip.order.route.colour.exposure == 0.0
    window.go("Log")
    assert [r.kind for r in window.log.model.rows][:2] == ["render", "render"]


def test_shape_answers_change_picture_figure_and_sentences(window):
    desk = window.desk
    desk.unfold("shape")
    bench = window.bench.bench
    assert isinstance(bench, ShapeBench)
    assert wait(lambda: window.bench.side.after is not None)
    assert (window.bench.picture.after.width() / window.bench.picture.after.height()) == pytest.approx(
        1440 / 675, rel=0.01
    )
    bench.shape.choose(Fraction(2))
    assert "2.133 ÷ 2.000" in bench.shape_card.reason and desk.shot.route.shape.shape == 2
    bench.school.choose("stretch")
    assert "interpolated" in bench.school_card.reason
    assert wait(
        lambda: window.bench.side.after.width() / window.bench.side.after.height() == pytest.approx(16 / 9, rel=0.02)
    )
    bench.hold.choose("native")
    assert wait(
        lambda: window.bench.side.after.width() / window.bench.side.after.height() == pytest.approx(2.0, rel=0.02)
    )
    rect = window.bench.picture.picture_rect()
    before = desk.shot.route.shape.position
    bench.dragged(QPointF(0.5, 0.5), False)
    bench.dragged(QPointF(0.52, 0.5), False)
    bench.dragged(QPointF(0.52, 0.5), True)
    assert desk.shot.route.shape.position[0] > before[0] and rect.width() > 100
    bench.squeeze_card.free.selectAll()
    bench.squeeze_card.free.setText("abc")
    bench.squeeze_card.free.setModified(True)
    bench.squeeze_card.free.editingFinished.emit()
    assert desk.shot.route.shape.squeeze == Fraction(8, 5)


def test_colour_numbers_move_the_picture_and_the_plots_one_undo_each(window):
    desk = window.desk
    desk.mend(desk.shots[0], FEN_LOG)
    desk.unfold("colour")
    pictured(window)
    bench = window.bench.bench
    assert isinstance(bench, ColourBench)
    wait(lambda: bench.luma.note != "")
    dark, note = mean_colour(window.bench.picture.after).mean(), bench.luma.note
    for value in np.linspace(0, 1.5, 12):
        bench.exposure.drafted.emit(float(value))
        QApplication.processEvents()
    bench.exposure.settled.emit(1.5)
    assert desk.shot.route.colour.exposure == 1.5
    assert wait(lambda: mean_colour(window.bench.picture.after).mean() > dark + 15)
    assert bench.luma.note != note
    for whites in ("let go", "keep all", "roll off"):
        bench.whites.choose(whites)
        assert desk.shot.route.colour.whites == whites and f"{whites}:" in bench.whites_card.reason
    for _ in range(3):
        desk.undo()
    assert desk.shot.route.colour.exposure == 1.5
    desk.undo()
    assert desk.shot.route.colour.exposure == 0.0
    desk.redo()
    assert desk.shot.route.colour.exposure == 1.5


def test_keys_take_a_person_everywhere(window, qtbot):
    desk = window.desk
    key(window, qtbot, Qt.Key.Key_Down)
    assert desk.selected == 1
    key(window, qtbot, Qt.Key.Key_Return)
    assert desk.stage == "read"
    visited = [desk.stage]
    for _ in range(6):
        key(window, qtbot, Qt.Key.Key_BracketRight)
        visited.append(desk.stage)
    assert visited == list(STAGES)
    key(window, qtbot, Qt.Key.Key_Up)
    assert desk.selected == 0 and desk.stage == "deliver"
    key(window, qtbot, Qt.Key.Key_Right)
    assert desk.frame == 1
    key(window, qtbot, Qt.Key.Key_BraceLeft, Qt.KeyboardModifier.ShiftModifier)
    assert desk.shot.start == 1
    key(window, qtbot, Qt.Key.Key_Escape)
    assert desk.stage is None
    key(window, qtbot, Qt.Key.Key_L)
    assert theme.dim and DIM.paper.name() in window.styleSheet()
    key(window, qtbot, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert desk.shot.start == 0
    words = [a.words for a in window.actions_]
    assert len(words) == len(set(words)) and all(callable(a.run) for a in window.actions_)


def test_q_holds_the_recorded_picture_and_w_wipes(window):
    desk = window.desk
    desk.mend(desk.shots[0], FEN_LOG)
    desk.unfold("colour")
    pictured(window)
    window.activateWindow()
    for kind, held in ((QEvent.Type.KeyPress, True), (QEvent.Type.KeyRelease, False)):
        window.eventFilter(window, QKeyEvent(kind, Qt.Key.Key_Q, Qt.KeyboardModifier.NoModifier))
        assert window.bench.picture.hold_before is held or not window.isActiveWindow()
    flip = next(a for a in window.actions_ if a.shown == "Q")
    for held in (True, False):
        flip.run()
        assert window.bench.picture.hold_before is held
    window.bench.compare("wipe")
    assert wait(lambda: window.bench.picture.before is not None)
    view = window.bench.picture
    recorded, delivered = mean_colour(view.before), mean_colour(view.after)
    assert np.abs(recorded - delivered).max() > 5 and view.before.size() == view.after.size()


def test_fill_down_copies_the_stage_and_only_that(window):
    desk = window.desk
    desk.column = STAGES.index("shape")
    desk.select(1)
    desk.fill_down()
    above, below = desk.shots[:2]
    assert below.route.shape == above.route.shape and below.route.read.curve is None
    assert desk.job.log_rows()[0].text == "shape as in sails, wide"


def test_dropped_files_come_onto_the_board_and_bad_ones_are_said(window, tmp_path, small_clip):
    bad = tmp_path / "bad.mov"
    bad.write_text("no")
    said, before = [], len(window.desk.shots)
    window.desk.said.connect(said.append)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(bad)), QUrl.fromLocalFile(str(small_clip))])
    window.dropEvent(
        QDropEvent(
            QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
    )
    assert wait(lambda: len(window.desk.shots) == before + 1)
    assert any("bad.mov" in s for s in said) and window.desk.shots[-1].name == "small"


def test_a_vanished_source_is_a_stop_finding(window):
    desk = window.desk
    Path(desk.shots[1].facts.path).unlink()
    desk.check_sources()
    assert wait(lambda: bool(desk.problems))
    assert desk.walk(desk.shots[1]).stopped.code == "source-missing"


def test_the_job_takes_a_shots_rate_only_if_it_is_even(window, tmp_path):
    desk, said = window.desk, []
    desk.said.connect(said.append)
    desk.select(1)
    desk.take_rate()
    assert desk.job.rate == 25 and "no even rate" in said[-1]
    window.reading.add([write_clip(tmp_path / "film.mov", 5, rate=Fraction(24))])
    assert wait(lambda: desk.shots[-1].name == "film")
    assert "rate-differs" in {f.code for f in desk.walk(desk.shots[-1]).findings}
    desk.select(len(desk.shots) - 1)
    desk.take_rate()
    assert desk.job.rate == 24 and "rate-differs" not in {f.code for f in desk.walk(desk.shots[-1]).findings}
    desk.undo()
    assert desk.job.rate == 25


def test_a_render_that_was_cut_off_goes_on_when_the_job_is_opened(qapp, path):
    with Job.open(path) as job:
        shot = job.shots()[1]
        order = freeze(
            shot.name, shot.facts, shot.route, "web-wide", job.out_folder / "x.mp4", 0, 10, job.seen(shot.id)
        )
        job.enqueue(shot.id, order)
        job.set_slip(1, state="rendering", pid=None)
    desk = Desk(Job.open(path))
    try:
        assert wait(lambda: desk.slips[0].state == "done", seconds=60)
        assert (path.parent / "masters" / "x.mp4").exists()
    finally:
        desk.close()


def test_an_empty_job_says_what_to_do(qapp, tmp_path):
    window = Window(Desk(Job.create(tmp_path / "new.adzer", "New")))
    window.show()
    try:
        assert window.next.title.text() == "Start here" and "press A" in window.next.text.text()
        asked = []
        window.board.asked.disconnect()
        window.board.asked.connect(asked.append)
        for button in window.board.begin.findChildren(QPushButton):
            button.click()
        QTest.mouseClick(window.board.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(200, 120))  # in the box, beside them
        assert asked == ["files", "folder", "card", "files"]
        for place in ("Queue", "Log", "Board"):
            window.go(place)
        assert not window.queue.words.isVisible()
        window.desk.unfold("colour")
        assert window.desk.stage is None
        assert not window.grab().isNull()
    finally:
        window.close()


FIELD = (
    "stabilise", "stabilize", "denoise", "trim", "export", "crop", "undo", "redo", "LUT", "reframe", "stitch", "desqueeze", "render", "import",
    "grade", "slow", "proxy", "relink", "rename", "sync", "split", "delete", "keyframe", "speed", "raw", "bitrate", "subtitle", "track", "rotate",
)  # fmt: skip


def test_the_fields_words_find_what_is_done_and_where(window):
    window.open_words()
    (box,) = window.findChildren(Words)
    for word in FIELD:
        box.line.setText(word)
        assert box.list.item(0).data(Qt.ItemDataRole.UserRole) is not None, word
    box.line.setText("export")
    assert box.list.item(0).text().startswith("queue the chosen deliveries")
    box.line.setText("no such word")
    box._do()
    assert box.isVisible() and "Nothing is called so" in box.list.item(0).text()
    assert set(ALSO) <= {a.words for a in window.actions_}, "each is of an action that is there"
    box.reject()


def test_deliver_shows_each_deliverys_own_picture(window):
    """In the proportions of each, as the delivered frame is; another answer, another picture."""
    desk = window.desk
    desk.select(1)
    desk.answer("deliver", cards=["web-wide", "web-upright"])
    desk.unfold("deliver")
    frames = window.bench.bench.frames
    assert wait(lambda: len(frames._pictures) == 2 and not desk.worker.busy, settle=0.3)
    for held in frames.held:
        picture = frames._pictures[held.title, held.raster]
        assert picture.width() / picture.height() == pytest.approx(held.raster[0] / held.raster[1], rel=0.03), held.title
    before = dict(frames._pictures)
    desk.answer("colour", exposure=2.0)
    assert wait(lambda: all(frames._pictures.get(k) != v for k, v in before.items()), settle=0.2)
    assert not frames.grab().isNull() and "title safe" in frames.note


def test_findings_are_reached_from_anywhere(window):
    """By N, and by a click on their number."""
    desk = window.desk
    assert wait(lambda: not desk._to_count, settle=0.1)
    level = next(v for v in (Level.STOP, Level.WARN, Level.NOTE) if desk.counts[v])
    for place in ("Queue", "Log", "Board"):
        window.go(place)
        where = window.top._counts()[level].center().toPoint()
        QTest.mouseClick(window.top, Qt.MouseButton.LeftButton, pos=where)
        shot, finding = window.next.shown
        assert window.place == "board" and finding.level == level and desk.shot.id == shot.id
        assert STAGES[desk.column] == finding.stage and window.next.text.text() == finding.text
    desk.unfold("colour")
    window.next_finding()
    assert window.place == "board" and window.next.shown is not None


def test_the_window_comes_back_as_it_was_left(qapp, path, monkeypatch):
    """Within the screen, with its lights; the first time no larger than the work area."""
    remembered._file().unlink(missing_ok=True)
    desktop = Desktop()
    screen = QRect(0, 20, 1024, 580)
    monkeypatch.setattr(remembered, "work_area", lambda window: screen)
    first = desktop.open(path)
    assert screen.adjusted(-4, -4, 4, 4).contains(first.geometry())  # a frame of its own lies around it
    first.setGeometry(20, 30, 940, 520)
    wide = first.width()
    first.toggle_lights()
    first.close()
    assert remembered.load().dim and remembered.load().place[2] == wide
    again = Desktop().open(path)
    assert theme.dim and again.width() == wide and screen.contains(again.geometry().topLeft())
    again.toggle_lights()
    again.close()
    remembered.keep(remembered.Left(place=(99_000, -50, 100_000, 90_000)))  # of a screen that is gone
    third = Desktop().open(path)
    assert third.width() <= screen.width() and screen.contains(third.geometry().center())
    third.close()
    remembered._file().write_text("{")
    assert remembered.load() == remembered.Left()


def test_undo_says_what_it_undoes_and_the_log_holds_no_lumps(window):
    desk = window.desk
    desk.answer("colour", exposure=0.4)
    desk.undo()
    assert "exposure" in window.note.text() and desk.shot.name in window.note.text()
    desk.answer("steady", method="drift", moves="A" * 40_000)
    row = desk.job.log_rows(1)[0]
    assert len(str(row.numbers)) < 400 and "40.0 kB of frames" in journal.change_text(row.numbers)
    assert desk.shot.route.steady.moves == "A" * 40_000


def test_an_action_of_another_place_is_led_to(window):
    window.go("Queue")
    window.open_words()
    (box,) = window.findChildren(Words)
    box.line.setText("keyframe of the")
    assert "on a bench" in box.list.item(0).text()
    box._do()
    assert window.place == "bench" and "with G" in window.note.text()


def test_pictures_are_read_and_made_by_other_threads(window):
    """Whatever a person does: the UI thread calls nothing that decodes, looks at pictures or makes them. How long it is held
    by what it does itself is measured by ``./run bench window``."""
    core = str(Path(adzer.core.__file__).parent)
    heavy = tuple(f"{core}/{room}" for room in ("media/decode.py", "look/", "kernels/", "run/frames.py", "run/pixels.py", "run/render.py"))
    called = Counter()

    def on_call(frame, event, _):
        if event == "call" and frame.f_code.co_filename.startswith(heavy):
            called[f"{frame.f_code.co_filename.removeprefix(core)}: {frame.f_code.co_name}"] += 1

    desk = window.desk
    desk.mend(desk.shots[0], FEN_LOG)
    desk.unfold("read")
    pictured(window)
    sys.setprofile(on_call)  # of this thread alone
    try:
        beats = wander(window)
    finally:
        sys.setprofile(None)
    assert len(beats) > 50 and not called


def luminance(colour):
    parts = [
        c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4
        for c in (colour.redF(), colour.greenF(), colour.blueF())
    ]
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


@pytest.mark.parametrize("palette", [DAY, DIM])
def test_words_are_readable_in_both_lights_and_the_dim_desk_is_neutral(palette):
    for ink in (palette.ink, palette.quiet, palette.accent_text):
        for ground in (palette.paper, palette.high):
            a, b = sorted((luminance(ink), luminance(ground)))
            assert (b + 0.05) / (a + 0.05) >= 4.5
    if palette is DIM:
        for ground in (palette.paper, palette.high, palette.low, palette.ink):
            assert ground.red() == ground.green() == ground.blue()
    assert style_sheet()


def test_painting_thousands_of_times_is_sound(window):
    for _ in range(400):
        window.board.viewport().repaint()
    assert window.board.viewport().grab().toImage().pixelColor(QPoint(5, 200)).isValid()


def test_a_mend_is_offered_for_all_shots_that_it_fits(window):
    """Three takes of one recording have the same finding; one key fixes them all, as one edit."""
    desk = window.desk
    desk.select(next(i for i, s in enumerate(desk.shots) if s.name == "by the canal"))
    for start in (20, 60):
        desk.job.add_take(desk.shot, start, start + 20)
    desk.reload()
    assert wait(lambda: not desk._to_count, settle=0)
    shot = desk.shot
    finding = next(f for f in desk.walk(shot).findings if f.code == "variable-rate")
    assert len(desk.alike(shot, finding)) == 2
    line = window.next
    line._at = next(i for i, (s, f) in enumerate(line._all()) if s.id == shot.id and f.code == "variable-rate")
    line.refresh(start=False)
    assert line.all.isVisibleTo(window) and line.all.text() == "for these 3"
    line.all.click()
    assert all(s.route.read.timing == "even" for s in desk.shots if s.facts.fingerprint == shot.facts.fingerprint)
    desk.undo()
    assert all(s.route.read.timing == "recorded" for s in desk.shots)


def test_closing_while_it_renders_asks_and_the_queue_can_go_on(window, monkeypatch):
    desk, left = window.desk, []
    monkeypatch.setattr(type(desk.queue), "running", property(lambda self: True))
    monkeypatch.setattr(desk.queue, "leave", lambda job: left.append(job))
    monkeypatch.setattr(type(window), "_keep_rendering", lambda self: None)
    window.close()
    assert window.isVisible() and not left
    monkeypatch.setattr(type(window), "_keep_rendering", lambda self: True)
    window.close()
    assert not window.isVisible() and left == [desk.job.path] and desk.closed
    window.close()  # once more: nothing is asked of the closed job
    desk.close()
    assert left == [desk.job.path]


def test_keys_clicks_and_values_at_random_do_no_harm(window):
    from adzer.numbers.hostile import keys

    assert keys(window, 500, seed=11, most=60.0) == []
    assert window.desk.job.shots()


def test_a_closed_window_leaves_no_queue_behind_though_slips_wait(window):
    desk = window.desk
    desk.answer("read", curve="fen-log")
    desk.enqueue()  # two deliveries, of which one waits
    assert desk.queue.running and len(desk.open_slips(desk.shot)) == 2
    window._keep_rendering = lambda: False
    window.close()
    assert not desk.queue.running
    wait(lambda: False, 0.5, settle=0)  # nothing starts it again, and nothing asks a closed job
    assert not desk.queue.running


def _nameless(root):
    seen = [w for w in root.findChildren(QWidget) if w.isVisible() and w.focusPolicy() != Qt.FocusPolicy.NoFocus]
    return [w for w in seen if not QAccessible.queryAccessibleInterface(w).text(QAccessible.Text.Name)], len(seen)


def test_every_control_has_a_name_and_every_place_fits_a_small_window(window, qapp):
    """Read by an assistive program: controls by name, the Board row by row; and nothing asks for more than 1100×660."""
    controls = 0
    for place in ("Intake", "Queue", "Log", "Board"):
        window.go(place)
        qapp.processEvents()
        nameless, count = _nameless(window)
        assert not nameless, (place, nameless)
        controls += count
    for row in (0, 3):
        window.desk.select(row)
        qapp.processEvents()
        assert window.board.accessibleName().startswith(window.desk.shot.name) and "Read: " in window.board.accessibleName()
        for stage in STAGES:
            window.desk.unfold(stage)
            qapp.processEvents()
            nameless, count = _nameless(window)
            assert not nameless, (stage, nameless)
            controls += count
            least = window.minimumSizeHint()
            assert least.width() <= 1100 and least.height() <= 660, (stage, least)
    assert controls > 120


def test_one_instrument_takes_the_shelf_and_gives_it_back(window, qapp):
    window.desk.unfold("read")
    qapp.processEvents()
    bench = window.bench
    before = [p.width() for p in bench.bench.instruments]
    table = bench.bench.instruments[0]
    QTest.mouseClick(table, Qt.MouseButton.LeftButton, pos=QPoint(20, 8))
    qapp.processEvents()
    assert table.wide and table.width() > 1.5 * before[0] and not bench.bench.instruments[1].isVisible()
    bench.next_wide()
    qapp.processEvents()
    assert not table.wide and bench.bench.instruments[1].wide
    window.desk.unfold("colour")
    window.desk.unfold("read")
    qapp.processEvents()
    assert [p.width() for p in bench.bench.instruments] == before and not any(p.wide for p in bench.bench.instruments)


def test_the_foot_is_as_high_as_its_sentence(window, qapp):
    low = window.next.height()
    shot, finding = next(iter(window.desk.findings()))
    long = msgspec.structs.replace(finding, text="The pictures drift. " * 60)
    window.next._all = lambda: [(shot, long)]
    window.next.refresh()
    qapp.processEvents()
    label = window.next.text
    assert window.next.height() > low and label.height() >= label.heightForWidth(label.width())


def test_main_picture_and_helper_change_places(window, qapp):
    window.desk.unfold("shape")
    qapp.processEvents()
    bench = window.bench
    before = bench.picture.width(), bench.side.width()
    assert before[0] > before[1]
    bench.swap()
    qapp.processEvents()
    assert bench.side.width() > bench.picture.width()


def test_a_process_that_ends_is_started_and_asked_again(window, service, monkeypatch):
    """A decoder may not survive a file. The picture comes all the same; what the process ends at twice is given up and named."""
    monkeypatch.setattr(workers, "start", service)
    worker, facts, told = window.desk.worker, window.desk.shots[0].facts, []
    worker.failed.connect(told.append)
    window.desk.unfold("shape")
    pictured(window)

    def asked_and_killed():
        """A chore that is certain not to be answered before the process ends."""
        answers, process = [], worker._process
        os.kill(process.pid, signal.SIGSTOP)
        worker.chore("gaps", (facts,), lambda value, error: answers.append((value, error)))
        window.bench.picture.clear()
        window.bench.ask()
        process.kill()
        assert wait(lambda: worker._process is not process, settle=0)
        return answers

    answers = asked_and_killed()
    assert wait(lambda: len(answers) == 1, settle=0) and len(answers[0][0]) == facts.frames - 1 and answers[0][1] is None
    pictured(window)
    assert told == ["The process that reads the footage had ended, and was started again. Nothing is lost."]
    begin = worker._begin
    with monkeypatch.context() as patch:
        patch.setattr(worker, "_begin", lambda: (begin(), os.kill(worker._process.pid, signal.SIGSTOP)))
        answers = asked_and_killed()
    worker._process.kill()
    assert wait(lambda: len(answers) == 1, settle=0) and answers[0][0] is None
    assert facts.source.name in answers[0][1] and "ended twice" in answers[0][1] and not worker.busy
    assert "ended twice" in window.note.text()
    window.bench.ask()
    pictured(window)


def test_the_queue_is_drawn_to_the_clock(window, monkeypatch):
    """By one measured second of each, or by what renders: blocks as long as they last, one after another, the last one's end in the title."""
    desk = window.desk
    monkeypatch.setattr(desk.queue, "start", lambda path: None)
    desk.select(1)
    desk.answer("deliver", cards=["web-wide", "web-square", "web-upright"])
    desk.enqueue()
    shot = desk.shot
    assert window.queue.night.isHidden() and "waiting" in window.queue.words.text(), "nothing is known of how long it takes"
    for card, seconds in (("web-wide", 20.0), ("web-square", 40.0), ("web-upright", 20.0)):
        desk.job.keep_trial(shot.id, Trial(card, 25, seconds, 1_000_000, (192, 108)))
    desk.reload((shot.id,))
    desk.refresh_slips()
    window.go("Queue")
    mine = [s.id for s in desk.slips if s.shot_id == shot.id and s.state == "waiting"]
    total = sum(s.total for s in desk.slips if s.id in mine) // len(mine)
    boxes = window.queue.night.boxes()
    wide = [boxes[n].width() + 2 for n in mine]
    assert wide[1] == pytest.approx(2 * wide[0], rel=0.02) and wide[2] == pytest.approx(wide[0], rel=0.02)
    assert all(boxes[a].right() <= boxes[b].left() for a, b in pairwise(mine))
    left = total * (20 + 40 + 20) / 25
    ends = {time.strftime("%H:%M", time.localtime(time.time() + left + d)) for d in (-2, 2)}
    assert window.queue.words.text() in {f"All done at {e}" for e in ends}
    assert window.queue._cards[mine[2]]._when().endswith(tuple(ends)) and not window.queue.grab().isNull()
    desk.job.set_slip(mine[0], state="rendering", done=total // 2, progress={"doing": "rendering", "rate": 1.0, "left": 9.0, "size": 9})
    desk.refresh_slips()
    now = window.queue.night.boxes()
    first, last = window.queue.night._reach()
    assert first == pytest.approx(-(total // 2), abs=1) and now[mine[0]].left() == pytest.approx(20, abs=1)
