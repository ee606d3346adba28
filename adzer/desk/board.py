"""The Board: one row a shot, seven columns, the stages. Painted, so that thousands of rows cost what is seen of them."""

from __future__ import annotations

import re
from functools import partial

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QAccessible, QAccessibleEvent, QImage, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractScrollArea, QHBoxLayout, QSizePolicy, QWidget

from ..core.intake.proxies import stand_in
from ..core.job import Shot
from ..core.media import timecode
from ..core.read.advise import STANDARD_RATES
from ..core.stage import STAGES
from .cells import COMPACT, ROW, SHOT_WIDTH, cell, column_rects, draw_cell
from .model import Desk
from .theme import MAT, font, theme, worst_level
from .widgets.questions import act

TAKE = re.compile(r"(.*) · (\d+)")
TITLES = {s: s.capitalize() for s in STAGES}


def length_text(shot: Shot) -> str:
    """How long the shot is, as timecode at its own rate."""
    rate = shot.facts.rate or STANDARD_RATES[2]
    return timecode.to_label(shot.frames, rate)


class Thumbnails:
    """Small pictures as delivered, asked for once per answer and kept."""

    SIZE = (224, 152)

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._images: dict[int, tuple[object, QImage | None]] = {}
        self._wanted: dict[int, Shot] = {}
        self.soon = QTimer(singleShot=True, interval=60)  # rows that only rush by are not asked for
        self.soon.timeout.connect(self._ask)

    def get(self, shot: Shot) -> QImage | None:
        facts, route, seen = self.desk.shown(shot)
        token = (route, shot.start, shot.stop, self.desk.card_of(shot), facts.fingerprint, seen is not None)
        held = self._images.get(shot.id)
        if held is None or held[0] != token:
            old = held[1] if held else None
            self._images[shot.id] = (token, old)
            if len(self._images) > 600:
                self._images.pop(next(iter(self._images)))
            self._wanted[shot.id] = shot
            self.soon.start()
            return old
        return held[1]

    def held(self, shot: Shot) -> QImage | None:
        """The picture that is there, without asking for another."""
        return self._images.get(shot.id, (None, None))[1]

    def _ask(self) -> None:
        """Asks for the pictures of the rows that were drawn last; others are drawn again before they are seen."""
        latest = list(self._wanted.values())[-16:]
        for shot_id in list(self._wanted)[:-16]:
            self._images.pop(shot_id, None)
        self._wanted.clear()
        for shot in latest:
            facts, route, seen = self.desk.shown(shot)
            self.desk.worker.picture(
                f"thumb-{shot.id}", facts=facts, seen=seen, route=route, card=self.desk.card_of(shot),
                number=(shot.start + shot.stop) // 2, size=self.SIZE,
            )  # fmt: skip

    def arrived(self, key: str, image: QImage) -> None:
        shot_id = int(key.removeprefix("thumb-"))
        if shot_id in self._images:
            self._images[shot_id] = (self._images[shot_id][0], image)


def draw_row(
    painter: QPainter, desk: Desk, thumbs: Thumbnails, index: int, rect: QRectF, chosen: bool, drawing: bool = True
) -> None:
    """One shot: thumbnail, name, kind, length, and its seven cells."""
    p = theme.p
    shot = desk.shots[index]
    painter.fillRect(rect, p.high if chosen or index in desk.marked else p.paper)
    if chosen or index in desk.marked:
        painter.fillRect(QRectF(rect.left(), rect.top(), 4, rect.height()), p.accent)
    if desk.marked and (chosen or index in desk.marked):  # one of several: framed, so that where they begin and end is seen
        painter.setPen(QPen(p.accent, 1.5))
        painter.drawRect(rect.adjusted(1, 1, -1.5, -2))
    painter.setPen(QPen(p.line, 1))
    painter.drawLine(rect.bottomLeft(), rect.bottomRight())
    mat = QRectF(rect.left() + 14, rect.top() + 8, 112, rect.height() - 16)
    painter.fillRect(mat, MAT)
    image = thumbs.get(shot)
    if image is not None:
        k = min((mat.width() - 8) / image.width(), (mat.height() - 8) / image.height())
        w, h = image.width() * k, image.height() * k
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.drawImage(QRectF(mat.center().x() - w / 2, mat.center().y() - h / 2, w, h), image)
    x, room = rect.left() + 136, SHOT_WIDTH - 140
    what = " · ".join(w for w in (shot.scene, shot.camera or shot.kind) if w)
    extra = [f"{len(shot.marks)} marks" if len(shot.marks) > 1 else "1 mark" if shot.marks else ""]
    extra += ["proxy" if stand_in(shot) else "", "notes" if shot.notes else ""]
    length = " · ".join([length_text(shot), *(e for e in extra if e)])
    dropped = shot.verdict == "drop"
    lines = [(shot.name, True, p.quiet if dropped else p.ink), (what, False, p.quiet), (length, False, p.quiet)]
    if shot.verdict:
        painter.setFont(font(8, bold=True))
        painter.setPen(p.quiet if dropped else p.fine)
        tag = QRectF(rect.left() + 136, rect.bottom() - 17, 60, 14)
        painter.drawText(tag, Qt.AlignmentFlag.AlignVCenter, shot.verdict)
    y = rect.center().y() - (27 if drawing else 25)
    for words, bold, colour in lines:
        painter.setFont(font(9.5 if bold else 8.5, bold=bold))
        painter.setPen(colour)
        if painter.fontMetrics().horizontalAdvance(words) > room and (take := TAKE.fullmatch(words)):
            words = f"{take[2]} · {take[1]}"  # what tells takes apart is not what is cut off
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(x, y, room, 18), Qt.AlignmentFlag.AlignVCenter, words)
        if bold and dropped:
            struck = painter.fontMetrics().horizontalAdvance(words)
            painter.drawLine(QPointF(x, y + 9.5), QPointF(x + struck, y + 9.5))
        y += 18 if drawing else 16.5
    for stage, box in column_rects(rect.width(), rect.top(), rect.height()).items():
        draw_cell(painter, desk, shot, stage, box, drawing)


class Header(QWidget):
    """The order of work: the seven stages' names over a graduated line. A click unfolds that stage of the shot."""

    picked = Signal(str)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(31)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = theme.p
        painter = QPainter(self)
        painter.fillRect(self.rect(), p.low)
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        painter.drawText(QRectF(18, 0, 200, 30), Qt.AlignmentFlag.AlignVCenter, "shot")
        unfolded = self.desk.stage
        for i, (stage, box) in enumerate(column_rects(self.width(), 0, self.height()).items()):
            if stage == unfolded:
                painter.fillRect(box, p.high)
                painter.fillRect(QRectF(box.left(), box.bottom() - 3, box.width(), 3), p.accent)
            strong = stage == unfolded or (unfolded is None and i == self.desk.column)
            painter.setFont(font(10, bold=strong or unfolded is None))
            painter.setPen(p.ink if strong or unfolded is None else p.quiet)
            painter.drawText(box.adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, TITLES[stage])
            if unfolded is None and i == self.desk.column:
                painter.fillRect(QRectF(box.left() + 8, box.bottom() - 3, 28, 2), p.accent)
        painter.setPen(QPen(p.line, 1))
        for x in range(SHOT_WIDTH, self.width(), 11):
            painter.drawLine(QPointF(x, self.height() - 4), QPointF(x, self.height() - 1))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for stage, box in column_rects(self.width(), 0, self.height()).items():
            if box.contains(event.position()):
                self.picked.emit(stage)


def row_words(desk: Desk, shot: Shot, first: str) -> str:
    """A row as text: name, what it is of, and each stage's cell with its worst finding, ``first`` first."""
    said = [f"{shot.name}, {shot.camera or shot.kind}"]
    for stage in sorted(STAGES, key=lambda s: s != first):
        held, level = cell(desk, shot, stage), worst_level(desk.walk(shot)[stage].findings)
        words = [w for w in (held.first, held.second, level.value if level else "") if w]
        if words:
            said.append(f"{stage.capitalize()}: {', '.join(words)}")
    return ". ".join(said)


class ShotRow(QWidget):
    """The unfolded shot's row, kept at the top of the Bench."""

    picked = Signal(str)

    def __init__(self, desk: Desk, thumbs: Thumbnails) -> None:
        super().__init__()
        self.desk, self.thumbs = desk, thumbs
        self.setFixedHeight(COMPACT)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.desk.shots:
            draw_row(
                QPainter(self), self.desk, self.thumbs, self.desk.selected, QRectF(self.rect()), True, drawing=False
            )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for stage, box in column_rects(self.width(), 0, self.height()).items():
            if box.contains(event.position()):
                self.picked.emit(stage)


class BoardView(QAbstractScrollArea):
    """All shots. ``unfolded`` when a cell is opened; ``asked`` for files, a folder, or a card, while there are none."""

    unfolded = Signal(str)
    asked = Signal(str)

    def __init__(self, desk: Desk, thumbs: Thumbnails) -> None:
        super().__init__()
        self.desk, self.thumbs = desk, thumbs
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.viewport().setMouseTracking(False)
        self.begin = QWidget(self.viewport())
        row = QHBoxLayout(self.begin)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(12)
        for words, what in (("Add files  A", "files"), ("Add a folder  ⇧A", "folder"), ("Copy a card first  F", "card")):
            button = act(words, partial(self.asked.emit, what), main=what == "files")
            row.addWidget(button)
        desk.moved.connect(self.read_out)
        self.read_out()

    def sizeHint(self) -> QSize:
        return QSize(900, 500)

    def refresh(self) -> None:
        bar = self.verticalScrollBar()
        bar.setRange(0, max(0, len(self.desk.shots) * ROW - self.viewport().height()))
        bar.setSingleStep(ROW // 2)
        bar.setPageStep(self.viewport().height())
        self.begin.setVisible(not self.desk.all)
        self.begin.adjustSize()
        middle = self._drop_box().center().toPoint()
        self.begin.move(middle.x() - self.begin.width() // 2, middle.y())
        self.read_out()
        self.viewport().update()

    def read_out(self) -> None:
        """Says the selected row to whoever cannot see it, the stage in hand first."""
        shot = self.desk.shot
        words = "Nothing on the Board yet" if shot is None else row_words(self.desk, shot, STAGES[self.desk.column])
        if words != self.accessibleName():
            self.setAccessibleName(words)
            QAccessible.updateAccessibility(QAccessibleEvent(self, QAccessible.Event.NameChanged))

    def reveal(self) -> None:
        """Scrolls so that the selected row is seen."""
        self.read_out()
        bar, top = self.verticalScrollBar(), self.desk.selected * ROW
        if top < bar.value():
            bar.setValue(top)
        elif top + ROW > bar.value() + self.viewport().height():
            bar.setValue(top + ROW - self.viewport().height())
        self.viewport().update()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        """What stays in view is moved, not painted again."""
        self.viewport().scroll(0, dy)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.refresh()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self.viewport())
        painter.fillRect(self.viewport().rect(), theme.p.paper)
        offset, width = self.verticalScrollBar().value(), self.viewport().width()
        if not self.desk.all:
            self._paint_empty(painter)
            return
        if not self.desk.shots:
            painter.setPen(theme.p.quiet)
            painter.setFont(font(10))
            words = f"None of {len(self.desk.all)} shots fits “{self.desk.filter}”. Esc shows all."
            painter.drawText(self.viewport().rect(), Qt.AlignmentFlag.AlignCenter, words)
            return
        seen = event.rect()
        for i in range((offset + seen.top()) // ROW, min(len(self.desk.shots), (offset + seen.bottom()) // ROW + 1)):
            draw_row(
                painter, self.desk, self.thumbs, i, QRectF(0, i * ROW - offset, width, ROW), i == self.desk.selected
            )
        below = len(self.desk.shots) * ROW - offset
        if below < self.viewport().height() - 60:
            painter.setFont(font(9))
            painter.setPen(theme.p.quiet)
            where = QRectF(0, below + 14, width, 30)
            painter.drawText(where, Qt.AlignmentFlag.AlignCenter, "drop further recordings here")

    def _paint_empty(self, painter: QPainter) -> None:
        box = self._drop_box()
        painter.setPen(QPen(theme.p.quiet, 1, Qt.PenStyle.DashLine))
        painter.drawRect(box)
        painter.setPen(theme.p.ink)
        painter.setFont(font(13, bold=True))
        painter.drawText(box.adjusted(0, -90, 0, -90), Qt.AlignmentFlag.AlignCenter, "Drop recordings here, or click to choose them")
        painter.setFont(font(10))
        painter.setPen(theme.p.quiet)
        painter.drawText(
            box.adjusted(0, -52, 0, -52), Qt.AlignmentFlag.AlignCenter,
            "Files are read where they lie, and never changed. A card is copied first, every copy compared with it.",
        )

    def _drop_box(self) -> QRectF:
        return QRectF(self.viewport().rect()).adjusted(120, 70, -120, -70)

    def _row_at(self, y: float) -> int | None:
        row = int((y + self.verticalScrollBar().value()) // ROW)
        return row if 0 <= row < len(self.desk.shots) else None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if not self.desk.all and self._drop_box().contains(event.position()):
            self.asked.emit("files")
        row = self._row_at(event.position().y())
        if row is None:
            return
        extend = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
        one_more = event.modifiers() & Qt.KeyboardModifier.ControlModifier
        anchor, marked = self.desk.selected, self.desk.marked | {self.desk.selected}
        for i, box in enumerate(column_rects(self.viewport().width(), 0, 10_000).values()):
            if box.contains(QPointF(event.position().x(), 1)):
                self.desk.column = i
        self.desk.select(row)
        if extend:
            self.desk.marked = set(range(min(anchor, row), max(anchor, row) + 1))
        elif one_more:
            self.desk.marked = marked ^ {row} if row in marked and row != anchor else marked | {row}
        self.desk.moved.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self._row_at(event.position().y()) is not None:
            self.unfolded.emit(STAGES[self.desk.column])
