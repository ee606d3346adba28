"""Are these sensor values?"""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter

from ....core.job import Shot
from ....core.route import Walk
from ...model import Desk
from ..base import Cell


def says(desk: Desk, shot: Shot, walked: Walk) -> Cell:
    return Cell("sensor values" if shot.facts.mosaic else "", quiet=True)


def draw(painter: QPainter, desk: Desk, shot: Shot, box: QRectF) -> None:
    pass
