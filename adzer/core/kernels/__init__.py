"""The compiled pixel loops. They take arrays and numbers only; ``pixels`` and ``warp`` make these.

Importing one of the modules costs about two seconds: never do it on the UI thread. What stands here costs nothing.
"""

CELLS, KNEES, TERMS = 32, 2, 5  # of a curve in pieces: how many, at how many places cut once more, and of which length each
