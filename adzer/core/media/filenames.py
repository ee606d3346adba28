"""What file names say of recordings: which are two of a pair, and which is the small copy of which.

Cameras set a word apart (``V01_front``), glue it on (``AAFR0059``), or name the folder so, at any depth. A single glued letter says
little: ``AB12`` may as well be the second reel. It counts only where times agree, or is asked.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from os.path import commonprefix
from pathlib import Path

EYES = (("left", "right"), ("lft", "rgt"), ("l", "r"))
LENSES = (("front", "rear"), ("front", "back"), ("frnt", "rear"), ("frnt", "back"), ("fr", "bk"), ("fr", "rr"), ("f", "r"), ("f", "b"))
NUMBERED = ("00", "10")  # of the first and the second lens, where they are numbered
SMALL = ("proxy", "proxies", "prx", "low", "lowres", "small", "p", "half", "quarter")
GLUED = 3  # letters that are glued on to the name of a small copy


@dataclass(frozen=True)
class Paired:
    """``kind``: lens pair or eye pair; ``first``: is the one that was named first the first of the two? ``sure``: by more than one glued letter."""

    kind: str
    first: bool
    sure: bool


_WORDS = {
    two: (kind, n == 0)
    for kind, words in (("eye pair", EYES), ("lens pair", (*LENSES, NUMBERED)))
    for pair in words
    for n, two in enumerate((pair, pair[::-1]))
}


def tokens(name: str) -> list[str]:
    """Runs of letters and of digits, in lower case: ``A012_C003 left`` → a, 012, c, 003, left."""
    return re.findall(r"[a-z]+|\d+", name.lower())


def odd_token(a: list[str], b: list[str]) -> tuple[str, str] | None:
    """The one place where two names differ, as (first, second); None if there is none or more than one."""
    if len(a) != len(b):
        return None
    unlike = [(x, y) for x, y in zip(a, b, strict=True) if x != y]
    return unlike[0] if len(unlike) == 1 else None


def number(path: str) -> str:
    """The last number of a name that is not the number of a lens; both of a pair have it."""
    return next((t for t in reversed(tokens(Path(path).stem)) if t.isdigit() and t not in NUMBERED), "")


def paired(a: str, b: str) -> Paired | None:
    """What two paths say that their recordings are to each other; None if they do not say so. All that differs in them, names and folders at
    any depth, has to say the same."""
    pa, pb = ((*Path(p).parent.parts, Path(p).stem) for p in (a, b))
    if len(pa) != len(pb):
        return None
    said = [_word(x.lower(), y.lower()) for x, y in zip(pa, pb, strict=True) if x.lower() != y.lower()]
    told = [s for s in said if s is not None]
    if not told or len(told) < len(said) or len({(s.kind, s.first) for s in told}) > 1:
        return None
    return Paired(told[0].kind, told[0].first, any(s.sure for s in told))


def _word(x: str, y: str) -> Paired | None:
    odd = odd_token(tokens(x), tokens(y))
    if odd is not None and (meant := _WORDS.get(odd)):
        return Paired(*meant, sure=True)
    before = len(commonprefix([x, y]))
    after = len(commonprefix([x[before:][::-1], y[before:][::-1]]))
    for more in ((b, a) for b in (2, 1, 0) for a in (2, 1, 0)):  # what two words have in common belongs to the words: left, right
        start, end = max(before - more[0], 0), max(after - more[1], 0)
        two = x[start : len(x) - end], y[start : len(y) - end]
        meant = _WORDS.get(two)
        if meant and two[0].isalpha():
            return Paired(*meant, sure=len(two[0]) > 1)
    return None


def core(path: str) -> str:
    """A name without what people and cameras add for small copies."""
    return " ".join(t for t in tokens(Path(path).stem) if t not in SMALL)


def called_proxy(path: str) -> bool:
    """Does a recording's name say that it is a proxy, or the folder that it lies in?"""
    words = ("proxy", "proxies", "prx", "lowres")
    folder = Path(path).parent.name.lower()
    return folder in (*words, "low res") or any(t in words for t in tokens(Path(path).stem))


def copy_of(small: str, big: str) -> bool | None:
    """Is the first, by its name, a small copy of the second? None: perhaps, as only letters are glued on to it."""
    if core(small) == core(big) or core(small).startswith(core(big) + " "):
        return True
    a, b = ("".join(tokens(Path(p).stem)) for p in (small, big))
    if 0 < len(a) - len(b) <= GLUED and (a.startswith(b) or a.endswith(b)):
        return None
    return False
