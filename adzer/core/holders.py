"""Which process holds something in a job file, told so that others on the same machine see when it has ended."""

from __future__ import annotations

import os
import socket
from functools import lru_cache
from pathlib import Path


@lru_cache(maxsize=1)
def _machine() -> str:
    """This machine, since it was started last."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    except OSError:
        boot = ""
    return f"{socket.gethostname()} {boot}"


def _began(pid: int) -> str | None:
    """When a process began, in clock ticks since the machine did (proc(5), field 22 of stat); None if there is none."""
    try:
        text = Path(f"/proc/{pid}/stat").read_text("ascii", errors="replace")
    except OSError:
        return None
    fields = text.rpartition(")")[2].split()
    return None if len(fields) < 20 or fields[0] in ("Z", "X") else fields[19]


def own() -> str:
    """This process."""
    return f"{_machine()} {os.getpid()} {_began(os.getpid())}"


def ended(holder: object) -> bool:
    """Has that process surely ended? Of one on another machine nothing is known."""
    if not isinstance(holder, str) or len(words := holder.rsplit(" ", 2)) != 3 or words[0] != _machine() or not words[1].isdecimal():
        return False
    return len(words[1]) > 9 or _began(int(words[1])) != words[2]
