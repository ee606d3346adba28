"""One file a kind of camera, each with a ``CAMERA``."""
