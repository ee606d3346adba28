"""How the window was left: its lights and its size, in the person's configuration folder."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

import msgspec
import platformdirs
from PySide6.QtCore import QRect
from PySide6.QtWidgets import QWidget


class Left(msgspec.Struct, frozen=True):
    """``dim``: the lights are down; ``place``: left, top, width and height in pixels of the desktop, ``whole``: it filled the screen."""

    dim: bool = False
    place: tuple[int, int, int, int] | None = None
    whole: bool = False


def _file() -> Path:
    return platformdirs.user_config_path("adzer") / "window.json"


def load() -> Left:
    """As it was left; as it is first, where nothing was kept or it cannot be read."""
    try:
        return msgspec.json.decode(_file().read_bytes(), type=Left)
    except (OSError, msgspec.MsgspecError):
        return Left()


def keep(left: Left) -> None:
    with contextlib.suppress(OSError):  # nothing depends on it
        _file().parent.mkdir(parents=True, exist_ok=True)
        part = _file().with_suffix(f".{os.getpid()}.part")
        part.write_bytes(msgspec.json.encode(left))
        part.replace(_file())


def leave(window: QWidget, dim: bool) -> None:
    at = window.normalGeometry()
    keep(Left(dim, (at.x(), at.y(), at.width(), at.height()), window.isMaximized()))


def work_area(window: QWidget) -> QRect:
    return window.screen().availableGeometry()


def place(window: QWidget) -> None:
    """Where it was left, as far as that is on a screen; else as large as the work area has room for, in its middle."""
    left, screen = load(), work_area(window)
    wanted = QRect(*left.place) if left.place is not None else QRect(screen.topLeft(), window.size())
    wide, high = min(wanted.width(), screen.width()), min(wanted.height(), screen.height())
    window.resize(wide, high)
    if left.place is None or not screen.contains(wanted.center()):
        window.move(screen.x() + (screen.width() - wide) // 2, screen.y() + (screen.height() - high) // 2)
    else:
        window.move(max(screen.left(), min(wanted.x(), screen.right() - wide + 1)), max(screen.top(), min(wanted.y(), screen.bottom() - high + 1)))
    if left.whole:
        window.showMaximized()
