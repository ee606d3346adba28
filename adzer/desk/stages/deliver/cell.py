"""What is chosen, queued and done."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from ....core.deliver.advise import estimate, size_text, time_text
from ....core.job import Shot
from ....core.route import Walk
from ...model import Desk
from ...theme import theme
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    names = desk.route_of(shot).deliver.cards
    slips = [s for s in desk.slips if s.shot_id == shot.id and s.order.copy_scale is None]  # a copy is no delivery
    open_, done = [s for s in slips if s.state in ("waiting", "rendering")], [s for s in slips if s.state == "done"]
    first = walked.card.title if len(names) == 1 else f"{len(names)} deliveries" if names else "nothing chosen"
    if open_:
        second = "queued, since changed" if desk.changed_since_queued(shot) else f"{len(open_)} queued"
        if any(s.state == "rendering" for s in open_):
            second = "rendering" + (", since changed" if desk.changed_since_queued(shot) else "")
    elif slips and slips[-1].state == "failed":
        second = "failed, see Queue"
    elif done:
        masters = len(desk.route_of(shot).masters)
        ready = sum(sum(s.order.card_name == name for s in done) >= masters for name in names)  # each by its own masters
        second = f"{ready} of {len(names)} rendered" if ready < len(names) else f"{ready} rendered, checked"
    else:
        known = [t for t in shot.trials if t.card in names]
        sums = [estimate(t, shot.frames) for t in known]
        second = (
            f"{size_text(sum(s for s, _ in sums))} · {time_text(sum(t for _, t in sums))}" if sums else "not queued"
        )
    return Cell(first, second)


def progress_share(desk: Desk, shot: Shot) -> float | None:
    """How much of the shot's queued work is done; None if there is none."""
    slips = [s for s in desk.slips if s.shot_id == shot.id and s.state in ("waiting", "rendering", "done")]
    total = sum(s.total for s in slips)
    return sum(s.done for s in slips) / total if total else None


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    """How much of what is queued is done."""
    box = QRectF(box.left(), box.top() + 12, box.width(), 5)
    share = progress_share(desk, shot)
    if share is None:
        return
    painter.fillRect(box, theme.p.line)
    done = not desk.open_slips(shot)
    painter.fillRect(
        QRectF(box.left(), box.top(), box.width() * share, box.height()), theme.p.fine if done else theme.p.quiet
    )
