"""What a print takes from a scene: how that is found, how large it is, and what decides it."""

from collections.abc import Sequence
from typing import Any, ClassVar

from ..edits.things import rides_on
from ..evaluate.evaluator import Evaluator
from ..geometry.mesh import Mesh
from ..geometry.primitives import joined
from ..hashing import digest
from ..motion.remesh import Counts
from ..scene.document import Document, Thing
from ..scene.scene import Scene
from ..scene.skins import followed, skins_of
from ..scene.values import Rows


class Takes:
    """A subject after its whole stack, or copies of one."""

    what: ClassVar[str] = "subject"
    counted: ClassVar[str] = "vertex"
    cure: ClassVar[str] = "Import a mesh first."  # where a scene has none
    none: ClassVar[str] = "There are no copies. Raise their count, or choose what they stand on."
    is_mesh: ClassVar[bool] = True  # False: there are no points of a mesh to look at beside it

    def find(self, doc: Document, item: Thing) -> Thing | None:
        """The thing that is printed."""
        copies, named = copies_of(doc, item), item.constant("subject")
        found = doc.shape_of(copies) if copies else doc.find(named)
        if found is not None and (found in doc.subjects or members_of(doc, found)):
            return found
        return None if named and not copies else next(iter(doc.subjects), None)

    def skeleton(self, doc: Document, item: Thing) -> Thing | None:
        """The skeleton that goes into its files."""
        return None

    def mesh(self, evaluator: Evaluator, item: Thing, found: Thing) -> Mesh | None:
        """The topology that goes into its files."""
        copies = copies_of(evaluator.doc, item)
        if found.mesh is None:
            return joined_members(evaluator, found)
        return joined_mesh(evaluator, copies) if copies is not None else evaluator.mesh(found)

    def size(self, scene: Scene, doc: Document, item: Thing, found: Thing) -> tuple[int, int]:
        """(vertices, or joints or grains, triangles) about, without working it out."""
        if found.mesh is None:
            every = [self.size(scene, doc, item, member) for member in members_of(doc, found)]
            return sum(v for v, _ in every), sum(t for _, t in every)
        counts, times, copies = Counts.of(scene.mesh(found.mesh)), 1, copies_of(doc, item)
        for layer in found.stack:
            if layer.on and layer.declared is not None and layer.declared.remeshes:
                counts = layer.declared().counts(counts, {n: layer.constant(n) for n in layer.declared.channels})
        if copies is not None:
            times = len(Evaluator(doc, scene, None).stage.many(copies, found, doc.start).rows)
        return counts.vertices * times, counts.triangles * times

    def fingerprint(self, evaluator: Evaluator, item: Thing, found: Thing, frames: Sequence[int]) -> bytes:
        """Digest of all that decides its files at these frames, but for the print's own channels."""
        copies = copies_of(evaluator.doc, item)
        others = item.declared().others(evaluator.doc, found, {n: item.constant(n) for n in item.declared.channels})
        every = [found] if found.mesh is not None else members_of(evaluator.doc, found)
        read = [_read(evaluator, t, frames) for t in ((copies,) if copies is not None else every)]
        read += [_read(evaluator, t, frames) for t in others]
        own = [(s.mesh.content, [m.model_dump() for m in s.mesh.materials]) for s in every]
        return digest(found.name, own, read)


class TakesSkin(Takes):
    """A subject at rest with the skeleton that its skin follows."""

    def skeleton(self, doc, item):
        found = self.find(doc, item)
        layer = skin_of(found) if found is not None else None
        return followed(doc, layer) if layer is not None else None

    def fingerprint(self, evaluator, item, found, frames):
        skeleton, layer = self.skeleton(evaluator.doc, item), skin_of(found)
        if skeleton is None or layer is None:
            return digest(None)
        through = [*evaluator.layers_above(found, layer), layer]
        shapes = [evaluator.shape_name(found, f, through) for f in frames]
        bound = (layer.bind.indices, layer.bind.weights, layer.bind.back, found.mesh.points)
        return digest(_posed(evaluator, skeleton, frames), bound, shapes)


class TakesBones(Takes):
    """A skeleton alone."""

    what, counted, cure, is_mesh = "skeleton", "joint", "Build one, or import one with its skin.", False

    def find(self, doc, item):
        found = doc.find(item.constant("skeleton"))
        return found if found is not None else next(iter(doc.skeletons), None)

    def skeleton(self, doc, item):
        return self.find(doc, item)

    def mesh(self, evaluator, item, found):
        return None

    def size(self, scene, doc, item, found):
        return len(found.joints), 0

    def fingerprint(self, evaluator, item, found, frames):
        return digest(_posed(evaluator, found, frames))


class TakesGrains(Takes):
    """A swarm, a liquid, or whatever else has grains."""

    what, counted, cure, is_mesh = "swarm", "grain", "Add one from the Add menu.", False

    def find(self, doc, item):
        return doc.find(item.constant("swarm")) or next(iter(doc.swarms), None)

    def mesh(self, evaluator, item, found):
        return None

    def size(self, scene, doc, item, found):
        return Evaluator(doc, scene, None).swarms.expected(found), 0

    def fingerprint(self, evaluator, item, found, frames):
        return digest(found.name, [evaluator.shape_name(found, f) for f in frames])


MESH, SKIN, BONES, GRAINS = Takes(), TakesSkin(), TakesBones(), TakesGrains()


def members_of(doc: Document, root: Thing) -> list[Thing]:
    """The subjects that are on and ride on a thing that has no mesh itself, in the order of the scene."""
    if root.mesh is not None or root.declared is None or root.declared.node != "plain":
        return []
    return [t for t in doc.subjects if t.on and rides_on(doc, t, root.id)]


def joined_members(evaluator: Evaluator, root: Thing) -> Mesh:
    """All subjects that ride on a root as one mesh, each as it is at rest, where it stands at the first frame."""
    start, found = Rows.one(evaluator.doc.start), []
    for member in members_of(evaluator.doc, root):
        mesh = evaluator.mesh(member)
        found.append(mesh.with_points(evaluator.values.place(member, start).apply(mesh.points[None])[0]))
    return joined(found)


def copies_of(doc: Document, item: Thing) -> Thing | None:
    """The copies that are printed, when they copy something."""
    copies = doc.find(item.constant("copies")) if "copies" in item.declared.channels else None
    return copies if copies is not None and doc.shape_of(copies) is not None else None


def skin_of(subject: Thing) -> Thing | None:
    """The first bound skin layer of a subject that is on."""
    return next((l for l in skins_of(subject, bound=True) if l.on), None)


def joined_mesh(evaluator: Evaluator, copies: Thing) -> Mesh:
    """All copies as one mesh, each as the subject is at rest, where it stands at the first frame."""
    found = evaluator.copies(copies, evaluator.doc.start)
    places = found.places.apply(found.mesh.points[None])
    return joined([found.mesh.with_points(p) for p in places])


def _read(evaluator: Evaluator, thing: Thing, frames: Sequence[int]) -> tuple[Any, ...]:
    """What a print reads of a thing: what it looks like and where it stands at each frame, and what never changes."""
    owner = evaluator.owner(thing)
    stands = [evaluator.reader.stand_name(thing, f) for f in frames] if owner.at_one_place else []
    return thing.name, owner.facts(thing), [owner.shown_fingerprint(thing, f) for f in frames], stands


def _posed(evaluator: Evaluator, skeleton: Thing, frames: Sequence[int]) -> tuple[Any, ...]:
    """What a print reads of a skeleton: its poses, its clips and the names of its joints."""
    kept = [(c.name, c.first, c.last, c.loops, c.speed, repr(c.values)) for c in skeleton.clips]
    return [evaluator.shape_name(skeleton, f) for f in frames], kept, [j.name for j in skeleton.joints]
