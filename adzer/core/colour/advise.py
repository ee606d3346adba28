"""Sentences on what a colour setting does, from measured levels."""

from __future__ import annotations

from .measure import WhitesCost

OTHERS_WHITES = {
    "let go": "Others roll it off, so that a cloud keeps its edge.",
    "roll off": "This is the default as bright colours then go over into white, as on film and to the eye. Others let it go when a "
    "face should glow, or keep the hue where a sign or a cloth must stay its colour.",
    "keep hue": "Others roll off channel by channel: what is very bright turns towards yellow, cyan or magenta and then white.",
    "keep all": "Others roll off, so that middle tones keep their place.",
}


def whites_text(whites: str, cost: WhitesCost, turn: float = 0.0) -> str:
    """What a way with whites costs on this footage; ``turn``: degrees by which it turns bright colours."""
    if whites == "let go":
        return f"{cost.clipped:.2%} of the pixels end in flat white; middle grey stays at {cost.grey:.0%}."
    if whites in ("roll off", "keep hue"):
        hues = f"hues of its brightest colours turn by up to {turn:.0f}°" if turn >= 1 else "hues stay"
        return (
            f"{cost.bent:.1%} of the pixels are bent under the ceiling, {cost.clipped:.2%} end in it; {hues}; middle grey stays at "
            f"{cost.grey:.0%}."
        )
    return f"Nothing ends above white; everything is scaled and middle grey falls to {cost.grey:.0%}."
