"""JSON for the frozen records: fractions travel as ``"24000/1001"``, everything else as msgspec does it."""

from __future__ import annotations

import re
import threading
from fractions import Fraction
from functools import lru_cache
from typing import Any, TypeVar

import msgspec

from .errors import UnreadableError

T = TypeVar("T")


def _enc(value: object) -> object:
    if isinstance(value, Fraction):
        return f"{value.numerator}/{value.denominator}"
    if hasattr(value, "item"):  # a number as the measuring library holds it
        return value.item()
    raise NotImplementedError(f"cannot write a {type(value).__name__} as JSON")


def _dec(kind: type, value: object) -> object:
    if kind is Fraction:
        return _parsed(value)  # a recording may begin before zero
    raise NotImplementedError(f"cannot read a {kind.__name__}")


def parse_fraction(value: object) -> Fraction:
    """A positive or zero, finite fraction from ``"24000/1001"``, ``"2.39"`` or a number; ValueError otherwise."""
    result = _parsed(value)
    if result < 0:
        raise ValueError(f"{value!r} is not a usable ratio")
    return result


_RATIO = re.compile(r"[+-]?\d{1,20}(\.\d{0,25})?([eE][+-]?\d{1,2})?(/[+-]?\d{1,20})?|[+-]?\.\d{1,25}", re.ASCII)


@lru_cache(maxsize=8192)
def _parsed(value: object) -> Fraction:
    text = str(value).strip().replace(":", "/")
    if not _RATIO.fullmatch(text):  # before any arithmetic: ten signs can stand for a number that fills the memory
        raise ValueError(f"{text[:40]!r} is not a ratio such as 2.39 or 24000/1001")
    try:
        result = Fraction(text)
    except (ValueError, ZeroDivisionError):
        raise ValueError(f"{value!r} is not a ratio such as 2.39 or 24000/1001") from None
    if max(abs(result.numerator), result.denominator) > 10**12:
        raise ValueError(f"{value!r} is not a usable ratio")
    return result


_encoder = msgspec.json.Encoder(enc_hook=_enc)
_one_at_a_time = threading.Lock()  # msgspec learns a type when it first reads one; two threads at that at once end the process


def to_json(record: object) -> str:
    """The record as one line of JSON."""
    return _encoder.encode(record).decode()


def to_plain(record: object) -> Any:
    """The record as dicts, lists, strings and numbers."""
    return msgspec.to_builtins(record, enc_hook=_enc)


def plainly(error: Exception) -> str:
    """A fault of a record in words: which key, and what is wrong with it, without the parser's own paths and types."""
    text = str(error)
    if missing := re.match(r"Object missing required field `(\w+)`(?: - at `\$\.?(.*)`)?", text):
        return f"the key {missing[1]!r}{f' in {missing[2]}' if missing[2] else ''} is missing"
    if unknown := re.match(r"Object contains unknown field `(\w+)`", text):
        return f"there is no key {unknown[1]!r}"
    said, _, place = text.partition(" - at ")
    kinds = {"float": "a number", "int": "a whole number", "str": "a text", "bool": "true or false", "object": "a table",
             "array": "a list", "null": "nothing"}  # fmt: skip
    for word, plain in kinds.items():
        said = said.replace(f"`{word}`", plain)
    said = re.sub(r"`([^`]*)`", r"\1", said)
    key = place.strip("`").removeprefix("$").lstrip(".")
    return f"{key}: {said[:1].lower()}{said[1:]}" if key else said[:1].lower() + said[1:]


def from_json(text: str | bytes, kind: type[T], what: str = "this text") -> T:
    """The record of type ``kind`` in ``text``; UnreadableError names ``what`` if it is not one."""
    try:
        with _one_at_a_time:
            return msgspec.json.decode(text, type=kind, dec_hook=_dec)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        raise UnreadableError(f"{what} is not what it should be ({plainly(error)}).") from None


def of_version(body: bytes | None, kind: type[T], version: int) -> T | None:
    """What was measured and kept, if it is of this version's reckoning; what cannot be read is measured again."""
    try:
        made: Any = from_json(body, kind) if body else None
    except UnreadableError:
        return None
    return made if made is not None and made.version == version else None


def converted(value: object, kind: type[T], strict: bool = True) -> T:
    """The record of type ``kind`` from plain values; MsgspecError or ValueError as the library says it."""
    with _one_at_a_time:
        return msgspec.convert(value, type=kind, strict=strict, dec_hook=_dec)


def from_plain(value: object, kind: type[T], what: str = "this record") -> T:
    """The record of type ``kind`` from plain values; UnreadableError names ``what`` if it is not one."""
    try:
        return converted(value, kind)
    except (msgspec.MsgspecError, ValueError) as error:
        raise UnreadableError(f"{what} is not what it should be ({plainly(error)}).") from None
