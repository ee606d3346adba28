"""The command line: everything that the desk does, without it.

Exit codes: 0 fine, 1 a *stop* finding or a failed render or check, 2 bad use or unreadable input. Progress goes to
standard error, results to standard output.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from fractions import Fraction
from itertools import product
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, NoReturn

import typer
from typer._click.exceptions import ClickException, UsageError

from ..core import records
from ..core.errors import AdzerError, RenderFailed, Stopped, UnreadableError, shown
from . import cards as _cards  # noqa: F401 - they register their commands
from . import develop as _develop  # noqa: F401
from . import job as _job  # noqa: F401
from . import join as _join  # noqa: F401
from . import making, options, terminal
from . import read as _read  # noqa: F401
from . import shape as _shape  # noqa: F401
from . import sim as _sim  # noqa: F401
from . import steady as _steady  # noqa: F401
from .terminal import (
    JobFile,
    Json,
    OnlyShots,
    Recording,
    Recordings,
    ShotName,
    app,
    loaded,
    parse_size,
    print_json,
    progress,
    ratio,
    say,
    shot_named,
)

if TYPE_CHECKING:
    from ..core.compile import Order
    from ..core.media.probe import FileFacts
    from ..core.read.seen import Seen


INTERRUPTED = 130  # by Ctrl-C, as shells count it


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
    screens: Annotated[Path | None, typer.Option(help="Write screenshots of the desk here, then quit.")] = None,
) -> None:
    from ..core.sim.demo import demo_job

    if screens is not None:
        from ..desk.shots import shoot_desk

        shoot_desk(screens, say)
        return
    _desk(demo_job(look=False))


@app.command("open", help="Open the desk with a job, made new if it is not there.\n\nExample: adzer open mill.adzer")
def open_(
    job: Annotated[Path | None, typer.Argument(help="The job; the start page if left out.")] = None,
    rate: Annotated[str, typer.Option(help="A new job's frame rate, frames a second, 1 to 1000, e.g. 25 or 24000/1001.")] = "25"
) -> None:
    if job is not None:
        terminal.made_if_absent(job, ratio(rate, "rate"))
    _desk(job)


@app.command(
    help="Put Adzer among this person's programs, and its jobs among the kinds of files that it opens; or take both away.\n\n"
    "Example: adzer desktop --install"
)
def desktop(
    install: Annotated[bool, typer.Option("--install", help="Entry, icon and file type into the person's own folders.")] = False,
    remove: Annotated[bool, typer.Option("--remove", help="Take them out again.")] = False,
) -> None:
    from ..core import entry

    if install == remove:
        raise typer.BadParameter("give either --install or --remove")
    for path in entry.install() if install else entry.remove():
        print(path)


def _desk(job: Path | None) -> None:
    if not any(os.environ.get(k) for k in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")):
        raise AdzerError(
            "There is no display here. ./run demo brings a virtual one; read, convert and render need none."
        )
    from ..desk.app import run

    sys.exit(run(job))


@app.command(
    help="Say what a recording is, with the evidence and what is wrong.\n\nExample: adzer read clip.mov --json"
)
def read(files: Recordings, json_: Json = False) -> None:
    from ..core.intake.take import read_file
    from ..core.route import Route, walk

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
                "findings": [options.finding(f) for f in stop.findings],
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


def _plain(value: object) -> str:
    if isinstance(value, list | tuple):
        return "×".join(str(v) for v in value)
    return "unknown" if value is None else str(value)


def _guesses(seen: Seen | None) -> dict[str, object]:
    """What the footage looks like, each look with how sure it is (0–1) and the numbers behind it."""
    from ..core.read.seen import Guess

    if seen is None:
        return {}
    held = {name: getattr(seen, name) for name in seen.__struct_fields__}
    return {n: {"value": g.value, "confidence": g.confidence, "saw": g.saw} for n, g in held.items() if isinstance(g, Guess)}


@app.command(
    help="Convert one recording by a delivery card.\n\n"
    "Example: adzer convert clip.mov --card web-wide --squeeze 1.6 --shape 2.39 --curve fen-log --out master.mp4"
)
@options.declares
@options.corrects
@options.shapes
def convert(
    declared: dict[str, object],
    corrected: dict[str, object],
    shaped: dict[str, object],
    file: Recording,
    card: making.Card,
    out: making.Out,
    school: Annotated[
        Literal["shrink", "stretch"] | None,
        typer.Option(help="Shrink the height, or stretch the width; if left out, a lens's squeeze shrinks it, and wide pixels stretch it."),
    ] = None,
    hold: Annotated[Literal["native", "frame"] | None, typer.Option(help="Natively wide, or inside 16:9.")] = None,
    enlarged: Annotated[float, typer.Option(min=1, max=8, help="Times over just filling the shape.")] = 1.0,
    moves: Annotated[
        Path | None,
        typer.Option(help="Keyframes of the crop as JSON; docs/keyframes.md describes them."),
    ] = None,
    shutter: Annotated[
        float, typer.Option(min=0, max=360, help="Played fast: degrees of a delivered frame over which light is averaged; 0: single frames."),
    ] = 0.0,
    even_way: Annotated[
        bool, typer.Option("--even-way", help="Played fast: frames chosen so that the picture goes an even way, of those near each moment.")
    ] = False,
    between: Annotated[bool, typer.Option("--between", help="Played slowly: make frames between the recorded ones.")] = False,
    size: making.Size = None,
    rate: making.Rate = None,
    from_: Annotated[
        str | None,
        typer.Option("--from", help="In, a timecode of the recording's own clock, HH:MM:SS:FF; its start if left out."),
    ] = None,
    to: Annotated[str | None, typer.Option("--to", help="Out (excluded), a timecode of the same clock; its end if left out.")] = None,
    foot: options.Foot = None,
    over: options.Over = None,
    json_: Json = False,
) -> None:
    from ..core.intake.take import first_route, read_file
    from ..core.route import Route
    from ..core.space import crop

    raster, declared = parse_size(size) if size else None, making.evenly(declared, rate)
    facts, seen = read_file(file)
    route = options.shaped(Route().with_("colour", **corrected), shaped)
    if moves is not None:
        route = route.with_("shape", moves=records.to_plain(loaded(moves, crop.load)))
    school = school or first_route(facts).shape.school
    route = route.with_("shape", school=school, hold=hold, enlarged=enlarged, shutter=shutter, between=between)
    route = options.covered(options.lain_over(route.with_("read", **declared), over), foot)
    if even_way:
        from ..core.run import pacing, steadying

        with progress(file.name) as show:
            rows = steadying.rows_of(facts, route, show, seen)
        answers, (plain, even) = pacing.evenly(rows, facts, route, seen)
        route = route.with_("shape", **answers)
        terminal.mention(f"{file.name}: its way jolts by {even:.3g} from frame to frame, where frames at even times would by {plain:.3g}.")
    start = 0 if from_ is None else _frame_at(facts, from_)
    stop = facts.frames if to is None else _frame_at(facts, to)
    if not start < stop:
        raise AdzerError(f"{file}: from {from_ or 'its start'} to {to or 'its end'} there is nothing. Give --from before --to.")
    making.make(file.name, facts, seen, route, card, out, json_, start=start, stop=stop, raster=raster)


def _frame_at(facts: FileFacts, label: str) -> int:
    from ..core.media import timecode

    rate = facts.rate or Fraction(25)
    first = timecode.to_frames(facts.timecode, rate) if facts.timecode else 0
    at = timecode.to_frames(label, rate) - first
    if 0 <= at <= facts.frames:
        return at
    ends = [timecode.to_label(first + n, rate, timecode.is_drop(facts.timecode)) for n in (0, facts.frames)]
    whose = "by its own timecode" if facts.timecode else "counted from its start, as it has no timecode"
    raise AdzerError(f"{facts.path}: {label} lies outside it; it goes from {ends[0]} to {ends[1]} {whose}.")


@app.command(
    help="Walk a shot's route: each stage's Picture before and after, and its findings.\n\nExample: adzer route mill.adzer 'sails, wide'"
)
def route(
    job: JobFile,
    shot: ShotName,
    card: Annotated[str | None, typer.Option(help="The delivery card to walk for; the shot's first if left out.")] = None,
    json_: Json = False,
) -> None:
    from ..core import cards
    from ..core.intake.take import source_problem
    from ..core.job import Job

    with Job.open(job) as held:
        found = shot_named(held, shot)
        walked = held.walker()(found, card=cards.delivery(card) if card else None, problem=source_problem(found.facts))
    if json_:
        print_json([
            {
                "stage": s.stage, "says": s.result.says, "idle": s.result.idle, "before": s.before.as_json(),
                "after": s.after.as_json(), "findings": [options.finding(f) for f in s.findings],
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
    job: JobFile,
    out: Annotated[Path, typer.Option(help="The folder that masters go to.")],
    shot: OnlyShots = None,
    card: Annotated[list[str] | None, typer.Option(help="These deliveries instead of the chosen ones.")] = None,
    json_: Json = False,
) -> None:
    from ..core import cards
    from ..core.compile import freeze
    from ..core.job import Job

    with Job.open(job) as held:
        shots = [shot_named(held, name) for name in shot] if shot else held.shots()
        if not shots:
            raise AdzerError(f"{job} has no shots yet. Add recordings first.")
        if str(out.absolute()) != str(held.out_folder):
            held.set_meta("output folder", out=str(out.absolute()))
        walk = held.walker()
        unmade: list[str] = []
        findings: list[dict[str, object]] = []

        def asked() -> Iterator[tuple[int, Order]]:
            for each in shots:
                for name, (added, route) in product(card or each.route.deliver.cards, each.route.masters):
                    path = held.master_path(each.name + added, cards.delivery(name))
                    try:
                        order = freeze(each.name, each.facts, route, name, path, each.start, each.stop, held.seen(each.id), held.rate)
                    except Stopped as error:
                        say(str(error))
                        unmade.append(name)
                        continue
                    walked = walk(each, card=order.card)
                    told = [{"shot": each.name, **f} for f in options.told(walked.findings, each.name)]
                    findings.extend(f for f in told if f not in findings)
                    yield each.id, order

        made = terminal.rendered(held, asked(), "queue")
    for slip in made:
        if slip.why:
            say(slip.why)
    if json_:
        rows = [{"master": s.order.out, "state": s.state, "why": s.why, "report": s.report} for s in made]
        print_json({"masters": rows, "findings": findings})
    else:
        for slip in made:
            print(f"{slip.state}: {slip.order.out}" + (f"  xxh128 {slip.report['checksum']}" if slip.report else ""))
    sys.exit(1 if unmade or any(s.state != "done" for s in made) else 0)


@app.command(
    "help", help="Explain a command, or list all of them.\n\nExamples: adzer help · adzer help convert · adzer help cards fit"
)
def help_(
    context: typer.Context, topic: Annotated[list[str] | None, typer.Argument(help="The command's words; all commands if left out.")] = None
) -> None:
    from typer.core import TyperGroup

    assert context.parent is not None
    at, command = context.parent, context.parent.command
    for word in topic or ():
        found = command.get_command(at, word) if isinstance(command, TyperGroup) else None
        if found is None:
            raise AdzerError(f"There is no command {' '.join(topic or ())!r}. `adzer help` lists all of them.")
        at, command = found.context_class(found, info_name=word, parent=at), found
    print(command.get_help(at))


def main() -> None:
    """Runs the command line; every expected fault becomes one sentence and an exit code."""
    if "--quiet" in sys.argv[1:]:  # wherever it stands
        sys.argv[1:] = ["--quiet", *(word for word in sys.argv[1:] if word != "--quiet")]
    try:
        left = app(prog_name="adzer", standalone_mode=False)
        if left == INTERRUPTED:
            raise KeyboardInterrupt
        sys.exit(left if isinstance(left, int) else 0)
    except ClickException as error:  # what was typed is no command, option or value
        path = error.ctx.command_path if isinstance(error, UsageError) and error.ctx is not None else "adzer"
        _end(f"{error.format_message().rstrip('.')}. `{path} --help` explains what it takes.", 2)
    except (Stopped, RenderFailed) as error:
        _end(str(error), 1)
    except AdzerError as error:
        _end(str(error), 2)
    except UnicodeEncodeError as error:  # a name that is given as bytes which are no text
        _end(f"{shown(str(error.object))}: a name in it is not text (UTF-8). Rename it, or choose another folder.", 2)
    except OSError as error:  # whatever file it was; a full or read-only disk is named as such
        _end(f"{shown(str(error.filename or 'A file'))} cannot be read or written ({error.strerror or error}). Check its disk and permissions.", 2)
    except KeyboardInterrupt:
        _end("stopped. What was finished is kept so far; the same command goes on from there.", INTERRUPTED)


def _end(text: str, code: int) -> NoReturn:
    """A fault in one sentence, and where JSON was asked for also as that."""
    say(text)
    if "--json" in sys.argv:
        print_json({"error": text, "exit": code})
    sys.exit(code)


if __name__ == "__main__":
    main()
