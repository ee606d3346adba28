"""What tests have the command line make, and look at with another library."""

from __future__ import annotations

import av
import numpy as np
from typer.testing import CliRunner

from adzer.cli.main import app
from adzer.core.compile import freeze
from adzer.core.run.render import render


def lumas(path) -> list[np.ndarray]:
    with av.open(str(path)) as held:
        return [f.to_ndarray(format="gray16le").astype(float) for f in held.decode(video=0)]


def delivered(facts, route, card, out) -> list[np.ndarray]:
    """Rendered and checked, without the command line; its lumas."""
    render(freeze("a", facts, route, card, out, 0, None))
    return lumas(out)


def run(*words) -> str:
    made = CliRunner().invoke(app, [str(w) for w in words])
    assert made.exit_code == 0, (made.output, made.exception)
    return made.stdout
