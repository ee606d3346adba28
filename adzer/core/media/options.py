"""Which encoder options a card may hold. Cards and jobs come from strangers, too, and encoders write files when they are told
to: what is not listed here, with its range, is refused by name."""

from __future__ import annotations

import re
from collections.abc import Mapping

from ..errors import UnreadableError

Allowed = tuple[float, float] | frozenset[str]

_YES = frozenset({"0", "1"})
_PRESETS = frozenset(["ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower", "veryslow"])
_RATE = (1e3, 4e9)  # bits a second
_COMMON: dict[str, Allowed] = {
    "preset": _PRESETS, "crf": (0, 51), "qp": (0, 51), "b": _RATE, "maxrate": _RATE, "bufsize": _RATE, "g": (1, 1200),
    "bf": (0, 16), "refs": (1, 16), "level": (1, 6.2),
}  # fmt: skip
_OWN: dict[str, dict[str, Allowed]] = {
    "h264": _COMMON | {
        "tune": frozenset(["film", "animation", "grain", "stillimage", "fastdecode", "zerolatency", "psnr", "ssim"]),
        "profile": frozenset(["baseline", "main", "high", "high10", "high422"]),
    },
    "h265": _COMMON | {
        "tune": frozenset(["animation", "grain", "fastdecode", "zerolatency", "psnr", "ssim"]),
        "profile": frozenset(["main", "main10", "main422-10"]),
    },
    "st2019": {"profile": frozenset(["lb", "sq", "hq", "hqx", "444"]), "b": _RATE, "g": (1, 1)},
    "ffv1": {
        "level": (3, 3), "coder": (0, 2), "context": (0, 1), "g": (1, 1), "slices": (4, 1024), "slicecrc": _YES,
    },
}  # fmt: skip
_NUMBERS: dict[str, Allowed] = {
    "keyint": (1, 1200), "min-keyint": (1, 1200), "bframes": (0, 16), "ref": (1, 16), "aq-mode": (0, 4), "aq-strength": (0, 3),
    "vbv-maxrate": (100, 4e6), "vbv-bufsize": (100, 4e6), "rc-lookahead": (0, 250), "subme": (0, 11), "qcomp": (0, 1),
    "qpmin": (0, 51), "qpmax": (0, 51), "ipratio": (0.5, 3), "pbratio": (0.5, 3), "scenecut": (0, 400), "open-gop": _YES,
    "weightb": _YES, "crf-max": (0, 51),
}  # fmt: skip
_PARAMS: dict[str, dict[str, Allowed]] = {
    "x264-params": _NUMBERS | {
        "trellis": (0, 2), "chroma-qp-offset": (-12, 12), "deadzone-inter": (0, 32), "deadzone-intra": (0, 32),
        "mbtree": _YES, "cabac": _YES, "8x8dct": _YES, "weightp": (0, 2), "b-adapt": (0, 2), "no-fast-pskip": _YES,
        "nal-hrd": frozenset({"none", "vbr", "cbr"}), "me": frozenset(["dia", "hex", "umh", "esa", "tesa"]), "merange": (4, 64),
    },
    "x265-params": _NUMBERS | {
        "cbqpoffs": (-12, 12), "crqpoffs": (-12, 12), "psy-rd": (0, 5), "psy-rdoq": (0, 50), "rd": (1, 6), "rdoq-level": (0, 2),
        "sao": _YES, "no-sao": _YES, "strong-intra-smoothing": _YES, "cutree": _YES, "b-adapt": (0, 2), "hrd": _YES,
        "repeat-headers": _YES, "aud": _YES, "ctu": frozenset({"16", "32", "64"}), "me": frozenset(["dia", "hex", "umh", "star", "full"]),
        "merange": (4, 64), "tskip": _YES, "hdr10": _YES, "hdr10-opt": _YES,
        "max-cll": frozenset(), "master-display": frozenset(),
    },
}  # fmt: skip
# Two that are more than a number: light levels and the mastering display's primaries (SMPTE ST 2086), digits and brackets only.
_SHAPED = {"max-cll": r"\d{1,5},\d{1,5}", "master-display": r"(?:[GBR]|WP)(?:\(\d{1,6},\d{1,9}\)|[GBR]|WP|L)*\(\d{1,9},\d{1,9}\)"}
_HOLDS = {"h264": "x264-params", "h265": "x265-params"}


def check(encoder: str, options: Mapping[str, str], where: str) -> None:
    """UnreadableError, naming ``where`` and the option, if one is not known to be harmless or is out of its range."""
    own = _OWN.get(encoder, {})
    for name, value in options.items():
        if name == _HOLDS.get(encoder):
            for part in filter(None, value.split(":")):
                key, _, inner = part.partition("=")
                _judge(key, inner or "1", _PARAMS[name], f"{where}: {name} {key!r}")
        else:
            _judge(name, value, own, f"{where}: the option {name!r}")


def _judge(name: str, value: str, known: Mapping[str, Allowed], what: str) -> None:
    allowed = known.get(name)
    if allowed is None:
        raise UnreadableError(f"{what} is not one that a card may hold. There are: {', '.join(sorted(known))}.")
    if name in _SHAPED:
        if not re.fullmatch(_SHAPED[name], value):
            raise UnreadableError(f"{what} is {value[:40]!r}, which is no such value.")
    elif isinstance(allowed, frozenset):
        if value not in allowed:
            raise UnreadableError(f"{what} is {value[:40]!r}; it may be {', '.join(sorted(allowed))}.")
    else:
        found = re.fullmatch(r"(-?\d{1,10}(?:\.\d{1,6})?)([kKM]?)", value)
        number = float(found[1]) * {"": 1, "k": 1e3, "K": 1e3, "M": 1e6}[found[2]] if found else None
        if number is None or not allowed[0] <= number <= allowed[1]:
            raise UnreadableError(f"{what} is {value[:40]!r}; it may be {allowed[0]:g} to {allowed[1]:g}.")
