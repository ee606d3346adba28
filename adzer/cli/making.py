"""One recording delivered from the command line: what every command that writes a master does at its beginning and its end."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from ..core import records
from ..core.errors import AdzerError
from . import options
from .terminal import print_json, progress

if TYPE_CHECKING:
    from ..core.cards import DeliveryCard
    from ..core.media.probe import FileFacts
    from ..core.read.seen import Seen
    from ..core.route import Route

Card = Annotated[str, typer.Option(help="A delivery card; `adzer cards deliveries` lists them.")]
Out = Annotated[Path, typer.Option(help="The master's name; its ending must be the card's container.")]


def card_for(name: str, out: Path) -> DeliveryCard:
    """AdzerError if the master's name ends otherwise than the card's files do."""
    from ..core import cards

    card = cards.delivery(name)
    if out.suffix.lower() != f".{card.container}":
        raise AdzerError(f"{out}: {card.title} is a .{card.container} file; end the name so.")
    return card


def make(
    name: str, facts: FileFacts, seen: Seen | None, route: Route, card: str, out: Path, json_: bool, more: dict[str, Any] | None = None,
    start: int = 0, stop: int | None = None, raster: tuple[int, int] | None = None,
) -> None:  # fmt: skip
    """Renders, proves and tells; ``more``: what the JSON says besides."""
    from ..core.compile import freeze
    from ..core.route import walk
    from ..core.run.render import render

    order = freeze(Path(name).stem, facts, route, card, out.absolute(), start, stop, seen, raster=raster)
    findings = options.told(walk(order.route, facts, seen, order.card).findings)
    with progress(name) as show:
        report = render(order, show)
    if json_:
        print_json({"master": str(out), "findings": findings, **(more or {}), **records.to_plain(report)})
    else:
        print(f"{out}: " + "; ".join(c.text for c in report.checks) + f"; xxh128 {report.checksum}")
