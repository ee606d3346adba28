"""Commands about how shots were held."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from . import making, options
from .job import Camera, chosen
from .terminal import Json, Recording, app, mention, numbers, parse_size, print_json, progress, say

if TYPE_CHECKING:
    from ..core.route import Route

Budget = Annotated[str, typer.Option(help="How much of the width and height may be spent, 8% or 0.08; at most half.")]


Still = Annotated[
    str | None, typer.Option(help="Of a flat picture: x,y,w,h in recorded pixels around what stands still in the world; else what most agrees on.")
]


def boxed(text: str, what: str, raster: tuple[int, int]) -> tuple[float, float, float, float]:
    """Shares of a picture of ``raster`` pixels."""
    (x, y, w, h), (wide, high) = numbers(what, text, "four numbers", ("x", "y", "w", "h")).values(), raster
    if not (0 <= x < x + w <= wide and 0 <= y < y + h <= high):
        raise AdzerError(f"--{what} {text}: it has to lie in the picture, {wide}×{high}.")
    return x / wide, y / high, w / wide, h / high


def share(text: str) -> float:
    """0 … 0.5 of ``8%`` or ``0.08``."""
    (found,) = numbers("budget", text.rstrip("% "), "a share", ("budget",)).values()
    found = found / 100 if text.strip().endswith("%") else found
    if not 0 <= found <= 0.5:
        raise AdzerError(f"--budget {text}: say up to half of width and height.")
    return found


@app.command(
    "shake",
    help="Measure how a job's shots shake, or one recording. What is measured is kept in the job; when it is stopped, it goes on from there. With "
    "--compare every way of holding a recording is made and looked at again as delivered.\n\nExample: adzer shake mill.adzer",
)
@options.declares
@options.shapes
def shake(
    declared: dict[str, object],
    shaped: dict[str, object],
    job: Annotated[Path, typer.Argument(help="The job's file, NAME.adzer; or a recording.")],
    words: Annotated[list[str] | None, typer.Argument(help="Shots, by name or pattern; none: all flat pictures.")] = None,
    camera: Camera = "",
    compare: Annotated[bool, typer.Option("--compare", help="Of a recording: what each way of holding it leaves, and costs.")] = False,
    budget: Budget = "8%",
    matters: Annotated[
        Literal["calm", "picture", "resolution"], typer.Option(help="With --compare: what matters most for the recommended way.")
    ] = "calm",
    still: Still = None,
    json_: Json = False,
) -> None:
    from ..core.intake import proxies
    from ..core.job import Job
    from ..core.route import Route
    from ..core.run import analysing
    from ..core.steady import measure
    from ..core.steady.step import found_of

    if job.suffix.lower() != ".adzer":
        _shake_of(job, compare, share(budget), matters, options.shaped(Route().with_("read", **declared), shaped), still, json_)
        return
    rows: list[dict[str, object]] = []
    with Job.open(job) as held:
        walk = held.walker()
        shots = chosen(held, words or [], camera)
        for shot in shots:
            wants, facts = walk(shot)["steady"].result.wants, shot.facts
            if wants:
                try:
                    with progress(shot.name) as show:
                        analysing.through(held, wants, facts, shot.route, show, held.seen(shot.id), proxies.instead(shot, walk(shot)))
                except AdzerError as error:
                    say(f"{shot.name}: {error}")
                    continue
            walked = walk(shot)
            found = found_of(walked["steady"].before, walked.draft, walked.route.steady, held.found(facts.fingerprint))
            if found is None:
                mention(f"{shot.name}: neither a flat picture nor a sphere, or of lenses that were not matched. Its motion is not measured.")
                continue
            rows.append({"shot": shot.name, **records.to_plain(found)})
            if not json_:
                print(f"{shot.name}: {measure.words(found)}")
    if json_:
        print_json(rows, "shots")
    raise typer.Exit(0 if rows else 1)


def _shake_of(
    file: Path, compare: bool, budget: float, matters: Literal["calm", "picture", "resolution"], route: Route, still: str | None, json_: bool
) -> None:
    """One recording."""
    from ..core import cards
    from ..core.intake.take import read_file
    from ..core.read.step import upright_raster
    from ..core.run import steadying, trying
    from ..core.steady import lamp, measure
    from ..core.steady.slow import SLOW

    facts, seen = read_file(file)
    if still is not None:
        route = route.with_("steady", still=boxed(still, "still", upright_raster(facts, route.read)))
    with progress(file.name) as show:
        rows = steadying.rows_of(facts, route, show, seen)
        found = steadying.said(rows, facts, route, seen)
        ways: tuple[trying.Way, ...] = ()
        if compare:
            _, ways = trying.compared(facts, seen, route, cards.delivery("native-wide"), budget, show, rows)
    chosen_, why = trying.best(ways, isinstance(found, measure.Shake) and found.widest < 0.05 * facts.raster[0], matters)
    name = " ".join((chosen_.method, chosen_.heading)).strip() if chosen_ else "off"
    flickers = None
    if isinstance(found, measure.Shake):
        flickers = round(lamp.flickers(rows, steadying.recorded_curve(facts, route, seen), float(facts.rate or 25), SLOW), 3)
    if json_:
        tried = {"ways": records.to_plain(ways), "recommended": name, "because": why} if compare else {}
        print_json(records.to_plain(found) | {"flickers": flickers} | tried)
        return
    cuts = f", {found.cuts} cuts" if found.cuts else ""
    cuts += f", {found.frozen} frozen frames" if found.frozen else ""
    print(f"{file}: {measure.words(found)}{cuts}" + (f", light {flickers:.2f} stops up and down" if flickers and flickers > lamp.TELLS else ""))
    if ways and all(w.why for w in ways):
        print(why)
    elif ways:
        unit = "px" if isinstance(found, measure.Shake) else "°"
        print(f"{'way':>15}{'< 0.5 Hz':>10}{'to 3 Hz':>9}{'above':>8}{'roll':>8}{'kept':>7}{'wobble':>8}{'px a px':>9}{'s':>7}   ({unit})")
        for w in ways:
            row = f"{w.left[0]:10.2f}{w.left[1]:9.2f}{w.left[2]:8.2f}{w.roll:8.3f}{w.kept:7.0%}"
            row = f"{row}{_said(w.wobble, 8)}{_said(w.detail, 9)}{w.took:7.1f}" if not w.why else f"  {w.why}"
            mark = "▸ " if " ".join((w.method, w.heading)).strip() == name else ""
            print(f"{mark + ' '.join((w.method, w.heading)).strip():>15}{row}")
        print(f"▸ {why}")


def _said(value: float | None, wide: int) -> str:
    return " " * (wide - 1) + "–" if value is None else f"{value:{wide}.2f}"


@app.command(
    help="Hold a recording still, take a hand's jitter off it, or lay it on an even way; have a sphere stand level, headed where it is to; "
    "and deliver it. Of a flat picture nothing bare ever enters.\n\n"
    "Example: adzer steady walk.mov --method drift --budget 8% --card web-wide --out walk.mp4"
)
@options.declares
@options.shapes
def steady(
    declared: dict[str, object],
    shaped: dict[str, object],
    file: Recording,
    card: making.Card,
    out: making.Out,
    method: Annotated[
        Literal["off", "hold", "drift", "path", "level", "lock"],
        typer.Option(help="As it was held; as on a tripod; without a hand's jitter; on an even way; a sphere level; what --mark is around stays."),
    ] = "drift",
    budget: Budget = "8%",
    ease: Annotated[bool, typer.Option("--ease", help="Close in slowly, only where the moves need it, instead of by all of the budget.")] = False,
    roll: Annotated[bool, typer.Option(help="Keep it level against itself, or what is marked as it is turned.")] = True,
    keep_size: Annotated[bool, typer.Option("--keep-size", help="For lock: what is marked keeps its size, too.")] = False,
    size: making.Size = None,
    rate: making.Rate = None,
    cut: Annotated[float, typer.Option(min=0.1, max=5, help="Hz from which on a drift is shake.")] = 0.5,
    mark: Annotated[str | None, typer.Option(help="For lock: x,y,w,h around a thing, left, top, width, height in recorded pixels.")] = None,
    frame: Annotated[int, typer.Option(min=0, help="The frame it is marked on, counted from 0.")] = 0,
    still: Still = None,
    even_light: Annotated[bool, typer.Option("--even-light", help="Of a flat picture: make light that flickers even.")] = False,
    motion: Annotated[Path | None, typer.Option("--sidecar", help="The camera's own record of how it turned, as docs/motion.md says.")] = None,
    readout: Annotated[float | None, typer.Option(min=-100, max=100, help="ms from the first row read out to the last; else as it shows.")] = None,
    fov: Annotated[
        float | None, typer.Option(min=5, max=150, help="Degrees that a flat picture's lens sees across it; else as it shows.")
    ] = None,
    heading: Annotated[
        Literal["world", "vehicle", "travel", "free"], typer.Option(help="Of a sphere: stays; as it rides; where it goes; as it was turned.")
    ] = "world",
    level: Annotated[float, typer.Option(min=0, max=100, help="Of a sphere: how much of its leaning is taken away, %.")] = 100,
    opens: Annotated[float, typer.Option(min=-180, max=180, help="Of a sphere: degrees to the right that lie ahead when it stands.")] = 0,
    lean: Annotated[str | None, typer.Option(help="Of a sphere: TILT,ROLL in degrees by which its first frame leans; else as it shows.")] = None,
    view: Annotated[str | None, typer.Option(help='Of a sphere: "heading,tilt,roll,fov" in degrees, a flat view of it; else all of it.')] = None,
    keyframes: Annotated[Path | None, typer.Option(help="Or a view that moves, as docs/keyframes.md says.")] = None,
    rear: options.Rear = None,
    match: options.Match = False,
    json_: Json = False,
) -> None:
    from ..core.finding import Level
    from ..core.intake.take import read_file
    from ..core.join.measure import answers as matched
    from ..core.read.step import upright_raster
    from ..core.route import Route, walk
    from ..core.run import steadying
    from ..core.run.matching import match_lenses
    from ..core.steady.measure import Shake, Turned
    from .shape import view_path

    raster, spent = parse_size(size) if size else None, share(budget)
    leans = tuple(numbers("lean", lean, "degrees", ("tilt", "roll")).values()) if lean else (0.0, 0.0)
    facts, seen = read_file(file, rear=rear)
    declared = (options.ROUND if rear is not None else {}) | making.evenly(declared, rate)
    route = options.shaped(Route().with_("read", **declared), shaped)
    if match:
        route = route.with_("join", **matched(match_lenses(facts, route, seen)))
    if view is not None or keyframes is not None:
        route = route.with_("shape", view=records.to_plain(view_path(view, keyframes, None)))
    if still is not None:
        route = route.with_("steady", still=boxed(still, "still", upright_raster(facts, route.read)))
    with progress(file.name) as show:
        rows = steadying.rows_of(facts, route, show, seen)
    found = steadying.said(rows, facts, route, seen)
    if lean is None and isinstance(found, Turned) and found.lean is None and method in ("hold", "level"):
        mention(f"{file.name}: no horizon shows in it, and no uprights: it is taken to begin level. Say --lean TILT,ROLL if it does not.")
    if even_light and not isinstance(found, Shake):
        raise AdzerError(f"{file.name}: only a flat picture's light can be made even.")
    asked: dict[str, object] = {"method": method, "budget": spent, "eases": ease, "roll": roll, "grows": keep_size, "cut": cut}
    asked |= {"evens": even_light, "heading": heading, "level": level / 100, "lean": leans, "opens": opens}
    if motion is not None:
        asked["sidecar"] = str(motion)
    if mark is not None:
        asked["mark"] = (frame, *boxed(mark, "mark", upright_raster(facts, route.read)))
    route = route.with_("steady", **asked, readout=readout, view=fov)
    route = steadying.as_it_shows(rows, facts, route, seen).with_("steady", **({"lean": leans} if lean else {}))
    route = route.with_("steady", **steadying.answers(rows, facts, route, seen))
    for finding in walk(route, facts, seen)["steady"].findings:
        (mention if finding.level is Level.NOTE else say)(finding.text)
    s = route.steady
    told: dict[str, object] = {"method": method, "budget": s.budget, "lean": s.lean, "readout": s.readout, "fov": s.view}
    making.make(file.name, facts, seen, route, card, out, json_, told, raster=raster)
