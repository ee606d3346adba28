"""Paper and mat: colours, fonts and the four marks. ``L`` puts the lights down; the layout stays."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontDatabase, QFontMetrics, QPainter, QPen, QPolygonF

from ..core.finding import Finding, Level

FONTS = Path(__file__).parent / "fonts"
ICONS = Path(__file__).parent / "icons"
MAT, MAT_INK = QColor("#777777"), QColor("#000000")  # words on the mat are black: white would stand out less from it
FAMILY, MONO = "B612", "B612 Mono"


@dataclass(frozen=True)
class Palette:
    paper: QColor
    high: QColor
    low: QColor
    field: QColor
    ink: QColor
    quiet: QColor
    line: QColor
    edge: QColor
    accent: QColor
    accent_text: QColor
    tint: QColor
    stop: QColor
    warn: QColor
    note: QColor
    fine: QColor
    chosen: QColor
    chosen_ink: QColor
    plot: QColor
    plot_ink: QColor


def _palette(*names: str) -> Palette:
    return Palette(*(QColor(n) for n in names))


DAY = _palette(
    "#ECE9E2", "#F5F3EE", "#E5E1D7", "#EFECE5", "#26241F", "#5F5B52", "#CFCABD", "#857E70", "#B4701E", "#8A5210", "#E3CDB2",
    "#9E3B2C", "#A06E10", "#4F6478", "#46664A", "#26241F", "#F5F3EE", "#1E1E1E", "#E9E4D8",
)  # fmt: skip
DIM = _palette(
    "#303030", "#383838", "#2A2A2A", "#2C2C2C", "#EDEDED", "#B4B4B4", "#4B4B4B", "#8E8E8E", "#E09A3E", "#F0AC55", "#5A4A38",
    "#E07A68", "#E3B04B", "#9DB6CC", "#8FB88F", "#E6E6E6", "#222222", "#1A1A1A", "#E2E2E2",
)  # fmt: skip


class Theme:
    """The palette in force. One object, shared; widgets repaint when the window tells them."""

    def __init__(self) -> None:
        self.dim = False

    @property
    def p(self) -> Palette:
        return DIM if self.dim else DAY


theme = Theme()


def load_fonts() -> None:
    for path in FONTS.glob("*.otf"):
        QFontDatabase.addApplicationFont(str(path))


def font(points: float = 10.0, bold: bool = False, mono: bool = False) -> QFont:
    """B612 scaled from the 10-point base; figures are even by nature."""
    f = QFont(MONO if mono else FAMILY)
    f.setPointSizeF(points)
    f.setBold(bold)
    return f


def level_colour(level: Level | None) -> QColor:
    p = theme.p
    return {Level.STOP: p.stop, Level.WARN: p.warn, Level.NOTE: p.note, None: p.fine}[level]


def draw_mark(painter: QPainter, centre: QPointF, level: Level | None, size: float = 11.0) -> None:
    """stop: filled square; warn: half-filled triangle; note: open ring; fine: a short stroke."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    colour = level_colour(level)
    h = size / 2
    x, y = centre.x(), centre.y()
    if level is Level.STOP:
        painter.fillRect(QRectF(x - h * 0.9, y - h * 0.9, h * 1.8, h * 1.8), colour)
    elif level is Level.WARN:
        painter.setPen(QPen(colour, 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPolygon(
            QPolygonF([QPointF(x, y - h), QPointF(x + h * 1.1, y + h * 0.9), QPointF(x - h * 1.1, y + h * 0.9)])
        )
        painter.setBrush(colour)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.drawPolygon(QPolygonF([QPointF(x, y - h), QPointF(x, y + h * 0.9), QPointF(x - h * 1.1, y + h * 0.9)]))
    elif level is Level.NOTE:
        painter.setPen(QPen(colour, 1.8))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(centre, h * 0.85, h * 0.85)
    else:
        painter.setPen(QPen(colour, 2.4))
        painter.drawLine(QPointF(x - h, y), QPointF(x + h, y))
    painter.restore()


def worst_level(findings: tuple[Finding, ...] | list[Finding]) -> Level | None:
    """The most severe level, or None if there is nothing to say."""
    return max((f.level for f in findings), key=lambda v: v.weight, default=None)


def style_sheet() -> str:
    """For the few ready-made widgets; everything else is painted."""
    p = theme.p
    n = {
        k: getattr(p, k).name()
        for k in ("paper", "high", "low", "field", "ink", "quiet", "line", "edge", "accent", "accent_text")
    }
    return f"""
    QWidget {{ color: {n["ink"]}; font-family: "{FAMILY}"; font-size: 10pt; }}
    QDialog {{ border: 1px solid {n["quiet"]}; }}
    QMainWindow, QDialog, QWidget#page {{ background: {n["paper"]}; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: {n["high"]}; border: none; }}
    QLabel#title {{ font-weight: bold; }}
    QLabel#quiet {{ color: {n["quiet"]}; font-size: 9pt; }}
    QLabel#others {{ color: {n["accent_text"]}; font-size: 9pt; }}
    QPlainTextEdit {{ background: {n["field"]}; border: 1px solid {n["edge"]}; border-radius: 3px; padding: 3px 5px; }}
    QLineEdit {{ background: {n["field"]}; border: 1px solid {n["edge"]}; border-radius: 3px; padding: 3px 7px;
                 selection-background-color: {n["accent"]}; placeholder-text-color: {n["quiet"]}; }}
    QLineEdit:focus, QPlainTextEdit:focus {{ border-color: {n["accent"]}; }}
    QPushButton {{ background: {n["low"]}; border: 1px solid transparent; border-radius: 3px; padding: 4px 12px; }}
    QPushButton:hover, QPushButton:focus {{ border-color: {n["accent"]}; }}
    QPushButton:checked {{ background: {p.chosen.name()}; color: {p.chosen_ink.name()}; font-weight: bold; }}
    QPushButton:disabled {{ color: {n["quiet"]}; }}
    QPushButton#act {{ background: {n["high"]}; border: 1px solid {n["accent"]}; color: {n["accent_text"]}; font-weight: bold; }}
    QPushButton#plain {{ background: {n["high"]}; border: 1px solid {n["edge"]}; }}
    QPushButton#plain:hover, QPushButton#plain:focus {{ border-color: {n["accent"]}; }}
    QTableView {{ background: {n["paper"]}; border: none; gridline-color: transparent; selection-background-color: {n["high"]};
                  selection-color: {n["ink"]}; }}
    QHeaderView::section {{ background: {n["low"]}; border: none; border-bottom: 1px solid {n["line"]}; padding: 6px 8px;
                            font-weight: bold; }}
    QListWidget {{ background: {n["high"]}; border: 1px solid {n["edge"]}; }}
    QListWidget::item {{ padding: 5px 8px; }}
    QListWidget::item:selected {{ background: {p.tint.name()}; color: {n["ink"]}; }}
    QComboBox {{ background: {n["field"]}; border: 1px solid {n["edge"]}; border-radius: 3px; padding: 3px 7px; }}
    QComboBox:focus {{ border-color: {n["accent"]}; }}
    QComboBox::drop-down {{ border: none; width: 22px; }}
    QComboBox::down-arrow {{ image: url({(ICONS / ("down-dim.svg" if theme.dim else "down.svg")).as_posix()}); width: 9px; }}
    QComboBox QAbstractItemView {{ background: {n["high"]}; selection-background-color: {p.tint.name()};
                                   selection-color: {n["ink"]}; }}
    QScrollBar:vertical {{ background: transparent; width: 9px; }}
    QScrollBar::handle:vertical {{ background: {n["line"]}; border-radius: 4px; min-height: 30px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; height: 0; }}
    QToolTip {{ background: {n["high"]}; color: {n["ink"]}; border: 1px solid {n["line"]}; }}
    """


def fitting(words: str, metrics: QFontMetrics, room: float) -> str:
    """What of words has room: pieces between dots or commas are left out whole, the last ones first; a first piece that is too
    long for itself ends in an ellipsis."""
    while metrics.horizontalAdvance(words) > room:
        cut = max(words.rfind(" · "), words.rfind(", "))
        if cut < 0:
            return metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(room))
        words = words[:cut]
    return words
