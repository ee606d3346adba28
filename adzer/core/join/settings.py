"""Join (one picture out of several recordings): nothing to decide yet."""

from __future__ import annotations

from ..stage import Settings


class JoinSettings(Settings, frozen=True, forbid_unknown_fields=True):
    version: int = 1
