"""Inks by stretch: what is measured, how it is told, and where it is longest."""

import numpy as np

from ...scene.document import Thing
from ..model.looks import DisplayMesh

STRETCHED = 1.5  # limits of the yarns, at which the ramp ends
PLAIN = 0.1  # the limit of what declares none
TOLD = 3  # subjects, the most stretched first


def measures_stretch(subject: Thing, shape: DisplayMesh) -> bool:
    """Whether a shape has the edges that its mesh has at rest."""
    whole = shape.base is None and shape.stand is None and shape.drawn is None
    return bool(subject.stack) and whole and len(shape.points) == shape.mesh.count and len(shape.mesh.edges) > 0


def stretch_limit(subject: Thing) -> float:
    """How far the yarns of a subject give, as a fraction."""
    named = [(l, l.declared.channels.get("limit")) for l in subject.stack if l.on and l.declared is not None]
    limits = [float(l.constant("limit")) for l, channel in named if channel is not None and channel.unit == "fraction"]
    return min((l for l in limits if l > 0), default=PLAIN)


def stretch_told(session) -> list[tuple[str, tuple[str, str]]]:
    """(words, both ends of the ramp) of the subjects that are stretched, the most first."""
    found = []
    for thing in session.doc.subjects:
        shape = session.pictures.picture.shapes.get(thing.id)
        if shape is not None and measures_stretch(thing, shape):
            found.append((float(shape.edge_stretch.max()), thing, shape))
    words_of = []
    for most, thing, shape in sorted(found, key=lambda f: -f[0])[:TOLD]:
        limit = stretch_limit(thing)
        at = shape.mesh.edges[int(shape.edge_stretch.argmax())]
        beyond = int(np.count_nonzero(shape.edge_stretch > limit * 1.001))
        words = f"{thing.name}: an edge {100 * most:+.1f} % at vertices {at[0]:,} and {at[1]:,}; "
        words += f"{beyond:,} of {len(shape.edge_stretch):,} edges beyond {100 * limit:g} %"
        words_of.append((words, ("0 %", f"{100 * STRETCHED * limit:g} %")))
    return words_of
