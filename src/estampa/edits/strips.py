"""Freezing a cycle: one pose a frame, kept as a subject of its own that grains and copies flip through."""

import numpy as np

from ..errors import EstampaError
from ..evaluate.evaluator import Evaluator
from ..hashing import digest
from ..scene.document import Target, Thing
from ..scene.scene import Scene
from .names import thing_named, unique_name
from .things import mesh_ref

SAME = 1e-6  # of the size, within which two poses are one


def poses_fingerprint(evaluator: Evaluator, subject: Thing, first: int, count: int) -> str:
    """Hex digest of what the poses of those frames are made of."""
    stacks, layers, one = evaluator.stacks, evaluator.layers(subject), evaluator.stage.one
    return digest(*(stacks.name(subject, layers, one(subject, first + k)) for k in range(count))).hex()


def freeze(
    scene: Scene, evaluator: Evaluator, subject_id: str, first: int, count: int, name: str = ""
) -> tuple[Thing, bool]:
    """(a new subject with a pose for each of `count` frames from `first` on, whether the last pose shows the first one
    again). It has the original's parts, names of materials and coordinates; the original is switched off, and kept. In
    one step of the history. Raises EstampaError where a frame is not solved."""
    subject = thing_named(scene, subject_id)
    if subject.mesh is None:
        raise EstampaError(subject.name, "is no mesh that could be frozen.", "Select a subject.")
    if not 1 <= count <= 1000:
        raise EstampaError("A strip", f"of {count:,} poses cannot be made.", "Take 1 to 1,000.")
    layers, poses = evaluator.layers(subject), []
    for k in range(count):
        shape = evaluator.subject(subject, first + k)
        if not shape.is_current:
            raise EstampaError(subject.name, f"is not solved at frame {first + k}.", "Solve the scene first.")
        poses.append(evaluator.stacks.rows(subject, layers, evaluator.stage.one(subject, first + k)).points[0])
    mesh = evaluator.mesh(subject).with_points(poses[0])
    targets = tuple(
        Target(name=f"Pose {k + 1:03d}", points=scene.arrays.put(np.ascontiguousarray(p))) for k, p in enumerate(poses)
    )
    values = {
        "begins": scene.doc.start,
        "of": subject.id,
        "first": first,
        "made": poses_fingerprint(evaluator, subject, first, count),
    }
    flip = Thing(kind="flip", name="Flip", values=values)
    place = {n: v for n, v in subject.values.items() if n != "parent" or isinstance(v, str)}
    strip = Thing(
        kind="subject", name=unique_name(scene.doc, name or f"{subject.name} strip"), values=place,
        mesh=mesh_ref(scene, mesh, f"{count} frames of {subject.name}"), targets=targets, stack=(flip,),
    )  # fmt: skip
    at = [t.id for t in scene.doc.things].index(subject.id)
    things = list(scene.doc.replace(subject.with_(on=False)).things)
    things.insert(at + 1, strip)
    # what showed the original shows the strip
    shown = {t.id: _shows(t, subject.id, strip.id, count) for t in scene.doc.swarms}
    scene.apply(f"Freeze {subject.name}", scene.doc.with_(things=tuple(shown.get(t.id) or t for t in things)))
    size = max(float(np.ptp(poses[0], axis=0).max()), 1e-9)
    return strip, count > 1 and bool(np.abs(poses[-1] - poses[0]).max() < SAME * size)


def freeze_again(scene: Scene, evaluator: Evaluator, strip_id: str) -> None:
    """The same frames of an original that has changed, on the same topology. In one step of the history."""
    strip = thing_named(scene, strip_id)
    flip = next(iter(strip.layers_of("flip")), None)
    subject = scene.doc.find(flip.constant("of")) if flip is not None else None
    if subject is None:
        raise EstampaError(strip.name, "was frozen of nothing that is still there.", "Freeze another subject.")
    first, count = flip.constant("first"), len(strip.targets)
    mesh = evaluator.mesh(subject)
    if mesh.count != scene.mesh(strip.mesh).count:
        raise EstampaError(strip.name, f"has other vertices than {subject.name} has now.", "Freeze it as a new strip.")
    layers, one = evaluator.layers(subject), evaluator.stage.one
    poses = [evaluator.stacks.rows(subject, layers, one(subject, first + k)).points[0] for k in range(count)]
    targets = tuple(
        t.with_(points=scene.arrays.put(np.ascontiguousarray(p))) for t, p in zip(strip.targets, poses, strict=True)
    )
    changed = flip.with_(values=flip.values | {"made": poses_fingerprint(evaluator, subject, first, count)})
    stack = tuple(changed if l is flip else l for l in strip.stack)
    again = strip.with_(
        targets=targets, stack=stack, mesh=mesh_ref(scene, mesh.with_points(poses[0]), strip.mesh.source)
    )
    scene.apply(f"Freeze {strip.name} again", scene.doc.replace(again))


def is_stale(evaluator: Evaluator, flip: Thing, count: int) -> bool:
    """Whether the original of a strip has changed since it was frozen."""
    subject = evaluator.doc.find(flip.constant("of"))
    if subject is None or subject.mesh is None or not flip.constant("made"):
        return False
    return poses_fingerprint(evaluator, subject, flip.constant("first"), count) != flip.constant("made")


def _shows(swarm: Thing, old: str, new: str, count: int) -> Thing | None:
    """The swarm with its layers that showed one subject showing another, in a cycle of so many frames; None where none
    does."""
    hit = [l for l in swarm.layers_of("grain_show") if l.constant("subject") == old]
    if not hit:
        return None
    swap = lambda l: l.with_(values=l.values | {"subject": new, "cycle": count}) if l in hit else l
    return swarm.with_(stack=tuple(map(swap, swarm.stack)))
