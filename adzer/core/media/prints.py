"""Is a recording still the one that it was? Prints of its bytes and of its files' times."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import xxhash

from . import dng
from .rolls import Roll, Source, Stream, all_paths, first_path

if TYPE_CHECKING:
    from .probe import FileFacts

_EDGE, _EDGE_OF_MANY = 1 << 20, 1 << 16
_BLOCK, _BLOCKS, _FEWEST_BLOCKS = 1 << 14, 32, 3  # bytes of a block within a file, how many of a recording, and of each of many files


def holds_values(source: Source) -> bool:
    """Is each of its frames a file of sensor values?"""
    return isinstance(source, Path | Roll) and dng.is_dng(first_path(source))


def fingerprint(source: Source, *beside: Source) -> str:
    """Size and a hash of both ends: quick, and changes when the file does. OSError if it cannot be read.

    Of several files: the hash of their fingerprints. Frames of sensor values are many and large: shorter ends of them are read.
    """
    if beside:
        return f"pair2-{_hash_of((source, *beside))}"
    if holds_values(source) and isinstance(source, Roll):
        digest = xxhash.xxh3_128()
        for frame in source.files:
            with open(frame, "rb") as file:
                digest.update(file.read(_EDGE_OF_MANY) + os.fstat(file.fileno()).st_size.to_bytes(8, "little"))
        return f"values{len(source.files)}-{digest.hexdigest()}"
    if isinstance(source, Stream):
        return f"track{source.track}-{_hash_of((Path(source.file),), f'{source.track} {source.start}')}"
    if isinstance(source, Roll):
        return f"roll{len(source.files)}-{_hash_of(all_paths(source))}"
    path = source
    size = path.stat().st_size
    digest = xxhash.xxh3_128()
    with path.open("rb") as file:
        digest.update(file.read(_EDGE))
        if size > 2 * _EDGE:
            file.seek(-_EDGE, os.SEEK_END)
        digest.update(file.read(_EDGE))
    return f"{size:x}-{digest.hexdigest()}"


def spread(sources: Iterable[Source]) -> str:
    """A hash of blocks that lie evenly over all files of a recording, which its fingerprint's ends say nothing of. OSError if one
    cannot be read."""
    paths = [p for s in sources for p in all_paths(s)]
    each, digest = max(_FEWEST_BLOCKS, _BLOCKS // len(paths)), xxhash.xxh3_128()
    for path in paths:
        with path.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            for n in range(each):
                digest.update(os.pread(file.fileno(), _BLOCK, int((n + 0.5) * size / each) // _BLOCK * _BLOCK))
    return digest.hexdigest()


def changed(facts: FileFacts) -> bool:
    """Is a recording not what it was when it was read? OSError if it is gone."""
    if fingerprint(*facts.sources) != facts.fingerprint:
        return True
    return bool(facts.spread) and spread(facts.sources) != facts.spread


def stamp(paths: Iterable[Path]) -> str:
    """A hash of the files' sizes and times: another one as soon as anybody writes to one of them, whatever times they give it, as
    the system alone sets the time of a change (ctime). OSError if one is gone."""
    digest = xxhash.xxh3_128()
    for path in paths:
        held = path.stat()
        digest.update(f"{path} {held.st_size} {held.st_mtime_ns} {held.st_ctime_ns}\n".encode("utf-8", "surrogateescape"))
    return digest.hexdigest()


def _hash_of(sources: Iterable[Source], more: str = "") -> str:
    digest = xxhash.xxh3_128()
    for each in sources:
        digest.update(fingerprint(each).encode())
    digest.update(more.encode())
    return digest.hexdigest()


def checksum(path: Path) -> str:
    """xxh128 of the whole file."""
    digest = xxhash.xxh3_128()
    with path.open("rb") as file:
        while block := file.read(1 << 22):
            digest.update(block)
    return digest.hexdigest()
