"""The store: whole frames or none, within its size, and deletable at any time."""

import os
import subprocess
import sys
import time

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.hashing import digest, rand
from estampa.inspect.lanes import STALE, UNSOLVED, LaneMemory
from estampa.solve.frame import Frame, Table
from estampa.store.frames import DEFAULT_LIMIT, FrameStore, limit_of


def state(n=100, value=1.0):
    both = {"position": np.full((n, 3), value, np.float32), "velocity": np.full((n, 3), 2 * value, np.float32)}
    return Frame({"points": Table(both)})


def test_a_frame_comes_back_and_a_torn_one_does_not(store):
    store.write(b"k" * 16, state())
    back, seen = store.frame(b"k" * 16), store.frame(b"k" * 16, ("position",))
    for name in ("position", "velocity"):
        assert np.array_equal(back["points"][name], state()["points"][name])
    assert list(seen["points"].columns) == ["position"] and np.array_equal(
        seen["points"]["position"], back["points"]["position"]
    )
    path = store._path(b"k" * 16)
    path.write_bytes(path.read_bytes()[:-1])
    fresh = FrameStore(store.root)
    assert not fresh.has(b"k" * 16) and fresh.frame(b"k" * 16) is None


def test_the_least_lately_used_frames_go_when_it_is_full(tmp_path):
    small = FrameStore(tmp_path, limit=10 * 2416)
    keys = [digest(i) for i in range(12)]
    for i, key in enumerate(keys):
        small.write(key, state(value=i))
        os.utime(small._path(key), (i, i)) if small._path(key).exists() else None
    assert small.size() <= small.limit
    assert small.has(keys[-1]) and not small.has(keys[0])


def test_a_refused_write_is_told_and_leaves_no_scraps(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(EstampaError, match="frames solved so far are kept"):
        FrameStore(tmp_path / "file" / "store").write(b"k" * 16, state())


def test_a_full_disk_stops_a_solve_and_keeps_its_frames(flag, store, monkeypatch):
    count = []
    real = os.replace

    def full_after_four(a, b):
        count.append(1)
        if len(count) > 4:
            raise OSError(28, "No space left on device")
        real(a, b)

    with monkeypatch.context() as patch:
        patch.setattr(os, "replace", full_after_four)
        with pytest.raises(EstampaError, match="disk is full"):
            Evaluator(flag.doc, flag, store).solve_through(12)
    assert len(list(store.root.glob("*/*"))) == 4, "no scraps"
    assert Evaluator(flag.doc, flag, store).solve_through(12) == 8


@pytest.mark.slow
def test_killed_while_solving_every_frame_is_whole(flag, tmp_path):
    from estampa import save_scene

    path = save_scene(flag, tmp_path / "flag.estampa")
    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "killed")}
    process = subprocess.Popen(
        [sys.executable, "-m", "estampa", "solve", str(path)], env=environment, stderr=subprocess.DEVNULL
    )
    store = tmp_path / "killed"
    deadline = time.time() + 60
    while len(list(store.glob("*/*.frame"))) < 2 and time.time() < deadline and process.poll() is None:
        time.sleep(0.005)
    process.kill()
    process.wait()
    kept = FrameStore(store)
    found = list(store.glob("*/*.frame"))
    assert found
    for file in found:
        assert kept.frame(bytes.fromhex(file.parent.name + file.stem)) is not None
    made = Evaluator(flag.doc, flag, kept).solve_through(12)
    assert made == 12 - len(found)


def test_random_numbers_belong_to_their_element_and_are_even():
    many = rand(5, np.arange(100_000), "place")
    assert np.array_equal(many[:10], rand(5, np.arange(10), "place"))  # more elements reshuffle nothing
    assert abs(many.mean() - 0.5) < 0.005 and abs(many.var() - 1 / 12) < 0.002
    assert abs(np.corrcoef(many, rand(5, np.arange(100_000), "turn"))[0, 1]) < 0.01
    assert abs(np.corrcoef(many[:-1], many[1:])[0, 1]) < 0.01


@pytest.mark.parametrize("where", [0.0, 0.01, 0.3, 0.7, 0.999])
def test_a_damaged_frame_counts_as_not_solved_and_is_solved_again(flag, store, where):
    """Any one byte; the checksum is XXH3, of the xxhash library."""
    evaluator = Evaluator(flag.doc, flag, store)
    evaluator.solve_through(8)
    subject, cloth = evaluator.solvers()[0]
    key = evaluator.key(subject, cloth, 5)
    good, path = store.frame(key), store._path(evaluator.key(subject, cloth, 5))
    data = bytearray(path.read_bytes())
    data[int(where * len(data))] ^= 0x40
    path.write_bytes(data)
    again = FrameStore(store.root)
    assert again.frame(key) is None and not again.has(key)
    assert not Evaluator(flag.doc, flag, again, stand_ins=True).subject(flag.doc.find(subject.id), 5).is_current
    reader = Evaluator(flag.doc, flag, again)
    assert reader.solve_through(8) == 1, "the frame alone is solved again"
    assert np.array_equal(again.frame(key)["points"]["position"], good["points"]["position"])


def test_what_an_open_scene_needs_stays_whatever_the_limit_and_what_cannot_fit_is_refused_first(flag, tmp_path):
    size = 12 * (620 + 28 * 117)
    tight = FrameStore(tmp_path / "tight", limit=size + 100)
    for i in range(8):
        tight.write(digest("old", i), state())
    assert Evaluator(flag.doc, flag, tight).solve_through(12) == 12
    assert Evaluator(flag.doc, flag, tight).solve_through(12) == 0, "nothing that is needed was let go of"
    small = FrameStore(tmp_path / "small", limit=size // 2)
    with pytest.raises(EstampaError, match="needs 42.4 kB for its 12 solved frames.*ESTAMPA_STORE_LIMIT"):
        Evaluator(flag.doc, flag, small).solve_through(12)
    assert not list(small.root.glob("*/*")), "it was refused before anything was solved"


def test_why_frames_are_stale_is_still_known_when_the_scene_is_opened_again(flag, store):
    subject, cloth = Evaluator(flag.doc, flag, store).solvers()[0]
    Evaluator(flag.doc, flag, store).solve_through(12)
    wind = next(t for t in flag.doc.things if t.kind == "wind")
    do.set_value(flag, wind.id, "speed", 5.5)
    do.set_value(flag, cloth.id, "damping", 0.7)
    again, memory = Evaluator(flag.doc, flag, FrameStore(store.root), stand_ins=True), LaneMemory()
    state = memory.state(again, *again.solvers()[0])
    assert (state.states == STALE).all() and state.why == "Cloth · damping, Wind · speed"
    again.stale_keys = memory.keys
    shown = again.subject(subject, 12)
    assert not shown.is_current and shown.shown_frame == 12, "its stale frame stands in, and looks stale"
    path = store._manifest(cloth.id)
    path.write_text(path.read_text()[:-40])
    assert (LaneMemory().state(again, *again.solvers()[0]).states == UNSOLVED).all(), "a damaged one is as none"
    assert store.clear() == 12 and not path.exists()


def test_sizes_are_said_in_words_or_bytes_and_nonsense_is_refused():
    assert [limit_of(t) for t in ("20GB", "1.5 MB", "7", "")] == [20 * 10**9, 1_500_000, 7, DEFAULT_LIMIT]
    with pytest.raises(EstampaError, match="ESTAMPA_STORE_LIMIT: is “plenty”"):
        limit_of("plenty")
