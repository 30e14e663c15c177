"""Everything that a script needs, in one place: `from estampa import api`.

Lengths are metres, angles radians, times frames. Points of `Scene.evaluate` and of prints are in the world; weight
maps, morph targets and meshes are in their subject's own space; a skeleton's rest is in the skeleton's. Things are
named by their `id`. Trouble is an EstampaError; every edit is one step that `Scene.undo` takes back.
"""

from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np

from . import edits as commands
from .baking import bodies as body_keys
from .baking import pieces as piece_keys
from .baking.keys import back_to_live, in_place, put
from .baking.keys import bake as bake_keys
from .edits import assets, joints, ragdoll, rig, strips, swarms
from .edits.cameras import match_camera as put_camera
from .edits.clips import new_clip, remove_clip, reverse_clip, set_clip, use_clip
from .edits.importing import bring_in
from .edits.versions import compare as compare_version
from .edits.versions import take as take_version
from .errors import Cancelled, EstampaError
from .evaluate import exposed_faces, starts
from .formats.asset import read_asset
from .formats.meshfile import read_mesh
from .geometry.camera_match import CameraMatch, KnownPoint, Line
from .geometry.camera_match import match_camera as solve_camera
from .geometry.maps import gradient
from .geometry.mesh import Mesh
from .geometry.primitives import box
from .inspect.closing import close as close_loop
from .inspect.closing import offers as loop_offers
from .inspect.loops import seams
from .inspect.remarks.remark import Remark
from .inspect.remarks.worked_out import all_remarks
from .inspect.rounds import close_solved
from .inspect.rounds import put as put_solved
from .inspect.sync import desync, in_step
from .kinds.registry import kinds_in
from .press.run import bake_scene
from .scene.curves import Curve, Key
from .scene.document import Document, Thing
from .scene.file import load_scene, save_scene
from .scene.reduce import Tolerance
from .scene.scene import Scene
from .scene.values import Rows
from .store.frames import FrameStore

open_scene = load_scene

# the edits of things, channels, keys and maps
add_layer = commands.add_layer
add_map = commands.add_map
add_mesh = commands.add_mesh
add_target = commands.add_target
add_thing = commands.add_thing
duplicate = commands.duplicate
link = commands.link
move_layer = commands.move_layer
remove = commands.remove
remove_key = commands.remove_key
rename = commands.rename
reset_value = commands.reset_value
set_curve = commands.set_curve
set_formula = commands.set_formula
set_key = commands.set_key
set_loop = commands.set_loop
set_map = commands.set_map
set_on = commands.set_on
set_range = commands.set_range
set_spots = commands.set_spots
set_start = commands.set_start
split = commands.split
set_value = commands.set_value
set_values = commands.set_values

# bodies, and start states
bake_bodies = body_keys.bake
bodies_back_to_live = body_keys.back_to_live
put_bodies = body_keys.put
part_pieces = piece_keys.part
put_pieces = piece_keys.put


def adopt(scene: Scene, solver_id: str, frame: int, from_id: str | None = None, store=None) -> None:
    """Let a solver or an ensemble begin from a solved frame, its own or that of another of its kind.

    Solves what is not solved yet, into the given FrameStore or the user's. `set_start(scene, solver_id, None)` lets it
    begin from rest again.
    """
    set_start(scene, solver_id, starts.adopt(scene.evaluator(store), solver_id, frame, from_id))


# skeletons
add_skeleton = joints.add_skeleton
along_path = joints.along_path
bind_cage = joints.bind_cage
bind_skin = joints.bind_skin
extend = joints.extend
from_beads = joints.from_beads
mirror = joints.mirror
remove_joint = joints.remove_joint
rename_joints = joints.rename_joints
straight = joints.straight
subdivide = joints.subdivide

# assets: a thing with all that belongs to it
keep_asset = assets.keep
make_limp = ragdoll.make_limp
put_asset = assets.put
replace_by_asset = assets.replace

# swarms
add_swarm = swarms.add_swarm


def grains(scene: Scene, swarm_id: str, frame: float, store=None) -> dict[str, np.ndarray]:
    """The grains of a swarm at a frame, by column: ids (n,) int64, place (n, 3) m, speed (n, 3) m/s, heading (n, 3),
    bank (n,) rad, age, life and sits (n,) s. Solves what is not solved yet; one by formula needs none."""
    evaluator, swarm = scene.evaluator(store), scene.doc.find(swarm_id)
    if swarm not in evaluator.doc.swarms:
        raise EstampaError("That", "is no swarm.", "Name one by its id.")
    if swarm.declared.by_formula(swarm):
        return evaluator.swarms.by_formula(swarm, frame)
    evaluator.solve_through(frame)
    table = evaluator.runs.shown(swarm, swarm, frame).frame["grains"]
    return {**table.columns, "ids": table.ids}


def freeze_strip(scene: Scene, subject_id: str, first: int, count: int, store=None) -> Thing:
    """Freeze so many frames of a subject's cycle to a strip, a subject of its own; the original is switched off. Solves
    what is not solved yet."""
    evaluator = scene.evaluator(store)
    evaluator.solve_through(first + count - 1)
    return strips.freeze(scene, evaluator, subject_id, first, count)[0]


def bared_faces(scene: Scene, subject_id: str, frame: int, store=None) -> exposed_faces.Bared:
    """The inner faces of a broken subject that were bared in the step to a frame: where dust and debris come from."""
    evaluator = scene.evaluator(store)
    evaluator.solve_through(frame)
    return exposed_faces.bared(evaluator, scene.doc.find(subject_id), frame)


# plants
by_hand = rig.by_hand
layer_by_map = rig.layer_by_map
make_different = rig.make_different
maps_by_island = rig.maps_by_island


def find(scene: Scene, name: str) -> Thing:
    """The thing of that name: a subject, grip, layer, joint, force or print. Raises EstampaError when there is none."""
    found = next((t for t, _ in scene.doc.everything() if t.name == name), None)
    if found is None:
        raise EstampaError(f"“{name}”", "is not in the scene.", "Look at the names with `estampa info`.")
    return found


def cube(size: float = 1.0, at=(0.0, 0.0, 0.0)) -> Mesh:
    """A closed cube with its middle at a place, metres."""
    half = size / 2
    return box([a - half for a in at], [a + half for a in at])


def kinds(family: str = "layer") -> dict[str, str]:
    """Words and titles of what can be added: of a family "layer", "thing", "force", "ensemble" or "print"."""
    return {k.kind: k.title for k in kinds_in(family)}


def remarks(scene: Scene, store: FrameStore | None = None) -> list[Remark]:
    """Everything that is to be said of a scene, errors first: what would stop a solve, a picture or a print among
    it."""
    return all_remarks(scene.evaluator(store, stand_ins=True))


def film(
    scene: Scene,
    path: str | Path,
    size: tuple[int, int] = (1280, 720),
    frames: Iterable[int] | None = None,
    camera: str | None = None,
    progress: Callable[[float, str], None] | None = None,
    alpha: str | None = None,
    mattes: bool = False,
    measured: bool = False,
) -> list[Path]:
    """Film a scene to a movie (.mp4; .mov with alpha), or to numbered pictures (.png, .exr); needs no screen. Returns
    the paths written.

    frames -- the frames that are shown; the scene's range by default
    camera -- name of the camera that is looked through; none frames what moves
    alpha -- "straight" or "premultiplied": over nothing, with the shadows on the floor; "" as a pane shows it. By
        default "" where the file can hold that, else straight in .mov and premultiplied in .exr
    mattes -- how much of each pixel each thing covers, as pictures or as channels of OpenEXR
    measured -- in OpenEXR: depth in metres, and motion in pixels until the next frame
    """
    from .app.view.film import film_scene  # the one part that draws
    from .app.view.movie import FORMS

    path = Path(path)
    if alpha is None:
        alpha = FORMS.get(path.suffix.lower(), ("", ("",)))[1][0]
    asked = {"alpha": alpha, "mattes": mattes, "measured": measured}
    return film_scene(scene, path, tuple(size), frames, camera, progress, **asked)


def match_camera(
    scene: Scene, camera: str, size: tuple[int, int], points: Iterable[KnownPoint] = (), lines: Iterable[Line] = ()
) -> CameraMatch:
    """Put a camera where a photograph was taken from, with its lens, and return what was found: see
    estampa.geometry.camera_match.

    camera -- its name; size -- pixels of the photograph; points -- what is known in the scene and where it is seen;
    lines -- what runs along the axes
    """
    thing = find(scene, camera)
    origin = scene.values.place(thing, Rows.one(scene.doc.start)).origin[0]
    found = solve_camera(size, tuple(points), tuple(lines), origin)
    put_camera(scene, thing.id, found)
    return found


__all__ = [
    "Cancelled",
    "Curve",
    "Document",
    "EstampaError",
    "FrameStore",
    "CameraMatch",
    "Key",
    "KnownPoint",
    "Line",
    "Mesh",
    "Scene",
    "Thing",
    "Tolerance",
    "add_layer",
    "add_map",
    "add_mesh",
    "add_skeleton",
    "add_swarm",
    "add_target",
    "add_thing",
    "adopt",
    "along_path",
    "back_to_live",
    "bake_bodies",
    "part_pieces",
    "put_pieces",
    "bake_keys",
    "bake_scene",
    "bared_faces",
    "bind_cage",
    "bind_skin",
    "bodies_back_to_live",
    "bring_in",
    "by_hand",
    "close_loop",
    "close_solved",
    "compare_version",
    "cube",
    "desync",
    "duplicate",
    "extend",
    "film",
    "find",
    "freeze_strip",
    "from_beads",
    "gradient",
    "grains",
    "in_place",
    "in_step",
    "keep_asset",
    "kinds",
    "layer_by_map",
    "link",
    "loop_offers",
    "make_different",
    "make_limp",
    "maps_by_island",
    "match_camera",
    "mirror",
    "move_layer",
    "new_clip",
    "open_scene",
    "put",
    "put_asset",
    "put_bodies",
    "read_asset",
    "read_mesh",
    "remarks",
    "remove",
    "remove_clip",
    "remove_joint",
    "remove_key",
    "rename",
    "rename_joints",
    "replace_by_asset",
    "reset_value",
    "reverse_clip",
    "save_scene",
    "put_solved",
    "seams",
    "set_clip",
    "set_curve",
    "set_formula",
    "set_key",
    "set_loop",
    "set_map",
    "set_on",
    "set_range",
    "set_spots",
    "set_start",
    "set_value",
    "set_values",
    "split",
    "straight",
    "subdivide",
    "take_version",
    "use_clip",
]
