"""Commands about how shots were held."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .job import Camera, chosen
from .terminal import Json, Recording, app, mention, numbers, print_json, progress, say

Budget = Annotated[str, typer.Option(help="How much of each side of the picture may be spent, 8% or 0.08; at most half.")]


def share(text: str) -> float:
    """0 … 0.5 of ``8%`` or ``0.08``."""
    (found,) = numbers("budget", text.rstrip("% "), "a share", ("budget",)).values()
    found = found / 100 if text.strip().endswith("%") else found
    if not 0 <= found <= 0.5:
        raise AdzerError(f"--budget {text}: from 0 to 50% of each side.")
    return found


@app.command(
    "shake",
    help="Measure how a job's shots shake, or one recording. What is measured is kept in the job; when it is stopped, it goes on from there. With "
    "--compare every way of holding a recording is made and looked at again as delivered.\n\nExample: adzer shake mill.adzer",
)
def shake(
    job: Annotated[Path, typer.Argument(help="The job's file, NAME.adzer; or a recording.")],
    words: Annotated[list[str] | None, typer.Argument(help="Shots, by name or pattern; none: all flat pictures.")] = None,
    camera: Camera = "",
    compare: Annotated[bool, typer.Option("--compare", help="Of a recording: what each way of holding it leaves, and costs.")] = False,
    budget: Budget = "8%",
    json_: Json = False,
) -> None:
    from ..core.job import Job
    from ..core.run import analysing
    from ..core.steady import measure
    from ..core.steady.step import shaken

    if job.suffix.lower() != ".adzer":
        _shake_of(job, compare, share(budget), json_)
        return
    rows: list[dict[str, Any]] = []
    with Job.open(job) as held:
        walk = held.walker()
        shots = chosen(held, words or [], camera)
        for shot in shots:
            wants, facts = walk(shot)["steady"].result.wants, shot.facts
            if not wants and shaken(held.found(facts.fingerprint)) is None:
                mention(f"{shot.name}: only a flat picture's motion can be measured so far.")
                continue
            try:
                with progress(shot.name) as show:
                    analysing.through(held, "motion", facts, shot.route, show)
            except AdzerError as error:
                say(f"{shot.name}: {error}")
                continue
            found = shaken(held.found(facts.fingerprint))
            assert found is not None
            rows.append({"shot": shot.name, **records.to_plain(found)})
            if not json_:
                print(f"{shot.name}: {measure.words(found)}")
    if json_:
        print_json(rows, "shots")
    raise typer.Exit(0 if rows else 1)


def _shake_of(file: Path, compare: bool, budget: float, json_: bool) -> None:
    """One recording."""
    from ..core import cards
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run import steadying
    from ..core.steady import measure

    facts, seen = read_file(file)
    with progress(file.name) as show:
        rows = steadying.rows_of(facts, Route(), show)
        found = measure.shake(rows, float(facts.rate or 25))
        ways: tuple[steadying.Way, ...] = ()
        if compare:
            _, ways = steadying.compared(facts, seen, Route(), cards.delivery("native-wide"), budget, show, rows)
    chosen_ = steadying.best(ways, found.widest < 0.05 * facts.raster[0]) if ways else None
    if json_:
        print_json(records.to_plain(found) | ({"ways": records.to_plain(ways), "recommended": chosen_} if compare else {}))
        return
    print(f"{file}: {measure.words(found)}")
    if ways:
        print(f"{'way':>8}{'< 0.5 Hz':>10}{'to 3 Hz':>9}{'above':>8}{'roll':>8}{'kept':>7}")
        for w in ways:
            row = f"{w.left[0]:10.2f}{w.left[1]:9.2f}{w.left[2]:8.2f}{w.roll:8.3f}{w.kept:7.0%}" if not w.why else f"  {w.why}"
            print(f"{'▸ ' if w.method == chosen_ else ''}{w.method:>{6 if w.method == chosen_ else 8}}{row}")


@app.command(
    help="Hold a recording still, take a hand's jitter off it, or lay it on an even way; and deliver it. Nothing bare ever enters.\n\n"
    "Example: adzer steady walk.mov --method drift --budget 8% --card web-wide --out walk.mp4"
)
@options.declares
def steady(
    declared: dict[str, object],
    file: Recording,
    card: making.Card,
    out: making.Out,
    method: Annotated[Literal["hold", "drift", "path"], typer.Option(help="As on a tripod; without a hand's jitter; on an even way.")] = "drift",
    budget: Budget = "8%",
    roll: Annotated[bool, typer.Option(help="Keep it level against itself, too.")] = True,
    cut: Annotated[float, typer.Option(min=0.1, max=5, help="Hz from which on a drift is shake.")] = 0.5,
    json_: Json = False,
) -> None:
    from ..core.intake.take import read_file
    from ..core.route import Route
    from ..core.run import steadying

    facts, seen = read_file(file)
    route = Route().with_("read", **declared)
    with progress(file.name) as show:
        rows = steadying.rows_of(facts, route, show)
    route = route.with_("steady", **steadying.answers(rows, facts, route, method, share(budget), roll, cut))
    making.make(file.name, facts, seen, route, card, out, json_, {"method": method, "budget": share(budget)})
