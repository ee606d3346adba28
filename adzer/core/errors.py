"""The one exception that people see: a sentence that names the thing and says what to do now."""

from __future__ import annotations


class AdzerError(Exception):
    """Bad input or a machine that will not do what was asked.

    The message is a complete sentence for the person: what happened, to which file, and what now.
    """


class UnreadableError(AdzerError):
    """A source, card or job file that cannot be read as what it claims to be."""


class Stopped(AdzerError):
    """A *stop* finding stands in the way of rendering."""


class RenderFailed(AdzerError):
    """A render that could not be finished or a master that failed its check."""


class Cancelled(AdzerError):
    """The person stopped it; finished segments are kept."""
