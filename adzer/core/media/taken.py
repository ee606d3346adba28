"""When a still picture was taken, as its camera wrote into it."""

from __future__ import annotations

import io
import struct
from datetime import UTC, datetime
from pathlib import Path

HEAD = 1 << 18  # bytes in which what a camera says of a compressed still has to lie: its segments are 64 kB at most


def taken(path: Path) -> float | None:
    """Seconds by the camera's own clock (Exif 2.32, DateTimeOriginal and SubSecTimeOriginal); None if it does not say."""
    import tifffile  # here, as it loads slowly and the window opens without it

    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
        body = _exif(head) if head[:2] == b"\xff\xd8" else path.read_bytes() if head[:2] in (b"II", b"MM") else None
        if body is None:
            return None
        with tifffile.TiffFile(io.BytesIO(body)) as held:
            tags = held.pages[0].tags  # type: ignore[union-attr]
            own = tags["ExifTag"].value if "ExifTag" in tags else {}
            said = own.get("DateTimeOriginal") or (tags["DateTime"].value if "DateTime" in tags else None)
            part = str(own.get("SubsecTimeOriginal") or "0").strip("\0 ")
            return datetime.strptime(str(said), "%Y:%m:%d %H:%M:%S").replace(tzinfo=UTC).timestamp() + float(f"0.{part}")
    except (OSError, ValueError, KeyError, struct.error, tifffile.TiffFileError):
        return None


def _exif(head: bytes) -> bytes | None:
    """The TIFF that a JPEG file holds among its segments (ISO/IEC 10918-1, B.1.1.4; Exif 2.32, 4.7.2)."""
    at = 2
    while at + 4 <= len(head) and head[at] == 0xFF:
        size = int.from_bytes(head[at + 2 : at + 4], "big")
        if head[at + 1] == 0xE1 and head[at + 4 : at + 10] == b"Exif\0\0":
            return head[at + 10 : at + 2 + size]
        at += 2 + size
    return None
