"""Commands that answer a job's questions, and show and undo what was answered. ``cli`` brings them in."""

from __future__ import annotations

import fnmatch
import json
from fractions import Fraction
from typing import TYPE_CHECKING, Annotated, Any, Literal

import typer

from ..core import records
from ..core.errors import AdzerError
from .terminal import JobFile, Json, ShotName, app, print_json, say

if TYPE_CHECKING:
    from ..core.job import Job, Shot

Shots = Annotated[list[str], typer.Argument(help="Shots by name, number or pattern, e.g. 'sails*'.")]
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


@app.command("queue", help="List a job's queued renders.\n\nExample: adzer queue mill.adzer --json")
def queue_(job: JobFile, json_: Json = False) -> None:
    from ..core.job import Job

    with Job.open(job) as held:
        slips = held.slips()
    if json_:
        print_json({"slips": [
            {"id": s.id, "state": s.state, "shot": s.order.shot, "card": s.order.card_name, "master": s.order.out,
             "done": s.done, "total": s.total, "why": s.why} for s in slips
        ]})  # fmt: skip
        return
    for s in slips:
        print(f"{s.id:4} {s.state:10} {s.done}/{s.total}  {s.order.out}" + (f"  {s.why}" if s.why else ""))


@app.command("log", help="What was done in a job, newest first.\n\nExample: adzer log mill.adzer --most 20")
def log_(
    job: JobFile, most: Annotated[int, typer.Option(min=1, max=100_000, help="At most so many rows, the newest; 100 if left out.")] = 100,
    kind: Annotated[str, typer.Option(help="Only rows of this kind: add, answer, render …; all if left out.")] = "",
    words: Annotated[str, typer.Option(help="Only rows in which all of these words occur.")] = "",
    form: Annotated[Literal["text", "csv", "markdown"], typer.Option("--as", help="How it is printed.")] = "text",
    json_: Json = False,
) -> None:  # fmt: skip
    from ..core import journal
    from ..core.job import Job

    with Job.open(job) as held:
        rows, name = journal.chosen(held.log_rows(most), kind, words), held.name
    if json_:
        print_json({"rows": [records.to_plain(r) for r in rows]})
        return
    if form != "text":
        print(journal.as_csv(rows) if form == "csv" else journal.as_markdown(rows, name), end="")
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
    from ..core.job import Job
    from ..core.route import STAGES, carried

    answers = [w for w in words if "=" in w and w.split("=")[0].count(".") == 1]
    patterns = [w for w in words if w not in answers and w not in STAGES]
    stages = [w for w in words if w in STAGES]
    if not answers and same_as is None:
        raise AdzerError("Say what to answer: stage.field=value, for example read.curve=fen-log; or --same-as SHOT.")
    changes: dict[str, dict[str, object]] = {}
    for text in answers:
        place, value = text.split("=", 1)
        stage, field = place.split(".")
        changes.setdefault(stage, {})[field] = _value(value)
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
                if stage in STAGES and (unknown := set(fields) - set(getattr(route, stage).__struct_fields__)):
                    known = ", ".join(f for f in getattr(route, stage).__struct_fields__ if f != "version")
                    raise AdzerError(f"{stage} has no question {unknown.pop()!r}. It has: {known}.")
                route = route.with_(stage, **fields)
            pairs.append((shot, route))
        changed = [(s, r) for s, r in pairs if r != s.route]
        if changed:
            held.decide_all(changed, " ".join([*answers, *stages]) + (f" as in {model.name}" if model else ""))
    print(f"{len(changed)} of {len(pairs)} shots updated." if changed else "All of them have these answers already.")


def _value(text: str) -> object:
    """A typed value: JSON where it is some, nothing for ``none``, else the text itself."""
    if text in ("none", ""):
        return None
    try:
        return json.loads(text)
    except ValueError:
        return text


@app.command(
    help="Apply the mends that findings offer.\n\nExample: adzer mend mill.adzer 'by the canal' · adzer mend mill.adzer --all variable-rate"
)
def mend(
    job: JobFile,
    shot: Annotated[list[str] | None, typer.Argument(help="Shots by name or pattern; all if left out.")] = None,
    all_: Annotated[
        str | None,
        typer.Option("--all", help="Only findings of this code, as `adzer route --json` gives it; every one if left out."),
    ] = None,
    json_: Json = False,
) -> None:
    from ..core.job import Job

    made: list[dict[str, str]] = []
    pairs = []
    with Job.open(job) as held:
        walk = held.walker()
        for each in chosen(held, shot or []):
            route = each.route
            for finding in walk(each).findings:
                if finding.fix is not None and finding.level.weight and all_ in (None, finding.code):
                    route = route.mended(finding.fix)
                    made.append({"shot": each.name, "code": finding.code, "mend": finding.fix.label})
            if route != each.route:
                pairs.append((each, route))
        if pairs:
            held.decide_all(pairs, f"mend {all_ or f'{len(made)} findings'}")
    if json_:
        print_json({"mended": made})
        return
    for row in made:
        print(f"{row['shot']}: {row['mend']}")
    if not made:
        say("There is nothing that a mend is offered for.")


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
