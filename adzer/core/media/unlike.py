"""What a file is that is no footage that can be read, told by what it begins with; and what can be done about it."""

from __future__ import annotations

from pathlib import Path

HEAD = 4096
OWN = 1_000_000  # bytes from which on something that nobody knows may be a recording
OWN_FORM = "in a form that is not known here"
SOUNDS = (b"fLaC", b"OggS", b"ID3", b"FORM", b"caff", b".snd")
PROGRAMS = (b"\x7fELF", b"MZ", b"SQLite format 3", b"\xca\xfe\xba\xbe", b"\x00\x01\x00\x00", b"OTTO", b"wOF2", b"\xfd7zXZ", b"\x28\xb5\x2f\xfd")
DOCUMENTS = {b"%PDF": "a document", b"PK\x03\x04": "an archive", b"\x1f\x8b": "an archive", b"Rar!": "an archive", b"7z\xbc\xaf": "an archive"}
FILMS = (b"\x1aE\xdf\xa3", b"\x00\x00\x01\xba", b"\x00\x00\x01\xb3", b"G@", b"FLV", b"\x06\x0e+4")  # Matroska, MPEG, transport, MXF


def told(path: Path) -> str | None:
    """A sentence about a file that no reader of footage takes; None where it may be footage that was damaged."""
    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
        size = path.stat().st_size
    except OSError:
        return None
    if head.startswith(b"GIF8"):
        return f"{path} is a GIF, pictures of at most 256 colours without the clock of footage. Add the recording that it was made of."
    if (head[:4] == b"RIFF" and head[8:12] == b"WAVE") or head.startswith(SOUNDS) or (head[:4] == b"RF64" and head[8:12] == b"WAVE"):
        return f"{path} is a sound without pictures. Put it beside a recording of the same name, and it goes along with that."
    for magic, what in DOCUMENTS.items():
        if head.startswith(magic):
            return f"{path} is {what}, not footage."
    if _is_text(head):
        return f"{path} is text, not footage."
    if head.startswith(PROGRAMS):
        return f"{path} belongs to a program, and is not footage."
    if size >= OWN and any(head) and not _may_be_film(head):
        return (
            f"{path} is {OWN_FORM}. If it is a camera's own recording, have the camera's programs write DNG frames or another video. Until then "
            "its proxy can be worked on."
        )
    return None


def _is_text(head: bytes) -> bool:
    if not head or b"\x00" in head:
        return False
    try:
        text = head[: len(head) - 3 if len(head) == HEAD else len(head)].decode("utf-8")
    except UnicodeDecodeError:
        return False
    return sum(c.isprintable() or c in "\r\n\t\f" for c in text) >= 0.98 * len(text)


def _may_be_film(head: bytes) -> bool:
    """Does it begin as a container does that footage lies in (ISO/IEC 14496-12, 4.2, RIFF, Matroska, MPEG-2 systems)?"""
    box = head[4:8] in (b"ftyp", b"moov", b"mdat", b"wide", b"free", b"skip", b"pnot", b"uuid")
    return box or head[:4] in (b"RIFF", b"RF64") or head.startswith(FILMS) or head[:4] in (b"II*\x00", b"MM\x00*") or head[:2] == b"\xff\xd8"
