"""A secret of this person on this machine, and marks made with it: what carries one was made here, whatever a file says of itself.

The mark is an HMAC (RFC 2104) with SHA-256. The key lies in the person's data folder and never in a job, a work folder or a master.
"""

from __future__ import annotations

import contextlib
import hashlib
import hmac
import os
import secrets
from functools import lru_cache
from pathlib import Path

import platformdirs

SIZE = 32  # bytes


def _read(path: Path) -> bytes | None:
    """The key, if a file of our own holds one."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        held = os.fstat(handle)
        found = os.read(handle, SIZE + 1) if held.st_uid == os.geteuid() else b""
    except OSError:
        found = b""
    finally:
        os.close(handle)
    return found if len(found) == SIZE else None


@lru_cache(maxsize=8)
def _key(path: Path) -> bytes:
    """The key at ``path``, made if there is none. Where none can be kept, one that ends with this process: whatever is sealed with
    it is asked about once more."""
    if found := _read(path):
        return found
    made = secrets.token_bytes(SIZE)
    part = path.with_name(f".key.{secrets.token_hex(8)}")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
        try:
            os.write(handle, made)
            os.fsync(handle)
        finally:
            os.close(handle)
        with contextlib.suppress(FileExistsError):
            os.link(part, path)  # whole or not there, and never over another process's
        return _read(path) or made
    except OSError:
        return made
    finally:
        with contextlib.suppress(OSError):
            part.unlink()


def mark(purpose: str, *parts: str) -> str:
    """The seal of some texts for one purpose, 64 hexadecimal digits. Texts are told apart: ("a", "b") is not ("ab", "")."""
    key = _key(platformdirs.user_data_path("adzer") / "key")
    made = hmac.new(key, digestmod=hashlib.sha256)
    for part in (purpose, *parts):
        raw = os.fsencode(part)
        made.update(len(raw).to_bytes(8, "big") + raw)
    return made.hexdigest()


def holds(said: object, purpose: str, *parts: str) -> bool:
    """Is this the seal of these texts?"""
    return isinstance(said, str) and said.isascii() and hmac.compare_digest(said, mark(purpose, *parts))
