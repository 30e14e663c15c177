"""What is read and what names a result cannot part: change any channel of any kind, and the name of the result changes
if, and only if, the result may."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.edits import joints as build
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.kinds.registry import kind_of, kinds_in
from estampa.scene.ids import ids_of
from tests.stage import BOUND, Stage

FRAME = 4


@pytest.fixture(autouse=True)
def same_dice(request):
    """Grains fall by the ids of things: the same ones in every run."""
    with ids_of(request.node.name):
        yield


class Parity(Stage):
    """Changes one channel after the other."""

    def base(self, kind):
        """Values that make every channel of a kind matter as far as one setting can."""
        values = self.references(kind)
        if not kind.family == "layer" or kind.memory:
            return values
        for name, channel in kind.channels.items():
            if channel.type == "number" and channel.animates:
                low, high = channel.soft
                values[name] = channel.clamp(low + 0.37 * (high - low))
        return values

    def others(self, name, channel, value):
        """Other values of a channel."""
        if channel.type in ("number", "whole"):
            low, high = channel.soft
            found = channel.clamp(low + 0.71 * (high - low))
            return [type(channel.default)(found)]
        if channel.type == "switch":
            return [not value]
        if channel.type == "choice":
            return [w for w, _ in channel.choices if w != value]
        if channel.check is not None:
            words = {"ramp": "0 1, 0.6 0.2", "formula": "0.3 + 0.2 * speed", "colours": "#102030, #ffeedd",
                     "colour": "#336699", "fit": "1 0 0 0 2 0 0 0 1"}  # fmt: skip
            return [words[name.split("_")[-1]]]
        return [i for i in self.named.get(channel.to, []) if i != value]

    def seen(self, owner_id):
        """(digest of what decides it, what it looks like)."""
        evaluator = Evaluator(self.scene.doc, self.scene, self.store)
        evaluator.solve_through(FRAME)
        owner = self.scene.doc.find(owner_id)
        if owner in self.scene.doc.swarms:
            parts = outcome.of(evaluator, owner, FRAME).parts
            dyed = lambda p: p.inks if p.inks is not None else np.zeros((p.count, 3)) if p.tints is None else p.tints
            looks = [(p.in_world().reshape(-1, 3), dyed(p)) for p in parts]
            looks = [np.concatenate(x) for x in zip(*looks, strict=True)] or [np.zeros((0, 3))]  # all may be gone
            return evaluator.dressing.name(owner, FRAME), np.concatenate(looks)
        name = evaluator.shape_name(owner, FRAME)
        if owner.kind == "skeleton":
            return name, evaluator.poses.world(owner, FRAME)
        return name, evaluator.subject(owner, FRAME).points

    def try_all(self, thing_id, owner_id):
        """Change each channel of a thing in turn, and hold the name of its owner's shape against the shape."""
        thing = self.scene.doc.find(thing_id)
        name, shape = self.seen(owner_id)
        moved = []
        for channel_name, channel in thing.declared.channels.items():
            if channel_name == "parent" and thing.kind in ("subject", "skeleton"):
                continue
            value = self.scene.doc.find(thing_id).constant(channel_name)
            for other in (o for o in self.others(channel_name, channel, value) if o not in (thing_id, "file")):
                do.set_value(self.scene, thing_id, channel_name, other)
                where = f"{thing.kind} · {channel_name} = {other}"
                matters = not channel.drawn and channel.applies(self.scene.doc.find(thing_id).constant)
                new_name, new_shape = self.seen(owner_id)
                same = new_shape.shape == shape.shape and np.array_equal(new_shape, shape)
                assert same or new_name != name, f"{where}: the result changed, and its name did not"
                assert matters or (same and new_name == name), f"{where}: nothing reads it, and it made frames stale"
                if not same:
                    moved.append(channel_name)
                self.scene.undo()
        return moved


# what undoes crossings does nothing on a stage where nothing crosses
LAYERS = [k.kind for k in kinds_in("layer") if k.kind not in BOUND and not getattr(k, "undoes", False)]


@pytest.mark.parametrize("word", LAYERS)
def test_a_layer_is_named_by_all_that_it_reads_and_by_nothing_else(word, store):
    stage, kind = Parity(store), kind_of(word)
    owner = stage.owner_for(kind)
    layer = do.add_layer(stage.scene, owner, word, values=stage.base(kind))
    assert stage.try_all(layer.id, owner), "some channel does something"


@pytest.mark.parametrize("word", BOUND)
def test_a_bound_layer_is_named_by_all_that_it_reads(word, store):
    stage = Parity(store)
    tube = stage.scene.doc.find(stage.tube)
    layer = next(l for l in tube.stack if l.kind == word)
    assert stage.try_all(layer.id, stage.tube)


@pytest.mark.parametrize("word", [k.kind for k in kinds_in("force")])
def test_a_force_is_part_of_the_name_of_what_feels_it(word, store):
    stage, kind = Parity(store), kind_of(word)
    values = {n: stage.named[c.to][0] for n, c in kind.channels.items() if c.to in stage.named and n != "parent"}
    if word == "collider":
        rope = build.add_skeleton(stage.scene, [build.straight([0, 0.5, 0], [0.6, 0.5, 0], 6)]).id
        do.add_layer(stage.scene, rope, "chain")
        thing = do.add_thing(stage.scene, word, values=values | {"x": 0.4, "y": 0.3})
        assert "radius" in stage.try_all(thing.id, rope)
        do.set_value(stage.scene, thing.id, "shape", "box")
        assert "tall" in stage.try_all(thing.id, rope)
        return
    do.add_layer(stage.scene, stage.subject, "cloth")
    if word == "immersion":  # it stands in it
        made = do.add_thing(stage.scene, "liquid", values={"spacing": 0.12}).id
        grip = do.add_thing(stage.scene, "grip")
        do.add_layer(stage.scene, made, "fill", values={"where": "box", "around": grip.id, "wide": 1.2, "deep": 1.2})
        values["liquid"] = made
    thing = do.add_thing(stage.scene, word, values=values | ({"height": -0.01} if word == "ground" else {}))
    assert stage.try_all(thing.id, stage.subject)


@pytest.mark.parametrize("to", ["grip", "zone", "path"])
def test_what_is_named_is_part_of_the_name_of_what_reads_it(to, store):
    stage = Parity(store)
    reader = {"grip": "noise", "zone": "noise", "path": "follow"}[to]
    values = stage.base(kind_of(reader)) | ({"how": "bent"} if to == "path" else {})
    do.add_layer(stage.scene, stage.subject, reader, values=values)
    thing = stage.named[to][0]
    assert stage.try_all(thing, stage.subject)
    if to == "zone":
        for shape in ("box", "path"):
            do.set_values(stage.scene, thing, {"shape": shape, "path": stage.named["path"][0]})
            assert stage.try_all(thing, stage.subject)


def test_a_wind_that_a_layer_does_not_read_stales_nothing_of_it(store):
    stage = Parity(store)
    chosen, other = stage.named["wind"]
    do.add_layer(stage.scene, stage.skeleton, "stems", values={"wind": chosen})
    name = stage.seen(stage.skeleton)[0]
    do.set_value(stage.scene, other, "speed", 9.0)
    assert stage.seen(stage.skeleton)[0] == name
    do.set_value(stage.scene, chosen, "speed", 9.0)
    assert stage.seen(stage.skeleton)[0] != name


def test_how_a_subject_is_drawn_stales_nothing(store):
    stage = Parity(store)
    do.add_layer(stage.scene, stage.subject, "cloth")
    name = stage.seen(stage.subject)[0]
    do.set_value(stage.scene, stage.subject, "smooth", 1.0)
    assert stage.seen(stage.subject)[0] == name
