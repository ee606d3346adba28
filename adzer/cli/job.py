"""Commands that answer a job's questions, and show and undo what was answered. ``cli`` brings them in."""

from __future__ import annotations

import fnmatch
from fractions import Fraction
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from .terminal import JobFile, Json, ShotName, app, print_json, progress, say

if TYPE_CHECKING:
    from ..core.job import Job, Shot, Slip
    from ..core.route import Route

Shots = Annotated[list[str], typer.Argument(help="Shots by name, number or pattern, e.g. 'sails*'.")]
MOST = 1_000_000  # rows of a log
Camera = Annotated[str, typer.Option(help="Only shots of this camera.")]


def chosen(job: Job, patterns: list[str], camera: str = "") -> list[Shot]:
    """The shots that patterns name, in the Board's order. AdzerError names one that fits none."""
    shots = [s for s in job.shots() if not camera or s.camera == camera]
    for pattern in patterns:
        if not any(_fits(s, pattern) for s in shots):
            raise AdzerError(f"{job.path} has no shot {pattern!r}. It has: {', '.join(s.name for s in shots) or 'none'}.")
    return [s for s in shots if not patterns or any(_fits(s, p) for p in patterns)]


def _fits(shot: Shot, pattern: str) -> bool:
    return pattern in (shot.name, str(shot.id)) or fnmatch.fnmatchcase(shot.name, pattern)


@app.command(help="Make a new, empty job.\n\nExample: adzer new mill.adzer --rate 25")
def new(
    job: JobFile,
    name: Annotated[str, typer.Option(help="The job's name; the file's if left out.")] = "",
    rate: Annotated[str, typer.Option(help="Frames a second, 1 to 1000, e.g. 25 or 24000/1001.")] = "25",
) -> None:
    from ..core.job import Job

    try:
        parsed: Fraction | None = records.parse_fraction(rate)
    except ValueError as error:
        raise AdzerError(f"--rate: {error}.") from None
    if parsed is None or not 1 <= parsed <= 1000:
        raise AdzerError(f"--rate {rate}: a job runs at 1 to 1000 frames a second.")
    Job.create(job, name or job.stem, parsed).close()
    print(job)


@app.command("shots", help="List a job's shots.\n\nExample: adzer shots mill.adzer --json")
def shots_(job: JobFile, json_: Json = False) -> None:
    from ..core.job import Job

    rows: list[dict[str, Any]] = []
    with Job.open(job) as held:
        walk = held.walker()
        for shot in held.shots():
            findings = walk(shot).findings
            counts = {level: sum(f.level.value == level for f in findings) for level in ("stop", "warn", "note")}
            rows.append({
                "shot": shot.name, "id": shot.id, "kind": shot.kind, "camera": shot.camera, "in": shot.start, "out": shot.stop,
                "file": shot.facts.path, "verdict": shot.verdict, "deliveries": list(shot.route.deliver.cards),
                "findings": counts,
            })  # fmt: skip
    if json_:
        print_json({"shots": rows})
        return
    for row in rows:
        said = ", ".join(f"{n} {level}" for level, n in row["findings"].items() if n)
        print(f"{row['id']:4} {row['shot']:28} {row['kind']:16} {row['camera']:12} {row['in']}–{row['out']}  {said}")


@app.command(
    "queue", help="List a job's queued renders; render what waits (run), or cancel or retry some of them by number.\n\n"
    "Examples: adzer queue mill.adzer --json · adzer queue mill.adzer retry 3",
)
def queue_(
    job: JobFile,
    do: Annotated[Literal["list", "run", "cancel", "retry"], typer.Argument(help="What is done; they are listed if left out.")] = "list",
    which: Annotated[list[int] | None, typer.Argument(help="Numbers of queued renders; for retry all that ended unmade if left out.")] = None,
    json_: Json = False,
) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        known = {s.id: s for s in held.slips()}
        if lacking := [n for n in which or () if n not in known]:
            raise AdzerError(f"{job} has no queued render {lacking[0]}. It has: {', '.join(map(str, known)) or 'none'}.")
        if do == "cancel":
            _cancel(held, known, which or [])
        elif do == "retry":
            ended = [n for n, s in known.items() if s.state in ("failed", "cancelled")]
            for n in which or ended:
                if n in ended:
                    held.set_slip(n, state="waiting", why=None, report=None, ends=0)
                else:
                    say(f"{n} is {known[n].state}, so there is nothing to retry.")
        elif do == "run":
            _run(held, set(which) if which else None)
        slips = held.slips()
    if json_:
        print_json({"slips": [
            {"id": s.id, "state": s.state, "shot": s.order.shot, "card": s.order.card_name, "master": s.order.out,
             "done": s.done, "total": s.total, "why": s.why} for s in slips
        ]})  # fmt: skip
    else:
        for s in slips:
            print(f"{s.id:4} {s.state:10} {s.done}/{s.total}  {s.order.out}" + (f"  {s.why}" if s.why else ""))
    raise typer.Exit(1 if do == "run" and any(s.state == "failed" for s in slips if which is None or s.id in which) else 0)


def _cancel(held: Job, known: dict[int, Slip], which: list[int]) -> None:
    """Those that still wait or render; what they had finished is kept."""
    if not which:
        raise AdzerError("Say which, by number: adzer queue JOB cancel 3.")
    for n in which:
        if known[n].state in ("waiting", "rendering"):
            held.set_slip(n, state="cancelled")
        else:
            say(f"{n} is {known[n].state} already.")


def _run(held: Job, only: set[int] | None) -> None:
    from ..core.run import queue

    with progress("queue") as show:
        queue.run(held, lambda slip, p: show(p), only=only)


@app.command("log", help="What was done in a job, newest first.\n\nExample: adzer log mill.adzer --most 20")
def log_(
    job: JobFile,
    most: Annotated[int | None, typer.Option(min=1, max=100_000, help="At most so many rows, the newest; 100 if left out, all in a table.")] = None,
    kind: Annotated[str, typer.Option(help="Only rows of this kind: add, answer, render …; all if left out.")] = "",
    words: Annotated[str, typer.Option(help="Only rows in which all of these words occur.")] = "",
    form: Annotated[Literal["text", "csv", "markdown", "html"], typer.Option("--as", help="How it is printed.")] = "text",
    json_: Json = False,
) -> None:  # fmt: skip
    from ..core import journal
    from ..core.job import Job

    with Job.open(job) as held:
        rows, name = journal.chosen(held.log_rows(MOST), kind, words), held.name
    rows = rows[: most or (100 if form == "text" and not json_ else MOST)]
    if json_:
        print_json({"rows": [records.to_plain(r) for r in rows]})
        return
    if form != "text":
        page = journal.as_csv(rows) if form == "csv" else journal.as_markdown(rows, name) if form == "markdown" else journal.as_html(rows, name)
        print(page, end="")
        return
    for at, what, shot, said, changed in map(journal.cells, rows):
        print(f"{at[:16]}  {what:8} {shot:24} {said}" + (f" ({changed})" if changed else ""))


@app.command(
    help="Answer a job's questions: stage.field=value, for one shot or several.\n\n"
    "Example: adzer answer mill.adzer 'sails*' read.curve=fen-log shape.squeeze=8/5"
)
def answer(
    job: JobFile,
    words: Annotated[list[str], typer.Argument(help="Shots, by name or pattern, then stage.field=value; none: all shots.")],
    camera: Camera = "",
    same_as: Annotated[
        str | None,
        typer.Option(help="Take a stage's answers (stage), or all, from this shot; what was marked on its picture stays there."),
    ] = None,
) -> None:
    from ..core import journal, questions
    from ..core.job import Job, difference
    from ..core.route import STAGES, carried

    answers = [w for w in words if "=" in w and w.split("=")[0].count(".") == 1]
    patterns = [w for w in words if w not in answers and w not in STAGES]
    stages = [w for w in words if w in STAGES]
    if not answers and same_as is None:
        raise AdzerError("Say what to answer: stage.field=value, for example read.curve=fen-log; or --same-as SHOT. `adzer answers` lists all.")
    changes: dict[str, dict[str, object]] = {}
    for text in answers:
        place, value = text.split("=", 1)
        stage, field = place.split(".")
        changes.setdefault(stage, {})[field] = questions.meant(stage, field, value)
    with Job.open(job) as held, held.exclusively():  # what is answered is the job as it is, whoever else answers
        shots = chosen(held, patterns, camera)
        if not shots:
            raise AdzerError(f"{job} has no such shots.")
        model = chosen(held, [same_as])[0] if same_as is not None else None
        pairs = []
        for shot in shots:
            route = shot.route
            if model is not None and model.id != shot.id:
                for stage in stages or STAGES:
                    route = route.with_(stage, **carried(getattr(model.route, stage)))
            for stage, fields in changes.items():
                route = route.with_(stage, **fields)
            pairs.append((shot, _held(held, shot, route)))
        changed = [(s, r) for s, r in pairs if r != s.route]
        if changed:
            held.decide_all(changed, " ".join([*answers, *stages]) + (f" as in {model.name}" if model else ""))
    for shot, route in changed:
        print(f"{shot.name}: {journal.change_text(difference(shot.route, route))}")
    print(f"{len(changed)} of {len(pairs)} shots updated." if changed else "All of them have these answers already.")


def _held(job: Job, shot: Shot, route: Route) -> Route:
    """Solved by what was measured, where Steady was asked for something else than before."""
    from ..core.run import steadying

    now = route.steady
    if now == shot.route.steady or (now.method == "off" and not now.evens) or now.moves != shot.route.steady.moves:
        return route
    try:
        return steadying.held(job, shot.facts, route, job.seen(shot.id))
    except AdzerError as error:
        say(f"{shot.name}: it is not held yet: {error}. Measure it with adzer shake {job.path.name} {shot.id}, and answer again.")
        return route


@app.command(
    "answers", help="What can be answered: every field with what it takes, what holds until then, and what it means.\n\nExample: adzer answers steady"
)
def answers_(
    stage: Annotated[list[str] | None, typer.Argument(help="Only these stages: read, join, develop, steady, shape, colour or deliver.")] = None,
    json_: Json = False,
) -> None:
    from ..core import questions
    from ..core.route import STAGES

    asked = [q for s in stage or STAGES for q in questions.questions(s)]
    if json_:
        print_json(asked, "answers")
        return
    for q in asked:
        print(q.name, f"    {q.means}", f"    takes: {q.takes}", f"    until then: {q.default}", sep="\n")


@app.command(
    help="Apply the fixes that findings offer.\n\nExample: `adzer mend mill.adzer 'by the canal'` · `adzer mend mill.adzer --all variable-rate`"
)
def mend(
    job: JobFile,
    shot: Annotated[list[str] | None, typer.Argument(help="Shots by name or pattern; all if left out.")] = None,
    all_: Annotated[
        str | None,
        typer.Option(
            "--all", help="All findings of this code (`adzer route --json`), even those that contradict an answer."
        ),
    ] = None,
    dry: Annotated[bool, typer.Option("--dry-run", help="Only show what it would change.")] = False,
    json_: Json = False,
) -> None:
    from ..core import journal
    from ..core.job import Job, difference

    made: list[dict[str, str]] = []
    pairs = []
    with Job.open(job) as held:
        walk = held.walker()
        for each in chosen(held, shot or []):
            route = each.route
            for finding in walk(each).findings:
                fix = finding.fix
                if fix is None or not finding.level.weight or all_ not in (None, finding.code):
                    continue
                declared = sorted(name for name in fix.answers if _declared(each.route, fix.stage, name))
                if declared and all_ is None:
                    said = f"{fix.stage}.{declared[0]} has an answer, which stays. --all {finding.code} applies the fix all the same"
                elif any(getattr(getattr(route, fix.stage), n) != getattr(getattr(each.route, fix.stage), n) for n in fix.answers):
                    said = "another finding of this shot answers it already"
                else:
                    mended = route.mended(fix)
                    said, route = journal.change_text(difference(route, mended)), mended
                    made.append({"shot": each.name, "code": finding.code, "mend": fix.label, "change": said})
                    continue
                say(f"{each.name}: not fixed: {fix.label}: {said}.")
            if route != each.route:
                pairs.append((each, route))
        if pairs and not dry:
            held.decide_all(pairs, f"mend {all_ or f'{len(made)} findings'}")
    if json_:
        print_json({"would" if dry else "mended": made})
        return
    for row in made:
        print(f"{row['shot']}: {row['mend']} ({row['change']})")
    if made and dry:
        print(f"{len(made)} findings. Without --dry-run their fixes are applied.")
    if not made:
        say("No finding offers a fix.")


def _declared(route: Route, stage: str, field: str) -> bool:
    """Has a person answered it?"""
    from ..core.route import Route

    return bool(getattr(getattr(route, stage), field) != getattr(getattr(Route(), stage), field))


@app.command(help="Take back the last edit of a job.\n\nExample: adzer undo mill.adzer")
def undo(job: JobFile) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        words = held.undo()
    print(f"taken back: {words}" if words else "there is nothing to take back")


@app.command(help="Do again what was taken back.\n\nExample: adzer redo mill.adzer")
def redo(job: JobFile) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        words = held.redo()
    print(f"done again: {words}" if words else "there is nothing to do again")


@app.command(help="Cut a take out of a shot, by recorded frames.\n\nExample: adzer take mill.adzer 'sails, wide' 20 60")
def take(
    job: JobFile, shot: ShotName,
    start: Annotated[int, typer.Argument(min=0, help="Its first recorded frame, counted from 0.")],
    stop: Annotated[int, typer.Argument(min=1, help="The recorded frame after its last.")],
) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        made = held.add_take(chosen(held, [shot])[0], start, stop)
    print(made.name)


@app.command(help="Keep, drop or leave open shots.\n\nExample: adzer judge mill.adzer keep 'sails*'")
def judge(
    job: JobFile, verdict: Annotated[str, typer.Argument(help="keep, drop or undecided.")], shot: Shots,
) -> None:
    from ..core.job import Job

    if verdict not in ("keep", "drop", "undecided"):
        raise AdzerError(f"{verdict!r} is no verdict: keep, drop or undecided.")
    with Job.open(job) as held:
        found = chosen(held, shot)
        kept = "" if verdict == "undecided" else verdict
        held.describe({s.id: {"verdict": kept} for s in found}, f"{verdict} {len(found)} shots")
    print(f"{verdict}: {', '.join(s.name for s in found)}")


@app.command(help="Allow a job whose waiting renders were queued by someone else to render.\n\nExample: adzer trust mill.adzer")
def trust(job: JobFile) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        strange = held.untrusted()
        held.trust()
    for s in strange:
        print(f"may run: {s.order.out}")
    if not strange:
        print("nothing that waits was queued by someone else")


app.command("adopt", hidden=True)(trust)
