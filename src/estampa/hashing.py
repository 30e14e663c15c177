"""Digests that address solved frames, and randomness that is a hash instead of a stream."""

import hashlib
import re

import numpy as np
import xxhash

SIZE = 16


def digest(*parts) -> bytes:
    """A 16-byte BLAKE2b digest of nested plain values (bytes, str, numbers, None, arrays, tuples, lists, dicts).

    Numbers are hashed by their exact bits, so that a value that differs in the last bit is another value.
    """
    h = hashlib.blake2b(digest_size=SIZE)
    _feed(h, parts)
    return h.digest()


def _feed(h, part) -> None:
    if isinstance(part, bytes):
        h.update(b"b%d:" % len(part) + part)
    elif isinstance(part, str):
        data = part.encode()
        h.update(b"s%d:" % len(data) + data)
    elif part is None or isinstance(part, bool):
        h.update({None: b"N", True: b"T", False: b"F"}[part])
    elif isinstance(part, (int, np.integer)):
        h.update(b"i%d;" % int(part))
    elif isinstance(part, (float, np.floating)):
        h.update(b"f" + np.float64(part).tobytes())
    elif isinstance(part, np.ndarray):
        h.update(f"a{part.dtype.str}{part.shape}".encode() + np.ascontiguousarray(part).tobytes())
    elif isinstance(part, (tuple, list)):
        h.update(b"(%d:" % len(part))
        for item in part:
            _feed(h, item)
    elif isinstance(part, dict):
        h.update(b"{%d:" % len(part))
        for name in sorted(part):
            _feed(h, name)
            _feed(h, part[name])
    else:
        raise TypeError(f"cannot digest {type(part).__name__}")


def array_digest(array: np.ndarray) -> str:
    """Digest of an array's type, shape and bytes, by XXH3 of 128 bits; the name it is kept under. Content alone is
    told apart by it, against nobody's will: a cryptographic digest took half of the time that an import takes."""
    return "x" + _fed(xxhash.xxh3_128(), array)


def is_digest(name: str, array: np.ndarray) -> bool:
    """Whether an array is the one of that name: names without "x" are of older files, and are by BLAKE2b."""
    return name == (array_digest(array) if name[:1] == "x" else _fed(hashlib.blake2b(digest_size=SIZE), array))


def _fed(h, array: np.ndarray) -> str:
    array = np.ascontiguousarray(array)
    h.update(f"{array.dtype.str}{array.shape}".encode())
    h.update(memoryview(array).cast("B") if array.size else b"")
    return h.hexdigest()


def rand(seed: int, element, what: str) -> np.ndarray:
    """Uniform numbers in [0, 1), one per element, that depend only on (seed, element, what for).

    Adding an element does not change the others. Mixing: the finaliser of SplitMix64
    (Steele, Lea and Flood 2014, "Fast splittable pseudorandom number generators").
    """
    salt = int.from_bytes(digest(int(seed), what)[:8], "little")
    with np.errstate(over="ignore"):
        x = np.asarray(element).astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(salt)
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        x = x ^ (x >> np.uint64(31))
    return (x >> np.uint64(11)).astype(np.float64) * 2.0**-53


def numbered_id(number: int) -> str:
    """The id of the so-manieth thing that was made."""
    return f"n{number:07x}"


def number_of(thing_id: str) -> int | None:
    """Which number a thing's id has; None of one that was drawn, as all were once."""
    found = re.fullmatch(r"n([0-9a-f]{7,9})", thing_id)
    return int(found[1], 16) if found else None
