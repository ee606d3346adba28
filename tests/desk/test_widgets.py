"""The small widgets: they show what they are given and say what the person did."""

from __future__ import annotations

import csv
import io
import re
from fractions import Fraction
from types import SimpleNamespace

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtTest import QTest

from adzer.core import journal
from adzer.core.finding import Level
from adzer.core.ledger import LogRow
from adzer.core.run.service import Image, Scopes
from adzer.desk.app import application
from adzer.desk.logview import LogModel
from adzer.desk.palette import Action, Keys, Words
from adzer.desk.stages.colour.plots import Bars, CurvePlot, Waveform
from adzer.desk.stages.deliver.plots import Frames, Leaving
from adzer.desk.stages.read.plots import Trace
from adzer.desk.stages.shape.plots import Outline, ScaleFigure
from adzer.desk.theme import DAY, DIM, MAT, MAT_INK, draw_mark
from adzer.desk.widgets.lines import _beside
from adzer.desk.widgets.picture import PictureView, to_qimage
from adzer.desk.widgets.plots import Histogram, Table
from adzer.desk.widgets.questions import Choice, Number, Pick, Question
from adzer.desk.widgets.rule import Rule


@pytest.fixture(scope="module", autouse=True)
def qapp():
    return application()


def painted(widget, size=(320, 180)):
    widget.resize(*size)
    return widget.grab().toImage()


def ink_in(image, colour, tolerance=12):
    """Share of pixels near a colour."""
    w, h = image.width(), image.height()
    data = np.frombuffer(image.convertToFormat(QImage.Format.Format_RGB32).constBits(), np.uint8).reshape(h, w, 4)
    wanted = np.array([colour.blue(), colour.green(), colour.red()])
    return float((np.abs(data[..., :3].astype(int) - wanted).max(axis=-1) <= tolerance).mean())


def test_a_lines_name_lies_beside_it_and_on_no_line():
    body, columns = QRectF(0, 0, 300, 140), np.arange(0.0, 300.0)
    courses = [70 + 40 * np.sin(columns / 14), np.full(300, 70.0)]
    taken = []
    for own, wide in ((0, 50), (1, 20)):
        box = _beside(body, columns, courses, own, 0.1 + 0.3 * own, wide, taken)
        under = (columns >= box.left()) & (columns <= box.right())
        assert body.contains(box) and not any(box.intersects(t) for t in taken)
        lies = courses[own][under]
        assert min(abs(lies - box.top()).min(), abs(lies - box.bottom()).min()) < 4  # its own line is next to it
        assert sum(((c[under] > box.top()) & (c[under] < box.bottom())).sum() for c in courses) <= 5
        taken.append(box)


def test_marks_differ_in_shape_not_only_in_colour():
    masks = []
    for level in (Level.STOP, Level.WARN, Level.NOTE, None):
        image = QImage(24, 24, QImage.Format.Format_RGB32)
        image.fill(QColor("white"))
        painter = QPainter(image)
        draw_mark(painter, QPointF(12, 12), level, 16)
        painter.end()
        masks.append(np.array([[image.pixelColor(x, y).lightness() < 200 for x in range(24)] for y in range(24)]))
    for i, a in enumerate(masks):
        assert a.any()
        for b in masks[i + 1 :]:
            assert (a != b).sum() > 30


def test_a_number_is_dragged_stepped_typed_and_kept_in_bounds():
    number = Number(1.0, 0.1, 0.0, 2.0, 2)
    number.show()
    drafted, settled = [], []
    number.drafted.connect(drafted.append)
    number.settled.connect(settled.append)
    QTest.mousePress(number, Qt.MouseButton.LeftButton, pos=QPoint(10, 8))
    for x in (20, 30, 400):
        QTest.mouseMove(number, QPoint(x, 8))
        event_position = number.mapToGlobal(QPoint(x, 8))
        number.mouseMoveEvent(SimpleNamespace(globalPosition=lambda p=event_position: QPointF(p)))
    assert drafted == sorted(drafted) and drafted[-1] == 2.0 and not settled
    QTest.mouseRelease(number, Qt.MouseButton.LeftButton, pos=QPoint(400, 8))
    assert settled == [2.0]
    QTest.keyClick(number, Qt.Key.Key_Down)
    QTest.keyClick(number, Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier)
    assert number.value == pytest.approx(1.89)
    for text, value in (("0,75", 0.75), ("−3", 0.0), ("nan", 0.0), ("words", 0.0), ("99", 2.0)):
        number.setText(text)
        number.setModified(True)
        number.editingFinished.emit()
        assert number.value == value
    number.close()


def test_choices_hold_one_answer_or_none():
    choice = Choice([("a", 1), ("b", 2), ("c", None)], 2)
    heard = []
    choice.chosen.connect(heard.append)
    choice.choose(None)
    choice.choose(1)
    assert heard == [None, 1]
    choice.set_value("not among them")
    assert not any(choice._group.button(i).isChecked() for i in range(3))
    pick = Pick([("x", 10), ("y", 20)], 20)
    assert pick.currentText() == "y"
    pick.set_value(30)
    assert pick.currentIndex() == -1


def test_a_question_shows_reason_and_others_only_when_there_are_any():
    card = Question("Why?")
    card.show()
    card.say("because", "others do not")
    assert card.reason == "because" and card._others.isVisible()
    card.say("because")
    assert not card._others.isVisible()
    card.close()


def test_the_rule_moves_the_frame_and_the_notches():
    rule = Rule()
    rule.resize(1040, 46)
    rule.set_shot(100, 0, 100, Fraction(25), lambda f: f"t{f}")
    moved, ranged = [], []
    rule.moved.connect(moved.append)
    rule.ranged.connect(lambda a, b: ranged.append((a, b)))
    QTest.mousePress(rule, Qt.MouseButton.LeftButton, pos=QPoint(520, 30))
    QTest.mouseRelease(rule, Qt.MouseButton.LeftButton, pos=QPoint(520, 30))
    assert moved == [50]
    QTest.mousePress(rule, Qt.MouseButton.LeftButton, pos=QPoint(20, 5))
    QTest.mouseMove(rule, QPoint(220, 5))
    rule.mouseMoveEvent(SimpleNamespace(position=lambda: QPointF(220, 5)))
    QTest.mouseRelease(rule, Qt.MouseButton.LeftButton, pos=QPoint(220, 5))
    assert ranged == [(20, 100)]
    rule._grab = "stop"
    rule.mouseMoveEvent(SimpleNamespace(position=lambda: QPointF(0, 5)))
    assert rule.stop == 21  # never before in
    rule.set_shot(10**7, 0, 10**7, Fraction(25), str)
    assert not painted(rule, (1040, 46)).isNull()


def flat(width, height, value):
    return Image(width, height, bytes([value, value, value, 255]) * (width * height))


def test_the_picture_lies_in_a_neutral_mat_and_wipes_where_told():
    view = PictureView()
    view.resize(640, 400)
    view.show_pictures(flat(320, 180, 200), flat(320, 180, 40))
    rect = view.picture_rect()
    assert rect.width() / rect.height() == pytest.approx(16 / 9) and QRectF(view.rect()).contains(rect)

    def grey(x_share):
        image = view.grab().toImage()
        return image.pixelColor(int(rect.left() + rect.width() * x_share), int(rect.center().y())).red()

    assert abs(grey(0.5) - 200) < 3
    assert view.grab().toImage().pixelColor(3, 3) == MAT and MAT.red() == MAT.green() == MAT.blue()
    view.compare("wipe")
    view.split = 0.6
    assert abs(grey(0.3) - 40) < 3 and abs(grey(0.8) - 200) < 3
    places = []
    view.dragged.connect(lambda p, done: places.append((round(p.x(), 2), done)))
    at = QPoint(int(rect.left() + rect.width() * 0.6), 150)
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=at)
    view.mouseMoveEvent(SimpleNamespace(position=lambda: QPointF(rect.left() + rect.width() * 0.2, 150)))
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at)
    assert view.split == pytest.approx(0.2) and places == []
    view.compare("apart")  # 160 codes apart are more than black to white, eight times
    assert abs(grey(0.5) - 255) < 2
    view.compare("beside")
    assert abs(grey(0.25) - 40) < 3 and abs(grey(0.75) - 200) < 3
    view.compare("turn")
    seen = {round(grey(0.5), -1)}
    view._take_turn()
    assert seen | {round(grey(0.5), -1)} == {200, 40}
    view.compare("turn")
    assert view.way is None and not view._taking.isActive()
    view.hold_before = True
    assert abs(grey(0.8) - 40) < 3
    assert to_qimage(flat(3, 2, 9)).pixelColor(1, 1).red() == 9


def test_plots_draw_what_they_are_given():
    wave = Waveform()
    empty = painted(wave)
    counts = np.zeros((192, 320), np.int32)
    counts[100] = 50
    wave.show_scopes(Scopes(counts, np.ones(1024, np.int64), 0.02, 0.01), 0.0625, 0.918)
    assert painted(wave) != empty and wave.note == "2.0% over · 1.0% under"
    histogram = Histogram("h")
    empty = painted(histogram)
    histogram.show_shares(np.full(100, 0.01), 0, 1, [(0.5, "grey")])
    assert painted(histogram) != empty and ink_in(painted(histogram), DAY.quiet) > 0.3
    bars = Bars("b")
    bars.show_bars([("one", 1.0), ("two", 2.0)])
    one, two = painted(bars), Bars("b")
    two.show_bars([("one", 2.0), ("two", 2.0)])
    assert ink_in(painted(two), DAY.quiet) > ink_in(one, DAY.quiet) > 0.02
    curve = CurvePlot()
    stops = np.linspace(-8, 8, 60)
    curve.show_curve(stops, np.linspace(0, 1, 60), np.linspace(0, 1, 60) ** 2, (-3, 4), "")
    assert ink_in(painted(curve), DAY.tint) > 0.15
    trace = Trace("t")
    trace.show_values(np.array([40.0, 40.0, 66.0]))
    assert ink_in(painted(trace), DAY.quiet, 40) > 0.0004
    table = Table("t", (0.5, 0.5))
    table.show_rows([("a", "b")] * 30)
    figure = ScaleFigure("f")
    figure.show_groups([[Outline("r\n1440×1080", 1440, 1080), Outline("", 700, 500, 100, 100, True, True)]])
    assert ink_in(painted(figure), DAY.tint) > 0.05 and not painted(table).isNull()


def test_actions_are_found_by_their_words():
    done = []
    actions = [
        Action("take back", ("Ctrl+Z",), "everywhere", lambda: done.append(1)),
        Action("set in here", (), "bench", lambda: done.append(2), "{"),
    ]
    from PySide6.QtWidgets import QWidget

    parent = QWidget()
    words = Words(actions, "bench", done.append, parent)
    words.line.setText("in HERE")
    assert words.list.count() == 1
    words._do()
    assert done == [2]
    board = Keys(actions, "board", parent)
    texts = {board.layout().itemAt(i).widget().text() for i in range(board.layout().count())}
    assert "take back" in texts and "set in here" not in texts


def test_the_log_speaks_of_changes_in_words_and_units_and_goes_along_as_a_table():
    told = {
        "shape.squeeze": ["1/1", "8/5"],
        "colour.kelvin": [None, 5600.0],
        "bytes": 12,
        "raster": [1440, 602],
        "shape.view": [None, {"keys": [1, 2]}],
    }
    assert journal.change_text(told) == (
        "squeeze: 1× → 1.6×; white: not set → 5600 K; 12 bytes; raster 1440×602; view: not set → 2 keyframes"
    )
    rows = [
        LogRow(0.0, "decide", "sails", "=the | squeeze, asked", {"shape.squeeze": ["1/1", "8/5"]}),
        LogRow(60.0, "render", "wheel", "done", {"bytes": 5_000_000}),
    ]
    assert journal.chosen(rows, "render") == journal.chosen(rows, "", "mb WHEEL") == rows[1:]
    read = list(csv.reader(io.StringIO(journal.as_csv(rows))))  # by another reader than our writer's rules
    assert read[0] == list(journal.COLUMNS) and read[1][3] == "'=the | squeeze, asked" and read[2][4] == "5.0 MB"
    lines = journal.as_markdown(rows, "Mill").splitlines()
    assert lines[0] == "# Mill" and all(len(re.findall(r"(?<!\\)\|", line)) == 6 for line in lines[2:])
    model = LogModel()
    model.set_rows(rows)
    assert model.rowCount() == 2 and model.data(model.index(0, 4)) == "squeeze: 1× → 1.6×"
    assert model.headerData(0, Qt.Orientation.Horizontal) == "when"


def test_deliveries_are_drawn_to_one_scale_with_what_the_picture_fills():
    plot = Frames("f")
    plot.resize(800, 170)
    plot.show_leaving([
        Leaving("wide", (1600, 900), (1.0, 0.5), ("1600×900",)), Leaving("upright", (400, 800), (1.0, 1.0), ("400×800",)),
    ])  # fmt: skip
    image = plot.grab().toImage()
    line = [image.pixelColor(x, 25 + 10 + 20).name() for x in range(800)]
    quiet = DAY.quiet.name()
    wide = [x for x, name in enumerate(line[:400]) if name == quiet]
    tall = [x for x, name in enumerate(line[400:]) if name == quiet]
    assert not [x for x in wide if image.pixelColor(x, 25 + 10 + 3).name() == quiet]  # bars above what fills half of it
    assert len(wide) / len(tall) == pytest.approx(4, rel=0.1)


def test_a_settled_question_folds_to_its_answer_unless_it_is_in_hand_and_opens_on_a_click(qtbot):
    field = Number(1.0, 0.1, 0.0, 9.0)
    card = Question("What is it?", field)
    qtbot.addWidget(card)
    card.resize(300, 120)
    card.show()
    qtbot.waitExposed(card)
    card.settle("a <log>, declared")
    assert card.folded and not field.isVisible() and "a &lt;log&gt;, declared" in card._head.text()
    QTest.mouseClick(card, Qt.MouseButton.LeftButton, pos=card._head.geometry().center())
    assert not card.folded and field.isVisible()
    QTest.mouseClick(card, Qt.MouseButton.LeftButton, pos=card._head.geometry().center())
    assert card.folded
    card.settle("")
    assert not card.folded and field.isVisible()
    card.activateWindow()
    field.setFocus()
    qtbot.waitUntil(field.hasFocus)
    card.settle("one")
    assert not card.folded and field.isVisible()
    field.clearFocus()
    card.settle("one")
    assert card.folded


def contrast(a, b):
    """WCAG 2.2, 1.4.3: of two colours' relative luminances."""
    def light(c):
        parts = [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in (c.redF(), c.greenF(), c.blueF())]
        return parts[0] * 0.2126 + parts[1] * 0.7152 + parts[2] * 0.0722

    one, two = sorted((light(a), light(b)))
    return (two + 0.05) / (one + 0.05)


@pytest.mark.parametrize("p", [DAY, DIM], ids=["day", "dim"])
def test_words_and_marks_stand_out_in_both_lights(p):
    for ground in (p.paper, p.high, p.low, p.field):
        assert all(contrast(words, ground) >= 4.5 for words in (p.ink, p.quiet, p.accent_text)), ground.name()
        assert all(contrast(mark, ground) >= 3 for mark in (p.accent, p.edge, p.stop, p.warn, p.note, p.fine)), ground.name()
    assert contrast(p.chosen, p.chosen_ink) >= 4.5 and contrast(p.plot, p.plot_ink) >= 4.5 and contrast(MAT, MAT_INK) >= 4.5
