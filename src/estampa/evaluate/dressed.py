"""What the grains of swarms look like: which layer shows each, the shapes of its cycle, and where each stands."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats.vertex_texture import VertexTextureFile
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.primitives import box, coloured
from ..hashing import digest, rand
from ..scene.document import Thing
from ..solve.swarm.attributes import Attributes
from .outcome import Outcome, Part
from .reader import Scope

LUMP = 0.02  # m, half of what a grain is drawn as where nothing says what it looks like
AMBER = (0.95, 0.55, 0.12)  # linear light
ANOTHER = 1e-3  # of the size, from which on a texture is of another mesh


class GrainAppearance:
    """Looks of grains of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.reader = evaluator, evaluator.reader

    def layers(self, swarm: Thing) -> list[Thing]:
        """The layers that show grains as a subject that there is."""
        own = [l for l in self.evaluator.layers(swarm) if l.declared.dresses and not l.declared.skins]
        return [l for l in own if self.subject_of(l) is not None]

    def skins(self, swarm: Thing) -> list[Thing]:
        """The layers that make a surface around all grains."""
        return [l for l in self.evaluator.layers(swarm) if l.declared.dresses and l.declared.skins]

    def subject_of(self, layer: Thing) -> Thing | None:
        held = self.evaluator.values.find(layer.constant("subject"))
        return held if held is not None and held.mesh is not None else None

    def name(self, swarm: Thing, frame: float) -> bytes:
        """Digest of all that decides what its grains look like, whether it is solved yet or not."""
        evaluator, fingerprint = self.evaluator, []
        for layer in self.layers(swarm):
            subject, texture = self.subject_of(layer), layer.constant("texture")
            frames = self._cycle(layer) or [frame]
            one = lambda f: evaluator.stage.one(subject, f)  # noqa: B023
            shapes = [evaluator.stacks.name(subject, evaluator.layers(subject), one(f)) for f in frames]
            fingerprint.append((self.reader.fingerprint(layer, Scope.world(frame, swarm)), shapes, _stamp(texture)))
        fingerprint += [self.reader.fingerprint(layer, Scope.world(frame, swarm)) for layer in self.skins(swarm)]
        if swarm.declared.by_formula(swarm):
            swarms = evaluator.swarms
            key = digest(
                swarms.fingerprint(swarm, frame), swarms.period(swarm), swarms.fingerprint(swarm, evaluator.doc.start)
            )
        else:
            key = evaluator.runs.key(evaluator.runs.of(swarm, swarm), frame)
        return digest("swarm", key, fingerprint, float(frame))

    def _cycle(self, layer: Thing) -> list[int]:
        """The frames of a cycle; none of what is shown as it is."""
        return [self.evaluator.doc.start + k for k in range(layer.constant("cycle"))]

    def grains(self, swarm: Thing, frame: float, one_in: int = 1):
        """(columns by name with their ids, digest, whether that is true, the frame that stands in); None where no
        frame is solved. one_in -- of so many grains one is taken, the same ones at every frame."""
        evaluator = self.evaluator
        if swarm.declared.by_formula(swarm):
            return evaluator.swarms.by_formula(swarm, frame, one_in), self.name(swarm, frame), True, None
        shown = evaluator.runs.shown(swarm, swarm, frame)
        if shown is None:
            return None
        table = shown.frame["grains"]
        grains = {n: c for n, c in table.columns.items()} | {"ids": table.ids}
        if one_in > 1:
            some = grains["ids"] % one_in == 0
            grains = {n: c[some] for n, c in grains.items()}
        name = self.name(swarm, frame) if shown.is_current else digest("stands in", shown.key)
        return grains, name, shown.is_current, None if shown.is_current else shown.at

    def outcome(self, swarm: Thing, frame: float, one_in: int = 1, skinned: bool = True) -> Outcome | None:
        """A part for each layer that shows grains, or makes a surface around them; None where no frame is solved.
        skinned -- False: the grains alone, whatever surfaces there are."""
        found = self.grains(swarm, frame, one_in)
        if found is None:
            return None
        grains, name, is_current, at = found
        doc, parts = self.evaluator.doc, []
        seconds, loop = (frame - doc.start) / doc.frame_rate, self.loop
        skins = self.skins(swarm) if skinned else []
        for layer in skins:
            parts += self._skin(swarm, layer, grains, frame, name)
        for layer, which in self.shared(swarm, grains["ids"]):
            ids, speed = grains["ids"][which], grains["velocity"][which]
            if layer is None:
                if not skins:
                    parts.append(self._lumps(swarm, {n: c[which] for n, c in grains.items()}, frame))
                continue
            of = self.attributes(swarm, layer, grains, which, frame)
            mesh, shapes = self.shapes(layer, frame)
            dressed = layer.declared().dressed(of, which, len(shapes), seconds, doc.frame_rate, loop)
            more = {"shape": dressed.shape, "tints": dressed.colours, "beat": dressed.beat, "layer": layer.id}
            parts.append(Part(mesh, shapes, dressed.stand, ids, velocity=speed, **more))
        return Outcome(tuple(p for p in parts if p.count), name, is_current, at)

    def _lumps(self, swarm, grains, frame) -> Part:
        """Grains as small lumps; of a liquid, as large as they are apart and in their own colours."""
        mesh, count = _lump(self.evaluator.scene), len(grains["ids"])
        liquid = "spacing" in swarm.declared.channels
        size = swarm.constant("spacing") / (2 * LUMP) * 0.8 if liquid else 1.0
        stand = Place(grains["position"].astype(float), np.repeat(np.eye(3)[None], count, axis=0), np.full(count, size))
        tints = np.where(grains["dye"][:, :1] < 0, AMBER, grains["dye"]).astype(float) if "dye" in grains else None
        return Part(mesh, mesh.points[None], stand, grains["ids"], velocity=grains["velocity"], tints=tints)

    def _skin(self, swarm, layer, grains, frame, name) -> list[Part]:
        """The surface of a layer, kept for some frames as it was worked out."""
        v = self.reader.resolved(layer, Scope.world(frame, swarm))
        key = digest(name, layer.id, self.reader.fingerprint(layer, Scope.world(frame, swarm)), len(grains["ids"]))

        def make():
            spacing = swarm.constant("spacing" if "spacing" in swarm.declared.channels else "min_turn_speed") or LUMP
            skin = layer.declared.skinned(grains, v, float(spacing))
            mesh = Mesh.from_triangles(skin.points, skin.triangles) if len(skin.triangles) else None
            return mesh, skin, layer.declared.inks(skin, v)

        mesh, skin, inks = self.evaluator.scene.memo.get(layer.id, ("skin", key), None, make)  # of several frames
        return [Part(mesh, skin.points, velocity=skin.velocity, inks=inks)] if mesh is not None else []

    def spread(self, swarm: Thing, layer: Thing, what: str, frame: float, most: int = 20_000) -> np.ndarray | None:
        """(k,) in 0 to 1, what goes into the ramp of size, colour, rate or phase of the grains that a layer shows, of
        so many at the most; None where no frame is solved."""
        found = self.grains(swarm, frame, -(-self.evaluator.swarms.expected(swarm) // most) or 1)
        if found is None:
            return None
        which = next((w for l, w in self.shared(swarm, found[0]["ids"]) if l is not None and l.id == layer.id), None)
        return None if which is None else self.attributes(swarm, layer, found[0], which, frame).entering(what)

    @property
    def loop(self) -> float:
        """s of the loop range, or 0."""
        doc = self.evaluator.doc
        return (doc.loop[1] - doc.loop[0]) / doc.frame_rate if doc.loop else 0.0

    def attributes(self, swarm, layer, grains, which, frame) -> Attributes:
        v = self.reader.resolved(layer, Scope.world(frame, swarm))
        own, doc = {n: c[which] for n, c in grains.items()}, self.evaluator.doc
        seconds = (frame - doc.start) / doc.frame_rate
        return Attributes(own, v, int(swarm.constant("seed")), seconds, frame, self.loop)

    def shared(self, swarm, ids):
        """Yields (layer that shows them or None, rows of the grains)."""
        layers = self.layers(swarm)
        if not layers:
            yield None, np.arange(len(ids))
            return
        shares = np.cumsum([max(float(l.constant("share")), 0.0) for l in layers])
        if shares[-1] <= 0:
            return
        chance = rand(int(swarm.constant("seed")), ids, "shown")
        which = np.searchsorted(shares, chance * shares[-1], side="right")
        for k, layer in enumerate(layers):
            yield layer, np.flatnonzero(np.minimum(which, len(layers) - 1) == k)

    def shapes(self, layer: Thing, frame: float):
        """(mesh, (c, n, 3) m in its own space): what a layer shows grains as, all frames of its cycle."""
        evaluator, subject, texture = self.evaluator, self.subject_of(layer), layer.constant("texture")
        mesh = evaluator.mesh(subject)
        if texture:
            owner, what = layer.id, "cycle"
            name = digest(_stamp(texture), mesh.points, mesh.face_indices)
            make = lambda: _of_texture(layer, subject, mesh, texture)
        else:
            frames, layers = self._cycle(layer) or [frame], evaluator.layers(subject)
            owner, what = subject.id, ("cycle", len(frames))
            ones = [evaluator.stage.one(subject, f) for f in frames]
            name = digest(*(evaluator.stacks.name(subject, layers, one) for one in ones))
            make = lambda: np.concatenate([evaluator.stacks.rows(subject, layers, one).points[:1] for one in ones])
        return mesh, evaluator.scene.memo.get(owner, what, (name, mesh), make)


def _stamp(path: str):
    """What tells that a file is another one now."""
    try:
        found = Path(path).expanduser().stat() if path else None
    except OSError:
        return path, None
    return (path, found.st_size, found.st_mtime_ns) if found else None


def _of_texture(layer, subject, mesh, path) -> np.ndarray:
    """(frames, n, 3) m of a texture that was printed of a mesh. Raises EstampaError where it is of another one."""
    file = Path(path).expanduser()
    if not file.is_file():
        raise EstampaError(f"{layer.name}: {file.name}", "is not there.", "Choose the .json of a vertex texture.")
    try:
        texture = VertexTextureFile(file)
    except EstampaError:
        raise
    except Exception as err:
        cause = "is no vertex animation texture."
        raise EstampaError(file.name, cause, "Choose the .json that was printed with it.", repr(err)) from err
    parted, origin = mesh.parted()
    count = len(texture.rest)
    if count == mesh.count:
        rows = np.arange(count)
    elif origin is not None and count == parted.count:  # printed with vertices parted at seams: the first of each
        rows = np.unique(origin, return_index=True)[1]
    else:
        rows = None
    apart = np.inf if rows is None else float(np.abs(texture.rest[rows] - mesh.points).max(initial=0.0))
    if apart > ANOTHER * max(float(mesh.size.max()), 1e-6):
        words = f"has {count:,} vertices and {subject.name} has {mesh.count:,}" if rows is None else "has another shape"
        raise EstampaError(file.name, f"is of another mesh: it {words}.", f"Print it of {subject.name} again.")
    return np.stack([texture.at(k)[rows] for k in range(len(texture.frames))]).astype(float)


def _lump(scene):
    return scene.memo.get("", "lump", None, lambda: coloured(box([-LUMP] * 3, [LUMP] * 3), "Grain", AMBER))
