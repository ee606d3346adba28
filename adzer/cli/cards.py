"""Commands about settings cards: list, check, and make one from footage. ``cli`` brings them in."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from ..core import cards, records
from ..core.errors import AdzerError
from .terminal import Json, app, print_json

cards_app = typer.Typer(
    help="The cards there are: list, check, or make one.\n\nExamples: adzer cards · adzer cards curves · adzer cards check my-log.toml",
    rich_markup_mode=None, invoke_without_command=True,
)  # fmt: skip
app.add_typer(cards_app, name="cards")


@cards_app.callback()
def _all(context: typer.Context, json_: Json = False) -> None:
    if context.invoked_subcommand is None:
        _list(list(cards.KINDS), json_)


def _list(kinds: list[str], json_: bool) -> None:
    from ..core.light import names as colour_cards

    listed = {k: cards.paths(k) for k in kinds}
    if json_:
        print_json(
            {k: {n: records.to_plain(cards.read_card(p, k)) for n, p in found.items()} for k, found in listed.items()}
        )
        return
    for k, found in listed.items():
        print(k)
        for name, path in found.items():
            print(f"  {name:18} {colour_cards.check(k, name, cards.read_card(path, k))}")


def _lister(kind: str) -> None:
    def of_kind(json_: Json = False) -> None:
        _list([kind], json_)

    cards_app.command(kind, help=f"List the {kind} cards.\n\nExample: adzer cards {kind}")(of_kind)


for _kind in cards.KINDS:
    _lister(_kind)


@cards_app.command("check", help="Check a card, and say what it means.\n\nExample: adzer cards check my-log.toml")
def check(file: Annotated[Path, typer.Argument(help="The card's file, NAME.toml.")]) -> None:
    from ..core.light import names as colour_cards

    kind = cards.kind_of(file)
    print(f"{file}: {colour_cards.check(kind, file.stem, cards.read_card(file, kind))}")


@cards_app.command(
    "fit",
    help="Make a curve card from exposures of a still scene, a known number of stops apart, with a grey patch in it; and with a "
    "board of known patches its primaries, too.\n\n"
    "Example: adzer cards fit my-log.toml a.mov b.mov c.mov d.mov e.mov --stops=-2,-1,0,1,2 --grey 900,500,60,60",
)
def fit(
    card: Annotated[Path, typer.Argument(help="The card to write; a file that is there is not replaced.")],
    files: Annotated[list[Path], typer.Argument(help="The exposures, at least three; five, a stop apart, are best.")],
    stops: Annotated[str, typer.Option(help="Of each file, in stops, 0 the one in which grey is right, e.g. --stops=-2,-1,0,1,2.")],
    grey: Annotated[str, typer.Option(help="x,y,width,height of an 18 % grey patch, in recorded pixels.")],
    title: Annotated[str, typer.Option(help="The cards' title; the file's name if left out.")] = "",
    patches: Annotated[
        Path | None,
        typer.Option(help="CSV of a board's patches: x,y,width,height,X,Y,Z; recorded pixels, and XYZ under D65, white having Y = 1 or 100."),
    ] = None,
    primaries: Annotated[
        Path | None,
        typer.Option(help="With --patches: the primaries card to write; a file that is there is not replaced."),
    ] = None,
    json_: Json = False,
) -> None:  # fmt: skip
    from ..core.colour import exposures, gamut

    if (patches is None) != (primaries is None):
        raise AdzerError("--patches and --primaries go together: the board, and the card that is written from it.")
    board = gamut.read(patches) if patches is not None else []
    for path in filter(None, (card, primaries)):
        if path.exists():
            raise AdzerError(f"{path} is there already; it is never overwritten. Give another name.")
    made, wide = exposures.measured(files, stops, grey, board)
    name = title or card.stem
    if wide is not None and primaries is not None:
        write(primaries, gamut.text(wide, name, board))
    write(card, exposures.text(made, name, primaries.stem if primaries is not None else None))
    low, high = made.reach
    if json_:
        told = {"card": str(card), "from_stops": round(low, 2), "to_stops": round(high, 2), "error_stops": round(made.doubt, 4)}
        if wide is not None:
            told |= {"primaries": str(primaries), "error": round(wide.error, 4), "worst_patch": wide.worst}
        print_json(told)
        return
    print(f"{card}: {low:+.1f} to {high:+.1f} stops about middle grey, ± {made.doubt:.3f} stops from −5 to +3")
    if wide is not None:
        print(f"{primaries}: from {len(board)} patches, each {wide.error:.1%} off when it is left out; patch {wide.worst} most")


def write(path: Path, text: str) -> None:
    try:
        with path.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError:
        raise AdzerError(f"{path} is there already; it is never overwritten. Give another name.") from None
    except OSError as error:
        raise AdzerError(f"{path} cannot be written ({error.strerror}).") from None
