"""Adzer among a person's programs: entry, icon and file type in their XDG folders (Desktop Entry Specification 1.5,
Shared MIME-info 0.21, Icon Theme Specification)."""

from __future__ import annotations

import contextlib
import shutil
import subprocess
import sys
from pathlib import Path

import platformdirs

from .errors import AdzerError

OURS = Path(__file__).resolve().parent.parent / "desk" / "icons"
TYPE = "application/x-adzer-job"
KIND = f"""<?xml version="1.0" encoding="UTF-8"?>
<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">
  <mime-type type="{TYPE}">
    <comment>Adzer job</comment>
    <icon name="adzer"/>
    <glob pattern="*.adzer"/>
  </mime-type>
</mime-info>
"""


def _places() -> tuple[Path, Path, Path]:
    """Entry, icon, file type."""
    data = platformdirs.user_data_path()
    return (
        data / "applications" / "adzer.desktop",
        data / "icons" / "hicolor" / "scalable" / "apps" / "adzer.svg",
        data / "mime" / "packages" / "adzer.xml",
    )


def _quoted(word: str) -> str:
    """A word of an ``Exec`` line (Desktop Entry Specification, "The Exec key"): quoted, its own signs escaped twice."""
    for sign in ("\\", '"', "`", "$"):
        word = word.replace(sign, f"\\{sign}")
    return '"' + word.replace("\\", "\\\\").replace("%", "%%") + '"'


def install() -> list[Path]:
    """Writes all three and returns where they lie. AdzerError if that cannot be."""
    entry, icon, kind = _places()
    text = (OURS / "adzer.desktop").read_text().replace("Exec=adzer", f"Exec={_quoted(sys.executable)} -m adzer")
    try:
        for path in (entry, icon, kind):
            path.parent.mkdir(parents=True, exist_ok=True)
        entry.write_text(text)
        shutil.copyfile(OURS / "adzer.svg", icon)
        kind.write_text(KIND)
    except OSError as error:
        raise AdzerError(f"{error.filename or entry} cannot be written ({error.strerror}). Check the folder's permissions.") from None
    _told()
    return [entry, icon, kind]


def remove() -> list[Path]:
    """Takes away what ``install`` wrote; returns what was there."""
    there = [p for p in _places() if p.exists()]
    for path in there:
        path.unlink()
    _told()
    return there


def _told() -> None:
    """Desktops that keep lists of these are told to read them again, where their tools are there."""
    entry, _, kind = _places()
    for command in (("update-desktop-database", str(entry.parent)), ("update-mime-database", str(kind.parent.parent))):
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            subprocess.run(command, check=False, capture_output=True, timeout=30)
