"""Keys belong to the control that has the focus, then to the page that is seen; choosers only read. Keys are sent as a keyboard does."""

from __future__ import annotations

import random

import pytest
from PySide6.QtCore import Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QApplication,
    QFileDialog,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QScrollBar,
    QWidget,
)

from adzer.core.stage import STAGES
from adzer.desk import choosers
from adzer.desk.dialogs import Describe
from adzer.desk.widgets.questions import Choice, Number, Question

CTRL, SHIFT, NONE = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.NoModifier


def press(window, key, modifier=NONE):
    window.activateWindow()
    QTest.keyClick(QApplication.focusWidget() or window, key, modifier)
    QApplication.processEvents()


def typed(field, text):
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def vars_of(record):
    return [getattr(record, name) for name in record.__struct_fields__]


def state(desk):
    return [(s.id, s.name, s.verdict, s.route) for s in desk.job.shots()]


@pytest.fixture
def number(window):
    """A number of the Colour bench, in hand."""
    window.desk.unfold("colour")
    QApplication.processEvents()
    field = next(n for n in window.bench.findChildren(Number) if n.isVisible())
    field.setFocus()
    assert QApplication.focusWidget() is field
    return field


def test_editing_keys_belong_to_the_text_that_is_typed(window, number):
    before = state(window.desk)
    typed(number, "12.5")
    for key, modifier in ((Qt.Key.Key_Backspace, CTRL), (Qt.Key.Key_Z, CTRL), (Qt.Key.Key_A, CTRL), (Qt.Key.Key_D, CTRL), (Qt.Key.Key_D, NONE),
                          (Qt.Key.Key_Left, NONE), (Qt.Key.Key_BracketLeft, NONE), (Qt.Key.Key_X, NONE), (Qt.Key.Key_Delete, CTRL)):  # fmt: skip
        press(window, key, modifier)
        assert state(window.desk) == before and QApplication.focusWidget() is number, key
    typed(number, "12.5")
    press(window, Qt.Key.Key_Backspace, CTRL)
    assert "12.5" not in number.text(), "a word of the text is gone"


def test_escape_in_a_number_keeps_what_was_and_enter_what_is_typed(window, number, monkeypatch):
    monkeypatch.setattr(window.desk.queue, "start", lambda job: None)
    before, text = state(window.desk), number.text()
    typed(number, "0.7")
    press(window, Qt.Key.Key_Escape)
    assert number.text() == text and state(window.desk) == before and QApplication.focusWidget() is not number
    typed(number, "0.7")
    press(window, Qt.Key.Key_Enter)
    assert state(window.desk) != before and float(number.text()) == pytest.approx(0.7)
    typed(number, "0.9")
    press(window, Qt.Key.Key_Return, CTRL)  # to queue: what is typed is part of what is queued
    assert float(number.text()) == pytest.approx(0.9) and window.desk.slips
    assert 0.9 in vars_of(window.desk.slips[-1].order.route.colour)


@pytest.mark.parametrize("page", ["Queue", "Log", "Intake"])
def test_on_another_page_no_key_acts_on_the_hidden_board(window, page):
    before, chosen = state(window.desk), window.desk.selected
    window.go(page)
    if (focus := QApplication.focusWidget()) is not None:
        focus.clearFocus()
    for key, modifier in ((Qt.Key.Key_D, NONE), (Qt.Key.Key_K, NONE), (Qt.Key.Key_Backspace, CTRL), (Qt.Key.Key_Down, NONE), (Qt.Key.Key_C, NONE),
                          (Qt.Key.Key_D, CTRL), (Qt.Key.Key_Return, CTRL), (Qt.Key.Key_P, NONE), (Qt.Key.Key_BracketRight, NONE)):  # fmt: skip
        press(window, key, modifier)
    assert state(window.desk) == before and window.desk.selected == chosen and not window.desk.slips
    press(window, Qt.Key.Key_F2)
    assert window.place == "board"
    press(window, Qt.Key.Key_Backspace, CTRL)
    assert len(window.desk.job.shots()) == len(before) - 1
    press(window, Qt.Key.Key_Z, CTRL)
    assert state(window.desk) == before, "what removes is undone by one key from where one is"


def test_enter_in_the_sheet_of_names_keeps_what_was_typed(window):
    window.describe()
    box = next(w for w in QApplication.topLevelWidgets() if isinstance(w, Describe))
    QTest.qWaitForWindowExposed(box)
    typed(box.fields["name"], "the cartwheel")
    QTest.keyClick(box.fields["name"], Qt.Key.Key_Return)
    QApplication.processEvents()
    assert window.desk.job.shots()[0].name == "the cartwheel"


def test_a_button_has_the_keys_that_press_it_and_a_click_leaves_them_with_the_picture(window):
    window.desk.unfold("deliver")
    QApplication.processEvents()
    button = next(b for b in window.bench.findChildren(QPushButton) if b.isVisible() and b.isEnabled() and not b.isCheckable())
    assert button.focusPolicy() == Qt.FocusPolicy.TabFocus
    pressed = []
    button.clicked.disconnect()
    button.clicked.connect(lambda: pressed.append(1))
    button.setFocus()
    frame, playing = window.desk.frame, window.bench.timer.isActive()
    press(window, Qt.Key.Key_Space)
    assert pressed == [1] and window.desk.frame == frame and window.bench.timer.isActive() == playing


@pytest.mark.parametrize("ask", [choosers.file, choosers.files, choosers.folder, choosers.new_file])
def test_choosers_only_read(qapp, tmp_path, ask, monkeypatch):
    """Three hundred keys at random, with those that rename and delete among them, in each of the sheets."""
    for n in range(4):
        (tmp_path / f"precious {n}.mov").write_text("precious")
    (tmp_path / "folder").mkdir()
    before = {p.name for p in tmp_path.iterdir()}
    monkeypatch.chdir(tmp_path)
    chance = random.Random(2)
    keys = [Qt.Key.Key_F2, Qt.Key.Key_Delete, Qt.Key.Key_Return, Qt.Key.Key_Tab, Qt.Key.Key_Down, Qt.Key.Key_Up, Qt.Key.Key_X, Qt.Key.Key_Y,
            Qt.Key.Key_Backspace, Qt.Key.Key_Space]  # fmt: skip
    seen = []

    def play():
        sheet = QApplication.activeModalWidget()
        if isinstance(sheet, QFileDialog):
            seen.append(sheet)
            sheet.setDirectory(str(tmp_path))
            for _ in range(300):
                if not sheet.isVisible():
                    break
                views = [w for w in sheet.findChildren(QLineEdit) + sheet.findChildren(QPlainTextEdit)]
                view = sheet.findChild(type(sheet.focusWidget()), "listView") if not views else None
                QTest.keyClick(QApplication.focusWidget() or view or sheet, chance.choice(keys))
            if sheet.isVisible():
                assert sheet.testOption(QFileDialog.Option.ReadOnly)
                sheet.reject()

    def close():
        while (box := QApplication.activeModalWidget()) is not None:
            box.close()

    QTimer.singleShot(200, play)
    QTimer.singleShot(6000, close)
    arguments = {choosers.file: (None, "x", "Any (*)", str(tmp_path)), choosers.files: (None, "x"), choosers.folder: (None, "x", str(tmp_path)),
                 choosers.new_file: (None, "x", "Any (*)", str(tmp_path / "new"))}[ask]  # fmt: skip
    ask(*arguments)
    assert seen and {p.name for p in tmp_path.iterdir()} == before and (tmp_path / "precious 1.mov").read_text() == "precious"


def _grouped(widget):
    return isinstance(widget, QPushButton) and widget.group() is not None and widget.group().exclusive() and not widget.isChecked()


@pytest.mark.parametrize("shot", [0, 3, 4, 5])
def test_every_control_of_every_bench_is_reached_by_keys(window, shot):
    """Tab goes to each, of rows of answers to the one that holds; a folded question opens and folds by Enter."""
    window.desk.select(shot)
    folded = 0
    for stage in STAGES:
        window.desk.unfold(stage)
        QApplication.processEvents()
        column = window.bench.questions.currentWidget()
        seen = [w for w in column.findChildren(QWidget) if w.isVisibleTo(column) and w.isEnabled() and w.focusPolicy() & Qt.FocusPolicy.TabFocus]
        wanted = {w for w in seen if not _grouped(w) and not isinstance(w, QScrollArea | QScrollBar)}
        window.setFocus()
        reached = set()
        for _ in range(3 * len(seen) + 60):
            QTest.keyClick(QApplication.focusWidget() or window, Qt.Key.Key_Tab)
            reached.add(QApplication.focusWidget())
        assert not wanted - reached, (stage, [(type(w).__name__, w.accessibleName(), getattr(w, "text", str)()) for w in wanted - reached])
        for question in [w for w in wanted if isinstance(w, Question) and w.folded][:2]:
            folded += 1
            question.setFocus()
            press(window, Qt.Key.Key_Return)
            assert not question.folded and window.desk.stage == stage
            question.setFocus()
            press(window, Qt.Key.Key_Space)
            assert question.folded and QApplication.focusWidget() is question and not window.bench.timer.isActive()
    assert folded


def test_rows_of_answers_are_worked_with_arrows(window):
    desk = window.desk
    desk.unfold("colour")
    QApplication.processEvents()
    row = next(c for c in window.bench.findChildren(Choice) if c.isVisible() and len(c._values) > 2)
    buttons = [row._group.button(n) for n in range(len(row._values))]
    at = next(n for n, b in enumerate(buttons) if b.isChecked())
    before, frame = desk.shot.route.colour, desk.frame
    buttons[at].setFocus()
    press(window, Qt.Key.Key_Right if at + 1 < len(buttons) else Qt.Key.Key_Left)
    assert desk.shot.route.colour != before and desk.frame == frame
