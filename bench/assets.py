"""Assets: coming in against the time that the formats' own libraries take to parse the same file, a played cache
against a copy of a frame's bytes, a thin layer against a plain write of them, pictures on copies against none."""

import os
import tempfile
from pathlib import Path

import numpy as np
import pygltflib as gl
from pxr import Usd, UsdGeom

from estampa import demo
from estampa.app.view.render import Renderer
from estampa.edits.importing import bring_in
from estampa.evaluate.evaluator import Evaluator
from estampa.formats import glb, usd
from estampa.formats.asset import read_asset
from estampa.formats.usd_points import points_file
from estampa.formats.usd_thin import write_thin
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import coloured, sheet
from estampa.scene.document import Document
from estampa.scene.scene import Scene

from .measure import Row, in_turn, ms


def _textured(side: int) -> Mesh:
    from estampa.painted import canvas

    flat = sheet(2, 2, side, side)
    return coloured(flat, "Canvas", (1.0, 1.0, 1.0), picture=canvas())


def _parsed_glb(path):
    document = gl.GLTF2.load(str(path))
    blob = document.binary_blob()
    return [glb.rows(document, blob, k).copy() for k in range(len(document.accessors))]


def _parsed_usd(path):
    stage = Usd.Stage.Open(str(path))
    mesh = next(UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    uv = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st").Get()
    of = (mesh.GetFaceVertexCountsAttr().Get(), mesh.GetFaceVertexIndicesAttr().Get(), uv)
    return [np.array(a) for a in (mesh.GetPointsAttr().Get(1), *of)]


def rows() -> list[Row]:
    found = []
    with tempfile.TemporaryDirectory() as folder:
        folder, mesh = Path(folder), _textured(708)  # 501,264 vertices
        path = folder / "big.glb"
        glb.write_mesh(path, "Big", mesh.points, mesh.normals(), mesh, glb.coordinates(mesh), {})
        come = lambda path: bring_in(Scene(Document()), read_asset(path))
        own, theirs = in_turn(lambda: come(path), lambda: _parsed_glb(path), times=5)
        found.append(Row(f"GLB of {mesh.count:,} vertices with a picture comes in", ms(own), f"{ms(theirs)} parsed",
                         own / theirs, "≤ 2.5", own <= 2.5 * theirs))  # fmt: skip
        path = folder / "big.usdc"
        usd.write_cache(path, "Big", mesh, [1], 24.0, lambda f: mesh.points, False, lambda *a: None)
        own, theirs = in_turn(lambda: come(path), lambda: _parsed_usd(path), times=5)
        found.append(Row("the same as OpenUSD", ms(own), f"{ms(theirs)} parsed", own / theirs, "≤ 2.5",
                         own <= 2.5 * theirs))  # fmt: skip

        mesh, frames = _textured(316), list(range(1, 101))
        path, source = folder / "cache.usdc", folder / "source.usdc"
        at = lambda f: mesh.points + [0, 0.001 * f, 0]
        usd.write_cache(path, "Played", mesh, frames, 24.0, at, False, lambda *a: None)
        cache = points_file(str(path))
        play = lambda: [cache.at((f - 1) / 24, mesh.count) for f in range(1, 41)]
        still = np.zeros((mesh.count, 3), np.float32)
        own, copied = (t / 40 for t in in_turn(play, lambda: [still.copy() for _ in range(40)], times=5))
        found.append(Row(f"a frame of a cache of {mesh.count:,} vertices, warm", ms(own), f"{ms(copied)} a copy",
                         own / copied, "≤ 2", own <= 2 * copied))  # fmt: skip

        usd.write_cache(source, "Source", mesh, [1], 24.0, lambda f: mesh.points, False, lambda *a: None)
        shapes = {f: at(f) for f in frames}
        thin = folder / "thin.usdc"
        write = lambda: write_thin(thin, folder, source, {"/Source/Mesh": shapes.get}, frames, 24.0, lambda *a: None)

        def plain():
            with open(folder / "plain", "wb") as out:
                for f in frames:
                    out.write(np.asarray(shapes[f], np.float32).tobytes())
                out.flush()
                os.fsync(out.fileno())

        own, theirs = in_turn(write, plain, times=3)
        found.append(Row(f"thin layer of 100 frames × {mesh.count:,} vertices", ms(own), f"{ms(theirs)} plain",
                         theirs / own, "≥ 0.6", theirs >= 0.6 * own))  # fmt: skip
    found += _drawn()
    return found


def _drawn() -> list[Row]:
    from dataclasses import replace

    from estampa.app.model.looks import look
    from estampa.app.view.camera import Camera
    from estampa.app.view.viewport import CLOTH, _drawn

    scene = demo.build("reeds")
    picture = look(Evaluator(scene.doc, scene, None), 1)
    items = [_drawn(i, s, CLOTH, tint=s.tint) for i, s in picture.shapes.items()]
    plain = [replace(d, pictured=None, id=f"{d.id} plain") for d in items]
    renderer, camera = Renderer(), Camera()
    shoot = lambda drawn, shadows=True: renderer.picture(drawn, camera, 1280, 800, shadows=shadows)

    def row(words, many, few, most):
        with_, without = in_turn(many, few, times=5)
        return Row(words, ms(with_), f"{ms(without)} without", with_ / without, f"≤ {most}", with_ <= most * without)

    turned = lambda: shoot(items)
    return [
        row("copies of the reeds with pictures, drawn", turned, lambda: shoot(plain), 1.2),
        row("the same with shadows, while only the view turns", turned, lambda: shoot(items, False), 1.4),
    ]
