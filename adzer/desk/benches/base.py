"""What a bench gives to the Bench view: its questions, its instruments, what it draws on the picture, its keys."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPointF, QRectF
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QWidget

from ...core.job import Shot
from ...core.route import Walk
from ...core.service import Reply
from ..model import Desk
from ..widgets.plots import Plot


class StageBench(QObject):
    """One stage's bench. ``whole``: the main picture is the whole desqueezed frame, with the delivered one beside it."""

    stage = ""
    whole = False
    scopes = False
    marks = False
    hint = ""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self.questions: list[QWidget] = []
        self.instruments: list[Plot] = []
        self.build()

    def build(self) -> None:
        """Makes ``questions`` and ``instruments``, once."""

    def refresh(self, shot: Shot, walked: Walk) -> None:
        """Shows the answers, reasons and plots of a shot; called after every change."""

    def pictured(self, reply: Reply) -> None:
        """A delivered picture has come, with its scopes."""

    def overlay(self, painter: QPainter, rect: QRectF) -> None:
        """Draws on the main picture, which lies in ``rect``."""

    def dragged(self, place: QPointF, done: bool) -> None:
        """The person drags on the main picture; ``place`` 0–1 in it."""
