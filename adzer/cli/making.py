"""One recording delivered from the command line: what every command that writes a master does at its beginning and its end."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from ..core import records
from ..core.errors import AdzerError
from . import options
from .terminal import print_json, progress, ratio

if TYPE_CHECKING:
    from ..core.cards import DeliveryCard
    from ..core.media.probe import FileFacts
    from ..core.read.seen import Seen
    from ..core.route import Route

def fitting(context: typer.Context, option: typer.CallbackParam, value: Any) -> Any:
    """Refuses an unknown card, a name that is taken or one with another ending, before any footage is read."""
    if value is None or context.resilient_parsing:
        return value
    from ..core import cards

    given = {**context.params, option.name: value}
    if option.name == "card":
        cards.delivery(value)
    elif os.path.lexists(value):
        raise AdzerError(f"{value} is there already; it is never overwritten. Give another name, or move it away.")
    if given.get("card") is not None and isinstance(out := given.get("out"), Path):
        card_for(given["card"], out)
    return value


A_CARD = typer.Option(help="A delivery card; `adzer cards deliveries` lists them.", callback=fitting)
A_MASTER = typer.Option(help="The master's name; its ending must be the card's container.", callback=fitting)
Card = Annotated[str, A_CARD]
Out = Annotated[Path, A_MASTER]
Size = Annotated[str | None, typer.Option(help="Largest frame size in pixels, e.g. 1920x1080; the card's if left out.")]
Rate = Annotated[
    str | None, typer.Option(help="Constant frame rate of the master, e.g. 25 or 24000/1001; as recorded if left out.")
]


def evenly(declared: dict[str, object], rate: str | None) -> dict[str, object]:
    """What is declared, with the even rate that ``--rate`` asks for."""
    return declared if rate is None else declared | {"timing": "even", "even_rate": str(ratio(rate, "rate"))}


def card_for(name: str, out: Path) -> DeliveryCard:
    """AdzerError if the master's name ends otherwise than the card's files do."""
    from ..core import cards

    card = cards.delivery(name)
    if out.suffix.lower() != f".{card.container}":
        raise AdzerError(f"{out}: {card.title} is a .{card.container} file; end the name so.")
    return card


def make(
    name: str, facts: FileFacts, seen: Seen | None, route: Route, card: str, out: Path, json_: bool, more: dict[str, object] | None = None,
    start: int = 0, stop: int | None = None, raster: tuple[int, int] | None = None, measured: Mapping[str, bytes] | None = None,
) -> None:  # fmt: skip
    """Renders, proves and tells, one master or one an eye; ``raster``: instead of the card's largest, ``more``: what the JSON says besides,
    ``measured``: what is known of the recording."""
    from ..core.compile import freeze
    from ..core.route import walk
    from ..core.run.render import render

    made = []
    for added, each in route.masters:
        path = out.with_name(out.stem + added + out.suffix)
        order = freeze(Path(name).stem, facts, each, card, path.absolute(), start, stop, seen, raster=raster)
        findings = options.told(walk(order.route, facts, seen, order.card, measured=measured).findings)
        with progress(name) as show:
            report = render(order, show)
        made.append({"master": str(path), "findings": findings, **records.to_plain(report)})
        if not json_:
            print(f"{path}: " + "; ".join(c.text for c in report.checks) + f"; xxh128 {report.checksum}")
    if json_:
        print_json((made[0] if len(made) == 1 else {"masters": made}) | (more or {}))
