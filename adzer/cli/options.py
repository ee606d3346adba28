"""Options that several commands share: what a recording is declared to be, and what is said of its route."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from inspect import Parameter, Signature, signature
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal, get_type_hints

import typer

from ..core import records
from ..core.finding import Finding
from .terminal import ratio, say

if TYPE_CHECKING:
    from ..core.route import Route



def _named(place: str) -> Callable[[Any], Any]:
    """Refuses a card's name that there is none of before any footage is read."""

    def check(value: Any) -> Any:
        if value is not None:
            from ..core.questions import NAMED

            NAMED[place](value)
        return value

    return check


Curve = Annotated[
    str | None,
    typer.Option(help="What the camera encoded: a standard or a curve card; as tagged if left out.", callback=_named("read.curve")),
]
Primaries = Annotated[
    str | None, typer.Option(help="The recording's primaries card; as tagged if left out.", callback=_named("read.primaries"))
]
Range = Annotated[
    Literal["limited", "full"] | None,
    typer.Option("--range", help="Where its codes put black and white; as tagged if left out."),
]
Matrix = Annotated[
    Literal["bt709", "bt2020", "bt601"] | None,
    typer.Option(help="Its Y′CbCr matrix; as tagged if left out."),
]
Siting = Annotated[
    Literal["left", "center", "topleft", "top", "bottomleft", "bottom"] | None,
    typer.Option(help="Where its chroma lies among luma; as stated in the stream if left out."),
]
Turn = Annotated[
    Literal["0", "90", "180", "270"] | None,
    typer.Option(help="Degrees clockwise that turn it upright; as tagged if left out."),
]
Projection = Annotated[
    Literal["flat", "equirectangular", "fisheye"] | None,
    typer.Option(help="What its picture shows: flat, an unrolled sphere, or round lenses; as tagged if left out."),
]
Coverage = Annotated[
    Literal["360", "180"] | None,
    typer.Option(help="Degrees of the sphere that it holds; by its shape if left out."),
]
Eyes = Annotated[
    Literal["one", "side by side", "over under"] | None,
    typer.Option(help="Eyes in its picture; as tagged if left out."),
]
Packing = Annotated[
    Literal["full", "half"] | None,
    typer.Option(help="Is each eye squeezed into its half? By its shape if left out."),
]
First = Annotated[
    Literal["left", "right"] | None,
    typer.Option(help="The eye on the left or above; as tagged if left out."),
]


Damage = Annotated[
    Literal["stop", "use"] | None,
    typer.Option(help="What becomes of frames that decode with errors: stop, or use them as they decode; stop if left out."),
]


Fields = Annotated[
    Literal["one", "both"] | None,
    typer.Option(help="Of interlaced frames: use the lines of one moment, or both as recorded, combs and all; asked for if left out."),
]


Rear = Annotated[Path | None, typer.Option(help="The file of the other, rear lens of a pair.")]
Match = Annotated[bool, typer.Option(help="Match two lenses by what both see first.")]


ROUND: dict[str, object] = {"projection": "fisheye", "eyes": "one"}  # what is declared of two lenses' files, if nothing else is


DECLARED: dict[str, object] = {
    "curve": Curve, "primaries": Primaries, "range": Range, "matrix": Matrix, "siting": Siting, "turn": Turn,
    "projection": Projection, "coverage": Coverage, "eyes": Eyes, "packing": Packing, "first": First, "damage": Damage, "fields": Fields,
}  # fmt: skip


CORRECTED: dict[str, object] = {
    "exposure": Annotated[float | None, typer.Option(min=-8, max=8, help="Brighter by so many stops; 0 if left out.")],
    "whites": Annotated[
        Literal["let-go", "roll-off", "keep-hue", "keep-all"] | None,
        typer.Option(help="What happens above white; roll-off if left out."),
    ],
    "ceiling": Annotated[Literal["100", "105", "109"] | None, typer.Option(help="Percent that nothing delivered passes; 100 if left out.")],
}


Across = Annotated[float | None, typer.Option(min=60, max=280, help="Degrees that a round lens sees; as measured, else 180, if left out.")]
Speed = Annotated[str | None, typer.Option(help="Times as fast as recorded, 1/16 to 16, e.g. 1/2; 1 if left out.")]

SHAPED: dict[str, object] = {
    "across": Across,
    "squeeze": Annotated[str | None, typer.Option(help="How much the lens squeezes, 1/4 to 4, e.g. 1.6 or 8/5; 1 if left out.")],
    "lens": Annotated[str | None, typer.Option(help="A lens card; `adzer cards lenses` lists them.", callback=_named("shape.lens"))],
    "focus": Annotated[float | None, typer.Option(min=0.01, help="Metres at which the lens was focused; far away if left out.")],
    "shape": Annotated[str | None, typer.Option(help="Delivered shape, width to height, e.g. 2.39 or 16:9; the recording's if left out.")],
    "speed": Speed,
}


def _gathers(name: str, options: dict[str, object], meant: Callable[[str, Any], object]) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Gives a command many options, of which it gets those that were given as one dictionary, ``name``."""

    def decorate(command: Callable[..., None]) -> Callable[..., None]:
        hints = get_type_hints(command, include_extras=True)
        held = signature(command).parameters.values()
        own = [p.replace(annotation=hints.get(p.name, p.annotation)) for p in held if p.name != name]
        more = [Parameter(n, Parameter.KEYWORD_ONLY, default=None, annotation=kind) for n, kind in options.items()]

        @wraps(command)
        def run(**words: object) -> None:
            given = {n: meant(n, v) for n in options if (v := words.pop(n)) is not None}
            command(**{name: given}, **words)

        run.__signature__ = Signature([*(p.replace(kind=Parameter.KEYWORD_ONLY) for p in own), *more])  # type: ignore[attr-defined]
        run.__annotations__ = {p.name: p.annotation for p in (*own, *more)}
        return run

    return decorate


declares = _gathers("declared", DECLARED, lambda name, v: int(v) if name == "turn" else v)  # what it is, as Read takes it
corrects = _gathers("corrected", CORRECTED, lambda name, v: {"whites": lambda: v.replace("-", " "), "ceiling": lambda: int(v)}.get(name, lambda: v)())
shapes = _gathers("shaped", SHAPED, lambda name, v: str(ratio(v, name)) if name in ("squeeze", "shape", "speed") else v)


def shaped(route: Route, given: dict[str, Any]) -> Route:
    """With what ``shapes`` gathered; a lens's card says its squeeze unless that is given, too."""
    from ..core.shape.advise import by_lens

    own, lens, focus = dict(given), given.get("lens"), given.get("focus")
    if lens is not None:
        own = by_lens(lens, focus) | {k: v for k, v in own.items() if k not in ("lens", "focus")}
    else:
        own.pop("focus", None)
    return route.with_("shape", **own)


Over = Annotated[
    list[str] | None,
    typer.Option(
        help='A picture with cover laid over it, "FILE,x=0.5,y=0.85,wide=0.5,from=1,to=4,fade=0.5,nearer=0.4": its middle and width in shares, '
        "seconds, per cent nearer than the screen; only the file must be said. May come again."
    ),
]


def lain_over(route: Route, over: list[str] | None) -> Route:
    """With what ``--over`` names laid over it."""
    from ..core.deliver.measure import told as laid

    return route.with_("deliver", over=[laid(text) for text in over]) if over else route


Foot = Annotated[
    str | None,
    typer.Option(
        help='What covers the foot of a sphere, "3.2,25" or "FILE,25": what was there at so many seconds, or a picture whose round middle fills '
        "it; and degrees round straight down, 25 if left out."
    ),
]


def covered(route: Route, foot: str | None) -> Route:
    """With what ``--foot`` names under it."""
    from ..core.join.foot import told as meant

    return route.with_("join", foot=records.to_plain(meant(foot))) if foot else route


def told(findings: list[Finding], shot: str = "") -> list[dict[str, object]]:
    """Says every *warn* and *stop* of a route on standard error; returns all of its findings for JSON."""
    for f in findings:
        if f.level.weight:
            say(f"{shot}: {f.level.value}: {f.text}" if shot else f"{f.level.value}: {f.text}")
    return [finding(f) for f in findings]


def finding(f: Finding) -> dict[str, object]:
    """As docs/json.md says."""
    return {"level": f.level.value, "code": f.code, "stage": f.stage, "text": f.text, "fix": records.to_plain(f.fix)}
