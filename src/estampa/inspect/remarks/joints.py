"""Remarks on skeletons, skins, chains and cages; the checks are run by remarks.py."""

from collections.abc import Iterator

import numpy as np

from ...edits.joints import weights_of
from ...errors import EstampaError
from ...evaluate.arrange import line_of
from ...fields.force import giving
from ...geometry.weights import jumps
from ...kinds.fields import ACCELERATION, AIR
from ...scene.bones import Bones
from ...scene.document import Thing
from ...scene.scene import Scene, Snapshot
from .remark import Remark, check

JUMP = 0.6  # of the weights, over one edge, that makes a crease
LOOKED_AT = 200_000  # vertices of a skin up to which weights are looked at


def _bones(scene, skeleton: Thing) -> Bones | None:
    try:
        return scene.values.bones(skeleton)
    except EstampaError:
        return None


@check()
def rings(scene: Scene | Snapshot) -> Iterator[Remark]:
    for skeleton in scene.doc.skeletons:
        try:
            scene.values.bones(skeleton)
        except EstampaError as err:
            yield Remark("error", skeleton.id, f"{err.what} {err.cause}", "It cannot be posed.", err.cure)


@check()
def short_joints(scene: Scene | Snapshot) -> Iterator[Remark]:
    for skeleton in scene.doc.skeletons:
        bones = _bones(scene, skeleton)
        if bones is None or not skeleton.joints:
            continue
        short = [i for i in np.flatnonzero(bones.lengths < 1e-6)]
        if short and any(l.declared is not None and l.declared.memory and l.on for l in skeleton.stack):
            yield Remark(
                "warning",
                bones.joints[short[0]].id,
                f"{len(short)} joint(s) of {skeleton.name} have no length, first {bones.joints[short[0]].name}.",
                "Wind finds nothing to push, and a chain has nothing to swing.",
                "Extend them, or remove them.",
            )


@check()
def flat_joints(scene: Scene | Snapshot) -> Iterator[Remark]:
    for skeleton in scene.doc.skeletons:
        for joint in skeleton.joints:
            names = [n for n in ("stretch_x", "stretch_y", "stretch_z") if joint.values.get(n) == 0]
            if names:
                yield Remark(
                    "warning",
                    joint.id,
                    f"{joint.name} is scaled to nothing along {', '.join(n[-1].upper() for n in names)}.",
                    "What hangs on it is pressed flat, and nothing below it can be aimed.",
                    "Give its stretch a value, or take it back to rest.",
                )


@check("skin")
def skins(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    skeleton = scene.doc.find(layer.constant("skeleton"))
    if skeleton is None or layer.bind is None:
        yield Remark(
            "warning",
            layer.id,
            f"{layer.name} is bound to no skeleton.",
            "The mesh stays where it is.",
            f"Select {subject.name} and bind it (Joints panel, Ctrl+B).",
        )
        return
    yield from _bound(scene, subject, layer, skeleton)


def _bound(scene, subject, layer, skeleton) -> Iterator[Remark]:
    bind, there = layer.bind, {j.id for j in skeleton.joints}
    indices, weights = scene.arrays.get(bind.indices), scene.arrays.get(bind.weights)
    gone = [k for k, j in enumerate(bind.joints) if j not in there]
    felt = np.isin(indices, gone) & (weights > 0)
    if felt.any():
        yield Remark(
            "error",
            layer.id,
            f"{layer.name} follows {len(gone)} joint(s) that are gone, with {int(felt.any(axis=1).sum()):,} vertices.",
            "Those vertices stay where they were bound, and the skin cannot be printed.",
            "Undo the removal, or bind it again.",
        )
    mesh = scene.mesh(subject.mesh)
    if len(weights) != mesh.count or mesh.count > LOOKED_AT:
        return
    none = weights.sum(axis=1) <= 0
    if none.any():
        yield Remark(
            "warning",
            layer.id,
            f"{int(none.sum()):,} vertices of {subject.name} have no weight at all.",
            "They are drawn to the origin of the skeleton.",
            "Paint them, or bind again: each then follows its nearest joint.",
        )
    dense = weights_of(scene, layer)
    jump = jumps(mesh, dense)
    hard = jump > JUMP
    if hard.any():
        v, w = mesh.edges[int(jump.argmax())]
        apart = dense[v] - dense[w]  # across that edge one joint gives way to another
        a, b = (scene.doc.find(bind.joints[int(k)]) for k in (apart.argmax(), apart.argmin()))
        names = " and ".join(t.name for t in (a, b) if t is not None)
        yield Remark(
            "note",
            layer.id,
            f"Weights of {subject.name} jump over {int(hard.sum()):,} edges, most between {names}.",
            "The mesh creases there when the joints bend.",
            "Smooth the weights with the brush (Paint, T), or put a relax layer below the skin.",
        )


@check("aim", "copy_turn", "reach")
def aims_at_nothing(scene: Scene | Snapshot, layer: Thing, _skeleton: Thing) -> Iterator[Remark]:
    if scene.doc.find(layer.constant("target")) is None:
        yield Remark("note", layer.id, f"{layer.name} names no target.", "It does nothing yet.", "Choose one.")


@check("reach")
def reaches_with_too_few(scene: Scene | Snapshot, layer: Thing, skeleton: Thing) -> Iterator[Remark]:
    bones, last = _bones(scene, skeleton), layer.constant("last")
    if bones is not None and (last not in bones.where or bones.depth[bones.where[last]] < 2):
        yield Remark(
            "note",
            layer.id,
            f"{layer.name} needs a last joint that hangs on two others.",
            "It does nothing yet.",
            "Choose the hand or foot under “To joint”.",
        )


@check("along")
def lies_along(scene: Scene | Snapshot, layer: Thing, skeleton: Thing) -> Iterator[Remark]:
    bones = _bones(scene, skeleton)
    if bones is None:
        return
    path = scene.doc.find(layer.constant("path"))
    line = line_of(path)
    if line is None:
        yield Remark(
            "note", layer.id, f"{layer.name} names no path with a length.", "It does nothing yet.", "Choose one."
        )
        return
    first, last = (bones.where.get(layer.constant(n)) for n in ("first", "last"))
    long = float(bones.lengths[bones.chain(first, last)].sum())
    if long > line.length and not line.closed:
        yield Remark(
            "warning",
            layer.id,
            f"{path.name} is {line.length:.2f} m long, and the chain on it {long:.2f} m.",
            "The chain goes straight on past the path's end.",
            "Draw the path longer, or let fewer joints lie on it.",
        )


@check("chain")
def chains(scene: Scene | Snapshot, layer: Thing, skeleton: Thing) -> Iterator[Remark]:
    bones = _bones(scene, skeleton)
    if bones is None:
        return
    first = bones.where.get(layer.constant("first"))
    chain = bones.chain(first, None)
    if layer.constant("held") == "both" and len(chain):
        for strand in bones.strands(chain):
            start = bones.at_rest[strand[0], :3, 3]
            end = (bones.at_rest[strand[-1]] @ [*bones.tips[strand[-1]], 1.0])[:3]
            moved = any(n in bones.joints[i].values for i in strand for n in ("x", "y", "z", "stretch_y"))
            apart, long = float(np.linalg.norm(end - start)), float(bones.lengths[strand].sum())
            if apart > 0.999 * long and not moved:
                yield Remark(
                    "note",
                    layer.id,
                    f"{bones.joints[strand[0]].name} and those below it are held at both ends, and pulled straight.",
                    "It has no slack, so it hardly swings; pulled further, it stretches within its stiffness.",
                    "Build the chain with a sag, or hold one end.",
                )
                break
    if not giving(scene.doc, ACCELERATION, AIR):
        yield Remark(
            "note",
            layer.id,
            f"Nothing pulls at {layer.name}: the scene has no gravity and no wind.",
            "It only follows what it hangs on.",
            "Add gravity (Alt+1).",
        )


@check("cage")
def cages(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    cage = scene.doc.find(layer.constant("cage"))
    if cage is None or layer.bind is None:
        yield Remark("note", layer.id, f"{layer.name} is bound to no cage.", "It does nothing yet.", "Bind it again.")
    elif any(l.declared is not None and l.declared.memory and l.on for l in cage.stack):
        yield Remark(
            "note",
            layer.id,
            f"{cage.name} is solved, and carries {subject.name} as a cage.",
            "It moves vertices, so it can be printed as a cache but not baked to keys.",
            "Where keys are wanted, let joints aim at the middle of a map on the cage instead.",
        )


@check()
def no_joints(scene: Scene | Snapshot) -> Iterator[Remark]:
    for skeleton in scene.doc.skeletons:
        if skeleton.on and skeleton.stack and not skeleton.joints:
            words = f"{skeleton.name} has layers and no joints."
            yield Remark("warning", skeleton.id, words, "Nothing moves.", "Click joints into a mesh with Joint (J).")


@check("collider")
def collides_with_nothing(scene: Scene | Snapshot, thing: Thing, _owner: None) -> Iterator[Remark]:
    if thing.constant("shape") == "mesh" and scene.doc.find(thing.constant("subject")) is None:
        yield Remark(
            "note",
            thing.id,
            f"{thing.name} is the mesh of no subject.",
            "Nothing runs into it.",
            "Choose a subject under “Mesh of”, or another shape.",
        )
