"""Steady (shake and horizon): nothing to decide yet."""

from __future__ import annotations

import msgspec


class SteadySettings(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    version: int = 1
