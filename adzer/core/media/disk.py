"""What has to be sure of the disk: written through before it is named, named without replacing, read from where it lies."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
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


def _rename_new(part: Path, target: Path) -> None:
    """rename(2) that refuses to replace: renameat2 with RENAME_NOREPLACE. OSError, with ENOSYS where there is none."""
    call = getattr(ctypes.CDLL(None, use_errno=True), "renameat2", None)
    if call is None:
        raise OSError(errno.ENOSYS, os.strerror(errno.ENOSYS), str(part))
    if call(_AT_FDCWD, os.fsencode(part), _AT_FDCWD, os.fsencode(target), _NOREPLACE) != 0:
        fault = ctypes.get_errno()
        raise OSError(fault, os.strerror(fault), str(target))
