"""Read: from a file's tags, the footage's levels and the person's word to a Picture with evidence for each field."""

from __future__ import annotations

from fractions import Fraction

from ..colour import cards as colour_cards
from ..finding import Finding, Fix, Level
from ..media import timecode
from ..media.formats import SUBSAMPLING, PixelFormat
from ..media.probe import FileFacts
from ..picture import Picture
from ..pixels import Samples
from ..stage import Context, StepResult
from . import advise
from .advise import rate_text
from .measure import Levels
from .settings import ReadSettings

SMALLEST = 16


def tagged(facts: FileFacts) -> Picture:
    """What the file says, and nothing else."""
    return Picture(
        raster=facts.raster,
        pixel_aspect=facts.pixel_aspect or Fraction(1),
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
    )


def assumed_samples(facts: FileFacts, settings: ReadSettings | None = None) -> Samples:
    """How the codes are to be read: declared, else tagged, else guessed."""
    settings = settings or ReadSettings()
    matrix, _ = _matrix(facts, settings)
    range_, _ = _range(facts, settings)
    siting = settings.siting or _siting(facts, matrix)
    return Samples(PixelFormat(facts.bits, facts.chroma, facts.rgb), matrix, range_ == "limited", siting)


def _siting(facts: FileFacts, matrix: str) -> str:
    """4:2:0 with BT.2020 is co-sited both ways (BT.2020-2, item 4.3); all else is taken as left, H.264's default."""
    return "topleft" if matrix == "bt2020" and facts.chroma == "4:2:0" else "left"


def _matrix(facts: FileFacts, settings: ReadSettings) -> tuple[str, str]:
    if facts.rgb:
        return "rgb", "the samples are R, G and B"
    if settings.matrix:
        return settings.matrix, "declared"
    if facts.matrix and facts.matrix != "rgb":
        return facts.matrix, "tagged in the file"
    guess = "bt709" if facts.raster[1] >= 720 or facts.raster[0] >= 1280 else "bt601"
    return guess, f"guessed: no tag, and the raster is {facts.raster[0]}×{facts.raster[1]}"


def _range(facts: FileFacts, settings: ReadSettings) -> tuple[str, str]:
    if settings.range:
        return settings.range, "declared"
    if facts.range:
        return facts.range, "tagged in the file"
    return ("full", "guessed: RGB without a tag") if facts.rgb else ("limited", "guessed: Y′CbCr without a tag")


def step(picture: Picture, settings: ReadSettings, context: Context) -> StepResult:
    facts = context.facts
    levels: Levels | None = context.levels
    look = advise.look(levels) if levels else None
    evidence: dict[str, str] = {
        "raster": "coded in the stream",
        "bits": f"the samples are stored as {facts.pix_fmt}",
        "chroma": f"the samples are stored as {facts.pix_fmt}",
        "projection": "guessed: nothing says that this is a sphere or a fisheye",
        "eyes": "guessed: nothing says that there are two",
        "mosaic": "guessed: the samples are decoded pictures, not sensor values",
        "siting": "declared" if settings.siting else "guessed: the usual place for this format",
        "pixel_aspect": "tagged in the file" if facts.pixel_aspect else "guessed: no tag, so square",
        "rate": "measured on the time stamps" if facts.constant_rate else "mean of the time stamps, which vary",
        "constant_rate": _spacing_text(facts),
        "frames": "counted in the file",
        "duration": "from the time stamps",
        "timecode": "tagged in the file" if facts.timecode else "the file has none",
    }
    curve, evidence["curve"] = _curve(facts, settings, look)
    primaries, evidence["primaries"] = _primaries(facts, settings, curve)
    range_, evidence["range"] = _range(facts, settings)
    matrix, evidence["matrix"] = _matrix(facts, settings)
    picture = picture.with_(
        projection="flat", eyes="one", mosaic="none", curve=curve, primaries=primaries, range=range_, matrix=matrix,
        siting=settings.siting or _siting(facts, matrix) if SUBSAMPLING[facts.chroma] != (1, 1) else None,
    )  # fmt: skip
    findings = [] if context.problem is None else [context.problem]
    findings += _findings(facts, settings, context, curve, look)
    if settings.timing == "even" and settings.even_rate:
        frames = max(1, round(facts.duration * settings.even_rate))
        picture = picture.with_(
            rate=settings.even_rate, constant_rate=True, frames=frames, duration=frames / settings.even_rate
        )
        evidence["rate"] = f"declared: made even; the stamps vary, {rate_text(facts.rate)} a second on average"
    says = f"{colour_cards.title(curve)}, {facts.bits}-bit {facts.chroma}"
    return StepResult(picture, says, tuple(findings), evidence=evidence)


def _spacing_text(facts: FileFacts) -> str:
    low, middle, high = (float(s) * 1000 for s in facts.spacing)
    return f"time stamps are {low:.2f} to {high:.2f} ms apart, {middle:.2f} ms usually"


def _curve(facts: FileFacts, settings: ReadSettings, look: advise.LookOfLog | None) -> tuple[str | None, str]:
    if settings.curve:
        agree = ""
        if look:
            kind = colour_cards.curve(settings.curve, facts.bits).kind
            agree = "; the footage agrees: " if look.is_log == (kind == "log") else "; the footage looks different: "
            agree += look.saw
        return settings.curve, "declared" + agree
    if facts.curve:
        return facts.curve, "tagged in the file" + (f"; {look.saw}" if look else "")
    if look and not look.is_log:
        return "bt709", f"guessed: {look.saw}, as display pictures do"
    return None, f"not tagged; {look.saw}" if look else "not tagged"


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


def _findings(
    facts: FileFacts, settings: ReadSettings, context: Context, curve: str | None, look: advise.LookOfLog | None
) -> list[Finding]:
    out: list[Finding] = []

    def say(level: Level, code: str, text: str, fix: Fix | None = None) -> None:
        out.append(Finding(level, code, text, "read", fix))

    w, h = facts.raster
    if w < SMALLEST or h < SMALLEST:
        say(
            Level.STOP, "raster-too-small", f"The picture is {w}×{h}; nothing under {SMALLEST} a side can be delivered."
        )
    elif w % 2 or h % 2:
        say(
            Level.NOTE, "odd-raster",
            f"The raster is {w}×{h}: an odd side. Deliveries are made even; a line of pixels is left at the edge.",
        )  # fmt: skip
    if curve is None:
        name = look.fits if look else None
        fix = Fix(f"Declare {colour_cards.title(name)}", "read", "curve", name) if name else None
        fix = fix or Fix("Declare BT.709", "read", "curve", "bt709")
        saw = f" It looks like log: {look.saw}." if look else ""
        say(
            Level.STOP,
            "curve-unknown",
            f"Nothing says what curve the camera encoded.{saw} Declare it before anything is transformed.",
            fix,
        )
    elif look and look.is_log and not settings.curve and facts.curve in ("bt709", "srgb", "gamma22"):
        fix = Fix(f"Declare {colour_cards.title(look.fits)}", "read", "curve", look.fits) if look.fits else None
        say(
            Level.WARN, "log-tagged-display",
            f"It looks like log but is tagged {colour_cards.title(facts.curve)}: {look.saw}. "
            + (f"{colour_cards.title(look.fits)} fits best." if look.fits else "No log card fits."), fix,
        )  # fmt: skip
    is_log = curve is not None and colour_cards.curve(curve, facts.bits).kind == "log"
    if facts.bits == 8 and (is_log or (curve is None and look and look.is_log)):
        say(
            Level.WARN,
            "log-8-bit",
            "Log in 8 bits: a stop has about 20 codes, so that smooth skies will show bands. Grade gently.",
        )
    if not facts.constant_rate and settings.timing == "recorded":
        low, _, high = facts.spacing
        near = advise.nearest_rate(context.job_rate or facts.rate or Fraction(25))
        say(
            Level.WARN, "variable-rate",
            f"The frame rate varies: frames are {float(low) * 1000:.1f} to {float(high) * 1000:.1f} ms apart. "
            f"Most editing programs drift out of sync with that.",
            Fix(f"Make it even at {rate_text(near)}", "read", "timing", {"timing": "even", "even_rate": str(near)}),
        )  # fmt: skip
    rate = settings.even_rate if settings.timing == "even" else facts.rate
    if rate is None:
        say(Level.STOP, "no-rate", "The file has no usable frame rate.",
            Fix("Make it even at 25", "read", "timing", {"timing": "even", "even_rate": "25"}))  # fmt: skip
    elif context.job_rate and rate != context.job_rate and (facts.constant_rate or settings.timing == "even"):
        ratio = context.job_rate / rate
        say(
            Level.WARN, "rate-differs",
            f"It runs at {rate_text(rate)} and the job at {rate_text(context.job_rate)}: the exact ratio is "
            f"{ratio.numerator}/{ratio.denominator}. Played frame for frame it would last {float(1 / ratio):.3f} times as long.",
            Fix(f"Keep its speed at {rate_text(context.job_rate)}", "read", "timing",
                {"timing": "even", "even_rate": str(context.job_rate)}),
        )  # fmt: skip
    if facts.promised > facts.frames + 1:
        say(
            Level.WARN,
            "cut-off",
            f"The header speaks of {facts.promised} frames, {facts.frames} are there: the file was cut off. Copy it again.",
        )
    if facts.rotation:
        say(
            Level.WARN,
            "rotation-tag",
            f"The file asks players to turn the picture by {facts.rotation}°. Adzer delivers it as it is recorded.",
        )
    return out


def shown_timecode(facts: FileFacts, frame: int) -> str:
    """The label of a frame: the recorded timecode carried on, or counted from zero."""
    rate = facts.rate or Fraction(25)
    start = timecode.to_frames(facts.timecode, rate) if facts.timecode else 0
    return timecode.to_label(start + frame, rate, timecode.is_drop(facts.timecode))
