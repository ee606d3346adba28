"""Read: from a file's tags, what the footage says and the person's word to a Picture with evidence for each field."""

from __future__ import annotations

from fractions import Fraction

from ..finding import Finding
from ..light import names as colour_cards
from ..light.samples import Samples
from ..media import timecode
from ..media.formats import SUBSAMPLING, PixelFormat
from ..media.probe import FileFacts
from ..pace import Pace
from ..picture import Picture
from ..plan import Draft, Input
from ..stage import Context, StepResult
from . import advise, check
from .advise import rate_text
from .fields import OneField
from .seen import Guess, Seen
from .settings import ReadSettings


def tagged(facts: FileFacts) -> Picture:
    """What the file says, and nothing else."""
    sphere = facts.sphere
    return Picture(
        raster=facts.raster,
        pixel_aspect=facts.pixel_aspect or Fraction(1),
        projection=sphere.projection if sphere else None,
        eyes=sphere.eyes if sphere else None,
        mosaic=facts.mosaic,
        curve=facts.curve,
        primaries=facts.primaries,
        range=facts.range,
        matrix=facts.matrix,
        bits=facts.bits,
        chroma=facts.chroma,
        rate=facts.rate,
        constant_rate=facts.constant_rate,
        timecode=facts.timecode,
        frames=facts.frames,
        duration=facts.duration,
        coverage=sphere.coverage if sphere else None,
        first=sphere.first if sphere else None,
    )


def assumed_samples(facts: FileFacts, settings: ReadSettings | None = None) -> Samples:
    """How the codes are to be read: declared, else tagged, else guessed."""
    settings = settings or ReadSettings()
    matrix, _ = _matrix(facts, settings)
    range_, _ = _range(facts, settings, None)
    siting, _ = _siting(facts, settings, matrix)
    return Samples(PixelFormat(facts.bits, facts.chroma, facts.rgb), matrix, range_ == "limited", siting)


def drafted(facts: FileFacts, settings: ReadSettings) -> Draft:
    """How the recording is to be read and turned, whatever else is still unknown of it: it can always be shown."""
    turn = turn_of(facts, settings)
    samples = assumed_samples(facts, settings).turned(turn)
    even = settings.even_rate if settings.timing == "even" else None
    prepares = (OneField(samples.turned(-turn % 360), facts.raster),) if settings.fields == "one" and not facts.mosaic else ()
    first = Input(samples, upright(facts.raster, turn), turn, recording=facts.sources, prepares=prepares)
    return Draft(inputs=(first,), pace=Pace(facts, even))


def turn_of(facts: FileFacts, settings: ReadSettings) -> int:
    """Degrees clockwise by which the recorded picture is turned: declared, else tagged, else none."""
    return settings.turn if settings.turn is not None else -facts.rotation % 360


def upright(raster: tuple[int, int], turn: int) -> tuple[int, int]:
    return (raster[1], raster[0]) if turn % 180 else raster


def upright_raster(facts: FileFacts, settings: ReadSettings) -> tuple[int, int]:
    """Of the recorded picture as it stands: what marks, crops and discs are reckoned in."""
    return upright(facts.raster, turn_of(facts, settings))


def _siting(facts: FileFacts, settings: ReadSettings, matrix: str) -> tuple[str, str]:
    """4:2:0 with BT.2020 is co-sited both ways (BT.2020-2, item 4.3); all else is taken as left, H.264's default."""
    if settings.siting:
        return settings.siting, "declared"
    if facts.siting:
        return facts.siting, "stated in the stream"
    usual = "topleft" if matrix == "bt2020" and facts.chroma == "4:2:0" else "left"
    return usual, "guessed: the usual place for this format"


def _matrix(facts: FileFacts, settings: ReadSettings) -> tuple[str, str]:
    if facts.rgb:
        return "rgb", "the samples are R, G and B"
    if settings.matrix:
        return settings.matrix, "declared"
    if facts.matrix and facts.matrix != "rgb":
        return facts.matrix, "tagged in the file"
    guess = "bt709" if facts.raster[0] > 720 or facts.raster[1] > 576 else "bt601"
    return guess, f"guessed: no tag, and the raster is {facts.raster[0]}×{facts.raster[1]}"


def _range(facts: FileFacts, settings: ReadSettings, seen: Seen | None) -> tuple[str, str]:
    saw = f"; {seen.range.saw}" if seen and seen.range.saw else ""
    if facts.floating:
        return "full", "floating-point samples have no range"
    if settings.range:
        return settings.range, "declared" + saw
    if facts.range:
        return facts.range, "tagged in the file" + saw
    if facts.rgb or facts.mosaic:
        return "full", "guessed: RGB without a tag" if facts.rgb else "sensor values are full range"
    return "limited", "guessed: Y′CbCr without a tag" + saw


def step(picture: Picture, settings: ReadSettings, context: Context) -> StepResult:
    facts, seen = context.facts, context.seen
    look = advise.look(seen) if seen else None
    curve, curve_why = _curve(facts, settings, look)
    primaries, primaries_why = _primaries(facts, settings, curve)
    range_, range_why = _range(facts, settings, seen)
    matrix, matrix_why = _matrix(facts, settings)
    evidence = _evidence(facts, settings, seen) | {
        "curve": curve_why, "primaries": primaries_why, "range": range_why, "matrix": matrix_why,
    }  # fmt: skip
    form = {}
    for field, default in (
        ("projection", "flat"),
        ("eyes", "one"),
        ("coverage", None),
        ("packing", None),
        ("first", None),
    ):
        form[field], evidence[field] = _form(field, default, picture, settings, seen)
    if form["projection"] == "flat":
        form["coverage"] = None
    if form["eyes"] == "one":
        form["packing"] = form["first"] = None
    siting, evidence["siting"] = _siting(facts, settings, matrix)
    turn = turn_of(facts, settings)
    evidence["turn"] = _turn_evidence(facts, settings, seen)
    aspect = picture.pixel_aspect
    picture = picture.with_(
        mosaic=facts.mosaic or "none", curve=curve, primaries=primaries, range=range_, matrix=matrix, **form,
        siting=siting if SUBSAMPLING[facts.chroma] != (1, 1) else None, turn=turn, raster=upright(facts.raster, turn),
        pixel_aspect=1 / aspect if turn % 180 else aspect,
    )  # fmt: skip
    findings: list[Finding] = [] if context.problem is None else [context.problem]
    findings += check.findings(facts, settings, context, picture, look)
    if (pace := context.draft.pace) is not None and pace.even:
        picture = picture.with_(rate=pace.rate, constant_rate=True, frames=pace.frames, duration=pace.seconds)
        evidence["rate"] = f"declared: made even; the stamps vary, {rate_text(facts.rate)} a second on average"
    says = f"{colour_cards.title(curve)}, {facts.bits}-bit {facts.chroma}"
    return StepResult(picture, says, tuple(findings), evidence=evidence)


def _form(field: str, default: object, picture: Picture, settings: ReadSettings, seen: Seen | None) -> tuple[object, str]:
    """A field of the picture's form: declared, tagged, or the usual, and why; nothing that changes pixels rests on a look."""
    guess: Guess = getattr(seen, field) if seen else Guess()
    saw = f"; {guess.saw}" if guess.saw else ""
    declared, held = getattr(settings, field), getattr(picture, field)
    if declared is not None:
        return declared, "declared" + saw
    if held is not None:
        return held, "tagged in the file" + saw
    if field in ("coverage", "packing") and guess.value is not None:  # of a form that was said: arithmetic on its shape
        return guess.value, f"seen ({guess.confidence:.0%} sure): {guess.saw}"
    if guess.value is not None and guess.value != default:
        return default, f"not known: perhaps {guess.value} ({guess.confidence:.0%} sure){saw}"
    if field in ("projection", "eyes"):
        return default, f"guessed: nothing says otherwise{saw}"
    return default, "does not apply" if not saw else "not known" + saw


def _evidence(facts: FileFacts, settings: ReadSettings, seen: Seen | None) -> dict[str, str]:
    stored = f"the samples are stored as {facts.pix_fmt}"
    bits = stored
    if seen and seen.depth:
        d = seen.depth
        real = f", but only {d.real_bits} are used" if d.real_bits < d.bits else ""
        cut = ", ".join(f"{n} {v:.2%}" for n, v in zip("RGB", d.high, strict=True) if v)
        bits += f"{real}; noise is {d.noise:.2%} of the signal" + (f"; cut off at the top: {cut}" if cut else "")
    low, middle, high = (float(s) * 1000 for s in facts.spacing)
    spacing = f"time stamps are {low:.2f} to {high:.2f} ms apart, {middle:.2f} ms usually"
    if seen and seen.rhythm and seen.rhythm.comb:
        spacing += f"; lines differ {seen.rhythm.comb:.2f} times as much as fields do"
    return {
        "raster": "coded in the stream",
        "bits": bits,
        "chroma": stored,
        "mosaic": "tagged in the file" if facts.mosaic else "the samples are decoded pictures, not sensor values",
        "pixel_aspect": "tagged in the file" if facts.pixel_aspect else "guessed: no tag, so square",
        "rate": "measured on the time stamps" if facts.constant_rate else "mean of the time stamps, which vary",
        "constant_rate": spacing,
        "frames": "counted in the file" + (f"; {len(facts.missing)} numbers are missing" if facts.missing else ""),
        "duration": "from the time stamps",
        "timecode": "tagged in the file" if facts.timecode else "the file has none",
    }


def _turn_evidence(facts: FileFacts, settings: ReadSettings, seen: Seen | None) -> str:
    saw = f"; {seen.turn.saw}" if seen and seen.turn.value else ""
    if settings.turn is not None:
        return "declared" + saw
    return ("tagged in the file" if facts.rotation else "nothing says that it was held otherwise") + saw


def _curve(facts: FileFacts, settings: ReadSettings, look: advise.Look | None) -> tuple[str | None, str]:
    saw = f"; {look.saw}" if look else ""
    if facts.mosaic:
        return "linear", "sensor values are linear"
    if facts.floating and settings.applied != "display" and settings.curve in (None, "linear", "float-log"):
        return "float-log", "floating-point samples are light; held as a 16-bit logarithm, so that nothing above white is lost"
    if settings.applied == "display":
        return "bt709", "declared: a transform has been applied already" + saw
    if settings.curve:
        agree = ""
        if look and look.kind:
            same = look.kind == advise.kind_of(settings.curve, facts.bits)
            agree = ("; the footage agrees: " if same else "; the footage looks different: ") + look.saw
        return settings.curve, "declared" + agree
    if facts.curve:
        return facts.curve, "tagged in the file" + saw
    if facts.bits <= 8 and not (look and look.may_be_log):
        return "bt709", "guessed: 8 bits, no tag and no sign of log; the pixels are left as they are" + saw
    return None, "not tagged" + saw


def _primaries(facts: FileFacts, settings: ReadSettings, curve: str | None) -> tuple[str | None, str]:
    if settings.primaries:
        return settings.primaries, "declared"
    if settings.curve and (paired := colour_cards.paired_primaries(settings.curve)):
        return paired, f"declared with {colour_cards.title(settings.curve)}, which is recorded so"
    if facts.primaries:
        return facts.primaries, "tagged in the file"
    if curve and (paired := colour_cards.paired_primaries(curve)):
        return paired, f"guessed: usual with {colour_cards.title(curve)}"
    return "bt709", "guessed: nothing says otherwise"


def shown_timecode(facts: FileFacts, frame: int) -> str:
    """The label of a frame: the recorded timecode carried on, or counted from zero."""
    rate = facts.rate or Fraction(25)
    start = timecode.to_frames(facts.timecode, rate) if facts.timecode else 0
    return timecode.to_label(start + frame, rate, timecode.is_drop(facts.timecode))
