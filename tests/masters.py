"""What tests have the command line make, and look at with another library."""

from __future__ import annotations

import av
import numpy as np
from typer.testing import CliRunner

from adzer.cli.main import app


def lumas(path) -> list[np.ndarray]:
    with av.open(str(path)) as held:
        return [f.to_ndarray(format="gray16le").astype(float) for f in held.decode(video=0)]


def run(*words) -> str:
    made = CliRunner().invoke(app, [str(w) for w in words])
    assert made.exit_code == 0, (made.output, made.exception)
    return made.stdout
