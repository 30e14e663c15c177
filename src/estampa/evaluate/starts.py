"""Start states: any solved frame can be adopted as the state that a solver begins from.

What is adopted is kept in the scene itself, so that it outlives the store and what it came from.
"""

import numpy as np

from ..errors import EstampaError
from ..lazy import spatial
from ..scene.document import Adopted, AdoptedTable, Thing
from ..solve.frame import Frame, Table
from .run import Run


def adopt(evaluator, layer_id: str, frame: int, from_id: str | None = None) -> Adopted:
    """What a solver is to begin from: its own frame, or that of another solver of the same kind. Solves what is not
    solved yet. Raises EstampaError when there is nothing to adopt."""
    runs = evaluator.runs
    run, source = _run(evaluator, layer_id), _run(evaluator, from_id or layer_id)
    if run.thing.kind != source.thing.kind:
        words = f"begins from a {run.thing.declared.title.lower()}, and {source.name} is none."
        raise EstampaError(run.name, words, f"Adopt a frame of another {run.thing.declared.title.lower()}.")
    doc = evaluator.doc
    if not doc.solved_from <= frame <= doc.solved_to:
        raise EstampaError(
            f"Frame {frame}", "is outside the frames that are solved.", f"Use {doc.solved_from} to {doc.solved_to}."
        )
    evaluator.solve_through(frame)
    found = runs.solved(source, frame)
    put, rests = evaluator.scene.arrays.put, runs.rests(source)
    tables = {
        name: AdoptedTable(
            columns={column: put(values) for column, values in table.columns.items()},
            ids=put(table.ids) if table.ids is not None else None,
            rest=put(np.asarray(rests[name], float)) if name in rests else None,
        )
        for name, table in found.tables.items()
    }
    acting = tuple(aid.id for owner, layer in source.members for aid in evaluator.aids(owner, layer))
    return Adopted(source=source.thing.id, words=f"{source.name}, frame {frame}", acting=acting, tables=tables)


def _run(evaluator, layer_id) -> Run:
    found = next((r for r in evaluator.runs.every() if layer_id in (r.id, *(l.id for _, l in r.members))), None)
    if found is None:
        thing = evaluator.values.find(layer_id)
        name = thing.name if thing is not None else "That"
        raise EstampaError(name, "is no solver, or is off.", "Choose a solver: a cloth, a swinging chain.")
    return found


def begun(arrays, thing: Thing, first: Frame, rests: dict) -> tuple[Frame, dict[str, int]]:
    """(the first frame with what was adopted in place, table -> rows that found nothing to begin from).

    Of the same solver rows are matched by id; of another one, or when rows have changed, by the nearest rest point,
    which may be as far as the rest points of one lie apart. What finds nothing begins as it would have.
    """
    adopted, tables, lost = thing.adopted, dict(first.tables), {}
    for name, table in first.tables.items():
        kept = adopted.tables.get(name)
        state = [c.name for c in thing.declared.tables[name] if c.keep == "state"]
        if not state or name in getattr(thing.declared, "passing", ()):
            continue
        if kept is None or not kept.columns:
            lost[name] = len(table)
            continue
        if name in thing.declared.come_and_go and adopted.source == thing.id:  # all of those that lived then
            made = {c.name: c.array(arrays.get(kept.columns[c.name])) for c in thing.declared.tables[name]}
            tables[name] = Table(made, arrays.get(kept.ids), table.spans)
            continue
        columns = {c: arrays.get(a) for c, a in kept.columns.items() if c in state}
        count = len(next(iter(columns.values())))
        rows = _matched(arrays, table, kept, count, rests.get(name), adopted.source == thing.id)
        found = rows >= 0
        made = {c: v.copy() for c, v in table.columns.items()}
        for column, values in columns.items():
            if column in made and made[column].shape[1:] == values.shape[1:]:
                made[column][found] = values[rows[found]]
        tables[name] = Table(made, table.ids, table.spans)
        if not found.all():
            lost[name] = int((~found).sum())
    return Frame(tables, b""), lost


def _matched(arrays, table, kept, count, rest, same) -> np.ndarray:
    """(n,) for each row that of what was adopted, or -1."""
    ids = np.arange(len(table)) if table.ids is None else table.ids
    known = arrays.get(kept.ids) if kept.ids is not None else np.arange(count)
    theirs = arrays.get(kept.rest) if kept.rest is not None else None
    if (same and count == len(table)) or theirs is None or rest is None or not len(theirs):
        place = np.minimum(np.searchsorted(known, ids), max(count - 1, 0))
        return np.where(known[place] == ids, place, -1) if count else np.full(len(table), -1)
    spacing = spatial.cKDTree(theirs).query(theirs, k=min(2, count))[0].reshape(count, -1)[:, -1]
    reach = 1.5 * float(np.median(spacing)) if count > 1 else np.inf
    apart, nearest = spatial.cKDTree(theirs).query(rest)
    return np.where(apart <= max(reach, 1e-9), nearest, -1)
