"""The compiled pixel loops. They take arrays and numbers only; who makes these is ``pixels`` and ``warp``."""
