"""What a Board cell says and draws for a stage: two short lines, a mark, and a small drawing of the stage's own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from ..core.deliver.advise import estimate, size_text, time_text
from ..core.finding import Level
from ..core.job import Shot
from ..core.light import names as colour_cards
from ..core.picture import Picture
from ..core.read.advise import rate_text
from ..core.shape.view import Viewed, outline
from ..core.stage import STAGES
from .model import Desk
from .theme import draw_mark, fitting, font, theme, worst_level

SHOT_WIDTH = 242
WEIGHTS = {"read": 150, "join": 104, "develop": 112, "steady": 112, "shape": 150, "colour": 160, "deliver": 170}
ROW, COMPACT = 92, 66


def column_rects(width: float, top: float, height: float) -> dict[str, QRectF]:
    """The seven stages' cells of a row."""
    total, x, rects = sum(WEIGHTS.values()), float(SHOT_WIDTH), {}
    for stage in STAGES:
        w = (width - SHOT_WIDTH) * WEIGHTS[stage] / total
        rects[stage] = QRectF(x, top, w, height)
        x += w
    return rects


@dataclass(frozen=True)
class Cell:
    first: str
    second: str
    level: Level | None
    idle: bool


def cell(desk: Desk, shot: Shot, stage: str) -> Cell:
    """All figures come from the walk, the footage or the queue."""
    walked = desk.walk(shot)
    stop = walked[stage]
    level = worst_level(stop.findings)
    after = stop.after
    if stage == "read":
        rate = ("~" if after.constant_rate is False else "") + rate_text(after.rate)
        first = (
            f"{colour_cards.title(after.curve)}, {after.bits}-bit"
            if after.curve
            else "curve unknown"
        )
        form = form_words(after) or f"{after.raster[0]}×{after.raster[1]}"
        depth = "" if after.curve else f"{after.bits}-bit, "
        return Cell(first, f"{depth}{form} · {rate}", level, False)
    if stage in ("join", "develop", "steady"):
        return Cell(stop.result.says if stage == "join" and walked.draft.rig else _passing(shot, stage), "", level, True)
    if stage == "shape":
        shaped, viewed = stop.result.shaped, stop.result.viewed
        second = f"keeps {float(shaped.framing.kept):.0%}" if shaped is not None else ""
        if viewed is not None:
            second = f"{'×'.join(map(str, viewed.look.size))} · {form_words(stop.before)}"
        return Cell(stop.result.says, second, level, False)
    if stage == "colour":
        chain = walked.draft.chain
        if chain is None:
            return Cell(stop.result.says, "", level, stop.result.idle)
        grey = chain.grey
        return Cell(stop.result.says, f"middle grey {grey:.0%}", level, False)
    return _deliver_cell(desk, shot, level)


def _passing(shot: Shot, stage: str) -> str:
    """What is true of a stage that does nothing to a shot; nothing, where nothing is."""
    if stage == "join":
        if shot.facts.beside is not None:
            return "two lenses, one picture"
        if shot.facts.files and shot.facts.codec not in ("tiff", "dpx", "exr"):
            return f"{len(shot.facts.files)} chapters, one recording"
        return "the other eye waits" if shot.facts.apart is not None else ""
    if stage == "develop":
        return "sensor values" if shot.facts.mosaic else ""
    return ""


def form_words(picture: Picture) -> str:
    """sphere · eyes over, right first: what is not a plain flat picture, in a few words."""
    words = []
    if picture.mosaic not in (None, "none"):
        words.append("sensor values")
    if picture.projection == "equirectangular":
        words.append("half sphere" if picture.coverage == "180" else "sphere")
    elif picture.projection == "fisheye":
        words.append("round lens" if picture.coverage != "360" else "two round lenses")
    if picture.eyes not in (None, "one"):
        words.append(f"eyes {'beside' if picture.eyes == 'side by side' else 'over'}, {picture.first or '?'} first")
    return ", ".join(words)


def _deliver_cell(desk: Desk, shot: Shot, level: Level | None) -> Cell:
    names = desk.route_of(shot).deliver.cards
    slips = [s for s in desk.slips if s.shot_id == shot.id and s.order.copy_scale is None]  # a copy is no delivery
    open_, done = [s for s in slips if s.state in ("waiting", "rendering")], [s for s in slips if s.state == "done"]
    first = desk.walk(shot).card.title if len(names) == 1 else f"{len(names)} deliveries" if names else "nothing chosen"
    if open_:
        second = "queued, since changed" if desk.changed_since_queued(shot) else f"{len(open_)} queued"
        if any(s.state == "rendering" for s in open_):
            second = "rendering" + (", since changed" if desk.changed_since_queued(shot) else "")
    elif slips and slips[-1].state == "failed":
        second = "failed, see Queue"
    elif done:
        second = f"{len(done)} rendered, checked"
    else:
        known = [t for t in shot.trials if t.card in names]
        sums = [estimate(t, shot.frames) for t in known]
        second = (
            f"{size_text(sum(s for s, _ in sums))} · {time_text(sum(t for _, t in sums))}" if sums else "not queued"
        )
    return Cell(first, second, level, False)


def progress_share(desk: Desk, shot: Shot) -> float | None:
    """How much of the shot's queued work is done; None if there is none."""
    slips = [s for s in desk.slips if s.shot_id == shot.id and s.state in ("waiting", "rendering", "done")]
    total = sum(s.total for s in slips)
    return sum(s.done for s in slips) / total if total else None


def draw_cell(painter: QPainter, desk: Desk, shot: Shot, stage: str, rect: QRectF, drawing: bool) -> None:
    """Text, mark and drawing of one cell."""
    p = theme.p
    c = cell(desk, shot, stage)
    painter.setFont(font(9.5))
    metrics = painter.fontMetrics()
    room = int(rect.width() - 34)
    if stage in ("join", "develop", "steady"):
        painter.setPen(p.quiet)
        aligned = Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
        width = rect.width() - (12 if c.level is None else 34)
        painter.drawText(QRectF(rect.left() + 8, rect.top(), width, rect.height()), aligned, c.first)
    else:
        painter.setPen(p.ink)
        top = rect.top() + 11
        painter.drawText(
            QRectF(rect.left() + 8, top, room, 18),
            Qt.AlignmentFlag.AlignVCenter,
            fitting(c.first, metrics, room),
        )
        painter.setFont(font(8.5))
        painter.setPen(p.quiet)
        second = fitting(c.second, painter.fontMetrics(), rect.width() - 14)
        painter.drawText(
            QRectF(rect.left() + 8, top + 18, rect.width() - 12, 16), Qt.AlignmentFlag.AlignVCenter, second
        )
    if c.level is not None:
        draw_mark(painter, QPointF(rect.right() - 16, rect.top() + 20), c.level)
    elif (
        stage == "deliver"
        and any(s.shot_id == shot.id and s.state == "done" for s in desk.slips)
        and not desk.open_slips(shot)
    ):
        draw_mark(painter, QPointF(rect.right() - 16, rect.top() + 20), None)
    if drawing:
        box = QRectF(rect.left() + 8, rect.top() + 54, 62, 27)
        if stage == "read":
            _draw_form(painter, desk, shot, box)
        elif stage == "shape":
            _draw_frame(painter, desk, shot, box)
        elif stage == "colour":
            _draw_tone(painter, desk, shot, box)
        elif stage == "deliver":
            _draw_bar(painter, desk, shot, QRectF(rect.left() + 8, rect.top() + 66, rect.width() - 40, 5))


def _draw_form(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """The recorded picture's outline to scale, with what is in it: a sphere's net, a lens's disc, two eyes."""
    picture = desk.walk(shot)["read"].after
    shape = float(picture.shape)
    k = min(box.width(), box.height() * shape)
    outer = QRectF(box.left(), box.top(), k, k / shape)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.drawRect(outer)
    beside = picture.eyes == "side by side"
    halves = [outer]
    if picture.eyes not in (None, "one"):
        w, h = (outer.width() / 2, outer.height()) if beside else (outer.width(), outer.height() / 2)
        halves = [
            QRectF(outer.left() + (w if beside else 0) * i, outer.top() + (0 if beside else h) * i, w, h)
            for i in (0, 1)
        ]
    elif picture.projection == "fisheye" and picture.coverage == "360" and shape > 1.5:
        w = outer.width() / 2
        halves = [QRectF(outer.left() + w * i, outer.top(), w, outer.height()) for i in (0, 1)]
    for half in halves:
        painter.setPen(QPen(theme.p.ink, 1))
        painter.drawRect(half)
        painter.setPen(QPen(theme.p.quiet, 1))
        if picture.projection == "equirectangular":
            for i in (0.25, 0.5, 0.75):
                painter.drawLine(
                    QPointF(half.left() + i * half.width(), half.top()),
                    QPointF(half.left() + i * half.width(), half.bottom()),
                )
            painter.drawLine(QPointF(half.left(), half.center().y()), QPointF(half.right(), half.center().y()))
        elif picture.projection == "fisheye":
            r = min(half.width(), half.height()) * 0.47
            painter.drawEllipse(half.center(), r, r)


def _draw_frame(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """The desqueezed picture's outline with the crop in it, to scale."""
    result = desk.walk(shot)["shape"].result
    if result.viewed is not None:
        _draw_view(painter, result.viewed, box)
    if (shaped := result.shaped) is None:
        return
    f = shaped.framing
    whole_w, whole_h = float(f.desqueezed[0]), float(f.desqueezed[1])
    k = min(box.width() / whole_w, box.height() / whole_h)
    outer = QRectF(box.left(), box.top(), whole_w * k, whole_h * k)
    sx, sy = float(f.scale[0]), float(f.scale[1])
    x, y, w, h = (float(v) for v in f.crop)
    inner = QRectF(outer.left() + x / sx * k, outer.top() + y / sy * k, w / sx * k, h / sy * k)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(outer)
    painter.setPen(QPen(theme.p.accent, 1.3))
    painter.setBrush(theme.p.tint)
    painter.drawRect(inner)


def _draw_view(painter: QPainter, viewed: Viewed, box: QRectF) -> None:
    """The unrolled recording's outline with the view's true outline in it."""
    w, h = viewed.lens.size
    k = min(box.width() / w, box.height() / h)
    painter.setPen(QPen(theme.p.ink, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(QRectF(box.left(), box.top(), w * k, h * k))
    place = viewed.lens.place(outline(viewed.panel, viewed.look.path.keys[0].t, 10)) * k
    painter.setPen(QPen(theme.p.accent, 1.3))
    for a, b in zip(place, np.roll(place, -1, axis=0), strict=True):
        if abs(a[0] - b[0]) < w * k / 3:
            painter.drawLine(QPointF(box.left() + a[0], box.top() + a[1]), QPointF(box.left() + b[0], box.top() + b[1]))


def _draw_tone(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """Delivered signal over recorded signal; a straight line where nothing is changed."""
    chain = desk.walk(shot).draft.chain
    box = QRectF(box.left(), box.top(), box.height() * 1.2, box.height())
    painter.setPen(QPen(theme.p.line, 1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(box)
    x = np.linspace(0, 1, 24)
    if chain is None:
        y = x
    else:
        y = chain.tone(chain.decode(x) * chain.gain)
    painter.setPen(QPen(theme.p.ink, 1.6))
    points = [QPointF(box.left() + u * box.width(), box.bottom() - v * box.height()) for u, v in zip(x, y, strict=True)]
    painter.drawPolyline(QPolygonF(points))


def _draw_bar(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    share = progress_share(desk, shot)
    if share is None:
        return
    painter.fillRect(box, theme.p.line)
    done = not desk.open_slips(shot)
    painter.fillRect(
        QRectF(box.left(), box.top(), box.width() * share, box.height()), theme.p.fine if done else theme.p.quiet
    )
