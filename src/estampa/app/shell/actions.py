"""Every command, declared once: menus, tool strips, shortcuts and the command finder are drawn from here."""

from PySide6.QtGui import QAction, QKeySequence

from ...kinds.panels import panels
from ...kinds.registry import GROUPS, kind_of, kinds_in
from ..facets.by_hand import add_layer
from ..view.tools.match import match_camera
from ..view.tools.pick import choose_islands
from . import theme

CHECKABLE = (
    "tool_hand",
    "tool_pick",
    "tool_gradient",
    "tool_place",
    "tool_joint",
    "tool_paint",
    "tool_match",
    "joints",
    "live",
    "wire",
    "yarns",
    "pieces",
    "stretch",
    "night",
    "auto_key",
    "curves",
    "second_pane",
    "ghosts",
    "grain_trails",
    "cut",
    "follow",
    "shapes",
    "trails",
    "controls",
    "meshes",
    "hold",
    "isolate",
    "look_through",
    "pin",
)

# words on buttons that have little room
SHORT = {
    "joint_chain": "Chain",
    "joint_path": "Along a path",
    "joint_beads": "From beads",
    "joint_rename": "Rename",
    "tool_paint": "Paint",
    "bind_cage": "To a cage",
    "rest_here": "New rest",
}


def declare(window) -> dict[str, QAction]:
    """The window's commands by name, in the order of the menus."""
    found = {}
    for name, menu, words, keys, icon, help_text, run in _table(window, window.session, window.files):
        action = QAction(theme.icon(icon), words, window)
        action.setData(icon)
        action.setObjectName(name)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.setToolTip(f"{help_text} ({keys})" if keys else help_text)
        action.setProperty("menu", menu)
        if name in SHORT:
            action.setIconText(SHORT[name])
        action.setCheckable(name in CHECKABLE)
        action.triggered.connect(lambda _=False, run=run: window.session.carry_out(run))
        window.addAction(action)
        found[name] = action
    return found


def lowered(title: str) -> str:
    """A title within a sentence; standards keep their capitals."""
    return title if title[:2].isupper() else title[0].lower() + title[1:]


def added(kinds):
    """Kinds in the order in which they are offered: by what one wants to do, then the most used first."""
    return sorted(kinds, key=lambda k: (list(GROUPS).index(k.group) if k.group in GROUPS else 99, k.rank, k.title))


# fmt: off
def _table(w, s, files):
    """(name, menu, words, shortcut, icon, help, what it does) for window w on session s."""
    return [*_scene_and_edit(w, s, files), *_rig(w), *_joints(w, s), *_press_and_tools(w, s), *_view(w, s), *_play(w, s)]



def _scene_and_edit(w, s, files):
    """Rows of what scenes and things are asked: Scene, Edit, Add."""
    things = [k for k in (*kinds_in("thing"), *kinds_in("force"), *kinds_in("ensemble")) if k.added_by_hand]
    add = lambda kind: (lambda: add_layer(s, kind)) if kind_of(kind).family == "layer" else (lambda: w.add_thing(kind))
    word = lambda k: f"{k.title} layer" if k.family == "layer" else k.title
    return [
        ("new", "Scene", "New scene", "Ctrl+N", "subject", "Begin with an empty scene", files.new),
        ("open", "Scene", "Open…", "Ctrl+O", "open", "Open a scene", files.ask_open),
        ("import", "Scene", "Import a scene file or a mesh…", "Ctrl+I", "subject", "GLB, glTF, OpenUSD, OBJ, PLY or STL, with its tree, materials and animation", files.ask_import),
        ("new_version", "Scene", "Take the new version…", "Ctrl+Alt+V", "reset", "Exchange the meshes of the file that the selected subject came from, and keep what was done to them", files.new_version),
        ("save", "Scene", "Save", "Ctrl+S", "save", "Save the scene", files.save),
        ("save_as", "Scene", "Save as…", "Ctrl+Shift+S", "save", "Save the scene under another name", files.ask_save),
        ("quit", "Scene", "Quit", "Ctrl+Q", "remove", "Close Estampa", w.close),
        ("undo", "Edit", "Undo", "Ctrl+Z", "reset", "Take back the last edit", lambda: s.scene.undo()),
        ("redo", "Edit", "Redo", "Ctrl+Shift+Z", "reset", "Do again what was taken back", lambda: s.scene.redo()),
        ("rename", "Edit", "Rename", "F2", "key", "Rename what is selected", w.rename),
        ("duplicate", "Edit", "Duplicate", "Ctrl+D", "add", "Copy what is selected", w.duplicate),
        ("switch", "Edit", "Switch on or off", "O", "eye", "Switch what is selected on or off", w.switch),
        ("remove", "Edit", "Remove", "Shift+Delete", "remove", "Remove what is selected (can be undone)", w.remove),
        ("layer_up", "Edit", "Move the layer up", "Ctrl+Up", "more", "It then reads less, and moves what stands below", lambda: w.move_layer(-1)),
        ("layer_down", "Edit", "Move the layer down", "Ctrl+Down", "more", "It then reads what stands above it", lambda: w.move_layer(1)),
        ("set_key", "Edit", "Key every keyed channel here", "K", "key", "Put keys at this frame on the keyed channels of what is selected", w.key_all),
        ("isolate", "Edit", "Isolate", "Shift+O", "eye", "Show only what is selected; again shows everything", w.isolate),
        ("auto_key", "Edit", "Auto-key", "Shift+K", "auto_key", "Every change of a channel that animates sets a key at this frame", lambda: w.toggle("auto_key")),
        ("add", "Add", "Add…", "A", "add", "Type what you want to do: each kind with its picture and a sentence", w.add_something),
        *(("add_" + k.kind, f"Add/{GROUPS[k.group]}", f"Add {lowered(word(k))}", k.shortcut, k.kind, k.summary(), add(k.kind))
          for k in added([*kinds_in("layer"), *things])),
    ]


def _rig(w):
    """Rows of the Rig menu, and assets."""
    return [
        ("maps_by_island", "Rig", "Maps by island…", "Ctrl+Shift+I", "subject", "A weight map for each island, or for some that lie opposite each other", w.rigging.maps_by_island),
        ("freeze_strip", "Rig", "Freeze a strip…", "Ctrl+Alt+Y", "flip", "Freeze a cycle of the selected subject, one pose a frame, for grains and copies to flip through; a strip is frozen again", w.rigging.freeze_strip),
        ("layer_by_map", "Rig", "A layer on each map…", "Ctrl+Shift+L", "sway", "The same layer on every weight map, all reading one grip, a bit different from one another", w.rigging.layer_by_map),
        ("make_different", "Rig", "Make them a bit different…", "Ctrl+Shift+D", "different", "Vary angle, axis and phase of the layers of one kind, by a seed", w.rigging.make_different),
        ("copies_by_hand", "Rig", "Place copies by hand", "Ctrl+Shift+H", "place", "Turn copies arranged by rule into copies that are each placed by hand", w.rigging.by_hand),
        ("capture_target", "Rig", "Capture a morph target", "Ctrl+Shift+T", "morph", "Keep the shape at this frame, after the selected layer, as a morph target", w.rigging.capture_target),
        ("keep_as_rest", "Rig", "Keep this shape as rest", "Ctrl+Alt+R", "cloth", "The shape at this frame becomes the one in which the selected cloth rests", w.rigging.keep_as_rest),
        ("hold_along", "Rig", "Hold along joints…", "Ctrl+Alt+J", "hold_to", "The selected cloth is held where its mesh runs along the joints of a skeleton", w.rigging.hold_along),
        ("untangle", "Rig", "Untangle from here", "Alt+Shift+U", "untangle", "What the selected cloth goes through is undone by the shorter way out, from this frame on", w.rigging.untangle),
        ("cut_off", "Rig", "Cut off along a map…", "Ctrl+Alt+C", "cut", "Part the selected subject along the edges where a weight map ends; what is cut off becomes a subject of its own", w.rigging.cut_off),
        ("mirrored_half", "Rig", "Mirrored half…", "Ctrl+Alt+H", "compare", "The other half of the selected mesh across its own middle, welded, with its morphs a little later", w.rigging.mirrored_half),
        ("import_target", "Rig", "Read a morph target…", "Ctrl+Alt+T", "open", "A mesh file with the same vertices in the same order", w.rigging.import_target),
        ("split_groups", "Rig", "Split into what was joined", "Alt+Shift+K", "piece_nodes", "Each subject that the selected one was joined of becomes one again", lambda: w.rigging.split("group")),
        ("split_materials", "Rig", "Split by material", "Alt+Shift+D", "piece_nodes", "What is of each material of the selected subject becomes a subject of its own", lambda: w.rigging.split("material")),
        ("join", "Rig", "Join with what rides on it", "Alt+Shift+I", "subject", "The selected subject and the subjects that ride on it become one", w.rigging.join),
        ("split", "Rig", "Split into subjects", "Ctrl+Alt+S", "piece_nodes", "Each island of the selected subject becomes a subject of its own", w.rigging.split),
        ("pieces_keyed", "Rig", "Pieces to keyed subjects", "Ctrl+Alt+E", "piece_nodes", "Each piece of the selected subject becomes a subject with keys of how it moved", lambda: w.rigging.part_pieces(True)),
        ("pieces_bodies", "Rig", "Pieces to subjects", "Ctrl+Alt+U", "piece_nodes", "Each piece of the selected subject becomes a subject, and a body of its own where it was one", lambda: w.rigging.part_pieces(False)),
        ("bake_bodies", "Rig", "Bake bodies to keys…", "Ctrl+Alt+K", "bake", "The selected bodies, or all of them, become keys on their subjects", w.rigging.bake_bodies),
        ("bodies_live", "Rig", "Bodies back to live", "Ctrl+Alt+L", "reset", "Switch baked bodies on again, and put their subjects back", w.rigging.bodies_live),
        ("keep_asset", "Scene", "Keep as an asset…", "Ctrl+Alt+A", "add", "The selected thing with all that belongs to it, for any scene", w.assets.keep),
        ("put_asset", "Scene", "Put an asset…", "Ctrl+Alt+P", "open", "One of the assets that were kept, here or in the place of the selected skeleton", w.assets.put),
    ]


def _joints(w, s):
    """Rows of joints, skins, clips and loops."""
    k = w.skeletons
    return [
        ("joint_chain", "Joints", "A chain between two points", "Ctrl+Shift+J", "chain", "Drag in the view from where it begins to where it ends", k.chain),
        ("joint_path", "Joints", "A chain along a path…", "Alt+Shift+J", "along", "So many joints at even distances along the selected path", k.along_path),
        ("joint_beads", "Joints", "Strings of beads…", "Alt+Shift+B", "beads", "Skeleton, skin and swinging chain from a mesh of beads", k.beads),
        ("joint_subdivide", "Joints", "Subdivide…", "Alt+Shift+S", "more", "Cut the selected joint into several", k.subdivide),
        ("joint_mirror", "Joints", "Mirror…", "Alt+Shift+M", "compare", "The selected joint and all that hang on it, to the other side", k.mirror),
        ("joint_rename", "Joints", "Rename joints…", "Alt+Shift+R", "key", "A base name and numbers, for the selected joints", k.rename),
        ("joint_rest", "Joints", "Back to rest", "Alt+Shift+0", "reset", "Clear what moved the selected joints by hand, or all of them", k.to_rest),
        ("rest_here", "Joints", "Make this the rest", "Alt+Shift+H", "skeleton", "The pose by hand at this frame becomes the rest pose", k.rest_here),
        ("make_limp", "Joints", "Make limp (ragdoll)", "Ctrl+Alt+G", "limp", "Name the parts of the selected skeleton's body, give its joints limits, and let it fall", k.make_limp),
        ("bind_skin", "Joints", "Bind…", "Ctrl+B", "skin", "The selected mesh follows the skeleton, with automatic weights", k.bind),
        ("bind_cage", "Joints", "Bind to a cage…", "Ctrl+Shift+B", "cage", "The selected mesh is carried by a mesh of few faces around it", k.bind_cage),
        ("bake_keys", "Joints", "Bake to keys…", "Ctrl+K", "bake", "What the layers of the skeleton do becomes keys", k.bake),
        ("back_to_live", "Joints", "Back to live", "Ctrl+Shift+K", "reset", "Switch baked layers on again, and put the channels back as they were", k.back_to_live),
        ("in_place", "Joints", "In place…", "Alt+Shift+P", "pin", "Take the travel out of the root of what is baked", k.in_place),
        ("clip_new", "Joints", "New clip…", "Ctrl+Shift+C", "add", "Keep the present keys as a named clip", k.new_clip),
        ("clip_play", "Joints", "Play clip", "Alt+Shift+Return", "play", "Put the keys of the chosen clip in place", lambda: w.joints.play_clip()),
        ("clip_reverse", "Joints", "Reverse", "Alt+Shift+Left", "reset", "A new clip that plays the chosen one backwards", lambda: w.joints.reverse_clip()),
        ("clip_remove", "Joints", "Remove clip", "Alt+Shift+Delete", "remove", "Remove the chosen clip (can be undone)", lambda: w.joints.remove_clip()),
        ("close_seam", "Loop", "Close the seam", "Ctrl+L", "loop", "Make noise come back, rates go round and keys meet over the loop range", lambda: w.loop.close_seam()),
        ("close_solved", "Loop", "Close solved loops", "Ctrl+Alt+W", "loop", "Let what is solved close its loop: run-up until rounds agree, and a fade of what stays open", lambda: w.loop.close_solved()),
        ("find_in_step", "Loop", "Look for what moves in step", "Ctrl+Y", "find", "Copies and layers whose motion is the same at the same time", lambda: (w.show_panel("loop"), w.loop.find_in_step())),
        ("desync", "Loop", "Desync", "Ctrl+Shift+Y", "different", "Bring what moves in step out of it, by stagger or phase", lambda: w.loop.desync()),
    ]


def _press_and_tools(w, s):
    """Rows of prints, tools and maps."""
    maps = lambda what, *more: lambda: getattr(w.maps, what)(*more)
    skeletons = w.skeletons
    return [
        *(("add_" + k.kind, "Press", f"Add {lowered(k.title)} print", k.shortcut, k.kind, k.summary(),
           lambda k=k.kind: (w.press.add_print(k), w.show_panel("press"))) for k in added(kinds_in("print"))),
        ("press_all", "Press", "Run all prints", "Ctrl+Return", "press", "Solve, write and read back every print", w.run_prints),
        ("tool_hand", "Tools", "Hand", "H", "hand", "Turn the view, select things and take hold of grips", lambda: s.view.set_view(tool="hand")),
        ("tool_pick", "Tools", "Pick", "P", "pick", "Choose vertices by click or box; Shift adds, Ctrl takes away, a double click takes the island",
         lambda: w.use_tool("pick")),
        ("tool_gradient", "Tools", "Gradient", "G", "gradient", "Drag from 0 to 1 to lay a straight gradient in the active map",
         lambda: w.use_tool("gradient")),
        ("tool_place", "Tools", "Place", "L", "place", "Click to add a point to the selected path, or a copy by hand",
         lambda: s.view.set_view(tool="place")),
        ("tool_joint", "Tools", "Joint", "J", "joint", "Click joints into a mesh; each sits in the middle of what is under the pointer", lambda: skeletons.use_tool("joint")),
        ("tool_paint", "Tools", "Paint weights", "T", "paint", "Paint the weights of the selected joint on the skin", lambda: skeletons.use_tool("paint")),
        ("tool_match", "Tools", "Match marks", "Ctrl+Alt+D", "match", "Mark edges and known points in a photograph behind the pane, to match a camera to it",
         lambda: s.view.set_view(tool="match")),
        ("match_camera", "Tools", "Match the camera", "Ctrl+Alt+F", "camera", "Put the camera where the marks say that the photograph was taken from, with its lens",
         lambda: match_camera(w.active_pane)),
        ("choose_all", "Maps", "Choose all", "Ctrl+A", "pick", "Choose every vertex of the subject", maps("choose", "all")),
        ("choose_none", "Maps", "Choose none", "Ctrl+Shift+A", "remove", "Choose no vertex", maps("choose", "none")),
        ("choose_islands", "Maps", "Choose islands", "I", "subject", "Grow what is chosen to its connected islands", lambda: choose_islands(s)),
        ("choose_uncovered", "Maps", "Choose uncovered", "U", "find", "Choose the vertices that no map covers yet", maps("choose", "uncovered")),
        ("map_new", "Maps", "New map", "Ctrl+M", "add", "Make a weight map of the chosen vertices", maps("new_map")),
        ("map_set", "Maps", "Set weight", "Shift+E", "key", "Set the weight of the chosen vertices", maps("change", "set")),
        ("map_add", "Maps", "Add weight", "Shift+A", "add", "Add to the weight of the chosen vertices", maps("change", "add")),
        ("map_take", "Maps", "Take weight", "Shift+T", "remove", "Take from the weight of the chosen vertices", maps("change", "take")),
        ("map_smooth", "Maps", "Smooth map", "Shift+S", "noise", "Even out the weights of the chosen vertices", maps("smooth")),
        ("map_invert", "Maps", "Invert map", "Shift+I", "reset", "Turn 0 into 1 and 1 into 0 in the chosen vertices", maps("invert")),
        ("map_remove", "Maps", "Remove map", "Ctrl+Alt+M", "remove", "Remove the active map (can be undone)", maps("remove")),
    ]


def _view(w, s):
    """Rows of how panes look."""
    return [
        ("frame_selection", "View", "Frame", "F", "frame", "Bring what is selected into view", lambda: w.active_pane.frame_selection()),
        ("frame_all", "View", "Frame all", "Shift+F", "frame", "Bring everything into view", lambda: w.active_pane.frame_all()),
        *((f"look_{n}", "View", f"Look from {words}", f"Shift+F{i}", "eye", f"Turn the view to look from {words}", lambda y=yaw, p=pitch: w.active_pane.look_from(y, p))
          for i, (n, words, yaw, pitch) in enumerate((("front", "the front (+Z)", 0.0, 0.0), ("side", "the side (+X)", 1.5708, 0.0), ("above", "above (+Y)", 0.0, 1.55)), 5)),
        ("second_pane", "View", "Second pane", "Shift+V", "panes", "Another view beside the first; it begins with the controls alone", w.toggle_pane),
        ("look_through", "View", "Look through the camera", "V", "camera", "This pane sees what the selected camera sees, or its own view again", w.look_through),
        ("shade", "View", "Backdrop: plain", "Alt+Shift+O", "backdrop", "What lies behind this pane: plain grey, graded, paper or dusk; pictures and movies have it too", w.next_shade),
        ("shadows", "View", "Shadows", "Alt+Shift+W", "backdrop", "Shadows of the sky's light on meshes and on the floor; without a graphics card they take time", lambda: w.toggle("shadows")),
        ("meshes", "View", "Show meshes", "Shift+M", "subject", "Draw the meshes in this pane", lambda: w.toggle("meshes")),
        ("controls", "View", "Show controls", "Shift+C", "grip", "Draw grips, zones, paths, cameras and winds in this pane", lambda: w.toggle("controls")),
        ("joints", "View", "Show joints", "Shift+J", "skeleton", "Draw the joints of skeletons over the meshes", lambda: w.toggle("joints")),
        ("trails", "View", "Motion trails", "Shift+R", "path", "Draw where the selected thing goes, a tick a frame", lambda: w.toggle("trails")),
        ("ghosts", "View", "Ghosts", "Shift+G", "ghost", "Draw frames before and after the present one", lambda: w.toggle("ghosts")),
        ("shapes", "View", "Collision shapes", "Shift+B", "collider", "Draw what bodies run into, over the meshes", lambda: w.toggle("shapes")),
        ("grain_trails", "View", "Grain trails", "Alt+Shift+T", "path", "Draw where grains have just been", lambda: w.toggle("grain_trails")),
        ("grains_as", "View", "Grains by distance", "Alt+Shift+G", "swarm", "How grains are drawn: by distance, as their meshes, as boxes, as points", w.next_grains),
        ("cut", "View", "Slice", "Alt+Shift+X", "cut_view", "Take away what is nearer than what the view turns about, to see inside", lambda: w.toggle("cut")),
        ("follow", "View", "Follow the grain", "Alt+Shift+F", "eye", "The view goes along with the grain that was picked by a click", w.follow),
        ("hold", "View", "Hold to compare", "B", "compare", "Hold the present result as a ghost and compare it while channels change; again lets it go", s.view.hold),
        ("shading", "View", "Shading", "S", "eye", "Smooth, then facets, then lines alone", w.next_shading),
        ("wire", "View", "Wire", "W", "wire", "Draw the edges over the surface", lambda: w.toggle("wire")),
        ("yarns", "View", "Yarns", "N", "cloth", "Stripes across U of what has texture coordinates, to see the cloth stretch and turn", lambda: w.toggle("yarns")),
        ("pieces", "View", "Piece inks", "Shift+N", "piece_nodes", "An ink by chance for each piece, to tell them apart; for looking only", lambda: w.toggle("pieces")),
        ("stretch", "View", "Stretch inks", "Ctrl+Alt+I", "tension", "Ink what has layers by how far its edges are stretched, and tell where they are longest", lambda: w.toggle("stretch")),
        ("curves", "View", "Curves", "C", "curves", "Large curves of what is selected in place of the lanes", w.toggle_curves),
        ("pin", "View", "Pin the sheet", "Shift+P", "pin", "Keep this sheet below, to drag its channels onto others", w.toggle_pin),
    ]


def _play(w, s):
    """Rows of panels, playing and solving."""
    return [
        ("movie", "Press", "Film this pane…", "Ctrl+Shift+P", "movie", "Film this pane as a movie or as pictures, on its ground or as an element over nothing", w.film),
        ("unfold", "View", "Unfold the lane", "Y", "more", "Show the curves of what is selected in its lane", w.unfold),
        ("night", "View", "Night ink", "Ctrl+Alt+N", "eye", "Dark panels, the same palette", w.toggle_night),
        *((f"panel_{p.word}", "View", f"Show the {p.title.lower()}", p.shortcut, "open", f"Bring the {p.title.lower()} to the front", lambda p=p: w.show_panel(p.word))
          for p in panels()),
        ("find", "View", "Find a command…", "Ctrl+J", "find", "Every command by name, with its shortcut", w.find),
        ("play", "Play", "Play", "Space", "play", "Play; solves what is not solved yet", lambda: s.player.play(not s.player.playing)),
        ("live", "Play", "Play live", "Shift+Space", "live", "Let solvers run on from this frame while things are moved by hand", s.player.toggle_live),
        ("first", "Play", "To the first frame", "Home", "first", "Go to the first frame", lambda: s.player.go_to(s.doc.start)),
        ("last", "Play", "To the last frame", "End", "last", "Go to the last frame", lambda: s.player.go_to(s.doc.end)),
        ("next", "Play", "Next frame", ".", "play", "Go to the next frame", lambda: s.player.go_to(s.player.frame + 1)),
        ("previous", "Play", "Previous frame", ",", "play", "Go to the frame before", lambda: s.player.go_to(s.player.frame - 1)),
        ("solve", "Play", "Solve", "Ctrl+Space", "solve", "Solve every frame of the range, beside the window", s.work.solve),
        ("start_here", "Play", "Start from this frame", "Ctrl+Shift+Home", "solve", "The selected solver begins as it is solved here", s.work.start_here),
        ("start_rest", "Play", "Start from rest", "Ctrl+Alt+Home", "reset", "The selected solver begins from rest again", s.work.start_from_rest),
        ("cancel", "Play", "Cancel", "Escape", "stop", "Stop what is under way; what is solved stays", s.work.cancel),
    ]
# fmt: on
