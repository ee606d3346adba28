"""One recording delivered from the command line: what every command that writes a master does at its beginning and its end."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

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
    name: str, facts: FileFacts, seen: Seen | None, route: Route, card: str, out: Path, json_: bool, more: dict[str, object] | None = None,
    start: int = 0, stop: int | None = None, raster: tuple[int, int] | None = None, measured: Mapping[str, bytes] | None = None,
) -> None:  # fmt: skip
    """Renders, proves and tells, one master or one an eye; ``more``: what the JSON says besides, ``measured``: what is known of the recording."""
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
