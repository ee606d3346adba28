"""The jobs that were open last: where they lie, what waits in them, and their first picture, in the person's data folder."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

import msgspec
import platformdirs
import xxhash

from . import records
from .errors import UnreadableError

MOST = 12


class Recent(msgspec.Struct, frozen=True):
    """``at``: when it was closed, seconds since 1970; ``shots``, how many ``stopped`` of them, queued renders that ``waited``."""

    path: str
    name: str
    at: float
    shots: int = 0
    stopped: int = 0
    waited: int = 0

    @property
    def there(self) -> bool:
        return Path(self.path).is_file()

    @property
    def waits(self) -> str:
        """What waits in it, as it was left."""
        if not self.shots:
            return "no recordings yet"
        words = [f"{self.shots} {'shot' if self.shots == 1 else 'shots'}"]
        words += [f"{self.stopped} held up"] if self.stopped else []
        words += [f"{self.waited} in the queue"] if self.waited else []
        return " · ".join(words if len(words) > 1 else [*words, "nothing waits"])


def _folder() -> Path:
    return platformdirs.user_data_path("adzer")


def jobs() -> list[Recent]:
    """The latest first. A list that cannot be read is an empty one: nothing depends on it."""
    try:
        return records.from_json((_folder() / "recent.json").read_bytes(), list[Recent])[:MOST]
    except (OSError, UnreadableError):
        return []


def picture(path: str) -> Path:
    """Where a job's first picture is kept, a PNG."""
    return _folder() / "recent" / f"{xxhash.xxh3_64_hexdigest(os.fsencode(path))}.png"


def note(path: Path, name: str, shots: int, stopped: int, waited: int) -> None:
    """Puts a job first. A full or read-only disk costs the list, not the job."""
    made = Recent(str(path), name, time.time(), shots, stopped, waited)
    rows = [made, *(r for r in jobs() if r.path != made.path)][:MOST]
    target = _folder() / "recent.json"
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_suffix(".part")
        part.write_text(json.dumps(msgspec.to_builtins(rows), indent=1))
        part.replace(target)
    except OSError:
        pass
