"""Colour in the window: its cell on the Board, its bench, its instruments."""
