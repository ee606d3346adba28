"""From what was seen to what is advised: the log card that fits, usual rates, what conforming would do."""

from __future__ import annotations

import math
from dataclasses import dataclass
from fractions import Fraction

from ..light import names as colour_cards
from .seen import Seen

STANDARD_RATES = tuple(
    Fraction(n) for n in ("24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60", "100", "120")
)
DISPLAY = ("bt709", "srgb", "gamma22", "gamma26", "bt1886")


@dataclass(frozen=True)
class Look:
    """What curve the footage looks like: ``kind``, how sure, ``saw`` in numbers. It names no curve: of those there are many."""

    kind: str | None
    sure: bool
    saw: str
    confidence: float = 0.0

    @property
    def is_log(self) -> bool:
        return self.kind == "log" and self.sure

    @property
    def may_be_log(self) -> bool:
        """Is it log, or not clearly enough a display picture to rule that out?"""
        return self.kind == "log" and self.confidence >= 0.5


def look(seen: Seen) -> Look:
    guess = seen.curve
    return Look(guess.value, guess.sure, guess.saw, guess.confidence)


def kind_of(name: str | None, bits: int = 10) -> str | None:
    """display, log, linear, pq or hlg of a declared or tagged curve."""
    if name is None:
        return None
    if name in ("pq", "hlg", "linear"):
        return name
    kind = colour_cards.curve(name, bits).kind
    return "log" if kind == "log" else "display"


def nearest_rate(rate: Fraction) -> Fraction:
    """The usual rate nearest to a measured one."""
    return min(STANDARD_RATES, key=lambda r: abs(r - rate))


def conform_text(rate: Fraction, job_rate: Fraction, duration: Fraction) -> str:
    """What playing frame for frame at the job's rate does to length and sound."""
    ratio = job_rate / rate
    cents = 1200 * math.log2(ratio)
    pitch = f"its sound would have to be stretched, or sound {abs(cents) / 100:.2f} semitones {'higher' if cents > 0 else 'lower'}"
    return (
        f"the exact ratio is {ratio.numerator}/{ratio.denominator}. Played frame for frame, its {float(duration):.2f} s would "
        f"last {float(duration / ratio):.2f} s, and {pitch}"
    )


def rate_text(rate: Fraction | None) -> str:
    """25, 23.976, 59.94 …"""
    if rate is None:
        return "?"
    digits = 3 if rate.denominator in (1, 1001) else 2
    return f"{float(rate):.{digits}f}".rstrip("0").rstrip(".")
