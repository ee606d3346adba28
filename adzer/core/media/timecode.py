"""Timecode labels (SMPTE ST 12-1) of frame numbers, with drop-frame counting at 30000/1001 and 60000/1001."""

from __future__ import annotations

import re
from fractions import Fraction

from ..errors import AdzerError

_LABEL = re.compile(r"^(\d{1,2}):(\d{1,2}):(\d{1,2})([:;.])(\d{1,3})$")


def _counting(rate: Fraction) -> int:
    return max(1, round(rate))


def can_drop(rate: Fraction) -> bool:
    return rate in (Fraction(30000, 1001), Fraction(60000, 1001))


def to_frames(label: str, rate: Fraction) -> int:
    """Frame number of ``HH:MM:SS:FF`` (``;`` before FF for drop-frame). AdzerError if it is no such label."""
    match = _LABEL.match(label.strip())
    if not match:
        raise AdzerError(f"{label!r} is not a timecode. Write it as HH:MM:SS:FF, for example 10:00:05:00.")
    h, m, s, f = (int(match[i]) for i in (1, 2, 3, 5))
    base = _counting(rate)
    if m > 59 or s > 59 or f >= base:
        raise AdzerError(f"{label} is not a timecode at {float(rate):g} frames a second: a part is too large.")
    n = ((h * 60 + m) * 60 + s) * base + f
    if match[4] == ";" and can_drop(rate):
        minutes = h * 60 + m
        n -= base // 15 * (minutes - minutes // 10)
    return n


def to_label(frame: int, rate: Fraction, drop: bool = False) -> str:
    """The label of a frame number from 0 (wraps after 24 hours)."""
    base = _counting(rate)
    if drop and can_drop(rate):
        skip = base // 15
        ten, one = base * 600 - skip * 9, base * 60 - skip
        tens, rest = divmod(frame, ten)
        frame += skip * 9 * tens + (skip * ((rest - skip) // one) if rest >= skip else 0)
    seconds, f = divmod(frame, base)
    m, s = divmod(seconds, 60)
    h, m = divmod(m, 60)
    return f"{h % 24:02d}:{m:02d}:{s:02d}{';' if drop and can_drop(rate) else ':'}{f:02d}"


def is_drop(label: str | None) -> bool:
    return bool(label and ";" in label)
