"""Adzer squares rough footage: desqueeze, frame, colour and deliver, measured and checked."""

__version__ = "0.1.0"
