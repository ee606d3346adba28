"""What still pictures say of themselves, without being decoded: when they were taken, and how large they are."""

from __future__ import annotations

import errno
import io
import logging
import struct
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

HEAD = 1 << 18  # bytes in which what a camera says of a compressed still has to lie: its segments are 64 kB at most
FRAMES = {*range(0xC0, 0xD0)} - {0xC4, 0xC8, 0xCC}  # segments that begin a picture (ISO/IEC 10918-1, table B.1)


def taken(path: Path) -> float | None:
    """Seconds by the camera's own clock (Exif 2.32, DateTimeOriginal and SubSecTimeOriginal); None if it does not say."""
    import tifffile  # here, as it loads slowly and the window opens without it

    logging.getLogger("tifffile").setLevel(logging.CRITICAL)  # which misses pixels in what only holds tags
    try:
        head = _head(path)
        # A JPEG file holds a TIFF among its segments (Exif 2.32, 4.7.2).
        inner = next((io.BytesIO(body[6:]) for mark, body in _segments(head) if mark == 0xE1 and body[:6] == b"Exif\0\0"), None)
        if inner is None and head[:2] not in (b"II", b"MM"):
            return None
        with tifffile.TiffFile(inner if inner is not None else path) as held:
            tags = held.pages[0].tags  # type: ignore[union-attr]
            own = tags["ExifTag"].value if "ExifTag" in tags else {}
            said = own.get("DateTimeOriginal") or (tags["DateTime"].value if "DateTime" in tags else None)
            part = str(own.get("SubsecTimeOriginal") or "0").strip("\0 ")
            return datetime.strptime(str(said), "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC).timestamp() + float(f"0.{part}")
    except (OSError, ValueError, KeyError, struct.error, tifffile.TiffFileError):
        return None


def size(path: Path) -> tuple[int, int] | None:
    """Pixels across and down of a JPEG or PNG file; None of others, and where that does not lie at its beginning."""
    try:
        head = _head(path)
    except OSError:
        return None
    if head[:8] == b"\x89PNG\r\n\x1a\n" and len(head) >= 24:  # ISO/IEC 15948, 11.2.2
        return int.from_bytes(head[16:20], "big"), int.from_bytes(head[20:24], "big")
    found = next((body for mark, body in _segments(head) if mark in FRAMES and len(body) >= 5), None)
    return None if found is None else (int.from_bytes(found[3:5], "big"), int.from_bytes(found[1:3], "big"))


def _head(path: Path) -> bytes:
    if not path.is_file():
        raise OSError(errno.EINVAL, "no plain file", str(path))
    with path.open("rb") as file:
        return file.read(HEAD)


def _segments(head: bytes) -> Iterator[tuple[int, bytes]]:
    """Markers and bodies of a JPEG file's segments, up to its pixels (ISO/IEC 10918-1, B.1.1.4); of others none."""
    at = 2 if head[:2] == b"\xff\xd8" else len(head)
    while at + 4 <= len(head) and head[at] == 0xFF and head[at + 1] != 0xDA:
        length = int.from_bytes(head[at + 2 : at + 4], "big")
        yield head[at + 1], head[at + 4 : at + 2 + length]
        at += 2 + length
