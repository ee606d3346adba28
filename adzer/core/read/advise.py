"""From levels to a guess about the curve, with what it rests on in numbers."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from functools import lru_cache

from .. import cards
from ..colour import cards as colour_cards
from ..errors import UnreadableError
from .measure import Levels

STANDARD_RATES = tuple(
    Fraction(n) for n in ("24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60", "100", "120")
)


@dataclass(frozen=True)
class LookOfLog:
    """Does the footage look like log? ``saw`` gives the numbers; ``fits`` is the log card whose black fits best."""

    is_log: bool
    saw: str
    fits: str | None


def look(levels: Levels) -> LookOfLog:
    """Log lifts its blacks, keeps its range narrow and its colours pale; display pictures reach down to black.

    Judged on the darkest and lightest thousandth of luma and the mean distance from grey: two of three must say log,
    and the lifted black must be one of them.
    """
    lifted = levels.low > 0.055
    pale = levels.colourfulness < 0.06
    narrow = levels.high - levels.low < 0.72
    saw = (
        f"the darkest parts sit at {levels.low:.1%}, the lightest at {levels.high:.1%}, "
        f"colours lie {levels.colourfulness:.1%} from grey"
    )
    is_log = lifted and (pale or narrow)
    return LookOfLog(is_log, saw, _best_card(levels.low, cards.stamp("curves")) if is_log else None)


@lru_cache(maxsize=256)
def _best_card(low: float, _: tuple[str, float, float]) -> str | None:
    """The log curve whose black lies highest without passing what the footage holds."""
    best: tuple[float, str] | None = None
    for name in colour_cards.names():
        try:
            curve = colour_cards.curve(name)
            if curve.kind != "log":
                continue
            black = colour_cards.facts(curve).black
        except UnreadableError:
            continue
        if black <= low + 0.01 and (best is None or black > best[0]):
            best = (black, name)
    return best[1] if best else None


def nearest_rate(rate: Fraction) -> Fraction:
    """The usual rate nearest to a measured one."""
    return min(STANDARD_RATES, key=lambda r: abs(r - rate))


def rate_text(rate: Fraction | None) -> str:
    """25, 23.976, 59.94 …"""
    if rate is None:
        return "?"
    digits = 3 if rate.denominator in (1, 1001) else 2
    return f"{float(rate):.{digits}f}".rstrip("0").rstrip(".")
