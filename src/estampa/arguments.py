"""What each command of the command line takes."""

import argparse
from collections.abc import Callable, Mapping

Added = Callable[[str, str], argparse.ArgumentParser]  # (name, help) -> the parser of one command


def parser_for(version: str, runs: Mapping[str, Callable[[argparse.Namespace], int]]) -> argparse.ArgumentParser:
    """The parser of all commands. runs -- what carries out each, by its name, which the arguments have as `run`."""
    parser = argparse.ArgumentParser(
        prog="estampa", description="Secondary and environmental motion, from a mesh to baked files."
    )
    parser.add_argument("--version", action="version", version=f"estampa {version}")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND")

    def command(name: str, help: str) -> argparse.ArgumentParser:
        added = commands.add_parser(name, help=help, description=help)
        added.set_defaults(run=runs[name])
        return added

    for declare in (_of_scenes, _of_solving, _of_parts):
        declare(command)
    return parser


def _of_scenes(command: Added) -> None:
    """Commands for scenes: opened, told of, brought in, checked."""
    opened = command("open", "Open the window, on a scene or a mesh file if one is named.")
    opened.add_argument("file", nargs="?", help="a .estampa scene or a mesh file")
    opened.add_argument("--picture", metavar="PNG", help="save a picture of the window and end")

    info = command("info", "Tell what a mesh file or a scene holds.")
    info.add_argument("file")
    info.add_argument("--unit", choices=("m", "cm", "mm", "in", "ft"), help="what one unit of a mesh file is")
    info.add_argument("--up", choices=("y", "z"), default="y", help="the mesh file's upward axis")
    weld = argparse.BooleanOptionalAction
    info.add_argument("--weld", action=weld, help="make coincident points one before counting (default: of STL)")

    brought = command("import", "Bring a scene file into a scene: its tree, materials and animation.")
    brought.add_argument("file", help="GLB, glTF, OpenUSD, OBJ, PLY or STL")
    brought.add_argument("scene", help="a .estampa scene; it is made when it is not there")
    only_nodes = {"dest": "take", "metavar": "NAME", "action": "append"}
    brought.add_argument("--take", **only_nodes, help="only this node, with what carries it; may be repeated")

    demo = command("demo", "Open a demo scene; with --out, solve it and bake all its prints without a window.")
    demo.add_argument("name", nargs="?", default="awning", help="which demo (default: awning)")
    demo.add_argument("--out", metavar="DIR", help="bake into this folder instead of opening a window")
    demo.add_argument("--picture", metavar="PNG", help="solve, save a picture of the window, and end")

    check = command("check", "Print the remarks on a scene; exits 1 when one of them is an error.")
    check.add_argument("scene")

    store = command(
        "store", "Tell where solved frames are kept and how large they are; with --clear, let go of them all."
    )
    store.add_argument(
        "--clear", action="store_true", help="delete every solved frame; no work is lost, they are solved again"
    )


def _of_solving(command: Added) -> None:
    """Commands for solving, baking and delivering."""
    solve = command("solve", "Solve every layer with memory over the scene's range.")
    solve.add_argument("scene")

    bake = command("bake", "Solve, bake the scene's prints, and read them back.")
    bake.add_argument("scene")
    only = {"dest": "print_names", "metavar": "NAME", "action": "append"}
    bake.add_argument("--print", **only, help="only this print; may be repeated")
    bake.add_argument("--out", metavar="DIR", required=True)

    loop = command("loop", "Tell how far the scene's loop is from closed, what closes it and what moves in step.")
    loop.add_argument("scene")
    loop.add_argument("--close", action="store_true", help="carry out all that closes it, and save the scene")
    loop.add_argument("--blend", type=int, default=12, metavar="FRAMES", help="frames over which keys go back (12)")
    loop.add_argument("--drop", action="store_true", help="drop the keys of those frames instead of blending them")
    loop.add_argument("--run-up", type=int, metavar="FRAMES", help="frames solved before the first; saves the scene")
    words = "let what is solved close: a run-up until rounds agree, then a fade; saves the scene"
    loop.add_argument("--solved", action="store_true", help=words)
    loop.add_argument("--fade", type=int, metavar="FRAMES", help="last frames that are faded; with --solved a third")
    loop.add_argument("--desync", action="store_true", help="bring what moves in step out of it, and save the scene")
    loop.add_argument("--vary", type=float, default=0.0, metavar="SHARE", help="with it, how much copies differ")

    start = command("start", "Let a solver begin from a solved frame, and save the scene.")
    start.add_argument("scene")
    start.add_argument("--layer", metavar="NAME", help="which solver (default: the only one)")
    what = start.add_mutually_exclusive_group(required=True)
    what.add_argument("--frame", type=int, help="the solved frame that it begins from")
    what.add_argument("--rest", action="store_true", help="instead, begin from rest again")
    start.add_argument("--from", dest="other", metavar="NAME", help="a frame of another solver of its kind")

    words = "Play printed files as a target would; tell what they take and how they loop."
    play = command("rehearse", words)
    play.add_argument("files", nargs="+", help="GLB, glTF, OpenUSD, or the JSON of a texture or table")
    play.add_argument("--picture", metavar="OUT.png", help="what is seen, as a picture")
    play.add_argument("--at", type=float, default=0.0, metavar="SECONDS", help="the moment of the picture (default: 0)")
    play.add_argument("--clip", metavar="NAME", help="the clip that is played, of a file of several")
    play.add_argument("--speed", type=float, default=1.0, help="how fast; below 0 backwards (default: 1)")

    movie = command("movie", "Solve and film a scene: a movie (.mp4; .mov with alpha), or pictures (.png, .exr).")
    movie.add_argument("scene")
    movie.add_argument("--out", metavar="FILE", required=True, help="ends in .mp4, .mov, .png or .exr")
    movie.add_argument("--size", default="1280x720", metavar="WxH", help="in pixels (1280x720)")
    movie.add_argument("--first", type=int, metavar="FRAME", help="first frame that is shown (default: the scene's)")
    movie.add_argument("--last", type=int, metavar="FRAME", help="last frame that is shown (default: the scene's)")
    movie.add_argument("--loop", action="store_true", help="the loop range, without the frame that equals the first")
    movie.add_argument("--camera", metavar="NAME", help="look through this camera")
    movie.add_argument("--alpha", choices=("straight", "premultiplied"), help="over nothing, as an element")
    movie.add_argument("--mattes", action="store_true", help="how much of each pixel each thing covers")
    movie.add_argument("--depth", action="store_true", help="depth (m) and motion (pixels a frame) too, in .exr")

    match = command("match", "Put a camera where a photograph was taken from, with its lens, and save the scene.")
    match.add_argument("scene")
    match.add_argument("--camera", metavar="NAME", help="which camera (default: the only one)")
    match.add_argument("--size", required=True, metavar="WxH", help="of the photograph, in pixels")
    match.add_argument(
        "--point", action="append", default=[], metavar="U,V=X,Y,Z",
        help="a pixel from the top left, and the place (m) that is seen there; four or more, or two with lines",
    )  # fmt: skip
    match.add_argument(
        "--line", action="append", default=[], metavar="AXIS=U,V,U,V",
        help="what runs along an axis, from a pixel to one towards its plus; two or more along each of two axes",
    )  # fmt: skip


def _of_parts(command: Added) -> None:
    """Commands for parts of a scene: skeletons, clips, subjects, assets."""
    keys = command("keys", "Bake the layers of a skeleton to keys on its joints, and save the scene.")
    keys.add_argument("scene")
    keys.add_argument("--skeleton", metavar="NAME", help="which skeleton (default: the only one)")
    keys.add_argument("--pieces", metavar="SUBJECT", help="instead, make each piece of a subject one with keys")
    keys.add_argument("--bodies", action="store_true", help="instead, bake bodies to keys on their subjects")
    keys.add_argument("--tips", type=float, default=2.0, metavar="MM", help="how far a tip may be off (2 mm)")
    keys.add_argument(
        "--turn",
        type=float,
        default=10,
        metavar="DEG",
        help="how far a joint may be turned off, where its tip does not say so (10)",
    )
    keys.add_argument("--every", action="store_true", help="a key at every frame")
    keys.add_argument("--first", type=int, metavar="FRAME", help="first frame that is baked (default: the scene's)")
    keys.add_argument("--last", type=int, metavar="FRAME", help="last frame that is baked (default: the scene's)")
    keys.add_argument("--clip", default="Baked", metavar="NAME", help="name of its clip; one that is there is replaced")
    keys.add_argument("--in-place", action="store_true", help="then take the travel out of the root, onto a grip")
    keys.add_argument("--live", action="store_true", help="instead, switch the baked layers on again")

    parts = command("split", "Make several subjects of one, by island, material or group, and save the scene.")
    parts.add_argument("scene")
    parts.add_argument("--subject", metavar="NAME", help="which subject (default: the only one)")
    how = ("island", "material", "group")
    parts.add_argument("--by", choices=how, default="island", help="a group is what was joined (island)")

    asset = command("asset", "List the assets that are kept; keep one of a scene, or put one into it.")
    asset.add_argument("scene", nargs="?", help="the scene that it comes from, or goes into")
    asset.add_argument("--keep", metavar="NAME", help="keep this thing with all that belongs to it")
    asset.add_argument("--as", dest="word", metavar="NAME", help="under this name (default: the thing's)")
    asset.add_argument("--put", metavar="NAME", help="put this asset into the scene, and save it")
    asset.add_argument("--instead", metavar="NAME", help="with it, in the place of this skeleton")

    clips = command("clips", "List the clips of a skeleton or subject; choose, make or remove one.")
    clips.add_argument("scene")
    clips.add_argument("--of", metavar="NAME", help="which skeleton or subject (default: the only one with clips)")
    clips.add_argument("--play", metavar="CLIP", help="put the keys of this clip in place, and save the scene")
    clips.add_argument("--reverse", metavar="CLIP", help="make one that plays this one backwards, and save the scene")
    clips.add_argument("--remove", metavar="CLIP", help="remove this clip, and save the scene")
    clips.add_argument("--new", metavar="CLIP", help="keep the present keys as a clip, and save the scene")
    clips.add_argument("--first", type=int, metavar="FRAME", help="of a new clip (default: the loop or the scene)")
    clips.add_argument("--last", type=int, metavar="FRAME", help="of a new clip; of one that loops, the first again")
    clips.add_argument("--loops", action="store_true", help="a new clip goes round")

    bind = command("bind", "Bind a subject to a skeleton, or to a cage, and save the scene.")
    bind.add_argument("scene")
    bind.add_argument("--subject", metavar="NAME", required=True, help="the subject that is bound")
    to = bind.add_mutually_exclusive_group(required=True)
    to.add_argument("--skeleton", metavar="NAME", help="the skeleton that it follows")
    to.add_argument("--cage", metavar="NAME", help="the subject around it that carries it")
    bind.add_argument("--way", choices=("heat", "nearest"), default="heat", help="how weights are worked out (heat)")
    bind.add_argument("--most", type=int, choices=(4, 8), default=4, help="joints that one vertex may follow (4)")
    bind.add_argument("--method", choices=("linear", "dual"), default="linear", help="how their pull is blended")
