"""Mesh files in: what they carry, and what is wrong with bad ones."""

import numpy as np
import pytest
import trimesh

from estampa.errors import Cancelled, EstampaError
from estampa.formats.glb import write_strip
from estampa.formats.meshfile import about, read_mesh

CUBE = """v 0 0 0
v 1 0 0
v 1 1 0
v 0 1 0
v 0 0 1
v 1 0 1
v 1 1 1
v 0 1 1
f 1 4 3 2
f 5 6 7 8
f -8 -7 -3 -4
f 2 3 7 6
f 3 4 8 7
f 4 1 5 8
"""


def test_obj_keeps_quads_and_reads_relative_indices(tmp_path):
    path = tmp_path / "cube.obj"
    path.write_text(CUBE)
    mesh = read_mesh(path, "cm")
    assert mesh.face_counts.tolist() == [4] * 6 and mesh.open_edges == 0
    assert mesh.face_indices[8:12].tolist() == [0, 1, 5, 4]
    assert np.allclose(mesh.size, 0.01)
    assert about(mesh)["islands"] == 1


def test_texture_coordinates_come_along_where_each_point_has_one(tmp_path):
    path = tmp_path / "uv.obj"
    path.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nf 1/1/1 2/2/1 3/3/1\n")
    assert read_mesh(path).uv.tolist() == [[0, 0], [1, 0], [0, 1]]


@pytest.mark.parametrize("suffix", [".ply", ".stl", ".glb", ".gltf", ".obj"])
def test_all_formats_agree_on_a_torus(tmp_path, suffix):
    torus = trimesh.creation.torus(0.4, 0.1)
    path = tmp_path / f"torus{suffix}"
    if suffix == ".gltf":
        for name, data in trimesh.exchange.gltf.export_gltf(trimesh.Scene(torus)).items():
            (tmp_path / (path.name if name.endswith(".gltf") else name)).write_bytes(data)
    else:
        torus.export(path)
    mesh = read_mesh(path, "m", weld=suffix == ".stl")
    assert (mesh.count, len(mesh.triangles)) == (len(torus.vertices), len(torus.faces))
    assert mesh.island_count == 1 and mesh.open_edges == 0
    assert np.allclose(sorted(mesh.size), sorted(torus.extents), atol=1e-6)


def test_an_stl_is_in_millimetres_and_may_stand_on_z(tmp_path):
    trimesh.creation.box((20, 30, 50)).export(tmp_path / "part.stl")
    mesh = read_mesh(tmp_path / "part.stl", up="z")
    assert np.allclose(mesh.size, [0.02, 0.05, 0.03])


def test_glb_node_transforms_are_applied(tmp_path):
    scene = trimesh.Scene()
    scene.add_geometry(trimesh.creation.box(), transform=np.diag([2, 3, 4, 1.0]))
    scene.export(tmp_path / "scaled.glb")
    assert np.allclose(read_mesh(tmp_path / "scaled.glb").size, [2, 3, 4])


BAD = {
    "cut.obj": (CUBE[: CUBE.index("f 5") + 5], "line 10 is a face with fewer than 3 corners"),
    "cut2.obj": (CUBE[:21], "line 3 is not a point"),
    "range.obj": (CUBE + "f 1 2 99\n", "line 15 names a point that is not in the file"),
    "relative.obj": (CUBE + "f -1 -2 -99\n", "line 15 names a point"),
    "nan.obj": (CUBE.replace("v 1 1 0", "v nan 1 0"), "not finite numbers (the first is vertex 2)"),
    "inf.obj": (CUBE.replace("v 1 1 0", "v 1e999 1 0"), "not finite"),
    "words.obj": (CUBE.replace("v 1 1 0", "v one 1 0"), "line 3 is not a point"),
    "short.obj": (CUBE.replace("v 1 1 0", "v 1"), "line 3 is not a point"),
    "face.obj": (CUBE + "f a b c\n", "line 15 is not a face"),
    "points.obj": ("v 0 0 0\nv 1 0 0\n", "no faces"),
    "one.obj": ("v 0 0 0\n", "no faces"),
    "none.obj": ("# nothing\n", "no points"),
    "empty.obj": ("", "is empty"),
    "cut.stl": ("solid x\nfacet normal 0 0", "cut short or damaged|no surface|no faces"),
    "cut.glb": ("glTF\x02\x00", "cut short or damaged"),
    "cut.ply": ("ply\nformat ascii 1.0\nelement vertex 8\n", "cut short or damaged"),
    "mesh.xyz": ("1 2 3", "no mesh file that can be read"),
}


@pytest.mark.parametrize("name", BAD)
def test_bad_files_are_named_with_their_trouble(tmp_path, name):
    text, words = BAD[name]
    path = tmp_path / name
    path.write_bytes(text.encode("latin1"))
    with pytest.raises(EstampaError) as trouble:
        read_mesh(path)
    assert any(w in str(trouble.value) for w in words.split("|")), str(trouble.value)
    assert name in str(trouble.value)


def test_flat_faces_and_crowded_edges_are_told_not_refused(tmp_path):
    path = tmp_path / "odd.obj"
    path.write_text(CUBE + "f 1 2 2\nv 0.5 0 2\nf 1 2 9\nf 1 2 5\n")
    facts = about(read_mesh(path))
    assert facts["faces without area"] == 1 and facts["edges of more than two faces"] == 2


def test_a_large_mesh_is_read_with_progress_and_can_be_stopped(tmp_path):
    path = tmp_path / "large.obj"
    n = 300
    points = "".join(f"v {i % n} 0 {i // n}\n" for i in range(n * n))
    i = np.arange(n * n).reshape(n, n)[:-1, :-1].ravel() + 1
    path.write_text(points + "".join(f"f {k} {k + n} {k + n + 1}\nf {k} {k + n + 1} {k + 1}\n" for k in i))
    shares = []
    assert len(read_mesh(path, progress=lambda share, text: shares.append(share)).triangles) == 2 * 299**2
    assert len(shares) > 4 and shares == sorted(shares)

    def stop(share, text):
        if share > 0.2:
            raise Cancelled

    with pytest.raises(Cancelled):
        read_mesh(path, progress=stop)


def test_materials_come_in_by_name_and_colour_from_obj_and_glb(tmp_path):
    (tmp_path / "two.mtl").write_text("newmtl Red paint\nKd 0.7 0.1 0.05\nnewmtl Odd\nKd nan x 1\n")
    corners = "".join(f"v {x} {y} 0\n" for x, y in ((0, 0), (1, 0), (1, 1), (0, 1)))
    faces = "f 1 2 3\nusemtl Red paint\nf 1 3 4\nusemtl Odd\nf 2 3 4\n"
    (tmp_path / "two.obj").write_text(f"mtllib two.mtl\nmtllib ../../etc/passwd\n{corners}{faces}")
    mesh = read_mesh(tmp_path / "two.obj")
    assert [name for name, *_ in mesh.materials] == ["Red paint", "Odd", "unnamed"]
    assert [mesh.materials[m][0] for m in mesh.face_materials] == ["unnamed", "Red paint", "Odd"]
    assert {m.name: m.colour for m in mesh.materials}["Red paint"] == (0.7, 0.1, 0.05)
    normals = np.tile([0, 0, 1.0], (mesh.count, 1))
    write_strip(tmp_path / "two.glb", ["Two_001"], [(mesh.points, normals)], mesh, {})
    again = read_mesh(tmp_path / "two.glb")
    assert {m.name for m in again.materials} == {"Red paint", "Odd", "unnamed"}
    assert np.allclose({m.name: m.colour for m in again.materials}["Red paint"], (0.7, 0.1, 0.05), atol=0.003)
