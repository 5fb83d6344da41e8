"""Feeds spoiled files to the readers: every one must give a catalogue or one clear error, and soon.

    python -m tests.fuzz [--inputs 200000] [--seed 1] [--keep DIR]

Starts from small files of every format, changes their bytes (for workbooks also those of the parts inside the archive),
and prints what raised anything else, or took longer than ten seconds. What it finds is kept in DIR; once it is mended,
the file belongs into tests/corpus.
"""

from __future__ import annotations

import argparse
import hashlib
import io
import random
import resource
import signal
import sys
import traceback
import zipfile
from collections.abc import Callable
from pathlib import Path

from neat_delta import NeatDeltaError, read
from neat_delta.files.whole import Loaded
from tests.made import files_of_every_format

SECONDS = 10
BITS = [
    b'"',
    b",",
    b";",
    b"\t",
    b"\r",
    b"\n",
    b"\r\n",
    b"\0",
    b"\xff",
    b"\xef\xbb\xbf",
    b"\xe8",
    b"'",
    b"\\",
    b"[{",
    b"}]",
]
BITS += [b"<", b">", b"&amp;", b'r="XFD1048576"', b"<v/>", b't="e"', b"<f>1</f>", b"999999999", b"-1", b"1e999"]


def changed(data: bytes, rng: random.Random) -> bytes:
    """The bytes with a few of them altered, left out, doubled, moved or put in."""
    out = bytearray(data)
    for _ in range(rng.choice([1, 1, 2, 4, 16])):
        place, size = rng.randrange(len(out) + 1), rng.choice([1, 1, 2, 8, 64, 512])
        how = rng.randrange(7)
        if how == 0 and out:
            out[place % len(out)] = rng.randrange(256)
        elif how == 1:
            del out[place : place + size]
        elif how == 2:
            out[place:place] = rng.choice(BITS)
        elif how == 3:
            out[place:place] = out[place : place + size]
        elif how == 4:
            piece = out[place : place + size]
            other = rng.randrange(len(out) + 1)
            out[other:other] = piece
        elif how == 5 and out:
            out[place % len(out)] ^= 1 << rng.randrange(8)
        elif rng.random() < 0.2:
            del out[place:]
    return bytes(out)


def changed_inside(data: bytes, rng: random.Random) -> bytes:
    """The archive with one of its members changed."""
    source = zipfile.ZipFile(io.BytesIO(data))
    members = source.infolist()
    spoiled = rng.choice(members).filename
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for member in members:
            content = source.read(member)
            archive.writestr(member.filename, changed(content, rng) if member.filename == spoiled else content)
    return out.getvalue()


def one(data: bytes) -> str | None:
    """What went wrong on reading, or None: a catalogue or a clear error is as it should be."""
    try:
        read(Loaded("fuzzed", data, lambda: hashlib.sha256(data).hexdigest()))
    except NeatDeltaError as error:
        return None if "\n" not in str(error) and len(str(error)) < 600 else f"an error of several lines: {error}"
    except BaseException:  # a panic of a library is no Exception
        return traceback.format_exc()
    return None


def _too_long(*_: object) -> None:
    raise TimeoutError(f"more than {SECONDS} seconds")


def fuzz(inputs: int, seed: int, say: Callable[[str], None], keep: Path | None) -> int:
    """Try so many inputs; how many of them went wrong."""
    rng = random.Random(seed)
    seeds = list(files_of_every_format().values())
    signal.signal(signal.SIGALRM, _too_long)
    wrong: dict[str, int] = {}
    for number in range(inputs):
        data = rng.choice(seeds)
        while data[:4] == b"PAR1" and rng.random() < 0.98:  # each of these takes a process of its own
            data = rng.choice(seeds)
        inside = data[:2] == b"PK" and rng.random() < 0.8
        data = changed_inside(data, rng) if inside else changed(data, rng)
        signal.alarm(SECONDS)
        found = one(data)
        signal.alarm(0)
        if found:
            kind = found.strip().splitlines()[-1][:160]
            wrong[kind] = wrong.get(kind, 0) + 1
            if wrong[kind] == 1:
                say(f"input {number}: {found}")
                if keep:
                    keep.mkdir(exist_ok=True)
                    (keep / hashlib.sha256(data).hexdigest()[:12]).write_bytes(data)
    for kind, times in wrong.items():
        say(f"{times:,} × {kind}")
    return sum(wrong.values())


def main() -> None:
    parser = argparse.ArgumentParser(description="Feed spoiled files to the readers.")
    parser.add_argument("--inputs", type=int, default=200_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path)
    asked = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30))
    wrong = fuzz(asked.inputs, asked.seed, print, asked.keep)
    print(f"{asked.inputs:,} inputs, {wrong:,} of them wrong")
    sys.exit(wrong > 0)


if __name__ == "__main__":
    main()
