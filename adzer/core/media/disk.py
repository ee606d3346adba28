"""What has to be sure of the disk: written through before it is named, named without replacing, read from where it lies."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import secrets
from pathlib import Path

_AT_FDCWD, _NOREPLACE = -100, 1  # linux/fcntl.h, linux/fs.h


def flush(path: Path) -> None:
    """Has the disk take a file (or a folder's names) in. OSError if it cannot; disks that cannot flush folders are let be."""
    handle = os.open(path, os.O_RDONLY)
    try:
        if path.is_dir():
            with contextlib.suppress(OSError):
                os.fsync(handle)
        else:
            os.fsync(handle)
    finally:
        os.close(handle)


def forget(handle: int) -> None:
    """Asks that what is read next comes from the disk, not from memory. The file must have been flushed."""
    with contextlib.suppress(OSError):
        os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)


def forget_file(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        forget(handle)
    finally:
        os.close(handle)


def name(part: Path, target: Path) -> bool:
    """Gives a file its name unless that is taken; False then. The folder is flushed, too. At no moment has it both names,
    where the system can do that."""
    try:
        _rename_new(part, target)
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno not in (errno.ENOSYS, errno.EINVAL, errno.ENOTSUP, errno.EPERM):
            raise
        try:
            os.link(part, target)
            part.unlink()
        except FileExistsError:
            return False
        except OSError:  # neither such a call nor hard links
            if os.path.lexists(target):
                return False
            part.rename(target)
    flush(target.parent)
    return True


def write_new(target: Path, content: bytes) -> bool:
    """A file with this content, whole, on the disk, and only if nothing has its name; False then. Where the system can do that the
    file has no name until it is whole, so that a kill leaves nothing behind."""
    try:
        handle = os.open(target.parent, os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, 0o644)
    except OSError:
        part = target.with_name(f".{secrets.token_hex(8)}.adzer-new")
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
        try:
            _fill(handle, content)
            return name(part, target)
        finally:
            os.close(handle)
            with contextlib.suppress(OSError):
                part.unlink()
    try:
        _fill(handle, content)
        # ``src_dir_fd`` has Python call linkat(2), the only one that follows; link(2) would link to the link itself.
        os.link(f"/proc/self/fd/{handle}", target, src_dir_fd=handle, follow_symlinks=True)
    except FileExistsError:
        return False
    finally:
        os.close(handle)
    flush(target.parent)
    return True


def write_beside(target: Path, content: bytes) -> Path:
    """The same under the next free name (``x.txt``, ``x 2.txt``), never over or through what is there; a file that holds just this
    already is left as it is. Returns where it lies."""
    for n in range(1, 1000):
        path = target if n == 1 else target.with_name(f"{target.stem} {n}{target.suffix}")
        if write_new(path, content):
            return path
        if path.is_file() and not path.is_symlink() and path.stat().st_size == len(content) and path.read_bytes() == content:
            return path
    raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), str(target))


def _fill(handle: int, content: bytes) -> None:
    view = memoryview(content)
    while view:
        view = view[os.write(handle, view) :]
    os.fsync(handle)


def _rename_new(part: Path, target: Path) -> None:
    """rename(2) that refuses to replace: renameat2 with RENAME_NOREPLACE. OSError, with ENOSYS where there is none."""
    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS), str(part))
    if call(_AT_FDCWD, os.fsencode(part), _AT_FDCWD, os.fsencode(target), _NOREPLACE) != 0:
        fault = ctypes.get_errno()
        raise OSError(fault, os.strerror(fault), str(target))
