"""What directions are: projections, lenses, and keyframes over time."""
