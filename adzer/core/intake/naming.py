"""Names for many shots by one pattern. Only what shots are called in the job changes; no file is ever renamed."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from datetime import datetime

from ..errors import AdzerError
from ..job import Shot

FIELDS = {
    "n": "a running number, {n:3} with leading zeros", "name": "the name it has", "camera": "its camera", "scene": "its scene",
    "kind": "its kind", "file": "its file's name", "date": "the day it was recorded", "time": "when it began",
    "eye": "left, right or both; one where it is no pair",
}  # fmt: skip
_FIELD = re.compile(r"{(\w+)(?::(\d))?}")


def eye_of(shot: Shot) -> str:
    """Of a pair that lies in two files the first is the left one (``group``)."""
    route, sphere = shot.route, shot.facts.sphere
    if route.join.laid in ("left", "right"):
        return str(route.join.laid)
    two = route.read.eyes or (sphere.eyes if sphere is not None else None)
    return "both" if two not in (None, "one") else "left" if shot.facts.apart is not None else "one"


def rename(shots: Sequence[Shot], pattern: str, start: int = 1) -> list[tuple[Shot, str]]:
    """Each shot with its new name, in the given order. AdzerError names a field that there is not, or a name that would
    come twice or be empty."""
    rest = _FIELD.sub("", pattern)
    unknown = {m[1] for m in _FIELD.finditer(pattern)} - set(FIELDS)
    if unknown or "{" in rest or "}" in rest:
        raise AdzerError(f"The pattern {pattern!r} may use {', '.join('{' + f + '}' for f in FIELDS)} and no others.")
    made = []
    for i, shot in enumerate(shots):
        when = datetime.fromtimestamp(shot.facts.created or 0)
        held = {
            "name": shot.name, "camera": shot.camera or "camera", "scene": shot.scene or "scene", "kind": shot.kind,
            "file": shot.facts.name.rsplit(".", 1)[0], "date": f"{when:%Y-%m-%d}", "time": f"{when:%H%M%S}",
            "eye": eye_of(shot),
        }  # fmt: skip

        def fill(m: re.Match[str], number: int = start + i, held: dict[str, str] = held) -> str:
            return str(number).zfill(int(m[2] or 1)) if m[1] == "n" else held[m[1]]

        made.append((shot, " ".join(_FIELD.sub(fill, pattern).split())))
    twice = [name for name, count in Counter(name for _, name in made).items() if count > 1]
    if twice:
        raise AdzerError(f"{len(twice)} names would come twice, first {twice[0]!r}. Put {{n}} into the pattern.")
    if any(not name for _, name in made):
        raise AdzerError("The pattern gives an empty name. Write something into it.")
    return made
