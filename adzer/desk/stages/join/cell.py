"""Which files are one recording."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from ....core.job import Shot
from ....core.route import Walk
from ...model import Desk
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    """Nothing, where there was nothing to join."""
    if walked.draft.rig:
        return Cell(walked["join"].result.says, quiet=True)
    facts = shot.facts
    if facts.beside is not None:
        return Cell("two lenses, one picture", quiet=True)
    if facts.files and facts.codec not in ("tiff", "dpx", "exr"):
        return Cell(f"{len(facts.files)} chapters, one recording", quiet=True)
    return Cell("the other eye waits" if facts.apart is not None else "", quiet=True)


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    pass
