"""Doing what was planned: warp and pixels, preview, render, checks, the queue."""
