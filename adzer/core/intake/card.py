"""What lies on a card: every file with its size, and everything odd. Nothing outside the card is ever reached."""

from __future__ import annotations

import os
import stat
import unicodedata
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from ..errors import UnreadableError, shown

DEEPEST = 32
PART = ".adzer-part"


@dataclass(frozen=True)
class Item:
    """A regular file: its place below the card (``/`` between folders), size and time of last change."""

    place: str
    size: int
    changed_ns: int


@dataclass(frozen=True)
class Oddity:
    """Something to tell the person. ``blocks``: it was not copied, so that the card cannot be called safe to erase."""

    place: str
    why: str
    blocks: bool


@dataclass(frozen=True)
class Survey:
    card: Path
    items: tuple[Item, ...]
    oddities: tuple[Oddity, ...]

    @property
    def size(self) -> int:
        return sum(i.size for i in self.items)


def survey(card: Path) -> Survey:
    """All files below ``card`` in order of their names. UnreadableError if there is no such folder or nothing in it."""
    try:
        if not stat.S_ISDIR(card.stat().st_mode):
            raise UnreadableError(f"{shown(str(card))} is a file. Give the card's folder.")
    except OSError as error:
        raise UnreadableError(f"{shown(str(card))} is not there ({error.strerror}). Is the card plugged in?") from None
    items: list[Item] = []
    odd: list[Oddity] = []
    _enter(card, "", items, odd, 0)
    if not items and not odd:
        raise UnreadableError(f"{shown(str(card))} is empty. Is it the right card?")
    folded = Counter(i.place.casefold() for i in items)
    for item in items:
        why = _odd_name(item.place)
        if folded[item.place.casefold()] > 1:
            why = "differs from another name only in capitals, which some disks cannot keep apart"
        if why:
            odd.append(Oddity(item.place, f"its name {why}; it is copied as it is", False))
        if item.size == 0:
            odd.append(Oddity(item.place, "is empty (0 bytes); a recording was begun and not written", False))
    items.sort(key=lambda i: i.place)
    return Survey(card, tuple(items), tuple(odd))


def _enter(folder: Path, below: str, items: list[Item], odd: list[Oddity], depth: int) -> None:
    if depth > DEEPEST:
        odd.append(Oddity(below, f"lies more than {DEEPEST} folders deep and was not looked into", True))
        return
    try:
        entries = sorted(os.scandir(folder), key=lambda e: e.name)
    except OSError as error:
        odd.append(Oddity(below or ".", f"cannot be looked into ({error.strerror})", True))
        return
    for entry in entries:
        place = f"{below}/{entry.name}" if below else entry.name
        try:
            held = entry.stat(follow_symlinks=False)
        except OSError as error:
            odd.append(Oddity(place, f"cannot be read ({error.strerror})", True))
            continue
        if stat.S_ISLNK(held.st_mode):
            odd.append(Oddity(place, "is a link to somewhere else; links are not followed", True))
        elif stat.S_ISDIR(held.st_mode):
            _enter(folder / entry.name, place, items, odd, depth + 1)
        elif stat.S_ISREG(held.st_mode):
            items.append(Item(place, held.st_size, held.st_mtime_ns))
        else:
            odd.append(Oddity(place, "is no ordinary file", True))


def _odd_name(place: str) -> str | None:
    name = place.rsplit("/", 1)[-1]
    if any(0xDC80 <= ord(c) <= 0xDCFF for c in place):
        return "is not readable text"
    if any(unicodedata.category(c) in ("Cc", "Cf") for c in name):
        return "holds characters that cannot be seen"
    if name != name.strip() or name.endswith("."):
        return "begins or ends with a space or a point"
    if any(c in name for c in '\\:*?"<>|'):
        return "holds characters that other systems refuse"
    return None
