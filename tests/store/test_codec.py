"""The bytes of a frame: whatever is changed in them, it is not read as a frame; no part is without its checksum."""

import struct

import numpy as np
import pytest

from estampa.solve.frame import Frame, Table
from estampa.store import codec

pytestmark = pytest.mark.quick
KEY = b"a key of thirty-two bytes, whole"


def framed() -> bytes:
    rng = np.random.default_rng(3)
    tables = {
        "bodies": Table({"position": rng.random((5, 3), np.float32), "asleep": np.ones(5, np.uint8)}, np.arange(5)),
        "report": Table({"awake": np.ones(1, np.float32)}),
        "none": Table({"position": np.zeros((0, 3), np.float32)}),
    }
    return b"".join(map(bytes, codec.encode(KEY, Frame(tables, b"the engine's own state"))))


@pytest.fixture
def read(tmp_path):
    path = tmp_path / "frame"

    def reading(data: bytes, wanted=None, key=KEY):
        path.write_bytes(data)
        with path.open("rb") as file:
            return codec.decode(file, key, wanted)

    return reading


def test_a_frame_comes_back_whole_and_in_parts(read):
    data = framed()
    whole = read(data)
    assert whole.blob == b"the engine's own state" and len(whole["bodies"].ids) == 5
    part = read(data, ("awake",))
    assert part.blob == b"" and set(part["report"].columns) == {"awake"} and not part["bodies"].columns
    assert read(data, key=b"another key") is None


def test_every_byte_is_under_a_checksum_the_snapshots_too(read):
    """One bit of each byte in turn: no frame comes of it, or, where columns are not read, none that is another."""
    data, good = framed(), read(framed())
    for at in range(len(data)):
        torn = bytearray(data)
        torn[at] ^= 1 << (at % 8)
        found = read(bytes(torn))
        assert found is None, f"byte {at} of {len(data)}"
        part = read(bytes(torn), ("position",))
        if part is not None:  # what was changed is not read: other columns, the snapshot and their sums
            assert np.array_equal(part["bodies"]["position"], good["bodies"]["position"])


def test_sizes_that_a_head_claims_are_held_against_the_bytes_that_are_there(read):
    data = framed()
    magic, key, size, count, total, sums = codec.HEAD.unpack(data[: codec.HEAD.size])
    for claimed in ((size, count, total + 1), (size, 2**31, total), (2**31, count, total), (0, 0, total)):
        head = codec.HEAD.pack(magic, key, *claimed, sums)
        assert read(head + data[codec.HEAD.size :]) is None
    assert read(data[:-1]) is None and read(data + b"x") is None
    with pytest.raises(struct.error):
        read(data[: codec.HEAD.size - 1])
