"""The window's commands that set up rigs: maps by island, layers by map, small differences, copies, morph targets."""

from pathlib import Path

from PySide6.QtWidgets import QFileDialog

from ... import edits as do
from ...baking import bodies, pieces
from ...edits import cloth, halves, rig, strips
from ...errors import EstampaError
from ...formats.meshfile import SUFFIXES, read_mesh
from ...kinds.channels import choice, number, whole
from ...kinds.registry import kinds_in
from ...scene.reduce import Tolerance
from ...scene.skins import skins_of
from ...units import format_length
from ..model.tasks import Task
from .ask import Ask
from .skeletons import TIPS, TURNED

RIMS = {"welded": "One rim, welded, for both", "own": "Each half its own, not moved"}
SEED = whole(1, "Another seed, other chances.", title="Seed", soft=(0, 100), hard=(0, None))
STRENGTH = number(0.3, "How unlike they become.", title="How different", unit="fraction", soft=(0, 1), hard=(0, 1))


class Rigging:
    def __init__(self, window):
        self.window, self.session = window, window.session

    def _subject(self):
        subject = self.session.selection.subject
        if subject is None:
            raise EstampaError("This", "needs a subject.", "Select a subject in the roster first.")
        return subject

    def _open(self, *parts, **more):
        self.dialog = Ask(self.window, *parts, **more)
        self.dialog.open()

    def maps_by_island(self):
        s, subject = self.session, self._subject()
        mesh = s.scene.mesh(subject.mesh)
        every = whole(
            1,
            "Islands that lie opposite each other share a map.",
            title="Islands to a map",
            soft=(1, 8),
            hard=(1, 1000),
        )

        def run(every):
            made = rig.maps_by_island(s.scene, subject.id, every)
            s.selection.use_map(made[0].id)
            self.window.show_panel("maps")
            s.notice.emit("done", f"{len(made)} maps of {mesh.island_count} islands.", "")

        text = (
            f"{subject.name} has {mesh.island_count} islands. Each map takes so many of them, spread round the middle."
        )
        self._open("Maps by island", text, {"every": every}, run)

    def layer_by_map(self):
        s, subject = self.session, self._subject()
        if not subject.maps:
            raise EstampaError(subject.name, "has no weight maps.", "Make maps by island first (Ctrl+Shift+I).")
        kinds = {k.kind: k.title for k in kinds_in("layer") if "map" in k.channels and not k.remeshes}
        grips = {"new": "A new grip", **{t.id: t.name for t in s.doc.of_kind("grip")}}
        made = [m for m in subject.maps if m.name.startswith("Island")]
        which = {"made": f"The {len(made)} made by island", "all": f"All {len(subject.maps)}"}
        which = which if made else {"all": which["all"]}
        fields = {
            "kind": choice("sway", "The layer that is put on each map.", kinds, title="Layer"),
            "which": choice("made" if made else "all", "Which weight maps get one.", which, title="Maps"),
            "grip": choice("new", "The grip that all of them read.", grips, title="Grip"),
            "different": STRENGTH,
            "seed": SEED,
        }

        def run(kind, which, grip, different, seed):
            maps = [m.id for m in (made if which == "made" else subject.maps)]
            if grip == "new":
                grip = dict(zip("xyz", s.scene.mesh(subject.mesh).foot.tolist(), strict=True))
            layers = rig.layer_by_map(s.scene, subject.id, kind, maps, grip, None, different, seed)
            s.selection.select(layers[0].id)

        self._open("A layer on each map", f"The same layer on each map of {subject.name}.", fields, run)

    def make_different(self):
        s, subject = self.session, self._subject()
        kind = s.selection.thing.kind if s.selection.thing.kind != "subject" else None
        layers = [l for l in subject.stack if l.declared is not None and l.kind == (kind or l.kind)]
        kinds = [l.kind for l in layers]
        kind = kind or max(set(kinds), key=kinds.count, default=None)
        chosen = [l.id for l in layers if l.kind == kind]
        run = lambda strength, seed: rig.make_different(s.scene, chosen, strength, seed)
        text = f"Angle, axis and phase of the {len(chosen)} {kind or ''} layers of {subject.name} are varied by chance."
        fields = {"strength": STRENGTH, "seed": SEED}
        self._open("Make them a bit different", text, fields, run, again="Try it, then the next seed")

    def freeze_strip(self):
        """Freeze a cycle of the selected subject to a strip; a strip that is selected is frozen again."""
        s, subject = self.session, self.session.selection.subject
        if subject is None:
            raise EstampaError("Freeze a strip", "needs a subject.", "Select the one whose cycle is to be frozen.")
        if any(l.constant("made") for l in subject.layers_of("flip")):
            strips.freeze_again(s.scene, s.scene.evaluator(s.store), subject.id)
            s.notice.emit("done", f"{subject.name} is frozen again.", "")
            return
        fields = {
            "first": whole(s.doc.start, "Of the first pose.", title="From frame", unit="frames", soft=(1, 200)),
            "count": whole(10, "How many poses, one a frame.", title="Poses", soft=(2, 48), hard=(1, 1000)),
        }

        def run(first, count):
            made, doubled = strips.freeze(s.scene, s.scene.evaluator(s.store), subject.id, first, count)
            s.selection.select(made.id)
            words = f"{made.name} has {count} poses; {subject.name} is off, and kept."
            if doubled:
                words += f" Its last pose shows the first again: the cycle has {count - 1}."
            s.notice.emit("note" if doubled else "done", words, "")

        words = f"{subject.name} is frozen, one pose a frame. A cycle that shows frame 1 again at frame 11 has ten."
        self.dialog = Ask(self.window, "Freeze a strip", words, fields, run)
        self.dialog.open()

    def by_hand(self):
        s = self.session
        if s.selection.thing not in s.doc.of_kind("copies"):
            raise EstampaError("This", "is for copies.", "Select copies in the roster first.")
        rig.by_hand(s.scene, s.selection.thing.id)
        s.view.set_view(tool="place")
        s.notice.emit("note", "Drag a copy where it should stand, or click to place another (Place tool, L).", "")

    def _shape_after(self, subject, layer=None):
        """(n, 3) m: the subject's shape at this frame after a layer, or after its whole stack."""
        s, evaluator = self.session, self.session.work.evaluator("window")
        layers = evaluator.layers(subject)
        if layer in layers:
            layers = layers[: layers.index(layer) + 1]
        shape = evaluator.rows(subject, layers, evaluator.stage.one(subject, s.player.frame))
        if not shape.is_current:
            raise EstampaError(subject.name, f"is not solved at frame {s.player.frame}.", "Solve first (Ctrl+Space).")
        return shape.points[0]

    def capture_target(self):
        """Keep the shape after the selected layer (or the whole stack), as it is now, as a morph target."""
        s, subject = self.session, self._subject()
        points = self._shape_after(subject, s.selection.thing)
        made = do.add_target(s.scene, subject.id, points, f"{subject.name} at {s.player.frame}")
        s.notice.emit("done", f"Captured “{made.name}”. Add a morph layer to go towards it.", "")

    def keep_as_rest(self):
        """The shape at this frame becomes the one in which the selected cloth (or the only one) rests."""
        s, subject = self.session, self._subject()
        cloths = subject.layers_of("cloth")
        layer = s.selection.thing if s.selection.thing in cloths else (cloths[0] if len(cloths) == 1 else None)
        if layer is None:
            raise EstampaError(subject.name, "has no cloth that is selected.", "Select a cloth layer first.")
        cloth.keep_as_rest(s.scene, subject.id, layer.id, self._shape_after(subject, layer))
        s.notice.emit("done", f"{layer.name} rests as it is at frame {s.player.frame}. Its frames are solved anew.", "")

    def untangle(self):
        """Undo what the selected subject's cloth goes through, from the present frame on."""
        s, subject = self.session, self._subject()
        layer = next((l for l in subject.stack if l.on and getattr(l.declared, "alarm", None)), None)
        if layer is None:
            raise EstampaError(subject.name, "has no cloth that could be untangled.", "Add a Cloth layer first.")
        frame = max(int(s.player.frame), s.doc.solved_from + 1)
        aid = cloth.untangle_from(s.scene, subject.id, layer.id, frame)
        s.selection.select(aid.id)
        s.notice.emit("done", f"{subject.name} is untangled from frame {frame} on; solve to see it.", "")

    def hold_along(self):
        """Hold the selected cloth along the joints of a skeleton."""
        s, subject = self.session, self._subject()
        skeletons = {t.id: t.name for t in s.doc.skeletons}
        if not skeletons:
            raise EstampaError("The scene", "has no skeleton to hold along.", "Add joints first (J).")
        skinned = next((l.constant("skeleton") for l in skins_of(subject)), None)
        first = skinned if skinned in skeletons else next(iter(skeletons))
        fields = {"skeleton": choice(first, "The skeleton whose joints the mesh runs along.", skeletons)}

        def run(skeleton):
            layer = cloth.hold_along_joints(s.scene, subject.id, skeleton)
            s.selection.select(layer.id)

        text = f"{subject.name} is held where its mesh runs along the joints: a map is made, and put on its cloth."
        self._open("Hold along joints", text, fields, run)

    def cut_off(self):
        """Part the selected subject along the edges where one of its maps ends."""
        s, subject = self.session, self._subject()
        maps = {m.id: m.name for m in subject.maps}
        if not maps:
            cure = "Make one of what is to stay: 1 there, 0 elsewhere (Ctrl+M)."
            raise EstampaError(subject.name, "has no weight map to be cut along.", cure)
        stays = "Faces that have half of it or more stay; the others are cut off."
        fields = {"map": choice(next(iter(maps)), stays, maps, title="Along map")}
        text = f"{subject.name} is parted along a row of edges. What is cut off becomes a subject of its own."
        self._open("Cut off", text, fields, lambda map: s.selection.select(halves.cut_off(s.scene, subject.id, map).id))

    def mirrored_half(self):
        """The other half of the selected subject."""
        s, subject = self.session, self._subject()
        fields = {
            "axis": choice("x", "The mirror stands where it is 0.", {a: a.upper() for a in "xyz"}, title="Across"),
            "later": number(0, "How much later it follows the keys of the morphs.", unit="frames", soft=(-24, 24)),
            "rim": choice("welded", "What lies on the mirror.", RIMS, title="On the mirror"),
        }  # fmt: skip
        text = f"The mirrored half of {subject.name} is put beside it, across the mirror."
        off = {a: max(halves.rims_off(s.scene, subject.id, a).items(), key=lambda n: n[1], default=None) for a in "xyz"}
        far_off = [f"across {a.upper()} by up to {format_length(o[1])} (“{o[0]}”)" for a, o in off.items() if o]
        if far_off:
            text += f" Shapes have their rims off the mirror, {', '.join(far_off)}: welded, they are moved onto it."

        def run(axis, later, rim):
            halves.add_mirrored(s.scene, subject.id, axis, later, rim == "welded")
            if rim == "welded" and off[axis]:
                name, far = off[axis]
                words = f"The rim of “{name}” was moved onto the mirror by up to {format_length(far)}."
                s.notice.emit("note", words, "Undo, and choose “Each half its own”, to leave it where it is.")

        self._open("Mirrored half", text, fields, run)

    def import_target(self, path: str | None = None):
        s, subject = self.session, self._subject()
        if path is None:
            ask = " ".join(f"*{x}" for x in SUFFIXES)
            path, _ = QFileDialog.getOpenFileName(self.window, "A mesh with the same vertices", "", f"Meshes ({ask})")
        if not path:
            return
        work = lambda progress, cancelled: read_mesh(path, "m", progress=progress)
        then = lambda mesh: s.carry_out(lambda: do.add_target(s.scene, subject.id, mesh.points, Path(path).stem))
        s.work.jobs.add(Task("Reading a target", work, then, alongside=True))

    # -- bodies ----------------------------------------------------------------------------------------------
    def join(self):
        s, subject = self.session, self._subject()
        s.selection.select(do.join(s.scene, subject.id).id)
        s.notice.emit("done", f"{subject.name} and what rode on it are one.", "")

    def split(self, by: str = "island"):
        s, subject = self.session, self._subject()
        parts = do.split(s.scene, subject.id, by)
        s.selection.select(parts[0].id)
        s.notice.emit("done", f"{subject.name} is {len(parts)} subjects now.", "")

    def part_pieces(self, keyed: bool):
        s, subject = self.session, self._subject()
        scene, store = s.scene, s.store

        def work(progress, cancelled):
            return pieces.part(scene, subject.id, keyed, None, None, store, progress, cancelled)

        def then(parted):
            if s.carry_out(lambda: pieces.put(scene, parted)):
                words = f"{subject.name} is {parted.words()} now, and is off; Undo takes it back in one step."
                s.notice.emit("done", words, "")

        s.work.jobs.add(Task("Pieces to subjects", work, then))

    def bake_bodies(self):
        s, subject = self.session, self.session.selection.subject
        every = [t for t in s.doc.subjects if bodies.body_of(t) is not None]
        if not every:
            raise EstampaError("The bake", "finds no body.", "Add a Body layer to a subject first.")
        own = subject is not None and bodies.body_of(subject) is not None
        which = {"all": f"All {len(every):,}"} | ({"chosen": subject.name} if own else {})
        keys = {"few": "As few as the tolerance allows", "all": "One a frame"}
        fields = {
            "which": choice("chosen" if own else "all", "Which bodies are baked.", which, title="Bodies"),
            "every": choice("few", "How many keys.", keys, title="Keys"),
            "place": TIPS,
            "turn": TURNED,
        }

        def run(which, every, place, turn):
            tolerance = None if every == "all" else Tolerance(place, turn)
            scene, store, chosen = s.scene, s.store, [subject.id] if which == "chosen" else None

            def work(progress, cancelled):
                return bodies.bake(scene, chosen, None, tolerance, store, progress, cancelled)

            def then(baked):
                if s.carry_out(lambda: bodies.put(scene, baked)):
                    words = f"Baked: {baked.words()}. The bodies are off; “Bodies back to live” brings them back."
                    s.notice.emit("done", words, "")

            s.work.jobs.add(Task("Bake bodies", work, then))

        self._open("Bake bodies to keys", "What the solve does becomes keys that can be edited by hand.", fields, run)

    def bodies_live(self):
        bodies.back_to_live(self.session.scene)
