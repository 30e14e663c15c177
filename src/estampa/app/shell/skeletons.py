"""The window's commands for skeletons: building, binding, baking and clips."""

import numpy as np

from ...baking import keys as baking
from ...baking.work import default_frames
from ...edits import clips
from ...edits import joints as build
from ...errors import EstampaError
from ...kinds.channels import choice, number, switch, text, whole
from ...scene.reduce import Tolerance
from ...scene.skins import skins_of
from ..model.tasks import Task
from .ask import Ask
from .body import BodyParts
from .files import ask_to_replace

COUNT = whole(6, "How many joints.", title="Joints", soft=(1, 20), hard=(1, 10_000))
TIPS = number(0.002, "How far a tip may be off.", title="At the tips", unit="m", soft=(0, 0.02), hard=(0, None))
TURNED = number(
    np.radians(10),
    "How far a joint may be turned off, where its tip does not say so.",
    title="In turn",
    unit="rad",
    soft=(0, 0.3),
    hard=(0, None),
)
AXES = {"x": "Across X (left and right)", "y": "Across Y", "z": "Across Z"}


class Skeletons:
    def __init__(self, window):
        self.window, self.session = window, window.session

    def _open(self, *parts, **more):
        self.dialog = Ask(self.window, *parts, **more)
        self.dialog.open()

    def _skeleton(self):
        found = self.session.selection.skeleton
        if found is None:
            raise EstampaError("This", "needs a skeleton.", "Select one, or build one first (Joint tool, J).")
        return found

    def _joint(self):
        joints = self.session.selection.joints
        if not joints:
            raise EstampaError("This", "needs a joint.", "Select one in the view or in the roster.")
        return joints[0]

    def _subject(self):
        found = self.session.selection.subject
        if found is None:
            subjects = self.session.doc.subjects
            if len(subjects) != 1:
                raise EstampaError("This", "needs a subject.", "Select the mesh in the roster first.")
            found = subjects[0]
        return found

    def show(self):
        self.window.show_panel("joints")

    # -- building --------------------------------------------------------------------------------------------
    def use_tool(self, tool):
        if tool == "paint":
            self._fit_brush()
        self.session.view.set_view(tool=tool)
        self.show()

    def _fit_brush(self):
        """A brush that would paint nearly all at once, or next to nothing, is made to fit what it paints."""
        s, layer = self.session, self.session.selection.skin
        if layer is not None:
            size = float(np.ptp(s.scene.mesh(s.doc.owner(layer.id).mesh).bounds, axis=0).max())
            if not 0.01 * size < s.view.brush.radius < 0.3 * size:
                s.view.brush.radius = float(f"{0.08 * size:.1g}")

    def chain(self):
        """Taken by hand: a drag in the view from where it begins to where it ends."""
        self.use_tool("chain")
        self.session.notice.emit("note", "Drag in the view from where the chain begins to where it ends.", "")

    def chain_between(self, start: np.ndarray, end: np.ndarray):
        """Ask how many joints, for a chain that was dragged out; its two points can be mended in numbers."""
        s = self.session
        metres = lambda v, t: number(float(v), t, title=t, unit="m", soft=(-5, 5))
        ends = np.stack([start, end])
        fields = {"joints": COUNT} | {
            f"{word}_{a}": metres(ends[k][j], f"{word.capitalize()} {a.upper()}")
            for k, word in enumerate(("from", "to"))
            for j, a in enumerate("xyz")
        }

        def run(joints, **v):
            line = build.straight([v[f"from_{a}"] for a in "xyz"], [v[f"to_{a}"] for a in "xyz"], joints)
            self._made(build.add_skeleton(s.scene, [line], "Chain"))
            s.view.set_view(tool="hand")

        self._open("A chain of joints", "A straight chain between the two points.", fields, run)

    def along_path(self):
        s = self.session
        paths = s.doc.of_kind("path")
        path = s.selection.thing if s.selection.thing in paths else None
        path = path or (paths[0] if len(paths) == 1 else None)
        if path is None:
            raise EstampaError("A chain along a path", "needs a path.", "Select one, or add one from the Add menu.")
        fields = {"joints": COUNT}

        def run(joints):
            line = s.work.evaluator("window").stage.in_world(path)
            if line is None:
                raise EstampaError(path.name, "has no length.", "Give it at least two points in different places.")
            self._made(build.add_skeleton(s.scene, [build.along_path(line, joints)], f"{path.name} chain"))

        self._open("A chain along a path", f"Joints at even distances along {path.name}.", fields, run)

    def beads(self):
        """Skeleton, skin and swinging chain from a mesh of beads, at once."""
        s, subject = self.session, self._subject()
        every = whole(1, "A joint for each so many beads.", title="Beads to a joint", soft=(1, 8), hard=(1, 100))
        swing = switch(True, "Put a swinging chain on it.", title="Swings")
        mesh = s.scene.mesh(subject.mesh)

        def run(every, swing):
            skeleton = build.from_beads(s.scene, subject.id, every, swing)
            self._made(skeleton)
            strands = len(s.scene.values.bones(skeleton).strands(np.arange(len(skeleton.joints))))
            s.notice.emit(
                "done", f"{len(skeleton.joints)} joints in {strands} strings. Press Space to let them swing.", ""
            )

        explained = (
            f"{subject.name} has {mesh.island_count:,} islands. Those that follow one another closely are a string."
        )
        self._open("Strings of beads", explained, {"every": every, "swing": swing}, run)

    def _made(self, skeleton):
        self.session.selection.select(skeleton.id)
        self.window.viewport.frame_when_shown()
        self.show()

    def subdivide(self):
        s, joint = self.session, self._joint()
        parts = whole(2, "How many it becomes.", title="Parts", soft=(2, 8), hard=(2, 100))
        run = lambda parts: build.subdivide(s.scene, joint.id, parts)
        self._open("Subdivide", f"Cut {joint.name} along its length.", {"parts": parts}, run)

    def mirror(self):
        s, joint = self.session, self._joint()
        across = choice("x", "The plane through the skeleton's origin.", AXES, title="Mirror")
        run = lambda across: s.selection.select(build.mirror(s.scene, joint.id, across)[0].id)
        self._open("Mirror", f"{joint.name} and all that hang on it, to the other side.", {"across": across}, run)

    def rename(self):
        s, joint = self.session, self._joint()
        chosen = [j.id for j in s.selection.joints]
        if len(chosen) == 1:
            bones = s.scene.values.bones(s.selection.skeleton)
            chosen = [bones.joints[i].id for i in bones.below(bones.where[joint.id])]
        fields = {
            "base": text("Tail", "The name before the number.", title="Base name"),
            "first": whole(1, "The first number.", title="First number", soft=(0, 100)),
        }
        run = lambda base, first: build.rename_joints(s.scene, chosen, base, first)
        self._open("Rename joints", f"{len(chosen)} joints, in their order down the skeleton.", fields, run)

    def to_rest(self):
        joints = [j.id for j in self.session.selection.joints] or None
        build.to_rest(self.session.scene, self._skeleton().id, joints)

    def rest_here(self):
        build.rest_here(self.session.scene, self._skeleton().id, self.session.player.frame)

    def make_limp(self):
        """Name the parts of the selected skeleton's body, and make it a ragdoll."""
        self.dialog = BodyParts(self.window, self._skeleton())
        self.dialog.open()

    # -- binding ---------------------------------------------------------------------------------------------
    def bind(self):
        s, subject, skeleton = self.session, self._subject(), self._skeleton()
        loose = s.scene.mesh(subject.mesh).island_count > 8
        fields = {
            "way": choice(
                "nearest" if loose else "heat", "How weights are worked out.", build.BIND_WAYS, title="Weights"
            ),
            "most": choice(
                "4", "Joints that one vertex may follow.", {"4": "At most 4", "8": "At most 8"}, title="Influences"
            ),
            "method": choice("linear", "How their pull is blended.", {"linear": "Linear", "dual": "Dual quaternions"}),
        }

        def run(way, most, method):
            held = next((l.id for l in skins_of(subject)), None)
            snapshot = s.scene

            def work(progress, cancelled):
                progress(0.3, f"Binding {subject.name}")
                return build.worked_out(snapshot, subject.id, skeleton.id, way)

            def then(found):
                dense, cold = found
                if s.carry_out(lambda: self._bound(subject, skeleton, dense, int(most), method, held)) and cold.any():
                    words = f"{int(cold.sum()):,} vertices see no joint from inside; they follow the nearest one."
                    s.notice.emit("note", words, "")

            s.work.jobs.add(Task("Bind", work, then, alongside=True))

        self._open("Bind", f"{subject.name} will follow {skeleton.name} from its rest on.", fields, run)

    def _bound(self, subject, skeleton, dense, most, method, held):
        s = self.session
        layer = build.put_skin(s.scene, subject.id, skeleton.id, dense, most, method, held)
        s.selection.select(layer.id)
        self.show()

    def bind_cage(self):
        s, subject = self.session, self._subject()
        others = {t.id: t.name for t in s.doc.subjects if t.id != subject.id}
        if not others:
            raise EstampaError("A cage", "is another subject of few faces.", "Import or add one around this first.")
        fields = {"cage": choice(next(iter(others)), "The mesh of few faces around it.", others, title="Cage")}

        def run(cage):
            scene = s.scene

            def work(progress, cancelled):
                progress(0.3, f"Binding {subject.name} to its cage")
                return build.cage_coordinates(scene, subject.id, cage)

            def then(found):
                s.carry_out(lambda: s.selection.select(build.put_cage(scene, subject.id, cage, found).id))

            s.work.jobs.add(Task("Bind", work, then, alongside=True))

        explained = f"{subject.name} will be carried by it. Joints can be baked to keys, a cage cannot."
        self._open("Bind to a cage", explained, fields, run)

    # -- keys and clips --------------------------------------------------------------------------------------
    def bake(self):
        s, skeleton = self.session, self._skeleton()
        doc, chosen = s.doc, [j.id for j in s.selection.joints]
        first, last = default_frames(doc)
        frames = lambda v, t: whole(v, t, title=t, unit="frames", soft=(1, 500))
        which = {"all": f"All {len(skeleton.joints):,}"} | ({"chosen": f"The {len(chosen)} selected"} if chosen else {})
        into = {"new": "A clip of this name", "over": "Over the present keys"}
        keys = {"few": "As few as the tolerance allows", "all": "One a frame"}
        fields = {
            "which": choice("all", "Which joints are baked.", which, title="Joints"),
            "first": frames(first, "First frame"),
            "last": frames(last, "Last frame"),
            "every": choice("few", "How many keys.", keys, title="Keys"),
            "place": TIPS,
            "turn": TURNED,
            "into": choice("new", "Where the keys go.", into, title="Into"),
            "name": text("Baked", "Name of its clip; one of that name is replaced.", title="Clip"),
        }

        def run(which, first, last, every, place, turn, into, name):
            joints = chosen if which == "chosen" else None
            tolerance = None if every == "all" else Tolerance(place, turn)
            scene, store = s.scene, s.store

            def work(progress, cancelled):
                return baking.bake(scene, skeleton.id, joints, (first, last), tolerance, store, progress, cancelled)

            def then(baked):
                if s.carry_out(lambda: baking.put(scene, baked, name if into == "new" else None)):
                    off = " The layers are off; “Back to live” brings them back." if baked.layers else ""
                    s.notice.emit("done", f"Baked: {baked.words()}.{off}", "")

            there = into == "new" and clips.named(skeleton, name) is not None
            words = f"{skeleton.name} has a clip “{name}”. Its keys would be replaced; undo brings them back."
            ask_to_replace(
                self.window, words if there else "", lambda: s.work.jobs.add(Task("Bake to keys", work, then))
            )
            self.show()

        explained = f"What the layers of {skeleton.name} do becomes keys that can be edited by hand."
        self._open("Bake to keys", explained, fields, run)

    def back_to_live(self):
        baking.back_to_live(self.session.scene, self._skeleton().id)

    def in_place(self):
        s, skeleton = self.session, self._skeleton()
        axes = {"xyz": "In any direction", "xz": "Along the ground (X and Z)", "x": "X", "y": "Y", "z": "Z"}
        fields = {
            "axes": choice("xyz", "The even way from first place to last; what it sways stays.", axes, title="Travel"),
            "keep": switch(True, "Keep the travel on a grip of its own.", title="Keep the travel"),
        }
        run = lambda axes, keep: baking.in_place(s.scene, skeleton.id, axes, keep)
        self._open("In place", f"{skeleton.name} stays where it begins, so that others can move it.", fields, run)

    def new_clip(self):
        s, owner = self.session, self.window.joints.owner
        if owner is None:
            raise EstampaError("A clip", "is of a skeleton, or of a subject with morphs.", "Select one first.")
        first, last = s.doc.loop or (s.doc.start, s.doc.end)
        frames = lambda v, t: whole(v, t, title=t, unit="frames", soft=(1, 500))
        fields = {
            "name": text("Clip", "Its name in exported files.", title="Name"),
            "first": frames(first, "First frame"),
            "last": frames(last, "Last frame"),
            "loops": switch(s.doc.loop is not None, "It goes round: its last frame is the first again.", title="Loops"),
        }
        run = lambda name, first, last, loops: clips.new_clip(s.scene, owner.id, name, first, last, loops)
        self._open("New clip", f"A named range of the present keys of {owner.name}.", fields, run)
