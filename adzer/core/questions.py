"""What each stage can be asked: by which name, what an answer may be, what holds until somebody answers, and what it means.

``adzer answers`` lists it, ``adzer answer`` reads typed answers by it.
"""

from __future__ import annotations

import inspect
import json
import re
from collections.abc import Callable
from fractions import Fraction
from functools import cache
from typing import Any

import msgspec
from msgspec import inspect as kinds

from . import cards
from .errors import AdzerError
from .light import names
from .records import to_plain
from .route import STAGES, Route

ENCODED = re.compile(r"``?([a-z_]+)``?")
# Answers that name a card, and what looks one up: an AdzerError says which there are.
NAMED: dict[str, Callable[[str], object]] = {
    "read.curve": names.curve, "read.primaries": names.primaries, "develop.primaries": names.primaries,
    "develop.into": lambda name: None if name == "light" else names.curve(name),
    "shape.lens": lambda name: cards.find("lenses", name, cards.LensCard), "join.rig": lambda name: cards.find("rigs", name, cards.RigCard),
    "deliver.cards": cards.delivery,
}  # fmt: skip
# What a stage's own description leaves to its name, or says in half a sentence.
MEANS = {
    "read.curve": "the curve that the camera encoded: a standard's name or a curve card", "read.primaries": "the primaries it recorded, a card",
    "read.range": "where its codes put black and white", "read.matrix": "its Y′CbCr matrix", "read.siting": "where its chroma lies among luma",
    "read.even_rate": "frames a second that it is made even at, where timing is even", "read.projection": "what one picture shows",
    "read.coverage": "degrees of the sphere that it holds", "read.eyes": "how many eyes are in its picture, and how they lie",
    "read.packing": "is each eye squeezed into its half?", "read.first": "the eye on the left, or above",
    "read.master": "here: it is the recording itself; to come: a proxy, of which nothing is delivered before its master is linked",
    "read.applied": "a transform that has been applied already, whatever the camera's curve was",
    "join.black": "added to the second's red, green and blue after the gain", "develop.kelvin": "of the light that was white",
    "develop.tint": "of that light, 0.001 Duv, greener is positive", "develop.neutral": "red, green and blue of a white patch, the largest 1",
    "develop.colour": "how far colour is denoised; none: as far as luma", "steady.eases": "is the budget spent only where the moves need it?",
    "steady.grows": "does what is locked keep its size, too?", "steady.level": "how much of a ride's leaning is taken away",
    "steady.method": "hold: as on a tripod; drift: only slow movement stays; path: a smooth path; level: a level sphere; lock: a thing keeps its "
    "place",
    "steady.light": "by how many stops each frame is made brighter, as solved", "shape.squeeze": "by how much the lens squeezed; 1 is none",
    "shape.focus": "metres at which the lens was focused", "shape.lengths": "things of known width and height, as they were marked",
    "shape.marks": "round things, as they were marked", "shape.bend": "the polynomial by which a round lens draws",
    "shape.school": "is the squeeze undone by a lower or by a wider picture?", "colour.exposure": "stops brighter",
    "colour.kelvin": "of the light that is to become neutral; 6504 leaves it", "colour.tint": "of that light; 0 leaves it",
    "colour.saturation": "times as strong", "colour.whites": "what happens above white", "colour.adaptation": "how white is adapted",
    "deliver.exact": "is it the size of the file itself, whatever lies in it?",
    "deliver.raster": "largest width and height, instead of the card's",
}  # fmt: skip


class Question(msgspec.Struct, frozen=True):
    """``name``: stage.field; ``takes``: what an answer may be; ``default``: what holds until then; ``means``: in a sentence or less."""

    name: str
    takes: str
    default: str
    means: str


@cache
def questions(stage: str) -> tuple[Question, ...]:
    """Of a stage, in its order. AdzerError if there is no such stage."""
    if stage not in STAGES:
        raise AdzerError(f"There is no stage {stage!r}. The stages are {', '.join(STAGES)}.")
    settings = type(getattr(Route(), stage))
    means = {f"{stage}.{field}": said for field, said in _meanings(inspect.getdoc(settings) or "").items()} | MEANS
    info = kinds.type_info(settings)
    assert isinstance(info, kinds.StructType)
    return tuple(
        Question(f"{stage}.{f.name}", _takes(f.type), _shown(getattr(Route(), stage), f.name), means.get(f"{stage}.{f.name}", ""))
        for f in info.fields if f.name != "version"
    )  # fmt: skip


def meant(stage: str, field: str, text: str) -> object:
    """A typed answer: none, JSON, a list with commas where one is taken, else the text. AdzerError if it names a card that is not there."""
    kind = _field(stage, field).type
    value: object = None if text in ("none", "") else _value(text)
    if value is not None and _is_list(kind) and not isinstance(value, list):
        value = [_value(part.strip()) for part in text.split(",")]
    if isinstance(value, int | float) and _is_text(kind) and not isinstance(value, bool):
        value = text  # a name of digits
    if (look_up := NAMED.get(f"{stage}.{field}")) is not None:
        for name in value if isinstance(value, list) else [value]:
            if isinstance(name, str):
                look_up(name)
    return value


def _value(text: str) -> object:
    try:
        return json.loads(text)
    except ValueError:
        return text


def _field(stage: str, field: str) -> kinds.Field:
    if stage not in STAGES:
        raise AdzerError(f"There is no stage {stage!r}. The stages are {', '.join(STAGES)}.")
    info = kinds.type_info(type(getattr(Route(), stage)))
    assert isinstance(info, kinds.StructType)
    held = {f.name: f for f in info.fields if f.name != "version"}
    if field not in held:
        raise AdzerError(f"{stage} has no question {field!r}. It has: {', '.join(held)}. `adzer answers {stage}` explains each.")
    return held[field]


def _is_list(kind: kinds.Type) -> bool:
    held = kind.types if isinstance(kind, kinds.UnionType) else (kind,)
    return any(isinstance(t, kinds.VarTupleType | kinds.TupleType | kinds.ListType) for t in held)


def _is_text(kind: kinds.Type) -> bool:
    held = kind.types if isinstance(kind, kinds.UnionType) else (kind,)
    return any(isinstance(t, kinds.StrType) for t in held) and not any(isinstance(t, kinds.IntType | kinds.FloatType) for t in held)


def _takes(kind: kinds.Type) -> str:
    """In words: numbers with their range, the names of a choice."""
    if isinstance(kind, kinds.UnionType):
        return " or ".join("none" if isinstance(t, kinds.NoneType) else _takes(t) for t in kind.types)
    if isinstance(kind, kinds.LiteralType):
        return " | ".join(str(v) for v in kind.values)
    if isinstance(kind, kinds.IntType | kinds.FloatType):
        low, high = kind.ge if kind.ge is not None else kind.gt, kind.le if kind.le is not None else kind.lt
        what = "whole number" if isinstance(kind, kinds.IntType) else "number"
        return what if low is None and high is None else f"{what} from {low:g}" if high is None else f"{what} {low or 0:g} to {high:g}"
    if isinstance(kind, kinds.BoolType):
        return "true | false"
    if isinstance(kind, kinds.VarTupleType | kinds.ListType):
        return f"list of {_takes(kind.item_type)}"
    if isinstance(kind, kinds.TupleType):
        each = [_takes(t) for t in kind.item_types]
        return f"{len(each)} of {each[0]}" if len(set(each)) == 1 else ", ".join(each)
    if isinstance(kind, kinds.StructType):
        return kind.cls.__name__.lower() + " as JSON"
    if isinstance(kind, kinds.CustomType) and kind.cls is Fraction:
        return "ratio, as 8/5 or 1.6"
    return "text"


def _shown(settings: Any, name: str) -> str:
    value = to_plain(getattr(settings, name))
    return "none" if value is None else value if isinstance(value, str) and value else json.dumps(value, ensure_ascii=False)


def _meanings(text: str) -> dict[str, str]:
    """What a stage's own description says of each field: on a line of its own, or within another's between double quotes."""
    found: dict[str, str] = {}
    for block in re.split(r"\n(?=[a-z_]+(?:, [a-z_]+)* {2,}\S)", "\n" + text):
        head = re.match(r"\s*([a-z_]+(?:, [a-z_]+)*) {2,}(.*)", block, re.DOTALL)
        own, rest = (head[1].split(", "), head[2]) if head else ([], block)
        plain = re.sub(r"\s+", " ", rest.split("\n\n")[0]).strip()
        parts = re.split(r"(?:; |(?<=\.) |^)(?=``[a-z_]+``(?:[:,]| (?:and|percent|stops|share|light|what|a) ))", plain)
        for n, part in enumerate(p for p in parts if p):
            names_ = own if n == 0 and own else ENCODED.findall(part)[:1]
            said = part if n == 0 and own else re.sub(r"^``[a-z_]+``:? ?", "", part)
            for name in names_:
                found.setdefault(name, said.replace("``", "").strip(" ;."))
    return found
