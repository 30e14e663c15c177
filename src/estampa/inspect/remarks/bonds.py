"""Remarks on what holds pieces together."""

from collections.abc import Iterator

from ...evaluate.evaluator import Evaluator
from ...units import format_value
from .remark import Remark, check


@check("bodies", worked_out=True)
def breaks_by_its_own_weight(evaluator: Evaluator, ensemble, _) -> Iterator[Remark]:
    run = next((r for r in evaluator.runs.every() if r.id == ensemble.id), None)
    key = run and evaluator.runs.key(run, evaluator.doc.solved_from)
    if run is None or not evaluator.store.has(key):
        return
    report = evaluator.store.frame(key)["report"]
    bears, borne = float(report["bears"][0]), float(report["borne"][0])
    if 0 < bears < 1:
        yield Remark(
            "warning",
            ensemble.id,
            f"What is bonded in {ensemble.name} breaks by its own weight: it bears {bears:.2g} of it, which pulls by "
            f"{format_value(borne, 'stress', 3)} where it pulls most.",
            "It falls apart as soon as it is let go.",
            "Raise what its bonds hold (a material of the Body says how much), or make it lighter.",
        )
