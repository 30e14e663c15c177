"""What a layer reads, value by value with words for a person, to say by name why a solved frame is stale."""

from typing import NamedTuple

from ..hashing import digest
from ..kinds.channels import PARTS_OF_SUBJECTS
from ..scene.document import Thing
from .reader import Scope

DEEP = 3  # how many steps down the values of named things are told one by one
MOVED = "(order or switch)"
# what these name is told by the reader itself, or with what is felt
OWN = (*PARTS_OF_SUBJECTS, "joint", "wind", "ensemble")


# of what is more than a channel
WORDS = {"loops/range": "loop range", "bind": "weights", "start": "start state"}


class Read(NamedTuple):
    """One value that a layer reads at a frame."""

    path: str  # which channel of what kind, in a fixed order
    label: str  # for a person: "Onshore wind · speed"
    value: object


def reads(evaluator, owner: Thing, layer: Thing, frame: float) -> list[Read]:
    """Everything that decides a layer's result at a frame: the rest shape, the layers above, where the owner stands,
    its own channels, and forces that it feels."""
    found = _of_owner(evaluator, owner, frame)
    above_it = evaluator.swarms.guides(owner) if layer is owner else [*evaluator.layers_above(owner, layer), layer]
    for above in above_it:
        if above.declared.memory and above is not layer:
            found.append(Read("above", above.name, evaluator.key(owner, above, frame)))
            continue
        found.append(Read(f"layer/{above.kind}", f"{above.name} {MOVED}", True))
        found += _of_layer(evaluator, owner, above, frame)
    for aid in evaluator.aids(owner, layer) if layer.declared.memory else ():
        found.append(Read(f"layer/{aid.kind}", f"{aid.name} {MOVED}", True))
        found += _of_layer(evaluator, owner, aid, frame)
    if layer.declared.memory:
        solved = evaluator.runs.of(owner, layer).thing
        if solved is not layer:
            found += _of_thing(evaluator, solved, Scope.world(frame), DEEP)
        found.append(Read("rate", "Frame rate", evaluator.doc.frame_rate))
        for force in evaluator.reader.felt(solved):
            found.append(Read(f"force/{force.kind}", f"{force.name} {MOVED}", True))
            found += _of_thing(evaluator, force, Scope.world(frame), DEEP)
    return [Read(path, label, digest(value)) for path, label, value in found]


def reads_of_run(evaluator, run, frame: float) -> list[Read]:
    """Everything that decides a run's result at a frame, of all its members."""
    found = []
    for owner, layer in run.members:
        found += reads(evaluator, owner, layer, frame)
    return found


def _of_owner(evaluator, owner, frame) -> list[Read]:
    """What a subject or skeleton is before its layers."""
    found = _of_thing(evaluator, owner, Scope.world(frame), DEEP)
    if owner.has_grains:
        return found
    if owner.kind != "skeleton":
        return [Read("mesh", f"{owner.name} · mesh", owner.mesh.told), *found]
    bones = evaluator.poses.bones(owner)
    found.append(Read("bones", f"{owner.name} · joints", bones.digest))
    for i, name in bones.numbers:
        joint = bones.joints[i]
        label = f"{joint.name} · {joint.declared.channels[name].label.lower()}"
        found.append(Read(f"joint/{i}/{name}", label, evaluator.values.at(joint, name, frame)))
    return found


def _of_layer(evaluator, owner, layer, frame) -> list[Read]:
    if owner.kind == "skeleton":
        bones = evaluator.poses.bones(owner)
        return _of_thing(evaluator, layer, Scope.world(frame, owner, bones), DEEP)
    return _of_thing(evaluator, layer, Scope.world(frame, owner), DEEP)


def _of_thing(evaluator, thing, scope, deep) -> list[Read]:
    """What is read of a thing, and so many steps down of those that it names."""
    found = []
    for name, channel, told in evaluator.reader.reads(thing, scope):
        words = name if channel is None else channel.label.lower()
        words = WORDS.get(name, words)
        label = "Loop range" if name == "loops/range" else f"{thing.name} · {words}"
        held = evaluator.values.find(thing.constant(channel.name)) if channel is not None and channel.to else None
        if held is not None and channel.to not in OWN and held.declared is not None and held is not scope.owner:
            found += _of_held(evaluator, held, f"{thing.kind}/{name}", scope, deep)
            told = (held.kind, held.on) if held.kind == "zone" else held.kind
        found.append(Read(f"{thing.kind}/{name}", label, told))
    return found


def _of_held(evaluator, held, path, scope, deep) -> list[Read]:
    """What is read of a thing that another one names."""
    found = []
    if held.kind == "joint":
        return [Read(f"{path}/joint", f"{held.name} · where it is", evaluator.reader.stand_name(held, scope.frame))]
    if held.kind == "skeleton":
        found.append(Read(f"{path}/pose", f"{held.name} · pose", evaluator.poses.name(held, scope.frame)))
    elif held.mesh is not None:
        found.append(Read(f"{path}/shape", f"{held.name} · shape", evaluator.shape_name(held, scope.frame)))
    if deep > 0:
        below = _of_thing(evaluator, held, Scope.world(scope.frame), deep - 1)
        found += [Read(f"{path}/{r.path}", r.label, r.value) for r in below]
    return found
