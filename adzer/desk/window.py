"""The main window: its places, its actions and their keys."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QEvent, QObject, Qt, QTimer, Signal, SignalInstance
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QShortcut,
)
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMessageBox,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..core import recent
from ..core.finding import Level
from ..core.intake.relink import Match
from ..core.media.probe import FileFacts
from ..core.run.service import Reply
from ..core.stage import STAGES
from . import choosers
from .alike import Alike
from .analysing import Analysing
from .bars import PLACES, NextLine, TopBar
from .belonging import AskBelonging
from .bench import BenchView
from .board import BoardView, Header, ShotRow, Thumbnails
from .commands import actions
from .dialogs import Describe, Relink, Rename
from .finder import Finder
from .intakeview import IntakeView
from .keys import claims, typing
from .logview import LogView
from .many import Many
from .model import Desk
from .palette import Action, Keys, Words, shown_keys
from .queueview import QueueView
from .reading import Reading
from .theme import style_sheet, theme
from .widgets.picture import to_qimage
from .widgets.questions import Number

LEAVING = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape)  # a field that text is typed into


class Window(QMainWindow):
    """Everything in one window; keys work wherever no text is being typed. ``wanted``: the path of another job,
    ``begun``: of a new one."""

    wanted = Signal(str)
    begun = Signal(str)
    closing = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setWindowTitle(f"{desk.job.name} – Adzer")
        self.resize(1280, 800)
        self.setMinimumSize(900, 500)
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFocus()  # and not a button that Enter would press
        self.thumbs, self.reading, self.analysing = Thumbnails(desk), Reading(desk), Analysing(desk)
        self.alike = Alike(desk, self.analysing)
        self.many, self.finder = Many(desk, self.alike), Finder(desk)
        self.top, self.header = TopBar(desk), Header(desk)
        self.board, self.next = BoardView(desk, self.thumbs), NextLine(desk)
        self.row, self.bench = ShotRow(desk, self.thumbs), BenchView(desk, self.reading, self.analysing)
        self.queue, self.log, self.intake = QueueView(desk), LogView(desk), IntakeView(self.reading)
        self._was_there = ""
        self.note = QLabel(self)
        self.note.setWordWrap(True)
        self.note.hide()
        self._note_timer = QTimer(self, singleShot=True)
        self._note_timer.timeout.connect(self.note.hide)
        self._lay_out()
        self.actions_ = actions(self)
        for action in self.actions_:
            for keys in action.keys:
                shortcut = QShortcut(QKeySequence(keys), self)
                shortcut.activated.connect(lambda a=action: self._run(a))
        self._connect()
        self.set_lights(theme.dim)
        self.refresh()

    def _lay_out(self) -> None:
        folded = QVBoxLayout()
        folded.addWidget(self.finder)
        folded.addWidget(self.board, 1)
        folded.addWidget(self.next)
        unfolded = QVBoxLayout()
        unfolded.addWidget(self.row)
        unfolded.addWidget(self.bench, 1)
        self.fold = QStackedWidget()
        for layout in (folded, unfolded):
            layout.setContentsMargins(0, 0, 0, 0)
            layout.setSpacing(0)
            page = QWidget()
            page.setLayout(layout)
            self.fold.addWidget(page)
        place = QWidget()
        column = QVBoxLayout(place)
        column.addWidget(self.header)
        column.addWidget(self.fold, 1)
        self.pages = QStackedWidget()
        for page in (place, self.intake, self.queue, self.log):
            self.pages.addWidget(page)
        whole = QWidget()
        outer = QVBoxLayout(whole)
        outer.addWidget(self.top)
        outer.addWidget(self.pages, 1)
        for layout in (column, outer):
            layout.setContentsMargins(0, 0, 0, 0)
            layout.setSpacing(0)
        self.setCentralWidget(whole)

    def _connect(self) -> None:
        desk = self.desk
        self.top.picked.connect(self.go)
        self.top.wanted.connect(self._lead_to)
        self.top.asked.connect(lambda what: self.open_words() if what == "words" else self.toggle_lights())
        for source in (self.header.picked, self.row.picked, self.board.unfolded):
            source.connect(desk.unfold)
        for signal in (desk.changed, desk.moved):
            signal.connect(self.refresh)
        desk.drafted.connect(self.row.update)
        self.board.asked.connect(self._begin)
        desk.slips_moved.connect(self._slips_moved)
        desk.counted.connect(self._counted)
        self.reading.looking.connect(self._looking)
        self.reading.asked.connect(self.ask_belonging)
        self.intake.arrived.connect(self.reading.add)
        self.intake.said.connect(self.say)
        desk.said.connect(self.say)
        desk.queue_done.connect(self._call)
        desk.worker.pictured.connect(self._pictured)
        desk.worker.failed.connect(self.say)
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.installEventFilter(self)
            app.focusChanged.connect(self._entered)

    # --- keys ------------------------------------------------------------------------------------------------------
    def _run(self, action: Action) -> None:
        if not action.holds(self.place):
            return
        focus = QApplication.focusWidget()
        if typing(focus) and focus is not None and focus.window() is self and focus is not self.finder.line:
            focus.clearFocus()  # what is typed is kept before anything is done with it
        action.run()

    @property
    def place(self) -> str:
        """What is seen: ``board``, ``bench``, or another page's name."""
        page = PLACES[self.pages.currentIndex()]
        return page.lower() if page != "Board" else "bench" if self.desk.stage is not None else "board"

    def on_shape(self, what: str, *args: int) -> None:
        """Something that only one of Shape's two benches can do, or the keyframes that both have."""
        bench = self.bench.bench
        for owner in (bench, getattr(bench, "keys", None)):
            if owner is not None and hasattr(owner, what):
                getattr(owner, what)(*args)
                return
        if what == "mark_horizon":
            self.say("That belongs to the Shape bench of a sphere or round lens. Unfold it there.")
        elif what in ("mark_round", "mark_keep"):
            self.say("That is outlined on the Shape bench of a flat shot. Unfold it there.")
        else:
            self.say("That belongs to the Shape bench. Unfold it there.")

    def flip_before(self) -> None:
        """From the words, where nothing can be held: shows the recorded picture until it is asked again."""
        self.bench.hold_before(not self.bench.picture.hold_before)

    def take_range(self, start: int | None = None, stop: int | None = None) -> None:
        """Moves in or out, or both, of the selected shot."""
        shot = self.desk.shot
        if shot is not None:
            self.desk.set_range(
                shot.start if start is None else start, shot.stop if stop is None else min(stop, shot.facts.frames)
            )

    def sideways(self, step: int) -> None:
        if self.desk.stage is None:
            self.step_stage(step)
        else:
            self.desk.go_to(self.desk.frame + step)

    def step_stage(self, step: int) -> None:
        self.desk.column = min(max(self.desk.column + step, 0), len(STAGES) - 1)
        if self.desk.stage is not None:
            self.desk.unfold(STAGES[self.desk.column])
        else:
            self.desk.moved.emit()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """A key that the control with the focus claims is no shortcut. Q is held, not pressed; { } ? lie elsewhere on every keyboard,
        so their text counts; and a field that is left with Enter or Esc gives the keys back: with Enter what was typed is kept, with
        Esc what was there."""
        if isinstance(event, QKeyEvent) and self.isActiveWindow():
            focus = QApplication.focusWidget()
            here = focus is not None and focus.window() is self
            if event.type() == QEvent.Type.ShortcutOverride and here and claims(focus, event):
                event.accept()
                return True
        if isinstance(event, QKeyEvent) and not event.isAutoRepeat() and self.isActiveWindow():
            typed = typing(focus)
            if event.key() == Qt.Key.Key_Q and not typed and self.desk.stage is not None and self.pages.currentIndex() == 0:
                if event.type() in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
                    self.bench.hold_before(event.type() == QEvent.Type.KeyPress)
                    return True
            elif not typed and event.type() == QEvent.Type.KeyPress and event.text() in ("{", "}", "?"):
                self._run(next(a for a in self.actions_ if a.shown == event.text()))
                return True
            elif here and isinstance(focus, QLineEdit) and event.type() == QEvent.Type.KeyPress and event.key() in LEAVING:
                if event.key() == Qt.Key.Key_Escape and isinstance(focus, Number):
                    focus.revert()
                elif event.key() == Qt.Key.Key_Escape:
                    focus.setText(self._was_there)
                focus.clearFocus()
                return True
        return super().eventFilter(watched, event)

    def _entered(self, _: QWidget | None, field: QWidget | None) -> None:
        """What a field holds as somebody begins to type there, for Esc."""
        if isinstance(field, QLineEdit) and field.window() is self:
            self._was_there = "" if field is self.finder.line else field.text()

    # --- doing -----------------------------------------------------------------------------------------------------
    def go(self, place: str) -> None:
        self.top.place = place
        self.pages.setCurrentIndex(PLACES.index(place))
        if place == "Log":
            self.log.refresh()
        if place == "Intake":
            self.intake.card.setFocus()
        if place == "Board" and self.desk.stage is not None:
            self.bench.ask()
        self.top.update()

    def refresh(self) -> None:
        self.fold.setCurrentIndex(1 if self.desk.stage is not None else 0)
        if self.desk.stage is not None:
            self.bench.refresh()
        else:
            self.bench.timer.stop()
            self.board.refresh()
            self.board.reveal()
        self.next.refresh()
        self.finder.refresh()
        for part in (self.top, self.header, self.row):
            part.update()

    def _slips_moved(self) -> None:
        self.board.viewport().update()
        self.row.update()
        if self.pages.currentIndex() == PLACES.index("Log"):
            self.log.refresh()

    def _counted(self) -> None:
        self.top.update()
        self.board.viewport().update()
        if self.desk.stage is None:
            self.next.refresh()

    def _looking(self) -> None:
        self.top.looking = self.reading.waiting
        self.top.update()

    def back(self) -> None:
        """One step back: to the Board, and there to all its shots."""
        if self.pages.currentIndex() != PLACES.index("Board"):
            self.go("Board")
        elif self.desk.stage is not None:
            self.desk.unfold(None)
        elif self.desk.filter or self.desk.order != "as added":
            self.finder.clear()

    def choose_all(self) -> None:
        self.desk.marked = set(range(len(self.desk.shots)))
        self.desk.moved.emit()

    def _open(self, box: QDialog) -> None:
        box.setStyleSheet(style_sheet())
        box.adjustSize()
        box.move(self.mapToGlobal(self.rect().center()) - box.rect().center())
        box.open()

    def describe(self) -> None:
        if self.desk.rows():
            self._open(Describe(self.desk, self))

    def ask_belonging(self) -> None:
        if self.reading.belonging.questions():
            self._open(AskBelonging(self.reading.belonging, self))
        else:
            self.say("No files on the Board may belong together that do not already.")

    def rename(self) -> None:
        if self.desk.shots:
            self._open(Rename(self.desk, self))

    def choose_relink(self) -> None:
        folder = choosers.folder(self, "Where masters or proxies are now")
        if folder:
            self.reading.relink(folder, self.show_matches)

    def show_matches(self, matches: list[Match], found: list[FileFacts]) -> None:
        self._open(Relink(matches, found, lambda: self.reading.link(matches, found), self))

    def _pictured(self, reply: Reply) -> None:
        if reply.key.startswith("thumb-"):
            image = reply.after or reply.before
            if image is not None:
                self.thumbs.arrived(reply.key, to_qimage(image))
                self.board.viewport().update()
                self.row.update()

    def say(self, text: str) -> None:
        """A sentence near the bottom of the window, long enough to be read."""
        self.note.setText(text)
        self.note.setStyleSheet(
            f"background: {theme.p.chosen.name()}; color: {theme.p.chosen_ink.name()}; padding: 9px 14px; border-radius: 4px;"
        )
        width = min(760, self.width() - 80)
        self.note.setFixedWidth(width)
        self.note.adjustSize()
        self.note.move((self.width() - width) // 2, self.height() - self.note.height() - 112)
        self.note.raise_()
        self.note.show()
        self._note_timer.start(3500 + 45 * len(text))

    def _call(self) -> None:
        """Something long is done, and somebody may be elsewhere: a sound, and the window asks to be looked at."""
        QApplication.beep()
        QApplication.alert(self)

    def toggle_lights(self) -> None:
        self.set_lights(not theme.dim)

    def set_lights(self, dim: bool) -> None:
        theme.dim = dim
        self.setStyleSheet(style_sheet())
        for widget in self.findChildren(QWidget):
            widget.update()

    def open_words(self) -> None:
        box = Words(self.actions_, self.place, self._elsewhere, self)
        box.setStyleSheet(style_sheet())
        box.move(self.mapToGlobal(self.rect().center()) - box.rect().center())
        box.open()

    def next_finding(self) -> None:
        """From anywhere: the line below the Board shows it, and its fix."""
        here = self.place == "board"
        self._fold_to_board()
        if here:
            self.next.advance()
        else:
            self.next.refresh()

    def _fold_to_board(self) -> None:
        self.go("Board")
        if self.desk.stage is not None:
            self.desk.unfold(None)

    def _lead_to(self, level: Level) -> None:
        self._fold_to_board()
        self.next.lead_to(level)

    def _elsewhere(self, action: Action) -> None:
        """Goes where it is done; what is done to a frame is done there once it is seen."""
        self.go("Board")
        if action.place == "board":
            self._fold_to_board()
        if action.place == "bench" and self.desk.stage is None:
            self.desk.unfold(STAGES[self.desk.column])
        self.say(f"{action.words[:1].upper()}{action.words[1:]}: here, with {shown_keys(action) or '^Space'}.")

    def open_keys(self) -> None:
        box = Keys(self.actions_, self.place, self)
        box.adjustSize()
        box.move(self.mapToGlobal(self.rect().center()) - box.rect().center())
        box.open()

    def choose_files(self) -> None:
        paths = choosers.files(self, "Recordings for the Board")
        if paths:
            self.reading.add(paths)

    def choose_folder(self) -> None:
        if path := choosers.folder(self, "A folder of recordings, for the Board"):
            self.reading.add([path])

    def _begin(self, what: str) -> None:
        """The empty Board's ways to begin."""
        {"files": self.choose_files, "folder": self.choose_folder, "card": lambda: self.go("Intake")}[what]()

    def another_job(self, ask: Callable[[QWidget], Path | None], tell: SignalInstance) -> None:
        """Another job, in a window of its own."""
        if (path := ask(self)) is not None:
            tell.emit(str(path))

    def _remember(self) -> None:
        """For the start page: what waits in the job, and its first picture as it was shown last."""
        desk = self.desk
        stopped = sum(1 for s in desk.all.values() if desk.walk(s).stopped is not None) if len(desk.all) <= 200 else 0
        waited = sum(s.state in ("waiting", "rendering") for s in desk.slips)
        recent.note(desk.job.path, desk.job.name, len(desk.all), stopped, waited)
        first = self.thumbs.held(desk.shots[0]) if desk.shots else None
        if first is not None:
            target = recent.picture(str(desk.job.path))
            with contextlib.suppress(OSError):  # a full disk costs the picture, not the closing
                target.parent.mkdir(parents=True, exist_ok=True)
                first.save(str(target))

    # --- the window system -----------------------------------------------------------------------------------------
    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [u.toLocalFile() for u in event.mimeData().urls() if u.isLocalFile()]
        if len(paths) == 1 and Path(paths[0]).is_dir():
            self.intake.set_card(paths[0])
            self.go("Intake")
            self.say("A folder: copy it as a card, verified. To take it in where it lies instead, press ⇧A on the Board.")
        elif paths:
            self.reading.add(paths)

    def changeEvent(self, event: QEvent) -> None:
        if event.type() == QEvent.Type.ActivationChange and self.isActiveWindow():
            self.desk.check_sources()
        super().changeEvent(event)

    def _keep_rendering(self) -> bool | None:
        """Asked when the window closes while it renders: does the queue go on without it? None: it stays open."""
        box = QMessageBox(self)
        box.setText("The queue is still rendering. It can go on without this window.")
        box.setInformativeText("What is finished is kept either way, and the job can be opened again at any time.")
        on = box.addButton("Go on without it", QMessageBox.ButtonRole.AcceptRole)
        off = box.addButton("Stop it", QMessageBox.ButtonRole.DestructiveRole)
        box.addButton("Stay", QMessageBox.ButtonRole.RejectRole)
        box.setDefaultButton(on)
        box.exec()
        return True if box.clickedButton() is on else False if box.clickedButton() is off else None

    def closeEvent(self, event: QCloseEvent) -> None:
        keep = self._keep_rendering() if self.desk.queue.running and self.isVisible() else False
        if keep is None:
            event.ignore()
            return
        if self.desk.closed:  # told so once more
            event.accept()
            return
        self.closing.emit()
        for sheet in self.findChildren(QDialog):
            sheet.close()  # nothing can be answered without its window
        focus = QApplication.focusWidget()
        if typing(focus) and focus is not None and focus.window() is self:
            focus.clearFocus()  # what is typed is kept
        self._remember()
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
            if isinstance(app, QApplication):
                app.focusChanged.disconnect(self._entered)
        for timer in (self.bench.timer, self.thumbs.soon, self.finder.soon):
            timer.stop()
        self.reading.close()
        self.desk.close(keep)
        event.accept()
