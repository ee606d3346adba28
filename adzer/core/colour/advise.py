"""Sentences on what a colour setting does, from measured levels."""

from __future__ import annotations

from .measure import WhitesCost

OTHERS_WHITES = {
    "let go": "Others roll it off, so that a cloud keeps its edge.",
    "roll off": "Others let it go when a face should glow.",
    "keep all": "Others roll off, so that middle tones keep their place.",
}


def whites_text(whites: str, cost: WhitesCost) -> str:
    """What a way with whites costs on this footage."""
    if whites == "let go":
        return f"{cost.clipped:.2%} of the pixels end in flat white; middle grey stays at {cost.grey:.0%}."
    if whites == "roll off":
        return f"{cost.bent:.1%} of the pixels are bent under white, {cost.clipped:.2%} end in it; middle grey stays at {cost.grey:.0%}."
    return f"Nothing ends above white; everything is scaled and middle grey falls to {cost.grey:.0%}."
