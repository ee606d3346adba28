"""Sheets in which files and folders are chosen, and nothing else is done to them: none can be renamed, moved or deleted there."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QWidget

ONLY_READ = QFileDialog.Option.ReadOnly | QFileDialog.Option.DontUseNativeDialog


def folder(parent: QWidget | None, title: str, start: str = "") -> str:
    """A folder that is there; "" if none was chosen."""
    return QFileDialog.getExistingDirectory(parent, title, start, ONLY_READ | QFileDialog.Option.ShowDirsOnly)


def file(parent: QWidget | None, title: str, kinds: str, start: str = "") -> str:
    """A file that is there, of ``kinds`` as the library writes them; "" if none was chosen."""
    return QFileDialog.getOpenFileName(parent, title, start, kinds, options=ONLY_READ)[0]


def files(parent: QWidget | None, title: str) -> list[str]:
    return QFileDialog.getOpenFileNames(parent, title, options=ONLY_READ)[0]


def new_file(parent: QWidget | None, title: str, kinds: str, start: str) -> Path | None:
    """A name for a file that is to be written; one that is taken is asked about. None if none was chosen."""
    path, _ = QFileDialog.getSaveFileName(parent, title, start, kinds, options=ONLY_READ)
    return Path(path) if path else None
