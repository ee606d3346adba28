"""Join (one picture out of several recordings): nothing to decide yet."""

from __future__ import annotations

import msgspec


class JoinSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    version: int = 1
