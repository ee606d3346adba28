"""Options that several commands share: what a recording is declared to be, and what is said of its route."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from inspect import Parameter, Signature, signature
from typing import Annotated, Any, Literal, Optional, get_type_hints

import typer

from .core.finding import Finding
from .terminal import say

Curve = Annotated[
    Optional[str],  # noqa: UP045
    typer.Option(help="What the camera encoded: a standard or a curve card; as tagged if left out."),
]
Primaries = Annotated[Optional[str], typer.Option(help="The recording's primaries card; as tagged if left out.")]  # noqa: UP045
Range = Annotated[
    Optional[Literal["limited", "full"]],  # noqa: UP045
    typer.Option("--range", help="Where its codes put black and white; as tagged if left out."),
]
Matrix = Annotated[
    Optional[Literal["bt709", "bt2020", "bt601"]],  # noqa: UP045
    typer.Option(help="Its Y′CbCr matrix; as tagged if left out."),
]
Siting = Annotated[
    Optional[Literal["left", "center", "topleft", "top", "bottomleft", "bottom"]],  # noqa: UP045
    typer.Option(help="Where its chroma lies among luma; as stated in the stream if left out."),
]
Turn = Annotated[
    Optional[Literal["0", "90", "180", "270"]],  # noqa: UP045
    typer.Option(help="Degrees clockwise that turn it upright; as tagged if left out."),
]
Projection = Annotated[
    Optional[Literal["flat", "equirectangular", "fisheye"]],  # noqa: UP045
    typer.Option(help="What its picture shows: flat, an unrolled sphere, or round lenses; as tagged if left out."),
]
Coverage = Annotated[
    Optional[Literal["360", "180"]],  # noqa: UP045
    typer.Option(help="Degrees of the sphere that it holds; by its shape if left out."),
]
Eyes = Annotated[
    Optional[Literal["one", "side by side", "over under"]],  # noqa: UP045
    typer.Option(help="Eyes in its picture; as tagged if left out."),
]
Packing = Annotated[
    Optional[Literal["full", "half"]],  # noqa: UP045
    typer.Option(help="Is each eye squeezed into its half? By its shape if left out."),
]
First = Annotated[
    Optional[Literal["left", "right"]],  # noqa: UP045
    typer.Option(help="The eye on the left or above; as tagged if left out."),
]


DECLARED: dict[str, Any] = {
    "curve": Curve, "primaries": Primaries, "range": Range, "matrix": Matrix, "siting": Siting, "turn": Turn,
    "projection": Projection, "coverage": Coverage, "eyes": Eyes, "packing": Packing, "first": First,
}  # fmt: skip


def declares(command: Callable[..., None]) -> Callable[..., None]:
    """Gives a command all options by which a recording is declared; it gets what was given as ``declared``, as Read takes it."""
    hints = get_type_hints(command, include_extras=True)
    own = [p.replace(annotation=hints[p.name]) for p in signature(command).parameters.values() if p.name != "declared"]
    more = [Parameter(n, Parameter.KEYWORD_ONLY, default=None, annotation=kind) for n, kind in DECLARED.items()]

    @wraps(command)
    def run(**words: Any) -> None:
        given = {n: v for n in DECLARED if (v := words.pop(n)) is not None}
        command(declared=given | ({"turn": int(given["turn"])} if "turn" in given else {}), **words)

    run.__signature__ = Signature([*(p.replace(kind=Parameter.KEYWORD_ONLY) for p in own), *more])  # type: ignore[attr-defined]
    run.__annotations__ = {p.name: p.annotation for p in (*own, *more)}
    return run


def told(findings: list[Finding], shot: str = "") -> list[dict[str, Any]]:
    """Says every *warn* and *stop* of a route on standard error; returns all of its findings for JSON."""
    for f in findings:
        if f.level.weight:
            say(f"{shot}: {f.level.value}: {f.text}" if shot else f"{f.level.value}: {f.text}")
    return [{"level": f.level.value, "code": f.code, "stage": f.stage, "text": f.text} for f in findings]
