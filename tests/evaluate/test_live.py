"""Live play: the same frames as the stored solve, as long as no hand moves anything."""

import numpy as np
import pytest

from estampa import demo
from estampa.evaluate.live import Live
from estampa.store.frames import FrameStore


@pytest.mark.parametrize("name", ["awning", "lanterns", "jelly", "reeds", "boards", "sorter", "puppet", "dragonflies"])
@pytest.mark.parametrize("begin", [0, 3])
def test_live_play_gives_the_bits_of_the_stored_solve(name, begin, tmp_path):
    scene = demo.build(name)
    store, nothing = FrameStore(tmp_path / "solved"), FrameStore(tmp_path / "nothing")
    first = scene.doc.start
    stored = scene.evaluator(store)
    stored.solve_through(first + begin)
    live = Live(scene.evaluator(store), first + begin)
    live.store = nothing  # from here on it has only what it carries
    shown = [live.step(scene.doc) for _ in range(3)][-1]
    assert live.frame == first + begin + 3
    stored.solve_through(live.frame)
    for run in stored.runs.every():
        kept = store.frame(stored.runs.key(run, live.frame))
        for table in kept.tables:
            for column, values in kept[table].columns.items():
                assert np.array_equal(shown.live[run.id].now[table][column], values), f"{run.name}: {column}"
