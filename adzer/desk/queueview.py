"""The Queue: queued renders in order, each with its progress, and, when it is done, what the check found."""

from __future__ import annotations

import time
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, QUrl
from PySide6.QtGui import QDesktopServices, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from ..core.compile import SEGMENT_SECONDS
from ..core.deliver.advise import size_text, time_text
from ..core.deliver.outlook import outlook
from ..core.finding import Level
from ..core.job import Slip
from ..core.run.service import Reply
from .model import Desk
from .night import Night
from .theme import MAT, draw_mark, font, theme
from .widgets.picture import to_qimage
from .widgets.questions import act

STATES = {
    "waiting": "waits", "rendering": "renders", "done": "rendered and checked", "failed": "failed", "cancelled": "stopped",
}  # fmt: skip


class SlipRow(QWidget):
    """One queued render, painted; its buttons are real."""

    def __init__(self, desk: Desk, slip: Slip) -> None:
        super().__init__()
        self.desk, self.slip = desk, slip
        self.unfolded = False  # of one that is done: are its proofs shown?
        self.picture: QImage | None = None  # the frame that is being made, or one of what waits
        self._span: tuple[float, float] | None = None  # seconds from now at which it begins and ends
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 10, 20, 10)
        row.addStretch(1)
        self.stop = act("Stop it", lambda: desk.cancel(self.slip), main=False)
        self.again = act("Go on", lambda: desk.again(self.slip))
        self.folder = act("Show the folder", self._show_folder, main=False)
        for button in (self.stop, self.again, self.folder):
            row.addWidget(button, 0, Qt.AlignmentFlag.AlignTop)
        self.set_slip(slip)

    def _show_folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(self.slip.order.out).parent)))

    def set_slip(self, slip: Slip) -> None:
        self.slip = slip
        self.stop.setVisible(slip.state in ("waiting", "rendering"))
        self.again.setVisible(slip.state in ("failed", "cancelled"))
        done = slip.state == "done"
        self.folder.setVisible(done and self.unfolded)
        self.setFixedHeight((136 if self.unfolded else 40) if done else 96)
        self.setCursor(Qt.CursorShape.PointingHandCursor if done else Qt.CursorShape.ArrowCursor)
        self.setAccessibleName(f"{slip.order.shot}, {slip.order.card.title}: {STATES.get(slip.state, slip.state)}")
        self.update()

    def set_span(self, span: tuple[float, float] | None) -> None:
        self._span = span
        self.update()

    def _when(self) -> str:
        """From and to which time it will render, as far as is known."""
        if self._span is None or self.slip.state not in ("waiting", "rendering"):
            return ""
        begins, ends = (time.strftime("%H:%M", time.localtime(time.time() + t)) for t in self._span)
        if self.slip.state == "rendering":
            return f" · done at {ends}"
        return f" · {begins} to {ends}" if begins != ends else f" · about {begins}"

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Unfolds the proofs of what is done, or folds them."""
        if self.slip.state == "done":
            self.unfolded = not self.unfolded
            self.set_slip(self.slip)

    def _touched(self) -> bool:
        """Has the shot been changed since this queued render was frozen?"""
        shot = next((s for s in self.desk.shots if s.id == self.slip.shot_id), None)
        o = self.slip.order
        return shot is not None and (shot.route, shot.start, shot.stop) != (o.route, o.start, o.stop)

    def paintEvent(self, event: QPaintEvent) -> None:
        p, s = theme.p, self.slip
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), p.high if s.state == "rendering" else p.paper)
        if s.state == "rendering":
            painter.fillRect(QRectF(0, 0, 4, self.height()), p.accent)
        painter.setPen(QPen(p.line, 1))
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        mark = {"done": None, "failed": Level.STOP, "cancelled": Level.NOTE}.get(s.state, "")
        if mark != "":
            draw_mark(painter, QPointF(26, 20 if s.state == "done" and not self.unfolded else 24), mark)  # type: ignore[arg-type]
        else:
            painter.setFont(font(9))
            painter.setPen(p.quiet)
            painter.drawText(QRectF(12, 14, 28, 20), Qt.AlignmentFlag.AlignCenter, str(s.id))
        if s.state == "done" and not self.unfolded:
            self._draw_folded(painter)
            return
        x, wide = 48.0, self.width() - 330.0
        if s.state in ("rendering", "waiting") and self.picture is not None:
            place = QRectF(48, 12, 128, 72)
            painter.fillRect(place, MAT)
            fitted = self.picture.size().scaled(place.size().toSize(), Qt.AspectRatioMode.KeepAspectRatio)
            box = QRectF(0, 0, fitted.width(), fitted.height())
            box.moveCenter(place.center())
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(box, self.picture)
            x, wide = 190.0, self.width() - 472.0
        painter.setFont(font(10.5, bold=True))
        painter.setPen(p.ink)
        painter.drawText(
            QRectF(x, 12, wide, 22), Qt.AlignmentFlag.AlignVCenter, f"{s.order.shot} · {s.order.card.title}"
        )
        painter.setFont(font(9))
        painter.setPen(p.quiet)
        at = time.strftime("%H:%M", time.localtime(s.at))
        late = (
            "; changed since, this render keeps what it was"
            if self._touched() and s.state in ("waiting", "rendering")
            else ""
        )
        painter.drawText(
            QRectF(x, 34, wide, 18),
            Qt.AlignmentFlag.AlignVCenter,
            f"{STATES.get(s.state, s.state)}{self._when()} · frozen at {at}{late}",
        )
        bar = QRectF(x, 60, wide, 6)
        if s.state in ("rendering", "waiting", "cancelled"):
            painter.fillRect(bar, p.line)
            painter.fillRect(
                QRectF(bar.left(), bar.top(), bar.width() * s.done / max(s.total, 1), bar.height()), p.accent
            )
        painter.setPen(p.ink)
        painter.drawText(QRectF(x, 68, wide + 260, 18), Qt.AlignmentFlag.AlignVCenter, self._figures())
        if s.state == "done" and s.report:
            painter.fillRect(bar, p.fine)
            painter.setPen(p.quiet)
            painter.setFont(font(8.5))
            words = " · ".join(c["text"] for c in s.report["checks"]) + f" · xxh128 {s.report['checksum']}"
            area = QRectF(x, 88, self.width() - x - 24, 44)
            painter.drawText(area, int(Qt.TextFlag.TextWordWrap) | int(Qt.AlignmentFlag.AlignTop), words)

    def _draw_folded(self, painter: QPainter) -> None:
        p, s = theme.p, self.slip
        painter.setFont(font(10))
        painter.setPen(p.ink)
        words = f"{s.order.shot} · {s.order.card.title}"
        painter.drawText(QRectF(48, 0, 420, 40), Qt.AlignmentFlag.AlignVCenter, words)
        painter.setFont(font(9))
        painter.setPen(p.quiet)
        painter.drawText(QRectF(480, 0, self.width() - 580, 40), Qt.AlignmentFlag.AlignVCenter, self._figures())
        painter.drawText(QRectF(self.width() - 100, 0, 80, 40), Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "proofs ▸")

    def _figures(self) -> str:
        s = self.slip
        name = Path(s.order.out).name
        if s.state == "rendering" and s.progress:
            g = s.progress
            if g["doing"] != "rendering":
                return f"{g['doing']} · {size_text(g['size'])}"
            lost = SEGMENT_SECONDS * float(s.order.facts.rate or 25) / max(g["rate"], 0.01)
            return (
                f"{s.done} of {s.total} frames · {g['rate']:.1f} frames a second · {time_text(g['left'])} left · {size_text(g['size'])} so far · "
                f"a power cut costs about {time_text(lost)}"
            )
        if s.state == "done" and s.report:
            return f"{name} · {size_text(s.report['size'])} · {s.report['raster'][0]}×{s.report['raster'][1]}"
        if s.why:
            return s.why
        return f"{s.total} frames → {name}"


class QueueView(QWidget):
    """All queued renders, the newest last, and a line on the whole."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.setObjectName("page")
        self._cards: dict[int, SlipRow] = {}
        self.words = QLabel()
        self.words.setObjectName("title")
        self.outlook, self.short = QLabel(), QLabel()
        self.outlook.setObjectName("quiet")
        self.short.setObjectName("others")
        for label in (self.outlook, self.short):
            label.setWordWrap(True)
            label.setContentsMargins(20, 0, 20, 8)
        self.night = Night(lambda n: self._cards[n].picture if n in self._cards else None)
        self._watch = QTimer(self, interval=2500)
        self._watch.timeout.connect(self._ask_frame)
        desk.worker.pictured.connect(self._pictured)
        self.run = act("Run the queue", desk.run_queue)
        self.empty = QLabel(
            "Nothing is queued. Unfold a shot's Deliver cell and queue it there; renders are frozen as they are then."
        )
        self.empty.setObjectName("quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        top = QHBoxLayout()
        top.setContentsMargins(20, 10, 20, 10)
        top.addWidget(self.words, 1)
        top.addWidget(self.run)
        inner = QWidget()
        inner.setObjectName("page")
        self.column = QVBoxLayout(inner)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(0)
        self.column.addStretch(1)
        area = QScrollArea()
        area.setAccessibleName("slips")
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidget(inner)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(top)
        column.addWidget(self.outlook)
        column.addWidget(self.night)
        column.addWidget(self.short)
        column.addWidget(self.empty)
        column.addWidget(area, 1)
        desk.slips_moved.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        slips = self.desk.slips
        known = {s.id for s in slips}
        for slip_id in [k for k in self._cards if k not in known]:
            self._cards.pop(slip_id).deleteLater()
        for slip in slips:
            if slip.id in self._cards:
                self._cards[slip.id].set_slip(slip)
            else:
                card = self._cards[slip.id] = SlipRow(self.desk, slip)
                self.column.insertWidget(self.column.count() - 1, card)
        waiting = sum(s.state == "waiting" for s in slips)
        going = sum(s.state == "rendering" for s in slips)
        done = sum(s.state == "done" for s in slips)
        failed = sum(s.state == "failed" for s in slips)
        counted = f"{going} rendering, {waiting} waiting, {done} done" + (f", {failed} failed" if failed else "")
        self._say_outlook(slips, waiting + going, counted)
        self.run.setVisible(waiting + going > 0 and not self.desk.queue.running)
        self.empty.setVisible(not slips)
        self.words.setVisible(bool(slips))
        if going and not self._watch.isActive():
            self._watch.start()
        elif not going:
            self._watch.stop()

    def _say_outlook(self, slips: list[Slip], open_: int, counted: str) -> None:
        """When all of it will be done, on which disk, and whether that has room; drawn to the clock as far as that is known."""
        trials = {(s.id, t.card): t for s in self.desk.all.values() for t in s.trials}
        seen = outlook(slips, trials)
        self.night.show_night(seen, slips)
        spans = {n: (a, b) for n, a, b in seen.spans if b > a}
        for n, card in self._cards.items():
            card.set_span(spans.get(n))
        known = bool(seen.seconds) and open_ > 0
        done_at = time.strftime("%H:%M", time.localtime(time.time() + seen.seconds))
        self.words.setText((f"All done at {done_at}" if not seen.unknown else f"What is known is done at {done_at}") if known else counted)
        parts = [f"{time_text(seen.seconds)} left", counted] if known else []
        for disk in seen.disks:
            parts.append(f"{size_text(disk.needs)} still go to {disk.folder}, where {size_text(disk.free)} are free")
        if seen.unknown:
            parts.append(f"{seen.unknown} not measured yet: measure one second of each on its Deliver bench, and it is known before")
        self.outlook.setText(" · ".join(parts))
        self.outlook.setVisible(bool(parts) and open_ > 0)
        short = [d for d in seen.disks if d.short]
        self.short.setText(
            f"{short[0].folder} has not enough room: {size_text(short[0].needs)} are needed, {size_text(short[0].free)} are free. Free some, or "
            "choose another folder; rendering stops before the disk is full." if short else ""
        )  # fmt: skip
        self.short.setVisible(bool(short) and open_ > 0)

    def _ask_frame(self) -> None:
        """The frame that is being made, small, now and then, and once one of what waits; nobody waits for it."""
        for slip in self.desk.slips:
            waits = slip.state == "waiting" and slip.id in self._cards and self._cards[slip.id].picture is None
            if (slip.state == "rendering" or waits) and self.isVisible():
                order = slip.order
                number = order.start + (order.stop - order.start - 1) * slip.done // max(slip.total, 1)
                self.desk.worker.picture(
                    f"slip-{slip.id}", facts=order.facts, seen=None, route=order.route, card=order.card_name,
                    number=number, size=(256, 144),
                )  # fmt: skip

    def _pictured(self, reply: Reply) -> None:
        if reply.key.startswith("slip-") and reply.after is not None:
            card = self._cards.get(int(reply.key.removeprefix("slip-")))
            if card is not None:
                card.picture = to_qimage(reply.after)
                card.update()
                self.night.update()
