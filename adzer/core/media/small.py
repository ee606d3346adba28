"""The one reader for small files of a person's or a stranger's: a card, keyframes, patches, a motion file, a picture.

A pipe, a device or a link to one is refused before it is opened for reading, as is what is too large; nothing here waits for ever.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from ..errors import UnreadableError, shown


def read(path: str | Path, most: int, what: str) -> bytes:
    """The bytes of a regular file of at most ``most`` bytes, which is to be ``what`` ("a card"). UnreadableError names the file."""
    name = shown(str(path))
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except FileNotFoundError:
        raise UnreadableError(f"{name} cannot be read: it is not there. Check its name, or choose another one.") from None
    except (OSError, ValueError) as error:
        raise UnreadableError(f"{name} cannot be read ({getattr(error, 'strerror', None) or error}). Check that it is there and yours.") from None
    try:
        held = os.fstat(handle)
        if stat.S_ISDIR(held.st_mode):
            raise UnreadableError(f"{name} is a folder. Give {what} inside it.")
        if not stat.S_ISREG(held.st_mode):
            raise UnreadableError(f"{name} is a pipe or a device. Give {what}, a plain file.")
        if held.st_size > most:
            raise UnreadableError(f"{name} is larger than {most / 1e6:g} MB, which {what} is not.")
        with os.fdopen(handle, "rb", closefd=False) as file:
            return file.read(most + 1)[:most]
    except OSError as error:
        raise UnreadableError(f"{name} cannot be read ({error.strerror}). Check the disk and its permissions.") from None
    finally:
        os.close(handle)


def text(path: str | Path, most: int, what: str) -> str:
    """The same as text in UTF-8, with or without its mark of byte order."""
    try:
        return read(path, most, what).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise UnreadableError(f"{shown(str(path))} cannot be read as text (UTF-8). Give {what}.") from None
