"""The log for people: what was changed from what to what, in words and units, and as a table to take along."""

from __future__ import annotations

import csv
import io
import time
from collections.abc import Iterable
from fractions import Fraction
from html import escape
from typing import Any

from .ledger import LogRow

# Settings → what they are called, and their unit. What is not here is called by its own name.
WORDS: dict[str, tuple[str, str]] = {
    "read.curve": ("curve", ""), "read.even_rate": ("even rate", " frames a second"), "read.timing": ("rhythm", ""),
    "read.turn": ("turned clockwise", "°"), "read.siting": ("chroma siting", ""), "read.first": ("first eye", ""),
    "read.applied": ("already applied", ""), "read.coverage": ("covers", "°"), "shape.squeeze": ("squeeze", "×"),
    "shape.focus": ("focused at", " m"), "shape.enlarged": ("enlarged", "×"), "shape.speed": ("speed", "×"),
    "shape.school": ("desqueezed by", ""), "shape.shape": ("delivered shape", ""), "shape.hold": ("held", ""),
    "shape.across": ("lens across", "°"), "shape.keep": ("what must stay in", ""), "shape.level": ("horizon", "°"),
    "shape.position": ("position", ""), "shape.moves": ("moves of the crop", ""), "shape.view": ("view", ""),
    "shape.measured": ("squeeze as measured", ""), "colour.exposure": ("exposure", " stops"), "colour.kelvin": ("white", " K"),
    "colour.tint": ("tint", ""), "colour.contrast": ("contrast", "×"), "colour.saturation": ("saturation", "×"),
    "colour.whites": ("above white", ""), "colour.ceiling": ("ceiling", " %"), "colour.peak": ("brightest light", " stops"),
    "colour.beyond": ("beyond the primaries", ""), "deliver.cards": ("deliveries", ""), "deliver.raster": ("raster", ""),
    "deliver.exact": ("raster is exact", ""),
}  # fmt: skip
SIZES = ("bytes", "size")
COLUMNS = ("when", "what", "shot", "said", "changed")


def value_text(value: Any, unit: str = "") -> str:
    """A value as a person would write it; longer ones by what they are."""
    if value is None:
        return "not set"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str) and "/" in value:
        try:
            value = float(Fraction(value))
        except (ValueError, ZeroDivisionError):
            return value
    if isinstance(value, int | float):
        return f"{value:.5g}{unit}" if abs(value) < 1e5 else f"{value:,.0f}{unit}".replace(",", "\u202f")
    if isinstance(value, list):
        if not value:
            return "none"
        if all(isinstance(v, int | float) for v in value):
            return ("×" if all(isinstance(v, int) for v in value) and len(value) == 2 else ", ").join(f"{v:.5g}" for v in value)
        return ", ".join(value) if all(isinstance(v, str) for v in value) else f"{len(value)} of them"
    if isinstance(value, dict):
        keys = value.get("keys")
        return f"{len(keys)} keyframes" if isinstance(keys, list) else f"{len(value)} values"
    return f"{value}{unit}"


def field_words(key: str) -> str:
    """What a setting, stage.field, is called."""
    return WORDS.get(key, (key.partition(".")[2] or key, ""))[0].replace("_", " ")


def change_text(numbers: dict[str, object]) -> str:
    """``squeeze: 1× → 1.6×`` for changed answers; names and values otherwise."""
    parts = []
    for key, value in numbers.items():
        if key == "digest":  # of an order: for the queue, not for people
            continue
        words, unit = field_words(key), WORDS.get(key, ("", ""))[1]
        if isinstance(value, list) and len(value) == 2 and "." in key:
            before, after = (value_text(v, unit) for v in value)
            parts.append(f"{words}: {before} → {after}" if before != after else f"{words}: changed")
        elif key == "seconds" and isinstance(value, int | float):
            parts.append(f"{value:.1f} s")
        elif key in SIZES and isinstance(value, int):
            parts.append(f"{value / 1e6:.1f} MB" if value >= 100_000 else f"{value} bytes")
        else:
            parts.append(f"{words} {value_text(value, unit)}")
    return "; ".join(parts)


def cells(row: LogRow) -> tuple[str, str, str, str, str]:
    """``COLUMNS`` of a row."""
    at = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(row.at))
    return at, row.kind, row.shot or "", row.text, change_text(row.numbers)


def chosen(rows: Iterable[LogRow], kind: str = "", words: str = "") -> list[LogRow]:
    """Rows of a kind ("" is any) in which all words occur."""
    wanted = words.lower().split()
    return [r for r in rows if (not kind or r.kind == kind) and all(w in " ".join(cells(r)).lower() for w in wanted)]


def as_csv(rows: Iterable[LogRow]) -> str:
    """A table after RFC 4180, with a heading. A cell that a spreadsheet would take for a formula begins with an apostrophe."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(COLUMNS)
    for row in rows:
        writer.writerow([f"'{c}" if c[:1] in ("=", "+", "-", "@") else c for c in cells(row)])
    return out.getvalue()


def as_html(rows: Iterable[LogRow], title: str) -> str:
    """A page with one table, which a browser prints."""
    head = "".join(f"<th>{escape(c)}</th>" for c in COLUMNS)
    body = "\n".join("<tr>" + "".join(f"<td>{escape(c)}</td>" for c in cells(row)) + "</tr>" for row in rows)
    style = "body{font:14px sans-serif}table{border-collapse:collapse}td,th{border:1px solid #999;padding:3px 8px;text-align:left;vertical-align:top}"
    return (
        f'<!doctype html>\n<html lang="en"><meta charset="utf-8"><title>{escape(title)}</title><style>{style}</style>\n'
        f"<h1>{escape(title)}</h1>\n<table><tr>{head}</tr>\n{body}\n</table></html>\n"
    )


def as_markdown(rows: Iterable[LogRow], title: str) -> str:
    lines = [f"# {title}", "", "| " + " | ".join(COLUMNS) + " |", "| --- " * len(COLUMNS) + "|"]
    for row in rows:
        lines.append("| " + " | ".join(c.replace("\\", "\\\\").replace("|", "\\|").replace("\n", " ") for c in cells(row)) + " |")
    return "\n".join(lines) + "\n"
