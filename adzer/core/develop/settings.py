"""Develop (RAW and noise): nothing to decide yet."""

from __future__ import annotations

import msgspec


class DevelopSettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    version: int = 1
