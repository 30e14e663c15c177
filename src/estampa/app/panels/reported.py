"""What is reported of the solved frame of an ensemble, of grains, or of a layer that is solved by itself."""

from ...errors import EstampaError
from ...evaluate.evaluator import Evaluator
from ...evaluate.run import Run
from ...kinds.facets import Facts
from ...scene.document import Thing


def run_of(evaluator: Evaluator, thing: Thing) -> Run | None:
    """What solves it; None where it has no members."""
    return next((r for r in evaluator.runs.every() if r.id == thing.id), None)


def reports(thing: Thing) -> bool:
    """Whether a solved frame of it has facts to tell."""
    return hasattr(thing.declared, "facts") and not (thing.declared.family == "layer" and thing.constant("together"))


def reported(session, thing: Thing) -> Facts:
    """What is told of it at the present frame."""
    evaluator = session.work.evaluator("window")
    try:
        run = run_of(evaluator, thing)
        frame = evaluator.runs.kept(run, session.player.frame) if run is not None else None
    except EstampaError as err:
        return Facts([], str(err))
    if frame is None:
        nobody = "It has no members yet. Add a layer that plays in it to a subject."
        return Facts([], "Not solved at this frame." if run is not None else nobody)
    members = [] if run.is_solo else [("Members", f"{len(run.members):,}")]
    return Facts([*members, *thing.declared().facts(frame)])
