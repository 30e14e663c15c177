"""A swarm by formula as a table: a row of parameters for each grain, and the formulas that place it at any moment."""

import numpy as np

from ..errors import EstampaError
from ..evaluate.reader import Scope
from ..formats.instance_table import BY_FORMULA, CYCLE, HEADING
from ..scene.curves import Curve
from ..scene.document import Formula, Link
from ..solve.swarm.dress import beat_of, spin_of
from .prints import Job

STEADY = ("random", "number")  # what decides looks and is the same at all frames


def formula_table(job: Job) -> tuple[dict, dict[str, np.ndarray]]:
    """(what the JSON says, columns (k,) by name). Raises EstampaError where a swarm cannot be said so."""
    swarm, evaluator, doc = job.subject, job.evaluator, job.evaluator.doc
    swarms = evaluator.swarms
    if not swarm.declared.by_formula(swarm):
        cure = "Set “Goes” of the swarm to By formula, or print the table by frames."
        raise EstampaError(job.item.name, f"would say {swarm.name} by formulas, and that goes step by step.", cure)
    first, seed = doc.loop[0] if doc.loop else doc.start, int(swarm.constant("seed"))
    layers = [l for l in swarms.guides(swarm) if l.declared.by_formula]
    sown = swarms.sown(swarm)
    columns: dict[str, np.ndarray] = {"id": sown.ids} | dict(zip("xyz", sown.position.T, strict=True))
    program: list[str] = []
    tables: dict[str, dict[str, list[float]]] = {}
    for n, layer in enumerate(layers):
        if not evaluator.reader.still(layer):
            cause = f"reads what is keyed or moves in {layer.name}, which no formula of a table says."
            raise EstampaError(job.item.name, cause, "Print the table by frames.")
        v = evaluator.reader.resolved(layer, Scope.world(first, swarm))
        if v.zone is not None:
            raise EstampaError(layer.name, "is felt in a zone, which no formula of a table says.", "Print by frames.")
        said = layer.declared().said(n, sown.ids, v, seed)
        columns |= said.columns
        program += said.lines
        tables |= said.tables
    about = {
        "kind": "instances by formula", "of": swarm.name, "frame_rate": job.frame_rate, "frames": job.frames,
        "first_frame": first, "period": swarms.period(swarm), "unit": "metre", "up": "+Y", "program": program,
        "tables": tables, "formula": BY_FORMULA, "heading": HEADING, "cycle": CYCLE,
        "colour": "linear light; below 0 where it is the shape's own",
    }  # fmt: skip
    faces, looks = _looks(job, swarm, first, len(sown.ids))
    return about | {"faces": faces}, columns | looks


def _looks(job, swarm, first, count):
    """(which way they face, the columns of what they look like)."""
    dressing, grains = job.evaluator.dressing, job.evaluator.swarms.by_formula(swarm, first)
    zeros = lambda: np.zeros(count)
    columns = {
        "size": zeros() + 1, "red": zeros() - 1, "green": zeros() - 1, "blue": zeros() - 1,
        "mesh": np.zeros(count, np.uint32), "frames_of_cycle": zeros() + 1, "rate": zeros(), "phase": zeros(),
        "spin_pace": zeros(), "spin_start": zeros(),
    }  # fmt: skip
    faces, layers = set(), dressing.layers(swarm)
    for layer, which in dressing.shared(swarm, grains["ids"]):
        if layer is None:
            faces.add("still")
            continue
        driven = [n for n in layer.declared.channels if n.endswith("_by")]
        for name in driven:
            if layer.constant(name) not in STEADY:
                what = layer.declared.channels[name].label.lower()
                raise EstampaError(layer.name, f"has its {what} something that changes.", "Print the table by frames.")
        moving = [n for n, v in layer.values.items() if isinstance(v, (Curve, Link, Formula))]
        if moving:
            what = layer.declared.channels[moving[0]].label.lower()
            raise EstampaError(layer.name, f"has its {what} keyed or computed.", "Print the table by frames.")
        of = dressing.attributes(swarm, layer, grains, which, first)
        _, own = dressing.shapes(layer, first)
        dressed = layer.declared().dressed(of, which, len(own), 0.0, job.frame_rate, dressing.loop)
        rate, phase = beat_of(of, len(own))
        pace, start = spin_of(of.ids, of.v, of.seed, dressing.loop)
        found = {"size": dressed.stand.size, "rate": rate, "phase": phase, "spin_pace": pace, "spin_start": start}
        if not of.v.spins:
            found |= {"spin_pace": 0.0, "spin_start": 0.0}
        if dressed.colours is not None:
            found |= dict(zip(("red", "green", "blue"), dressed.colours.T, strict=True))
        found |= {"mesh": next(n for n, l in enumerate(layers) if l.id == layer.id), "frames_of_cycle": len(own)}
        for name, values in found.items():
            columns[name][which] = values
        faces.add(of.v.faces)
    if len(faces) > 1 or "thing" in faces:
        raise EstampaError(swarm.name, "faces in ways that one table of formulas cannot say.", "Print it by frames.")
    return (faces or {"still"}).pop(), columns
