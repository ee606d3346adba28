"""How the loops are compiled: without the interpreter's lock, with vectors, into a cache that notices every change.

The compiler's own cache watches the file of a loop, but not those of the loops that it calls: here the contents of all of
this folder are part of the key.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable
from pathlib import Path
from typing import ParamSpec, TypeVar

import numba
from numba.core.caching import FunctionCache
from numba.core.codegen import Codegen
from numba.core.typing.templates import Signature

P, R = ParamSpec("P"), TypeVar("R")
_FAST = {"contract", "reassoc", "nsz", "arcp", "nnan", "ninf"}  # no code value, place or table is ever NaN or infinite
_CONTENTS = zlib.crc32(b"".join(path.read_bytes() for path in sorted(Path(__file__).parent.glob("*.py"))))


class _Watching(FunctionCache):
    def _index_key(self, sig: Signature, codegen: Codegen) -> tuple[object, ...]:
        return (*super()._index_key(sig, codegen), _CONTENTS)


def jit(function: Callable[P, R]) -> Callable[P, R]:
    """Compiles at the first call; nothing in the loops may divide by zero or meet what is not a number."""
    made = numba.njit(nogil=True, fastmath=_FAST, error_model="numpy")(function)
    made._cache = _Watching(function)
    return made


inline = numba.njit(nogil=True, fastmath=_FAST, error_model="numpy", inline="always")
