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
    looked_after = evaluator.owner(owner)
    found = looked_after.reads(owner, frame)
    for above in looked_after.read_layers(owner, layer):
        if above.declared.memory and above is not layer:
            found.append(Read("above", above.name, evaluator.key(owner, above, frame)))
            continue
        found.append(Read(f"layer/{above.kind}", f"{above.name} {MOVED}", True))
        found += looked_after.reads_of_layer(owner, above, frame)
    for aid in evaluator.aids(owner, layer) if layer.declared.memory else ():
        found.append(Read(f"layer/{aid.kind}", f"{aid.name} {MOVED}", True))
        found += looked_after.reads_of_layer(owner, aid, frame)
    if layer.declared.memory:
        solved = evaluator.runs.of(owner, layer).thing
        if solved is not layer:
            found += reads_of_thing(evaluator, solved, Scope.world(frame))
        found.append(Read("rate", "Frame rate", evaluator.doc.frame_rate))
        for force in evaluator.reader.felt(solved):
            found.append(Read(f"force/{force.kind}", f"{force.name} {MOVED}", True))
            found += reads_of_thing(evaluator, force, Scope.world(frame))
    return [Read(path, label, digest(value)) for path, label, value in found]


def reads_of_run(evaluator, run, frame: float) -> list[Read]:
    """Everything that decides a run's result at a frame, of all its members."""
    found = []
    for owner, layer in run.members:
        found += reads(evaluator, owner, layer, frame)
    return found


def reads_of_thing(evaluator, thing: Thing, scope: Scope, deep: int = DEEP) -> list[Read]:
    """What is read of a thing, and so many steps down of those that it names."""
    found = []
    for name, channel, fingerprint in evaluator.reader.reads(thing, scope):
        words = name if channel is None else channel.label.lower()
        words = WORDS.get(name, words)
        label = "Loop range" if name == "loops/range" else f"{thing.name} · {words}"
        held = evaluator.values.find(thing.constant(channel.name)) if channel is not None and channel.to else None
        if held is not None and channel.to not in OWN and held.declared is not None and held is not scope.owner:
            found += _of_held(evaluator, held, f"{thing.kind}/{name}", scope, deep)
            fingerprint = (held.kind, held.on) if held.declared.only_while_on else held.kind
        found.append(Read(f"{thing.kind}/{name}", label, fingerprint))
    return found


def _of_held(evaluator, held, path, scope, deep) -> list[Read]:
    """What is read of a thing that another one names."""
    looked_after = evaluator.owner(held)
    found = [Read(f"{path}/{r.path}", r.label, r.value) for r in looked_after.reads_as_named(held, scope.frame)]
    if deep > 0 and looked_after.has_channels_of_its_own:
        below = reads_of_thing(evaluator, held, Scope.world(scope.frame), deep - 1)
        found += [Read(f"{path}/{r.path}", r.label, r.value) for r in below]
    return found
