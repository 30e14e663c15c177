"""The solved bits of every demo, written down: a change of the code gives the same, or says here that it does not.

Solved frames, poses, shapes and copies at the start of each demo. They hold for the fixed compile target with the
locked packages; `python -m tests.demo.test_golden` writes them anew, when a kind's `version` was raised on purpose.
"""

import json
import tempfile
from pathlib import Path

import numpy as np
import pytest

from estampa import demo, target
from estampa.evaluate import outcome
from estampa.hashing import digest
from estampa.store.frames import FrameStore

GOLDEN = Path(__file__).with_name("golden.json")
FRAMES = 5  # solved from the first; enough for contacts and gusts, few enough to run at every change


def bits_of(name: str) -> dict[str, str]:
    """Digest of what each thing of a demo looks like at its first frame and some frames later."""
    scene = demo.build(name)
    with tempfile.TemporaryDirectory() as folder:
        evaluator = scene.evaluator(FrameStore(folder))
        first = scene.doc.start
        evaluator.solve_through(first + FRAMES)
        found = {}
        for thing in scene.doc.things:
            seen = [_seen(evaluator, thing, frame) for frame in (first, first + FRAMES)]
            if seen[0] is not None:
                found[thing.name] = digest(*seen).hex()
        return found


def _seen(evaluator, thing, frame):
    if thing.kind == "skeleton":
        return list(evaluator.poses.at(thing, frame).pose)
    if thing.kind == "copies":
        return evaluator.copies(thing, frame).points().astype(np.float32)
    if thing.kind == "swarm":
        parts = outcome.of(evaluator, thing, frame).parts
        return [(p.ids, p.places.origin.astype(np.float32)) for p in parts]
    return evaluator.subject(thing, frame).points if thing.mesh is not None else None


@pytest.mark.parametrize("name", demo.names())
def test_a_demo_gives_the_bits_that_were_written_down(name):
    written = json.loads(GOLDEN.read_text())
    if target.name() not in written:
        pytest.skip(f"bits are written down for {', '.join(written)}; this machine works for {target.name()}")
    assert bits_of(name) == written[target.name()][name]


if __name__ == "__main__":
    written = json.loads(GOLDEN.read_text()) if GOLDEN.exists() else {}
    written[target.name()] = {name: bits_of(name) for name in demo.names()}
    GOLDEN.write_text(json.dumps(written, indent=1) + "\n")
