"""Steady (shake and horizon): nothing to decide yet."""

from __future__ import annotations

from ..stage import Settings


class SteadySettings(Settings, frozen=True, forbid_unknown_fields=True):
    version: int = 1
