"""The folder beside a master-to-be in which its finished segments lie: made by this person alone, and nothing of others touched.

``NAME.mp4`` has ``NAME.mp4.0123456789abcdef.parts``, of a random name, open to nobody else, with ``order.json``: the order's digest and
a seal over that and the folder's name, made with a key that never leaves the person's data folder. What was witnessed of each segment
is sealed, too, and a master is held against that. A folder without its seal, one that belongs to somebody else or holds anything but
plain files of ours, and a link are left alone. Everything inside is reached through a handle on the folder, so that nothing that is put
in its place meanwhile is followed.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import os
import re
import secrets
import stat
from collections.abc import Iterator
from pathlib import Path

from .. import seal
from ..errors import AdzerError
from ..media import disk
from .witness import Witness

ENDING = ".parts"
ORDER = "order.json"
PURPOSE, WITNESSED = "folder of segments", "what was witnessed of a segment"
BUSY = "{} is being rendered already, by another Adzer. Wait for it, or stop it."
_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


def folders(out: Path) -> list[Path]:
    """What lies beside a master-to-be under a name that a folder of its segments could have."""
    name = re.compile(re.escape(_stem(out)) + r"\.[0-9a-f]{16}" + re.escape(ENDING))
    with contextlib.suppress(OSError):
        return sorted(p for p in out.parent.iterdir() if name.fullmatch(p.name))
    return []


def _stem(out: Path) -> str:
    """The master's name, shortened where the folder's would be too long for a disk."""
    raw = os.fsencode(out.name)
    return out.name if len(raw) <= 200 else os.fsdecode(raw[:200]).encode("utf-8", "surrogateescape").decode("utf-8", "ignore")


class Parts:
    """The folder of finished segments of one order, locked until ``close``. ``at``: where its files are reached, ``shown``: where it
    lies, for people. AdzerError if it cannot be made, or if another process renders the same master."""

    def __init__(self, out: Path, digest: str) -> None:
        self.suffix, self._handle, self._digest = out.suffix, -1, digest
        try:
            out.parent.mkdir(parents=True, exist_ok=True)
            for folder in folders(out):
                if self._taken(folder, out, digest):
                    break
            else:
                self._made(out, digest)
                if any(other < self.shown and _of(other) is not None for other in folders(out)):  # made at the same moment
                    self.remove()
                    self.close()
                    raise AdzerError(BUSY.format(out))
        except OSError as error:
            self.close()
            raise AdzerError(f"{out.parent} cannot be written to ({error.strerror}). Choose another output folder.") from None
        self.at = Path(f"/proc/self/fd/{self._handle}")

    def _taken(self, folder: Path, out: Path, digest: str) -> bool:
        """Opens and locks a folder if it is ours; False if it is not, or was of another order, and is gone then."""
        try:
            handle = os.open(folder, _FLAGS)
        except OSError:
            return False
        try:
            of = _digest(handle, folder.name)
            if of is None:
                return False
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                raise AdzerError(BUSY.format(out)) from None
            if of != digest:
                _emptied(handle, folder)
                return False
            self._handle, self.shown, handle = handle, folder, -1
            return True
        finally:
            if handle >= 0:
                os.close(handle)

    def _made(self, out: Path, digest: str) -> None:
        self.shown = out.with_name(f"{_stem(out)}.{secrets.token_hex(8)}{ENDING}")
        self.shown.mkdir(0o700)
        self._handle = os.open(self.shown, _FLAGS)
        fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        text = json.dumps({"digest": digest, "seal": seal.mark(PURPOSE, self.shown.name, digest)})
        held = os.open(ORDER, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=self._handle)
        try:
            os.write(held, text.encode())
            os.fsync(held)
        finally:
            os.close(held)

    def close(self) -> None:
        """Lets go of the folder; what is finished stays."""
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1

    def remove(self) -> None:
        """Of our own folder, nothing else."""
        _emptied(self._handle, self.shown)

    def segment(self, n: int) -> Path:
        return self.at / f"{n:05d}{self.suffix}"

    def finished(self, n: int) -> int | None:
        """How many frames a finished segment has; None if it is not finished."""
        try:
            return len(self.witness(n).looks) if self.segment(n).exists() else None
        except (OSError, ValueError):
            return None

    def witness(self, n: int) -> Witness:
        """ValueError if what lies there was not written by this person."""
        held = self.segment(n).with_suffix(".npz")
        with held.open("rb") as file:
            if not seal.holds(self._seal(n).read_text("ascii"), WITNESSED, self._digest, str(n), hashlib.file_digest(file, "sha256").hexdigest()):
                raise ValueError(f"{self.shown}: what was witnessed of segment {n} was changed")
        return Witness.load(held)

    def _seal(self, n: int) -> Path:
        return self.segment(n).with_suffix(".seal")

    def finish(self, n: int, part: Path, witness: Witness) -> None:
        """What was witnessed and its seal first, then the segment's name: whoever sees the segment finds it whole, on the disk."""
        held = self.segment(n).with_suffix(".npz")
        witness.save(held)
        with held.open("rb") as file:
            sealed = seal.mark(WITNESSED, self._digest, str(n), hashlib.file_digest(file, "sha256").hexdigest())
        self._seal(n).write_text(sealed, "ascii")
        for path in (held, self._seal(n), part):
            disk.flush(path)
        part.replace(self.segment(n))
        with contextlib.suppress(OSError):  # disks that cannot flush folders
            os.fsync(self._handle)

    def witnesses(self, count: int) -> Witnesses:
        return Witnesses(self, count)

    @property
    def size(self) -> int:
        return sum(os.lstat(p).st_size for p in self.at.iterdir())


class Witnesses:
    """Of all segments in order, each loaded when its turn comes."""

    def __init__(self, parts: Parts, count: int) -> None:
        self._parts, self._count = parts, count

    def __iter__(self) -> Iterator[Witness]:
        return (self._parts.witness(n) for n in range(self._count))


def _of(folder: Path) -> str | None:
    """The digest of the order that a folder's segments belong to; None if it is not one of ours."""
    try:
        handle = os.open(folder, _FLAGS)
    except OSError:
        return None
    try:
        return _digest(handle, folder.name)
    finally:
        os.close(handle)


def _digest(handle: int, name: str) -> str | None:
    """The same of an open folder."""
    try:
        if os.fstat(handle).st_uid != os.geteuid() or not all(_plain(handle, n) for n in os.listdir(handle)):
            return None
        file = os.open(ORDER, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=handle)
    except OSError:
        return None
    try:
        plain = json.loads(os.read(file, 4096))
    except (OSError, ValueError, RecursionError):
        return None
    finally:
        os.close(file)
    digest = plain.get("digest") if isinstance(plain, dict) else None
    return digest if isinstance(digest, str) and seal.holds(plain.get("seal"), PURPOSE, name, digest) else None


def _plain(handle: int, name: str) -> bool:
    """A file of our own that has no other name."""
    held = os.stat(name, dir_fd=handle, follow_symlinks=False)
    return stat.S_ISREG(held.st_mode) and held.st_nlink == 1 and held.st_uid == os.geteuid()


def _emptied(handle: int, folder: Path) -> None:
    """Takes away our folder's own files, then the folder, if nothing else is in it. The seal goes last: a folder that a kill left
    half empty is still known as ours."""
    for name in sorted(os.listdir(handle), key=lambda n: n == ORDER):
        with contextlib.suppress(IsADirectoryError):
            os.unlink(name, dir_fd=handle)
    with contextlib.suppress(OSError):
        if os.path.samestat(os.lstat(folder), os.fstat(handle)):
            folder.rmdir()
