"""A scene with one of everything that can be named, and every kind of layer, force, thing and print at its defaults on
something that fits it: for tests that go through all kinds."""

import uuid

import numpy as np

from estampa import edits as do
from estampa.edits import joints as build
from estampa.formats import usd
from estampa.geometry.primitives import box, sheet, tube
from estampa.kinds.fields import SOLID
from estampa.kinds.registry import kind_of
from estampa.scene.document import Document
from estampa.scene.scene import Scene

OF_LIQUIDS = ("grain_warm", "grain_skin", "fill", "pour")  # that do nothing in a swarm, or less
BOUND = ("skin", "cage")  # made by binding


class Stage:
    """A scene with one of everything that can be named, twice."""

    def __init__(self, store):
        self.store = store
        self.scene = scene = Scene(Document(start=1, end=6, loop=(1, 7)))
        flat = sheet(1, 1, 6, 6)
        self.subject = do.add_mesh(scene, flat, "Subject").id
        other = [do.add_mesh(scene, sheet(2, 2, 5, 5), f"Other {i}").id for i in (1, 2)]
        for i, thing in enumerate(other):
            do.set_values(scene, thing, {"y": -0.4 - i, "turn_x": 0.3 * i})
        line = np.stack([np.zeros(5), np.linspace(0, 1, 5), np.zeros(5)], axis=1)
        self.tube = do.add_mesh(scene, tube(line, np.full(5, 0.1), 5), "Tube").id
        cage = do.add_mesh(scene, tube(line, np.full(5, 0.3), 5), "Cage").id
        self.skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0.2, 1, 0], 4)]).id
        joints = [j.id for j in scene.doc.find(self.skeleton).joints]
        build.bind_skin(scene, self.tube, self.skeleton)
        build.bind_cage(scene, self.tube, cage)
        put = lambda kind, i, **v: do.add_thing(scene, kind, values={"x": 0.3 + 0.4 * i, "y": 0.2 * i, "z": 0.5} | v).id
        ways = [((0, 0, 0), (1, 0.5, 0), (2, 0, 1)), ((0, 1, 0), (1, 0, 0), (2, 1, -1))]
        maps = [do.add_map(scene, self.subject, np.linspace(i, 1, 36), f"Map {i}").id for i in (0, 0.5)]
        points = scene.mesh(scene.doc.find(self.subject).mesh).points
        grips = [put("grip", i, turn_x=0.4 * i) for i in (1, 2)]
        self.named = {
            "map": maps,
            "target": [do.add_target(scene, self.subject, points * (1 + i)).id for i in (1, 2)],
            "grip": grips,
            "placed": [*grips, joints[1]],
            "zone": [put("zone", i, reach=1.0 + i) for i in (1, 2)],
            "path": [do.add_thing(scene, "path", spots=spots).id for spots in ways],
            "subject": other,
            "joint": joints[1:3],
            "wind": [do.add_thing(scene, "wind", values={"speed": 3.0 + 4 * i}).id for i in (0, 1)],
            "target_map": [do.add_map(scene, other[0], np.linspace(0, 1, 25), "Half").id],
            "target_weights": [do.add_map(scene, other[0], np.linspace(0.2, 1, 25), "More").id],
        }
        do.add_thing(scene, "gravity")
        for moving, channel, far in ((self.subject, "x", 0.5), (joints[1], "turn_x", 1.0)):
            do.set_key(scene, moving, channel, 1, 0.0)
            do.set_key(scene, moving, channel, 5, far)

    def owner_for(self, kind):
        """What a layer of a kind can stand on, with what it needs there."""
        word, scene, named = kind.kind, self.scene, self.named
        owner = self.skeleton if kind.moves == "joints" else self.subject
        if kind.moves == "grains":  # some that fly already, on something that is solid
            by = {"by": "formula" if kind.by_formula else "steps"}
            liquid = ("liquid", None, {"spacing": 0.12, "expands": 0.01})
            owner = do.add_thing(scene, *(liquid if word in OF_LIQUIDS else ("swarm", None, by))).id
            made = [do.add_mesh(scene, box([-i, 0, 0], [i, 0.5, 0.6]), f"Box {i}").id for i in (0.4, 0.8)]
            more = do.add_map(scene, made[0], np.linspace(0.2, 1, 8), "More").id
            self.named = named | {"subject": made, "target_weights": [more]}
            sown = {"count": 40, "radius": 0.6, "scatter": 0.5, "speed_y": -1.0}
            do.add_layer(scene, owner, "sow", values=sown)
            do.add_thing(scene, "ground", values={"height": -0.3})
        if kind.memory and SOLID in kind.reads:
            do.add_thing(scene, "collider", values={"x": 0.2, "y": 0.6})
        if getattr(kind, "helps", ""):  # a cloth above it, that is held and blown and meets something
            do.add_layer(scene, owner, kind.helps, values={"pins": named["map"][0]})
            do.add_thing(scene, "collider", values={"x": 0.2, "y": 0.6})
        if word == "played":
            self.named["file"] = self.played_file()
        if word == "break":  # it cuts closed meshes
            do.add_layer(scene, owner, "thicken", values={"thickness": 0.1})
        return owner

    def played_file(self) -> str:
        """A file of points over time, of the subject's topology."""
        self.store.root.mkdir(parents=True, exist_ok=True)
        flat, lift = sheet(1, 1, 6, 6), lambda f: [0, 0.1 * f + 0.05 * f * f, 0]
        path = self.store.root / f"lifted {uuid.uuid4().hex[:8]}.usdc"  # the library keeps open layers by name
        at = lambda f: flat.points + lift(f)
        usd.write_cache(path, "Lifted", flat, [1, 2, 3, 4], 24.0, at, False, lambda *a: 0)
        return str(path)

    def references(self, kind) -> dict:
        """Values for all channels of a kind that name something."""
        values = {n: self.named[c.to][0] for n, c in kind.channels.items() if c.to in self.named}
        return values | ({"file": self.named["file"]} if "file" in self.named and "file" in kind.channels else {})

    def layer(self, word: str):
        """(layer id, owner id) of a layer at its defaults, with what it needs to do something."""
        kind = kind_of(word)
        if word in BOUND:
            tube_ = self.scene.doc.find(self.tube)
            return next(l.id for l in tube_.stack if l.kind == word), self.tube
        owner = self.owner_for(kind)
        return do.add_layer(self.scene, owner, word, values=self.references(kind)).id, owner
