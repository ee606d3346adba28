"""A copy before it has its name: made and locked by one process, gone on with by a later one, and never over anything of others."""

from __future__ import annotations

import contextlib
import fcntl
import os
import secrets
import stat
from pathlib import Path

from .. import seal
from ..media import disk
from .card import PART


def part_of(target: Path) -> Path:
    """A name of its own in the same folder: short, whatever the file is called, and none that anybody else makes up."""
    return target.with_name(f".{seal.mark('part of a copy', target.name)[:24]}{PART}")


class Part:
    """A copy that has not got its name yet, made and locked by this process alone. What an earlier run of ours wrote is compared
    instead of written again."""

    def __init__(self, target: Path) -> None:
        self.path = part_of(target)
        target.parent.mkdir(parents=True, exist_ok=True)
        flags = os.O_RDWR | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
        try:
            self.handle = os.open(self.path, flags | os.O_CREAT | os.O_EXCL, 0o644)
            if not locked(self.handle):
                raise FileExistsError
        except FileExistsError:
            if not self._gone_on_with(flags):
                self.path = self.path.with_name(f".{secrets.token_hex(12)}{PART}")
                self.handle = os.open(self.path, flags | os.O_CREAT | os.O_EXCL, 0o644)
                locked(self.handle)
        self.have, self.at = os.fstat(self.handle).st_size, 0

    def _gone_on_with(self, flags: int) -> bool:
        """Opens what an earlier run left; False if somebody writes it just now, or it is another file's second name."""
        try:
            self.handle = os.open(self.path, flags)
        except OSError:
            return False
        held = os.fstat(self.handle)
        if stat.S_ISREG(held.st_mode) and held.st_nlink == 1 and held.st_uid == os.geteuid() and locked(self.handle):
            return True
        os.close(self.handle)
        return False

    def close(self) -> None:
        if self.handle >= 0:
            os.close(self.handle)
            self.handle = -1

    def add(self, block: memoryview) -> None:
        overlap = min(max(self.have - self.at, 0), len(block))
        if overlap and os.pread(self.handle, overlap, self.at) != block[:overlap]:
            self.have = overlap = 0
        while overlap < len(block):
            overlap += os.pwrite(self.handle, block[overlap:], self.at + overlap)
        self.at += len(block)

    def finish(self, size: int, changed_ns: int) -> None:
        os.ftruncate(self.handle, size)
        os.utime(self.handle, ns=(changed_ns, changed_ns))
        os.fsync(self.handle)

    def named(self, target: Path) -> bool:
        """Gives it its name; False if that is taken."""
        if disk.name(self.path, target):
            return True
        with contextlib.suppress(OSError):
            self.path.unlink()
        return False

    def withdraw(self, target: Path) -> None:
        """Takes its name away again; what has come under that name instead is left alone."""
        with contextlib.suppress(OSError):
            if os.path.samestat(os.lstat(target), os.fstat(self.handle)) and disk.name(target, self.path):
                self.path.unlink()


def locked(handle: int) -> bool:
    """Locks a file or folder for this process; False if another has it. Disks that know no locks give it to everybody."""
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:
        pass
    return True
