"""The evaluator of one document: it computes only what is asked for, each result once.

It wires what does the work: values of channels, the reader that says what things are worth to one another and what was
read, the topology and stacks of subjects, the poses of skeletons, and the runs that are solved frame by frame.
"""

from functools import cached_property

from ..motion.layer import Resolved
from ..scene.dependencies import Dependencies
from ..scene.document import Document, Thing
from ..scene.graph import member_of
from ..scene.values import Values
from .arrange import Instancing
from .dressed import GrainAppearance
from .owner import Owner, owners_for
from .reader import Reader
from .rigs import Poses
from .run import Playing
from .runs import Runs
from .stacks import Copied, Shape, Stacks
from .swarms import Swarms
from .topology import Topology

__all__ = ["Copied", "Evaluator", "Shape"]


class Evaluator:
    """Reads a document that does not change under it. One thread at a time; make another for another thread."""

    def __init__(self, doc: Document, scene, store, stand_ins: bool = False):
        """stand_ins -- True for a viewer that marks them: in place of what is not solved a stale or an earlier frame is
        given, and what is given says so. Otherwise what is asked for is solved."""
        self.doc, self.scene, self.store, self.stand_ins = doc, scene, store, stand_ins
        self.live: dict[str, Playing] = {}  # solvers that run on without the store, by layer
        self.waits = True  # False: a slow layer that is not planned yet is refused, as on the window's own thread
        # (subject, layer, share done): called while a slow layer is planned; may raise Cancelled
        self.on_progress = None
        # (layer, frame) -> key of its last result, if a view keeps them
        self.stale_keys: dict[tuple[str, int], bytes] = {}
        self._layers: dict[str, tuple[Thing, list[Thing]]] = {}
        self.values = Values(doc)
        self.stage = Instancing(self.values, scene)
        self.reader = Reader(self)
        self.topology = Topology(self)
        self.poses = Poses(self)
        self.stacks = Stacks(self)
        self.runs = Runs(self)
        self.swarms, self.dressing = Swarms(self), GrainAppearance(self)
        self._owners = owners_for(self)
        # what others ask for most
        self.mesh, self.plans = self.topology.mesh, self.topology.plans
        self.rows, self.through, self.copies = self.stacks.rows, self.stacks.through, self.stacks.copies
        self.solvers, self.solve_through, self.pin = self.runs.solvers, self.runs.solve_through, self.runs.pin

    @cached_property
    def dependencies(self) -> Dependencies:
        """What the things of its document depend on."""
        return Dependencies(self.doc)

    def owner(self, thing: Thing) -> Owner:
        """What looks after a thing: how its stack is named, solved and seen."""
        declared = thing.declared
        return self._owners[declared.owner if declared is not None else ""]

    # -- stacks ----------------------------------------------------------------------------------------------
    def layers(self, owner: Thing) -> list[Thing]:
        """The layers of a subject's or skeleton's stack that do something."""
        found = self._layers.get(owner.id)
        if found is None or found[0] is not owner:
            on = [l for l in owner.layers_on if self._plays(l)]
            found = self._layers[owner.id] = (owner, [] if owner.mesh is None and not owner.on else on)
        return found[1]

    def _plays(self, layer: Thing) -> bool:
        """Whether a layer does something: a member of an ensemble needs one, which is on."""
        if not getattr(layer.declared, "ensemble", ""):
            return True
        together = self.values.find(member_of(layer))
        if together is None and layer.declared.solo:
            return True
        return together is not None and together.on and together.kind == layer.declared.ensemble

    def layers_above(self, owner: Thing, layer: Thing) -> list[Thing]:
        return self.owner(owner).above(owner, layer)

    def aids(self, owner: Thing, layer: Thing) -> list[Thing]:
        """The layers below one with memory that tell it something, down to the next one with memory."""
        return self.owner(owner).aids(owner, layer)

    def shape_name(self, owner: Thing, frame: float, layers: list[Thing] | None = None) -> bytes:
        """Digest of everything that decides an owner's shape or pose in the world after the given layers (all of them
        when none are given), whether it is solved yet or not."""
        return self.owner(owner).fingerprint(owner, frame, layers)

    def subject(self, subject: Thing, frame: float) -> Shape:
        """The result of a subject's whole stack, in the world."""
        return self.stacks.through(subject, self.layers(subject), frame)

    def travel_of(self, owner: Thing, layer: Thing, frame: float) -> tuple[float, float] | None:
        """(mean, largest) m, how far a layer moves what enters it at a frame; None when it is not solved."""
        return self.owner(owner).travel(owner, layer, frame)

    def above(self, subject: Thing, layer: Thing, frame: float) -> Shape:
        """The shape that enters a layer, in the world."""
        return self.stacks.through(subject, self.layers_above(subject, layer), frame)

    # -- runs ------------------------------------------------------------------------------------------------
    def key(self, owner: Thing, layer: Thing, frame: float) -> bytes:
        """The key of the solved frame that a layer with memory shows."""
        return self.runs.key(self.runs.of(owner, layer), frame)

    def resolve(self, layer: Thing, owner: Thing, frame: float) -> Resolved:
        """The values of a solver's channels."""
        return self.reader.resolved(layer, self.runs.scope(owner, frame))
