"""The Bench: a row unfolded. Picture in its mat, the rule, the shelf of instruments, and the column of questions."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from ..core.finding import Fix
from ..core.intake.proxies import stand_in
from ..core.read.step import shown_timecode
from ..core.run.service import Reply
from ..core.shape.view import holds_directions
from .analysing import Analysing
from .model import Desk
from .reading import Reading
from .stages.base import StageBench
from .stages.colour.bench import ColourBench
from .stages.deliver.bench import DeliverBench
from .stages.develop.bench import DevelopBench
from .stages.join.bench import JoinBench
from .stages.read.bench import ReadBench
from .stages.shape.bench import ShapeBench
from .stages.shape.view import ViewBench
from .stages.steady.bench import SteadyBench
from .theme import draw_mark, fitting, theme, worst_level
from .widgets.findings import FindingList
from .widgets.picture import GUIDES, PictureView, to_qimage
from .widgets.plots import Plot
from .widgets.questions import Question
from .widgets.rule import Rule

PLAY_WIDTH = 960
HAND_WIDTH = 280  # pixels of a picture that takes long, while something is dragged
SHELF, TALL_SHELF = 196, 300  # pixels, with all instruments side by side, or one of them over the full width


class Strip(QWidget):
    """The other rows, closed up into a thin strip of marks."""

    picked = Signal(int)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setFixedWidth(30)

    def _first(self) -> int:
        fits = max(1, self.height() // 30)
        return max(0, min(self.desk.selected - fits // 2, len(self.desk.shots) - fits))

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.fillRect(self.rect(), p.low)
        first = self._first()
        for row, shot in enumerate(self.desk.shots[first : first + self.height() // 30 + 1]):
            box = QRectF(0, 6 + row * 30, 30, 30)
            if first + row == self.desk.selected:
                painter.fillRect(box, p.high)
                painter.fillRect(QRectF(0, box.top(), 3, 30), p.accent)
            draw_mark(painter, box.center(), worst_level(self.desk.walk(shot).findings))
        painter.setPen(QPen(p.line, 1))
        painter.drawLine(QPointF(29.5, 0), QPointF(29.5, self.height()))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        row = self._first() + int((event.position().y() - 6) // 30)
        if 0 <= row < len(self.desk.shots):
            self.picked.emit(row)


class Hint(QLabel):
    """The keys that help here; those for which there is no room are under ? like all others."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("quiet")
        self.setMinimumWidth(100)
        self._words = ""

    def say(self, words: str) -> None:
        self._words = words
        self.setText(fitting(words, self.fontMetrics(), self.width()))

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.say(self._words)


LOW = 430  # pixels under which there is no room for picture and instruments at once


class BenchView(QWidget):
    """Shows the unfolded stage of the selected shot and keeps picture and plots in step with the answers."""

    def __init__(self, desk: Desk, reading: Reading, analysing: Analysing) -> None:
        super().__init__()
        self.desk = desk
        self.reading, self.analysing = reading, analysing
        self._benches: dict[str, StageBench] = {}
        self._columns: dict[str, int] = {}
        self._findings: dict[str, FindingList] = {}
        self._shelves: dict[str, int] = {}
        self._shown: tuple[object, ...] = ()
        self._state: tuple[object, ...] = ()
        self._behind = 0
        self._swapped = False
        self._sort_on = False
        self._away: set[str] = set()  # what is folded away of column and shelf
        self.setObjectName("page")
        self.strip = Strip(desk)
        self.strip.picked.connect(desk.select)
        self.picture, self.side = PictureView(), PictureView()
        self.side.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.rule = Rule()
        self.rule.moved.connect(self._go_to)
        self.rule.ranged.connect(desk.set_range)
        self.questions, self.shelf = QStackedWidget(), QStackedWidget()
        self.questions.setFixedWidth(344)
        self.shelf.setFixedHeight(SHELF)
        self._wide: tuple[Plot, QHBoxLayout, int] | None = None  # the instrument that has the shelf for itself, and its place
        self._rows: dict[Plot, QHBoxLayout] = {}
        page = QWidget()
        self._wide_row = QHBoxLayout(page)
        self._wide_row.setContentsMargins(15, 9, 15, 5)
        self.shelf.addWidget(page)
        self.hint = Hint()
        self._lay_out()
        self.timer = QTimer(self)
        self.timer.timeout.connect(self._next_frame)
        self._soon = QTimer(
            self, singleShot=True, interval=0
        )  # pictures are asked for when the window has drawn itself
        self._soon.timeout.connect(self.ask)
        self._small = QTimer(self, singleShot=True)
        self._small.timeout.connect(self._ask_small)
        self._ready = True
        for view in (self.picture, self.side):
            view.space_changed.connect(self.ask)
        self.picture.dragged.connect(self._dragged)
        self.picture.overlay = self._overlay
        self.picture.instead = lambda: self.bench.instead() if self.bench else None
        desk.worker.pictured.connect(self._pictured)
        desk.drafted.connect(self.refresh)
        desk.changed.connect(self.refresh)
        desk.moved.connect(self.refresh)
        desk.slips_moved.connect(self._refresh_answers)

    def _overlay(self, painter: QPainter, rect: QRectF) -> None:
        """What the stage draws over its picture; over the recorded one, while that is held, it would lie wrong."""
        if self.bench is not None and not self.picture.hold_before:
            self.bench.overlay(painter, rect)

    def _lay_out(self) -> None:
        pictures = self._pictures = QHBoxLayout()
        pictures.setSpacing(0)
        pictures.addWidget(self.picture, 5)
        pictures.addWidget(self.side, 3)
        middle = QVBoxLayout()
        middle.setContentsMargins(0, 0, 0, 0)
        middle.setSpacing(0)
        middle.addLayout(pictures, 1)
        middle.addWidget(self.rule)
        middle.addWidget(self.shelf)
        foot = QHBoxLayout()
        foot.setContentsMargins(16, 4, 8, 7)
        foot.addWidget(self.hint, 1)
        middle.addLayout(foot)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.strip)
        row.addLayout(middle, 1)
        row.addWidget(self.questions)

    # --- which bench -----------------------------------------------------------------------------------------------
    @property
    def bench(self) -> StageBench | None:
        return self._benches.get(self._kind())

    def _kind(self) -> str:
        """The unfolded stage; Shape has another bench for what holds directions."""
        shot, stage = self.desk.shot, self.desk.stage or ""
        return (
            "view"
            if stage == "shape" and shot is not None and holds_directions(self.desk.walk(shot)["shape"].before)
            else stage
        )

    def _bench_for(self, stage: str) -> StageBench:
        if stage not in self._benches:
            kinds: dict[str, Callable[[], StageBench]] = {
                "read": lambda: ReadBench(self.desk, self.reading),
                "join": lambda: JoinBench(self.desk),
                "develop": lambda: DevelopBench(self.desk),
                "steady": lambda: SteadyBench(self.desk, self.analysing),
                "shape": lambda: ShapeBench(self.desk),
                "view": lambda: ViewBench(self.desk),
                "colour": lambda: ColourBench(self.desk),
                "deliver": lambda: DeliverBench(self.desk),
            }
            bench = self._benches[stage] = kinds[stage]()
            bench.repaint.connect(self.picture.update)
            bench.relaid.connect(self._relaid)
            found = self._findings[stage] = FindingList(self._mend)
            self._columns[stage] = self.questions.addWidget(_column(bench, found))
            page, row = _shelf(bench)
            self._shelves[stage] = self.shelf.addWidget(page)
            for plot in bench.instruments:
                self._rows[plot] = row
                plot.unfolded.connect(lambda p=plot: self.widen(None if p.wide else p))
        return self._benches[stage]

    def refresh(self) -> None:
        """After any change: shows the stage, the answers, and asks for a picture."""
        shot = self.desk.shot
        if shot is None or self.desk.stage is None:
            self.timer.stop()
            return
        stage = self._kind()
        bench = self._bench_for(stage)
        if self._shown[:2] != (shot.id, stage):
            if self._shown[:1] != (shot.id,):
                self.picture.clear()
                self.side.clear()
            self.questions.setCurrentIndex(self._columns[stage])
            self._sort_on = True
            self.widen(None)
            self.shelf.setCurrentIndex(self._shelves[stage])
            self.hint.say(bench.hint)
            self.side.setVisible(bench.whole)
            self._share_out(bench)
            if self.picture.way is not None:
                self.picture.compare(self.picture.way)
            self._shown = (shot.id, stage)
        self.rule.set_frame(self.desk.frame)
        state = (
            shot.id,
            stage,
            self.desk.route_of(shot),
            shot.start,
            shot.stop,
            shot.trials,
            shot.parts,
            shot.doubts,
            shot.marks,
            self.desk.seen(shot),
            self.desk.found(shot),
            self.desk.on_proxies,
            self.desk.hand,
            self.desk.problems.get(shot.id),
        )
        if state == self._state:  # only the frame has moved
            self._caption()
            bench.moved(shot)
            self._show_shelf(bench)
            self._soon.start()
            return
        self._state = state
        self.rule.set_shot(
            shot.facts.frames,
            shot.start,
            shot.stop,
            shot.facts.rate or self.desk.job_rate,
            lambda f: shown_timecode(shot.facts, f),
            [m.frame for m in shot.marks],
            bench.pegs(shot),
        )
        self._refresh_answers()
        self._soon.start()

    def _refresh_answers(self) -> None:
        shot, bench = self.desk.shot, self.bench
        if shot is not None and bench is not None:
            walked = self.desk.walk(shot)
            bench.refresh(shot, walked)
            if self._sort_on:  # not while somebody is answering: a card that is in hand stays where it is
                self._sort_on = False
                _open_first(self.questions.widget(self._columns[self._kind()]), bench)
            self._show_shelf(bench)
            self._findings[self._kind()].show_findings(walked[bench.stage].findings)
            self._caption()
            self.strip.update()

    def _show_shelf(self, bench: StageBench) -> None:
        # In a low window the picture has the room; S brings the instruments in instead.
        away = ("shelf" in self._away) != (self.height() < LOW)
        self.shelf.setVisible(not away and any(not plot.isHidden() for plot in bench.instruments))

    def _mend(self, fix: Fix) -> None:
        if self.desk.shot is not None:
            self.desk.mend(self.desk.shot, fix)

    def _caption(self) -> None:
        shot, bench = self.desk.shot, self.bench
        if shot is None or bench is None:
            return
        walked = self.desk.walk(shot)
        w, h = walked["deliver"].after.raster
        source = "from its proxy · " if self.desk.on_proxies and stand_in(shot) else ""
        words = f"{source}as delivered · {walked.card.title} · {w}×{h}"
        self.picture.caption_left = f"{shown_timecode(shot.facts, self.desk.frame)}"
        self.picture.caption_right = bench.whole_words if bench.whole else words
        self.side.inner = QRectF(*walked.draft.filled)
        self.picture.inner = QRectF(0, 0, 1, 1) if bench.whole else self.side.inner
        self.side.safe = self.picture.safe = (walked.card.title_safe, walked.card.covered)
        self.side.caption_right = f"{walked.card.title} · {w}×{h}"
        if walked.stopped and not (bench.whole and walked.stopped.stage == "deliver"):
            self.picture.caption_right = "not deliverable yet: as recorded"
        self.picture.empty_text = self.side.empty_text = "One moment…"

    # --- pictures --------------------------------------------------------------------------------------------------
    def ask(self) -> None:
        """Asks the service for what is in view; whatever was asked before is dropped."""
        shot, bench = self.desk.shot, self.bench
        if shot is None or bench is None or not self.isVisible():
            return
        with_before = self.picture.hold_before or self.picture.way is not None
        room = self.picture.room()
        size = (room.width(), room.height())
        most = HAND_WIDTH if bench.heavy and (self.desk.drafting or self.timer.isActive()) else PLAY_WIDTH if self.timer.isActive() else None
        if most is not None:
            size = (min(size[0], most), min(size[1], most))
        facts, route, seen = self.desk.shown(shot)
        common = {
            "facts": facts, "seen": seen, "route": route, "card": self.desk.card_of(shot),
            "number": min(self.desk.frame, facts.frames - 1),
        }  # fmt: skip
        if bench.whole:
            common["route"] = bench.shown_as(route)
        self.desk.worker.picture(
            "main", **common, size=size, whole=bench.whole, before=with_before, scopes=bench.scopes,
            marks=bench.marks,
        )  # fmt: skip
        if bench.whole:
            room = self.side.room()
            self.desk.worker.picture("side", **common | {"route": route}, size=(room.width(), room.height()))
        if bench.small is not None and not self.desk.drafting and not self.timer.isActive():
            self._small.start(60)

    def _relaid(self) -> None:
        if self.bench is not None:
            self.side.setVisible(self.bench.whole)
            self._share_out(self.bench)
            self._caption()
            self.ask()

    def _ask_small(self) -> None:
        """The delivered shapes follow when an answer was let go, in a turn of their own."""
        shot, bench = self.desk.shot, self.bench
        if shot is None or bench is None or bench.small is None or not self.isVisible():
            return
        bench.show_shapes(shot)
        facts, route, seen = self.desk.shown(shot)
        for i, name in enumerate(bench.delivered(shot)):
            self.desk.worker.picture(
                f"shape-{i}", facts=facts, seen=seen, route=route, card=name,
                number=min(self.desk.frame, facts.frames - 1), size=(320, 220),
            )  # fmt: skip

    def _pictured(self, reply: Reply) -> None:
        if reply.key.startswith("shape-") and self.bench is not None and self.bench.small is not None and reply.after:
            self.bench.small.show_picture(int(reply.key.removeprefix("shape-")), to_qimage(reply.after))
        if reply.key not in ("main", "side"):
            return
        if reply.error:
            self.desk.said.emit(reply.error)
        view = self.picture if reply.key == "main" else self.side
        if reply.after is None and reply.before is not None:
            view.after = None
        view.show_pictures(reply.after, reply.before)
        if reply.key == "main":
            self._ready = True
            if self.bench is not None:
                self.bench.pictured(reply)

    def hold_before(self, held: bool) -> None:
        """Q: the picture as recorded, while it is held."""
        if held != self.picture.hold_before:
            self.picture.hold_before = held
            self.ask()
            self.picture.update()

    def compare(self, way: str) -> None:
        """The recorded picture and the delivered one by a wipe (W), side by side, in turn (V), or how far they are apart."""
        if self.bench is not None and self.bench.compare(way):
            return
        self.picture.compare(way)
        self.ask()

    def flip(self) -> None:
        """⇧E: the other of two eyes, or lenses, that are looked at."""
        if self.bench is not None:
            self.bench.flip()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if (event.oldSize().height() < LOW) != (event.size().height() < LOW) and self.bench is not None:
            self._show_shelf(self.bench)

    def fold(self, what: str) -> None:
        """U: the column of questions away, or back; S: the shelf of instruments."""
        self._away ^= {what}
        self.questions.setVisible("column" not in self._away)
        self._refresh_answers()

    def _share_out(self, bench: StageBench) -> None:
        """How wide the main picture and its helper are."""
        shares = (100, round(100 * bench.side_share))
        for n, share in enumerate(reversed(shares) if self._swapped else shares):
            self._pictures.setStretch(n, share)

    def swap(self) -> None:
        """Z: the helper picture becomes the large one, or the small one again."""
        if self.bench is None or not self.bench.whole:
            self.desk.said.emit("There is only one picture here.")
            return
        self._swapped = not self._swapped
        self._share_out(self.bench)

    def widen(self, plot: Plot | None) -> None:
        """One instrument over the full width, taller; None: all side by side again."""
        if self._wide is not None:
            held, row, at = self._wide
            held.wide, self._wide = False, None
            row.insertWidget(at, held, held.stretch)
        if plot is not None:
            row = self._rows[plot]
            self._wide, plot.wide = (plot, row, row.indexOf(plot)), True
            self._wide_row.addWidget(plot)
        self.shelf.setFixedHeight(TALL_SHELF if self._wide else SHELF)
        self.shelf.setCurrentIndex(0 if self._wide else self._shelves.get(self._kind(), 0))

    def next_wide(self) -> None:
        """Shift+S: the next instrument over the full width; after the last, all of them side by side."""
        held = [p for p in (self.bench.instruments if self.bench else []) if not p.isHidden()]
        at = held.index(self._wide[0]) + 1 if self._wide and self._wide[0] in held else 0
        self.widen(held[at] if at < len(held) else None)

    def next_guide(self) -> None:
        """T: another guide on the delivered picture, or none."""
        view = self.side if self.bench is not None and self.bench.whole else self.picture
        names = list(GUIDES)
        view.guide = names[(names.index(view.guide) + 1) % len(names)]
        self.desk.said.emit(f"Guide: {view.guide}.")
        view.update()

    # --- time ------------------------------------------------------------------------------------------------------
    def _go_to(self, frame: int) -> None:
        self.desk.go_to(frame)

    def play(self) -> None:
        """Space: plays between in and out at reduced size; a frame that is not ready in time is skipped."""
        shot = self.desk.shot
        if self.timer.isActive():
            self.timer.stop()
            self.ask()
        elif shot is not None:
            self._ready = True
            self.timer.start(max(1, round(1000 / float(shot.facts.rate or 25))))

    def next_mark(self, step: int) -> None:
        """Goes to the next mark, or the one before."""
        shot = self.desk.shot
        frames = [m.frame for m in shot.marks] if shot else []
        ahead = [f for f in frames if (f - self.desk.frame) * step > 0]
        if ahead:
            self.desk.go_to(min(ahead, key=lambda f: abs(f - self.desk.frame)))

    def _dragged(self, place: QPointF, done: bool) -> None:
        if self.bench is not None:
            self.bench.dragged(place, done)

    def _next_frame(self) -> None:
        shot = self.desk.shot
        if shot is None or self.desk.stage is None:
            self.timer.stop()
            return
        self._behind += 1
        if not self._ready:
            return
        step, self._behind = self._behind, 0
        self._ready = False
        at = self.desk.frame + step
        self.desk.go_to(at if at < shot.stop else shot.start)


def _column(bench: StageBench, findings: FindingList) -> QScrollArea:
    inner = QWidget()
    column = QVBoxLayout(inner)
    column.setContentsMargins(0, 0, 0, 0)
    column.setSpacing(0)
    column.addWidget(findings)
    for question in bench.questions:
        column.addWidget(question)
    column.addStretch(1)
    area = QScrollArea()
    area.setAccessibleName("questions")
    area.setWidgetResizable(True)
    area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    area.setFrameShape(QFrame.Shape.NoFrame)
    area.setWidget(inner)
    return area


def _open_first(area: QWidget | None, bench: StageBench) -> None:
    """Lays the open questions of a column before those that are folded."""
    inner = area.widget() if isinstance(area, QScrollArea) else None
    column = inner.layout() if inner is not None else None
    assert isinstance(column, QVBoxLayout)
    first = column.count() - 1 - len(bench.questions)  # after the findings; the stretch is last
    for n, question in enumerate(sorted(bench.questions, key=lambda q: isinstance(q, Question) and q.folded)):
        column.removeWidget(question)
        column.insertWidget(first + n, question)


def _shelf(bench: StageBench) -> tuple[QWidget, QHBoxLayout]:
    inner = QWidget()
    row = QHBoxLayout(inner)
    row.setContentsMargins(15, 9, 15, 5)
    row.setSpacing(14)
    for plot in bench.instruments:
        row.addWidget(plot, plot.stretch)
    return inner, row
