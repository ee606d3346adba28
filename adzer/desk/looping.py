"""A moment that plays round and round in place of the main picture: one, or several of the same moment beside each other."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter

from ..core.run.loops import Loop
from .model import Desk
from .theme import MAT, font

SECONDS = 1.2
FIT = {1: (1120, 640), 2: (640, 640), 3: (560, 320), 4: (560, 320)}  # pixels of each, by how many there are; of more as of four
GAP = 4


class Looping(QObject):
    """``stepped``: another picture of it is to be drawn."""

    stepped = Signal()

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.loops: list[Loop] = []
        self.names: list[str] = []
        self.waiting = False
        self._count, self._laid_out = 0, (-1, QImage())
        self._at, self._of = 0, (0, "", 0)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._step)

    @property
    def plays(self) -> bool:
        return self._count > 0 and self._now() == self._of

    def _now(self) -> tuple[int, str, int]:
        """The shot, the stage and the frame: where one of them changes it is put away."""
        return (self.desk.shot.id if self.desk.shot else 0, self.desk.stage or "", self.desk.frame)

    def ask(self, what: str, args: tuple[object, ...], names: Sequence[str], then: Callable[[], object]) -> None:
        """Has a chore make it; ``then`` is called when it plays, or cannot."""
        if self.waiting:
            return
        self.waiting, asked = True, self._now()

        def come(found: Loop | list[Loop | None] | None, error: str | None) -> None:
            self.waiting = False
            loops = found if isinstance(found, list) else [found]
            known = [(name, loop) for name, loop in zip(names, loops, strict=True) if loop is not None and loop.frames] if found else []
            if not known:
                self.desk.said.emit(error or "It cannot be shown.")
            elif asked == self._now():
                self.names, self.loops = [name for name, _ in known], [loop for _, loop in known]
                self._count, self._at, self._of, self._laid_out = min(len(k.frames) for k in self.loops), 0, asked, (-1, QImage())
                self._timer.start(max(10, round(1000 / self.loops[0].rate)))
                self.stepped.emit()
            then()

        self.desk.worker.chore(what, args, come)

    def put_away(self) -> None:
        self._timer.stop()
        if self._count:
            self._count, self.loops = 0, []
            self.stepped.emit()

    def picture(self) -> QImage | None:
        if not self.plays:
            return None
        if self._laid_out[0] != self._at:  # one picture at a time, so that nothing else waits for all of them
            self._laid_out = self._at, _laid(self.loops, self._at)
        return self._laid_out[1]

    def _step(self) -> None:
        if not self.plays:
            self.put_away()
            return
        self._at = (self._at + 1) % self._count
        self.stepped.emit()

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        """Each one's name, below on the left."""
        painter.setFont(font(9))
        columns, rows = _tiles(len(self.loops))
        for n, name in enumerate(self.names):
            x, y = rect.left() + n % columns * rect.width() / columns, rect.top() + (n // columns + 1) * rect.height() / rows
            wide = painter.fontMetrics().horizontalAdvance(name) + 12
            painter.fillRect(QRectF(x, y - 19, wide, 19), QColor(0, 0, 0, 150))
            painter.setPen(QColor("#FFFFFF"))
            painter.drawText(QRectF(x + 6, y - 19, wide, 19), Qt.AlignmentFlag.AlignVCenter, name)


def _tiles(count: int) -> tuple[int, int]:
    columns = 1 if count == 1 else 2 if count <= 4 else 3
    return columns, -(-count // columns)


def _laid(loops: Sequence[Loop], step: int) -> QImage:
    """One step of all of them in one picture."""
    columns, rows = _tiles(len(loops))
    w, h = max(k.size[0] for k in loops), max(k.size[1] for k in loops)
    whole = QImage(columns * w + GAP * (columns - 1), rows * h + GAP * (rows - 1), QImage.Format.Format_RGB32)
    whole.fill(MAT)
    painter = QPainter(whole)
    for n, each in enumerate(loops):
        tile = QImage(each.frames[step], *each.size, 4 * each.size[0], QImage.Format.Format_RGB32)
        x, y = n % columns * (w + GAP) + (w - each.size[0]) // 2, n // columns * (h + GAP) + (h - each.size[1]) // 2
        painter.drawImage(QPointF(x, y), tile)
    painter.end()
    return whole
