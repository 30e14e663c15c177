"""Wavefront OBJ, in: points, polygon faces as they are (quads stay quads), texture coordinates where each point has
one, and materials by name, with their plain colours from the MTL file beside it. The rest is left out."""

import re
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..geometry.material import Material, Picture
from ..geometry.mesh import Mesh
from . import bounds

PLAIN = (0.6, 0.57, 0.5)

_SPLIT = re.compile(rb"[ \t]+")


def read_obj(what: str, data: bytes, progress=lambda share, text: None, folder: Path | None = None) -> Mesh:
    """Read the bytes of an OBJ file; `folder` is where its MTL files lie. Raises EstampaError that names the line in
    trouble."""
    progress(0.05, "Reading lines")
    lines = data.replace(b"\\\n", b" ").replace(b"\\\r\n", b" ").split(b"\n")
    points, corners, uvs, normals, at_points, at_faces, seen = [], [], [], [], [], [], []
    materials, of, libraries = [], [], []
    for i, line in enumerate(lines):
        head = line[:2]
        if head in (b"v ", b"v\t"):
            points.append(line[2:])
            at_points.append(i)
        elif head in (b"f ", b"f\t"):
            corners.append(line[2:])
            at_faces.append(i)
            seen.append(len(points))
        elif head == b"vt":
            uvs.append(line[3:])
        elif head == b"vn":
            normals.append(line[3:])
        elif head == b"us" and line.startswith(b"usemtl"):
            of.append((len(corners), line[6:].strip().decode(errors="replace") or "unnamed"))
        elif head == b"mt" and line.startswith(b"mtllib"):
            libraries.append(line[6:].strip().decode(errors="replace"))
    progress(0.3, "Reading points")
    xyz = _rows(what, points, at_points, 3)
    progress(0.5, "Reading faces")
    counts = np.fromiter((len(c.split()) for c in corners), np.int32, len(corners))
    short = np.flatnonzero(counts < 3)
    if len(short):
        raise EstampaError(
            what,
            f"line {at_faces[short[0]] + 1} is a face with fewer than 3 corners.",
            "The file is probably cut short; export it again.",
        )
    blob = b" ".join(corners)
    indices = _indices(what, re.sub(rb"/[^\s]*", b"", blob), corners, at_faces)
    if (indices < 0).any():  # counted back from the last point before the face
        indices = np.where(indices < 0, np.repeat(np.array(seen), counts) + indices, indices - 1)
    else:
        indices = indices - 1
    uv, seams = _uv(blob, uvs, indices, len(xyz)) if uvs else (None, None)
    bad = (indices < 0) | (indices >= len(xyz))
    if bad.any():
        face = int(np.searchsorted(np.cumsum(counts), int(np.argmax(bad)), side="right"))
        raise EstampaError(
            what,
            f"line {at_faces[face] + 1} names a point that is not in the file (it has {len(xyz):,}).",
            "The file is cut short or damaged; export it again.",
        )
    faces = None
    if of and len(counts):
        names = list(dict.fromkeys(name for _, name in of))
        if of[0][0] > 0:  # faces before the first are of none that is named
            names.append("unnamed")
            of.insert(0, (0, "unnamed"))
        starts = np.array([start for start, _ in of])
        which = np.array([names.index(name) for _, name in of], np.int32)
        faces = which[np.searchsorted(starts, np.arange(len(counts)), side="right") - 1]
        known = _materials(folder, libraries)
        materials = [known.get(name, Material(name, PLAIN)) for name in names]
    corners = {} if seams is None else {"uv": seams}
    own = _normals(blob, normals, len(indices))
    vertices = {}
    if own is not None:
        from .asset import by_corner

        placed = by_corner(own, indices.astype(np.int32), len(xyz))
        (vertices if placed.domain == "vertices" else corners)["normal"] = placed.values
    return Mesh(xyz, counts, indices, uv, materials, faces, None, corners, None, vertices)


def _normals(blob, rows, count) -> np.ndarray | None:
    """(corners, 3) authored normals; None where not every corner names one."""
    if not rows:
        return None
    named, many = re.subn(rb"-?\d+/-?\d*/(-?\d+)\S*", rb"\1", blob)
    named = named.split()
    if many != count or len(named) != count:
        return None
    normals, which = _rows("normals", rows, range(len(rows)), 3), np.array(named, np.int64)
    which = np.where(which < 0, len(normals) + which, which - 1)
    return normals[which] if len(which) and 0 <= which.min() and which.max() < len(normals) else None


def _materials(folder: Path | None, libraries: list[str]) -> dict[str, Material]:
    """Material name -> its colour and picture, from MTL files in the OBJ's own folder; what cannot be read is left
    out."""
    found, name = {}, None
    for library in libraries:
        path = bounds.beside(folder, library) if folder is not None else None
        if path is None:
            continue
        try:
            lines = path.read_text(errors="replace").splitlines()
        except OSError:
            continue
        for words in map(str.split, lines):
            if words[:1] == ["newmtl"]:
                name = " ".join(words[1:])
                found.setdefault(name, Material(name, PLAIN))
            elif words[:1] == ["map_Kd"] and name is not None and len(words) >= 2:
                file = words[-1].replace("\\", "/")
                path = bounds.beside(folder, file)
                own = {"picture": Picture(file, path.read_bytes())} if path is not None else {"missing": file}
                plain = (1.0, 1.0, 1.0) if found[name].colour == PLAIN else found[name].colour
                found[name] = found[name]._replace(colour=plain, **own)
            elif words[:1] in (["map_d"], ["d"]) and name is not None and len(words) >= 2:
                how = {"alpha": "mask"} if words[0] == "map_d" else {}
                if words[0] == "d" and 0 < _number(words[1]) < 1:
                    how = {"alpha": "blend", "opacity": _number(words[1])}
                found[name] = found[name]._replace(**how)
            elif words[:1] == ["Kd"] and name is not None and len(words) >= 4:
                try:
                    colour = tuple(min(max(float(w), 0.0), 1.0) for w in words[1:4])
                except ValueError:
                    continue
                if all(np.isfinite(colour)):
                    found[name] = found[name]._replace(colour=colour)
    return found


def _number(word: str) -> float:
    try:
        return float(word)
    except ValueError:
        return 1.0


def _rows(what, rows, lines, width) -> np.ndarray:
    """(n, width) numbers; a row may hold more numbers (weights, colours), which are left out."""
    if not rows:
        return np.zeros((0, width))
    try:
        flat = np.array(b" ".join(rows).split(), np.float64)
        wide = len(rows[0].split())
        if wide >= width and len(flat) == wide * len(rows):
            return flat.reshape(-1, wide)[:, :width]
        return np.array([[float(w) for w in row.split()[:width]] for row in rows]).reshape(len(rows), width)
    except ValueError:
        for row, line in zip(rows, lines, strict=True):
            words = row.split()
            try:
                good = len([float(w) for w in words[:width]]) == width
            except ValueError:
                good = False
            if not good:
                raise EstampaError(
                    what,
                    f"line {line + 1} is not a point of {width} numbers: "
                    f"“{row.decode(errors='replace').strip()[:40]}”.",
                    "The file is cut short or damaged; export it again.",
                ) from None
        raise


def _indices(what, blob, corners, lines) -> np.ndarray:
    try:
        return np.array(blob.split(), np.int64)
    except ValueError:
        for row, line in zip(corners, lines, strict=True):
            if not re.fullmatch(rb"\s*(-?\d+(/-?\d*){0,2}\s*)+", row):
                raise EstampaError(
                    what,
                    f"line {line + 1} is not a face: “{row.decode(errors='replace').strip()[:40]}”.",
                    "The file is cut short or damaged; export it again.",
                ) from None
        raise


def _uv(blob, rows, indices, count) -> tuple[np.ndarray | None, np.ndarray | None]:
    """(texture coordinates per point, or None; per corner, where a point has several), or neither."""
    pairs = re.sub(rb"(-?\d+)/(-?\d+)(/\S*)?", rb"\1 \2", blob).split()
    if len(pairs) != 2 * len(indices):
        return None, None
    uv = _rows("texture coordinates", rows, range(len(rows)), 2)
    which = np.array(pairs[1::2], np.int64)
    which = np.where(which < 0, len(uv) + which, which - 1)
    if len(which) and (which.min() < 0 or which.max() >= len(uv)) or indices.min() < 0 or indices.max() >= count:
        return None, None
    chosen = np.full(count, -1, np.int64)
    chosen[indices] = which
    if (chosen[indices] != which).any() and not np.array_equal(uv[chosen[indices]], uv[which]):
        return None, uv[which]
    result = np.zeros((count, 2))
    result[chosen >= 0] = uv[chosen[chosen >= 0]]
    return result, None


def read_groups(path: Path, progress=lambda share, text: None) -> list[tuple[str, Mesh]]:
    """(name, mesh) of each object of an OBJ file (its "o" lines, or else its "g" lines), in the order of the file."""
    data = bounds.read_bytes(path)
    mesh = read_obj(path.name, data, progress, path.parent)
    for word in (b"o ", b"g "):
        names, of, now = [], [], -1
        for line in data.split(b"\n"):
            if line[:2] == word:
                name = line[2:].strip().decode(errors="replace") or "unnamed"
                now = names.index(name) if name in names else len(names)
                names += [name] if now == len(names) else []
            elif line[:2] in (b"f ", b"f\t"):
                of.append(now)
        of = np.array(of)
        if len(names) > 1 and len(of) == len(mesh.face_counts):
            return list(_by_group(mesh, of, [*names, path.stem]))
    return [(path.stem, mesh)]


def _by_group(mesh: Mesh, of: np.ndarray, names: list[str]):
    for number in np.unique(of):
        faces = of == number
        own = np.zeros(mesh.count, bool)
        own[mesh.face_indices[np.repeat(faces, mesh.face_counts)]] = True
        yield names[number], mesh.only(own, faces)


def write_obj(path, mesh: Mesh, comment: str = "") -> None:
    """Write points, faces and texture coordinates."""
    with open(path, "w") as file:
        if comment:
            file.write(f"# {comment}\n")
        file.writelines(f"v {x:.6f} {y:.6f} {z:.6f}\n" for x, y, z in mesh.points)
        if mesh.uv is not None:
            file.writelines(f"vt {u:.6f} {v:.6f}\n" for u, v in mesh.uv)
        first = 0
        for count in mesh.face_counts:
            face = mesh.face_indices[first : first + count] + 1
            first += count
            file.write("f " + " ".join(f"{i}/{i}" if mesh.uv is not None else f"{i}" for i in face) + "\n")
