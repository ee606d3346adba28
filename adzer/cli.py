"""The command line: everything that the desk does, without it.

Exit codes: 0 fine, 1 a *stop* finding or a failed render or check, 2 bad use or unreadable input. Progress goes to
standard error, results to standard output.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, Literal, Optional

import typer

from . import cli_job, cli_read, cli_shape, terminal  # noqa: F401 - they register their commands
from . import cli_options as options
from .core import records
from .core.errors import AdzerError, RenderFailed, Stopped, UnreadableError, shown
from .terminal import Json, app, loaded, parse_size, print_json, progress, say, shot_named, sim_app


def _version(asked: bool) -> None:
    if asked:
        from importlib.metadata import version

        print(f"adzer {version('adzer')}")
        raise typer.Exit


@app.callback()
def _all(
    context: typer.Context,
    quiet: Annotated[
        bool, typer.Option("--quiet", help="No notes and no progress on standard error; warnings and faults stay.")
    ] = False,
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Say which Adzer this is.")
    ] = False,
) -> None:
    """What all commands have. Without one: the start page."""
    terminal.quiet = quiet
    if context.invoked_subcommand is None:
        _desk(None)


@app.command(help="Open the desk with the demo job.\n\nExample: adzer demo")
def demo(
    screens: Annotated[Optional[Path], typer.Option(help="Write screenshots of the desk here, then quit.")] = None,  # noqa: UP045
) -> None:
    from .core.sim.demo import demo_job

    if screens is not None:
        from .desk.shots import shoot_desk

        shoot_desk(screens, say)
        return
    _desk(demo_job(look=False))


@app.command("open", help="Open the desk with a job, made new if it is not there.\n\nExample: adzer open mill.adzer")
def open_(
    job: Annotated[Optional[Path], typer.Argument(help="The job; the start page if left out.")] = None,  # noqa: UP045
    rate: Annotated[str, typer.Option(help="A new job's frame rate, e.g. 25 or 24000/1001.")] = "25"
) -> None:
    from .core.job import Job

    if job is not None and not job.exists() and job.suffix == ".adzer":
        Job.create(job, job.stem, _ratio(rate, "rate")).close()
        terminal.mention(f"{job} is new.")
    _desk(job)


@app.command(
    help="Put Adzer among this person's programs, and its jobs among the kinds of files that it opens; or take both away.\n\n"
    "Example: adzer desktop --install"
)
def desktop(
    install: Annotated[bool, typer.Option("--install", help="Entry, icon and file type into the person's own folders.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="Take them out again.")] = False,
) -> None:
    from .core import entry

    if install == remove:
        raise typer.BadParameter("give either --install or --remove")
    for path in entry.install() if install else entry.remove():
        print(path)


def _desk(job: Path | None) -> None:
    if not any(os.environ.get(k) for k in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise AdzerError(
            "There is no display here. ./run demo brings a virtual one; read, convert and render need none."
        )
    from .desk.app import run

    sys.exit(run(job))


@app.command(
    help="Say what a recording is, with the evidence and what is wrong.\n\nExample: adzer read clip.mov --json"
)
def read(files: list[Path], json_: Json = False) -> None:
    from .core.intake import read_file
    from .core.route import Route, walk

    out, unreadable, stopped = [], 0, False
    for path in files:
        try:
            facts, seen = read_file(path)
        except UnreadableError as error:
            say(str(error))
            unreadable += 1
            continue
        stop = walk(Route(), facts, seen)["read"]
        stopped |= any(f.level == "stop" for f in stop.findings)
        out.append(
            {
                "file": str(path),
                "picture": stop.after.as_json(),
                "evidence": stop.result.evidence,
                "seen": _guesses(seen),
                "findings": [_finding(f) for f in stop.findings],
            }
        )
        if not json_:
            print(path)
            for field, value in stop.after.as_json().items():
                print(f"  {field:14} {_plain(value):16} {stop.result.evidence.get(field, '')}")
            for f in stop.findings:
                print(f"  {f.level.value}: {f.text}" + (f" [{f.fix.label}]" if f.fix else ""))
    if json_:
        print_json(out, "recordings")
    sys.exit(2 if unreadable else 1 if stopped else 0)


def _plain(value: Any) -> str:
    if isinstance(value, list | tuple):
        return "×".join(str(v) for v in value)
    return "unknown" if value is None else str(value)


def _guesses(seen: Any) -> dict[str, Any]:
    """What the footage looks like, each look with how sure it is (0–1) and the numbers behind it."""
    from .core.read.seen import Guess

    if seen is None:
        return {}
    held = {name: getattr(seen, name) for name in seen.__struct_fields__}
    return {n: {"value": g.value, "confidence": g.confidence, "saw": g.saw} for n, g in held.items() if isinstance(g, Guess)}


def _finding(f: Any) -> dict[str, Any]:
    return {"level": f.level.value, "code": f.code, "text": f.text, "fix": records.to_plain(f.fix)}


@app.command(
    help="Convert one recording by a delivery card.\n\n"
    "Example: adzer convert clip.mov --card web-wide --squeeze 1.6 --shape 2.39 --curve fen-log --out master.mp4"
)
@options.declares
def convert(
    declared: dict[str, Any],
    file: Path,
    card: Annotated[str, typer.Option(help="A delivery card; `adzer cards deliveries` lists them.")],
    out: Annotated[Path, typer.Option(help="The master's name; its ending must be the card's container.")],
    squeeze: Annotated[Optional[str], typer.Option(help="How much the lens squeezes, e.g. 1.6 or 8/5.")] = None,  # noqa: UP045
    school: Annotated[
        Literal["shrink", "stretch"], typer.Option(help="Shrink the height, or stretch the width.")
    ] = "shrink",
    shape: Annotated[Optional[str], typer.Option(help="Delivered shape, e.g. 2.39 or 16:9.")] = None,  # noqa: UP045
    hold: Annotated[Optional[Literal["native", "frame"]], typer.Option(help="Natively wide, or inside 16:9.")] = None,  # noqa: UP045
    lens: Annotated[Optional[str], typer.Option(help="A lens card; `adzer cards lenses` lists them.")] = None,  # noqa: UP045
    focus: Annotated[Optional[float], typer.Option(min=0.01, help="Metres at which the lens was focused.")] = None,  # noqa: UP045
    enlarged: Annotated[float, typer.Option(min=1, max=8, help="Times over just filling the shape.")] = 1.0,
    moves: Annotated[
        Optional[Path],  # noqa: UP045
        typer.Option(help="Keyframes of the crop as JSON; docs/keyframes.md describes them."),
    ] = None,
    speed: Annotated[Optional[str], typer.Option(help="Times as fast as recorded, e.g. 1/2.")] = None,  # noqa: UP045
    exposure: Annotated[float, typer.Option(help="Stops.")] = 0.0,
    whites: Annotated[
        Literal["let-go", "roll-off", "keep-hue", "keep-all"], typer.Option(help="What happens above white.")
    ] = "roll-off",
    ceiling: Annotated[Literal["100", "105", "109"], typer.Option(help="Percent that nothing delivered passes.")] = "100",
    rate: Annotated[Optional[str], typer.Option(help="Make the frames even at this rate.")] = None,  # noqa: UP045
    from_: Annotated[Optional[str], typer.Option("--from", help="In, a timecode.")] = None,  # noqa: UP045
    to: Annotated[Optional[str], typer.Option("--to", help="Out (excluded), a timecode.")] = None,  # noqa: UP045
    json_: Json = False,
) -> None:
    from .core import cards
    from .core.compile import freeze
    from .core.intake import read_file
    from .core.render import render
    from .core.route import Route, walk
    from .core.shape import crop
    from .core.shape.advise import by_lens

    facts, seen = read_file(file)
    delivery = cards.delivery(card)
    if out.suffix.lower() != f".{delivery.container}":
        raise AdzerError(f"{out}: {delivery.title} is a .{delivery.container} file; end the name so.")
    route = Route().with_("colour", exposure=exposure, whites=whites.replace("-", " "), ceiling=int(ceiling))
    given = (("squeeze", squeeze), ("shape", shape), ("speed", speed))
    shaped: dict[str, Any] = by_lens(lens, focus) if lens is not None else {}
    shaped |= {k: str(_ratio(v, k)) for k, v in given if v is not None}
    if moves is not None:
        shaped["moves"] = records.to_plain(loaded(moves, crop.load))
    route = route.with_("shape", school=school, hold=hold, enlarged=enlarged, **shaped)
    if rate is not None:
        declared |= {"timing": "even", "even_rate": str(_ratio(rate, "rate"))}
    route = route.with_("read", **declared)
    start = 0 if from_ is None else _frame_at(facts, from_)
    stop = facts.frames if to is None else _frame_at(facts, to)
    if not 0 <= start < stop <= facts.frames:
        raise AdzerError(
            f"{file}: from {from_ or 'the start'} to {to or 'the end'} is not a piece of its {facts.frames} frames."
        )
    order = freeze(file.stem, facts, route, card, out.absolute(), start, stop, seen)
    findings = options.told(walk(order.route, facts, seen, order.card).findings)
    with progress(file.name) as show:
        report = render(order, show)
    if json_:
        print_json({"master": str(out), "findings": findings, **records.to_plain(report)})
    else:
        print(f"{out}: " + "; ".join(c.text for c in report.checks) + f"; xxh128 {report.checksum}")


def _ratio(text: str, what: str) -> Any:
    try:
        value = records.parse_fraction(text)
    except ValueError as error:
        raise AdzerError(f"--{what}: {error}.") from None
    if not value:
        raise AdzerError(f"--{what}: zero cannot be used.")
    return value


def _frame_at(facts: Any, label: str) -> int:
    from .core.media import timecode

    rate = facts.rate or Fraction(25)
    first = timecode.to_frames(facts.timecode, rate) if facts.timecode else 0
    return timecode.to_frames(label, rate) - first


@app.command(
    help="Walk a shot's route: each stage's Picture before and after, and its findings.\n\nExample: adzer route mill.adzer 'sails, wide'"
)
def route(
    job: Path,
    shot: str,
    card: Annotated[str | None, typer.Option(help="The delivery card to walk for.")] = None,
    json_: Json = False,  # noqa: UP045
) -> None:
    from .core import cards
    from .core.intake import source_problem
    from .core.job import Job
    from .core.route import walk

    with Job.open(job) as held:
        found = shot_named(held, shot)
        rate, seen = held.rate, held.seen(found.id)
    walked = walk(
        found.route,
        found.facts,
        seen,
        cards.delivery(card) if card else None,
        rate,
        source_problem(found.facts),
    )
    if json_:
        print_json([
            {
                "stage": s.stage, "says": s.result.says, "idle": s.result.idle, "before": s.before.as_json(),
                "after": s.after.as_json(), "findings": [_finding(f) for f in s.findings],
            }
            for s in walked.stops
        ], "stages")  # fmt: skip
    else:
        for s in walked.stops:
            print(f"{s.stage:8} {s.result.says}")
            before, after = s.before.as_json(), s.after.as_json()
            for field in before:
                if before[field] != after[field]:
                    print(f"         {field}: {_plain(before[field])} → {_plain(after[field])}")
            for f in s.findings:
                print(f"         {f.level.value}: {f.text}")
    sys.exit(1 if walked.stopped else 0)


@app.command(
    help="Render shots of a job, each as its chosen deliveries.\n\nExample: adzer render mill.adzer --card web-wide --out masters"
)
def render(
    job: Path,
    out: Annotated[Path, typer.Option(help="Output folder.")],
    shot: Annotated[Optional[list[str]], typer.Option(help="Only these shots.")] = None,  # noqa: UP045
    card: Annotated[Optional[list[str]], typer.Option(help="These deliveries instead of the chosen ones.")] = None,  # noqa: UP045
    json_: Json = False,
) -> None:
    from .core import cards, queue
    from .core.compile import freeze
    from .core.job import Job
    from .core.route import walk

    with Job.open(job) as held:
        shots = [shot_named(held, name) for name in shot] if shot else held.shots()
        if not shots:
            raise AdzerError(f"{job} has no shots yet. Add recordings first.")
        if str(out.absolute()) != str(held.out_folder):
            held.set_meta("output folder", out=str(out.absolute()))
        slips: set[int] = set()
        stopped = False
        findings: list[dict[str, Any]] = []
        before = {s.order.digest: s.order.out for s in held.slips() if s.state == "done" and Path(s.order.out).exists()}
        for each in shots:
            for name in card or each.route.deliver.cards:
                path = held.master_path(each.name, cards.delivery(name))
                try:
                    order = freeze(
                        each.name,
                        each.facts,
                        each.route,
                        name,
                        path,
                        each.start,
                        each.stop,
                        held.seen(each.id),
                        held.rate,
                    )
                except Stopped as error:
                    say(str(error))
                    stopped = True
                    continue
                walked = walk(each.route, each.facts, held.seen(each.id), order.card, held.rate)
                told = [{"shot": each.name, **f} for f in options.told(walked.findings, each.name)]
                findings += [f for f in told if f not in findings]
                if order.digest in before:
                    terminal.mention(f"{each.name} was made like this before, as {before[order.digest]}; it is made once more.")
                slips.add(held.enqueue(each.id, order))
        with progress("queue") as show:
            queue.run(held, lambda slip, p: show(p), only=slips)
        made = [s for s in held.slips() if s.id in slips]
    for slip in made:
        if slip.why:
            say(slip.why)
    if json_:
        rows = [{"master": s.order.out, "state": s.state, "why": s.why, "report": s.report} for s in made]
        print_json({"masters": rows, "findings": findings})
    else:
        for slip in made:
            print(f"{slip.state}: {slip.order.out}" + (f"  xxh128 {slip.report['checksum']}" if slip.report else ""))
    sys.exit(1 if stopped or any(s.state != "done" for s in made) else 0)


@app.command(
    "cards",
    help="List the cards there are, or check one.\n\nExamples: adzer cards · adzer cards curves · adzer cards check my-log.toml",
)
def cards_(
    kind: Annotated[
        Optional[str],  # noqa: UP045
        typer.Argument(help="curves, primaries, lenses, deliveries, copies or players; or: check"),
    ] = None,
    file: Annotated[Optional[Path], typer.Argument(help="With check: the card's file.")] = None,  # noqa: UP045
    json_: Json = False,
) -> None:
    from .core import cards
    from .core.colour import cards as colour_cards

    if kind == "check":
        if file is None:
            raise AdzerError("Say which card: adzer cards check FILE")
        what = cards.kind_of(file)
        print(f"{file}: {colour_cards.check(what, file.stem, cards.read_card(file, what))}")
        return
    if kind is not None and kind not in cards.KINDS:
        raise AdzerError(f"There is no kind {kind!r} of card. The kinds are {', '.join(cards.KINDS)}.")
    listed = {k: cards.paths(k) for k in ([kind] if kind else cards.KINDS)}
    if json_:
        print_json(
            {k: {n: records.to_plain(cards.read_card(p, k)) for n, p in found.items()} for k, found in listed.items()}
        )
        return
    for k, found in listed.items():
        print(k)
        for name, path in found.items():
            card = cards.read_card(path, k)
            print(f"  {name:18} {colour_cards.check(k, name, card)}")


@app.command(
    help="Make a curve card from exposures of a still scene, a known number of stops apart, with a grey patch in it.\n\n"
    "Example: adzer fit my-log.toml a.mov b.mov c.mov d.mov e.mov --stops=-2,-1,0,1,2 --grey 900,500,60,60"
)
def fit(
    card: Annotated[Path, typer.Argument(help="The card to write; a file that is there is not replaced.")],
    files: Annotated[list[Path], typer.Argument(help="The exposures, at least three; five, a stop apart, are best.")],
    stops: Annotated[str, typer.Option(help="Of each file, in stops, 0 the one in which grey is right, e.g. --stops=-2,-1,0,1,2.")],
    grey: Annotated[str, typer.Option(help="x,y,width,height of an 18 % grey patch, in recorded pixels.")],
    title: Annotated[str, typer.Option(help="The curve's title; the file's name if left out.")] = "",
    json_: Json = False,
) -> None:
    from .core.colour import exposures

    made = exposures.card(files, stops, grey)
    text = exposures.text(made, title or card.stem)
    try:
        with card.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError:
        raise AdzerError(f"{card} is there already; it is never overwritten. Give another name.") from None
    except OSError as error:
        raise AdzerError(f"{card} cannot be written ({error.strerror}).") from None
    low, high = made.reach
    if json_:
        print_json({"card": str(card), "from_stops": round(low, 2), "to_stops": round(high, 2),
                    "error_stops": round(made.doubt, 4)})  # fmt: skip
    else:
        print(f"{card}: {low:+.1f} to {high:+.1f} stops about middle grey, ± {made.doubt:.3f} stops from −5 to +3")


@sim_app.command("demo", help="Shoot the committed demo clips again.\n\nExample: adzer sim demo")
def sim_demo(into: Annotated[Optional[Path], typer.Option(help="Another folder than the shipped one.")] = None) -> None:  # noqa: UP045
    from .core.sim import demo as world_demo

    for path in world_demo.rebuild(into or world_demo.CLIPS, _counter()):
        print(path)


@sim_app.command(
    "card", help="Write a card as it comes home, with everything odd on it.\n\nExample: adzer sim card /tmp/card"
)
def sim_card(folder: Path, frames: Annotated[int, typer.Option(min=6, max=2000)] = 12) -> None:
    from .core.sim import card

    if folder.exists() and any(folder.iterdir()):
        raise AdzerError(f"{folder} is not empty; a card is written into a new folder.")
    print(card.make(folder, frames, _counter()))


@sim_app.command(
    "shoot",
    help="Shoot a clip with a simulated camera; the truth is written beside it.\n\n"
    "Example: adzer sim shoot scope-lens --frames 50 --size 720x540 --out clip.mov",
)
def sim_shoot(
    camera: str,
    out: Annotated[Path, typer.Option(help="The clip.")],
    frames: Annotated[int, typer.Option(min=1, max=100_000)] = 50,
    size: Annotated[Optional[str], typer.Option(help="Raster, e.g. 720x540.")] = None,  # noqa: UP045
    samples: Annotated[int, typer.Option(min=1, max=8, help="Rays a pixel, each way.")] = 2,
    stops: Annotated[float, typer.Option(min=-8, max=8, help="Brighter by so many stops than it would be exposed.")] = 0.0,
) -> None:
    from .core.media.encode import container_for
    from .core.sim import camera as cameras

    made = cameras.load(camera)
    made = replace(made, recorder=replace(made.recorder, exposure=made.recorder.exposure + stops))
    if size is not None:
        made = made.sized(parse_size(size))
    try:
        container_for(out)
    except KeyError:
        raise AdzerError(f"{out}: end the name in .mp4, .mov or .mkv.") from None
    say = _counter()
    print(cameras.shoot(made, frames, out, samples, progress=lambda n: say(f"{camera}: frame {n} of {frames}")))


def _counter() -> Callable[[str], None]:
    def say(text: str) -> None:
        if sys.stderr.isatty():
            print(f"\r{text}   ", end="", file=sys.stderr, flush=True)

    return say


def main() -> None:
    """Runs the command line; every expected fault becomes one sentence and an exit code."""
    try:
        app()
    except (Stopped, RenderFailed) as error:
        say(str(error))
        sys.exit(1)
    except AdzerError as error:
        say(str(error))
        sys.exit(2)
    except UnicodeEncodeError as error:  # a name that is given as bytes which are no text
        say(f"{shown(str(error.object))}: a name in it is not text (UTF-8). Rename it, or choose another folder.")
        sys.exit(2)
    except KeyboardInterrupt:
        say("stopped. What was finished is kept; start the same again to go on.")
        sys.exit(130)


if __name__ == "__main__":
    main()
