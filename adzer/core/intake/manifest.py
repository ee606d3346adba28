"""The list of what was verified at a place, as ``xxhsum -c`` takes it, and how one of our own is known from others'."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import secrets
import stat
from collections.abc import Iterable
from pathlib import Path

import platformdirs
import xxhash

from .card import PART

MANIFEST = "manifest.xxh128"


def manifest_name(roots: Iterable[Path], places: set[str]) -> str:
    """The manifest's name at all of these places: the first that neither a file of the card nor anything that is not ours has there."""
    roots = list(roots)
    names = (MANIFEST, f"adzer-{MANIFEST}", *(f"adzer-{n}-{MANIFEST}" for n in range(2, 1000)))
    return next(n for n in names if n not in places and all(_ours(root / n) for root in roots))


def _record(path: Path) -> Path:
    """Where it is kept how the manifest at ``path`` was when we wrote it last."""
    place = os.fsencode(os.path.realpath(path.parent)) + b"/" + os.fsencode(path.name)
    return platformdirs.user_data_path("adzer") / "manifests" / xxhash.xxh3_128_hexdigest(place)


def _ours(path: Path) -> bool:
    """Is there nothing, or a manifest that we wrote, with no more than lines of ours added to it?"""
    try:
        if not stat.S_ISREG(os.lstat(path).st_mode):
            return False
        held, known = path.read_bytes(), _record(path).read_text("ascii").split("\n")
    except OSError:
        return not os.path.lexists(path)
    for size, digest in (line.split() for line in known if line.count(" ") == 1 and line.split()[0].isdecimal()):
        was, added = held[: int(size)], held[int(size) :]
        if hashlib.sha256(was).hexdigest() == digest and all(not line or _LINE.fullmatch(line) for line in added.split(b"\n")[:-1]):
            return True
    return False


_LINE = re.compile(rb"\\?([0-9a-f]{32})  (.+)", re.DOTALL)


class Manifest:
    """Lines of ``hash  place``, added as files are verified and put in order at the end."""

    def __init__(self, root: Path, name: str) -> None:
        self.path = root / name
        self.held = read_manifest(self.path)
        fresh = not os.path.lexists(self.path)
        flags = os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC | (os.O_CREAT | os.O_EXCL if fresh else 0)
        self.file = os.fdopen(os.open(self.path, flags, 0o644), "ab")
        if fresh:
            self._remember(b"")
        elif self.file.tell():
            self.file.write(b"\n")  # in case the last line was cut off

    def _remember(self, *contents: bytes) -> None:
        """So that a later run knows it as ours; where that cannot be kept, a later run begins another."""
        kept = _record(self.path)
        with contextlib.suppress(OSError):
            kept.parent.mkdir(parents=True, exist_ok=True)
            part = kept.with_name(f".{secrets.token_hex(8)}")
            part.write_text("\n".join(f"{len(c)} {hashlib.sha256(c).hexdigest()}" for c in contents), "ascii")
            part.replace(kept)

    def add(self, digest: str, place: str) -> None:
        self.held[place] = digest
        self.file.write(_line(digest, place))
        self.file.flush()

    def close(self) -> None:
        mine = os.fstat(self.file.fileno())
        self.file.close()
        content = b"".join(_line(digest, place) for place, digest in sorted(self.held.items()))
        part = self.path.with_name(f".{secrets.token_hex(12)}{PART}")
        with part.open("xb") as out:
            out.write(content)
            out.flush()
            os.fsync(out.fileno())
        try:
            if os.path.samestat(os.lstat(self.path), mine):  # nobody has put another in its place
                self._remember(content, self.path.read_bytes())  # as it will be, and as it is if that does not come to pass
                part.replace(self.path)
        finally:
            part.unlink(missing_ok=True)


def _line(digest: str, place: str) -> bytes:
    raw = os.fsencode(place)
    if b"\\" in raw or b"\n" in raw:
        return b"\\" + digest.encode() + b"  " + raw.replace(b"\\", b"\\\\").replace(b"\n", b"\\n") + b"\n"
    return digest.encode() + b"  " + raw + b"\n"


def read_manifest(path: Path) -> dict[str, str]:
    """Place → hash; lines that are no such pair are left out."""
    held = {}
    try:
        if not stat.S_ISREG(path.stat().st_mode):
            return {}
        for line in path.read_bytes().split(b"\n"):
            escaped = line.startswith(b"\\")
            if match := _LINE.fullmatch(line):
                raw = match[2]
                if escaped:
                    raw = re.sub(rb"\\(.)", lambda m: b"\n" if m[1] == b"n" else m[1], raw)
                held[os.fsdecode(raw)] = match[1].decode()
    except OSError:
        pass
    return held
