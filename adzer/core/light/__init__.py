"""What light is: curves, primaries, the chain of both, and how it is computed quickly."""
