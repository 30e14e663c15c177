"""All remarks on a scene, with those for which something has to be worked out.

What a solve, a picture or a print would stop at is found by taking its first step, so that what is remarked upon and
what stops are one and the same.
"""

import time
from collections.abc import Callable

from ...errors import EstampaError
from ...evaluate.evaluator import Evaluator
from ...press.run import estimate
from ...scene.scene import Scene, Snapshot
from .remark import Remark
from .scene import found_by, in_order, remarks

PATIENCE = 1.0  # s that the start of a solver may take for its first step to be tried: a step takes many times as long


def all_remarks(
    evaluator: Evaluator, scene: Scene | Snapshot | None = None, patience: float = PATIENCE
) -> list[Remark]:
    """Everything that is to be said of a scene, errors first. scene -- as it was when the evaluator was made, where
    edits may go on meanwhile; patience -- s that the start of a solver may have taken for its first step to be tried,
    too. The evaluator takes stand-ins, so that nothing else is solved for it."""
    scene = evaluator.scene if scene is None else scene
    found = remarks(scene) + found_by(evaluator, evaluator.doc, worked_out=True)
    known = [r.wrong for r in found if r.severity == "error"]
    is_known = lambda r: any(r.wrong.partition(": ")[2] in words for words in known)
    found += [r for r in stops(evaluator, patience) if not is_known(r)]
    return in_order(found)


def stops(evaluator: Evaluator, patience: float = PATIENCE) -> list[Remark]:
    """An error for each thing at which solving, looking or printing would stop, in the words that it would say."""
    found: dict[tuple[str, str], Remark] = {}

    def attempt(thing_id: str, causes: str, step: Callable[[], object]) -> None:
        try:
            step()
        except EstampaError as err:
            stop = Remark("error", thing_id, f"{err.what}: {err.cause}", causes, err.cure)
            found.setdefault((err.what.partition(", frame")[0], err.cause), stop)

    doc, runs = evaluator.doc, evaluator.runs
    every: list = []
    attempt("", "Nothing can be solved.", lambda: every.extend(runs.every()))
    for run in every:
        attempt(run.id, "It cannot be solved.", lambda run=run: _first_step(evaluator, run, patience))
    needs = evaluator.dependencies
    for thing in doc.things:
        if not thing.on or thing.declared is None:
            continue
        look, made_of = lambda t=thing: evaluator.owner(t).attempt(t, doc.start), needs.of(thing)
        once = lambda t=thing, m=made_of, look=look: evaluator.scene.memo.get(t.id, "attempt", m, look)
        attempt(thing.id, "It cannot be shown.", once if made_of is not None else look)
    for item in doc.prints:
        if item.on and item.declared is not None:
            estimated = lambda i=item: _refuse(i, estimate(evaluator.scene, doc, i).trouble)
            attempt(item.id, "It cannot be printed.", estimated)
    return list(found.values())


def _first_step(evaluator: Evaluator, run, patience: float) -> None:
    """The keys of all frames of a run, its first frame and the step after it, which are made once for what is read
    there. Raises what they stop at, and what a solve of the same has stopped at since."""
    runs, first = evaluator.runs, evaluator.doc.solved_from
    keys = runs.keys(run, evaluator.doc.solved_to)
    tried = keys[:2]
    memo = evaluator.scene.memo

    def trouble_of_it() -> EstampaError | None:
        trouble, began = None, time.monotonic()
        try:
            found = runs.stepped(run, first, None, runs.inputs(run, first))
            quick = time.monotonic() - began < patience
            if quick and len(tried) > 1 and not evaluator.store.has(tried[1]):
                runs.stepped(run, first + 1, found, runs.inputs(run, first + 1))
        except EstampaError as err:
            trouble = err
        return trouble

    trouble = memo.get(run.id, "first step", tuple(tried), trouble_of_it)
    if trouble is not None:
        raise trouble
    stopped = memo.peek(run.id, "stopped")
    if stopped is not None and runs.key(run, stopped[1][0]) == stopped[0]:
        raise stopped[1][1]


def _refuse(item, trouble: str) -> None:
    if trouble:
        raise EstampaError(item.name, trouble)
