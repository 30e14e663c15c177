"""Vertex animation texture: a GLB mesh, offsets and normals as OpenEXR images, and a JSON on how to read them."""

import hashlib
import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..errors import EstampaError
from ..formats import exr, glb
from ..kinds.channels import choice, switch
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint

LARGEST = 8192  # a side; common practice, no source: what most graphics cards take
FORMULA = (
    "position(vertex, frame) = POSITION + offset[texel]; column = vertex % width; "
    "row = (frame - first) * rows_per_frame + vertex / width; row 0 is on top"
)


def layout(vertices: int, frames: int) -> tuple[int, int, int]:
    """(width, rows per frame, height) of the texture. Wide first; a long take wraps into fewer rows a frame.

    Raises EstampaError when no texture of at most 8,192 a side holds it.
    """
    rows = -(-vertices // LARGEST)
    width = -(-vertices // rows)
    height = rows * frames
    if height > LARGEST:
        most = LARGEST // rows
        raise EstampaError(
            "The texture",
            f"would be {width:,} × {height:,} texels, and a side may have {LARGEST:,}.",
            f"With {vertices:,} vertices it holds at most {most:,} frames: print a shorter range, or a vertex cache.",
        )
    return width, rows, height


class VertexTexture(MeshPrint):
    """A mesh (.glb) with a texture coordinate per vertex, its offsets from the rest shape per frame (.exr), normals,
    and a small .json with frame rate, frames, bounds, layout and the formula to read it."""

    kind, title, suffix = "vertex_texture", "Vertex animation texture", ".glb"
    icon = "M3 3 H13 V13 H3 Z M6.3 3 V13 M9.7 3 V13 M3 6.3 H13 M3 9.7 H13"
    carries = ("points at every frame", "normals", "texture coordinates", "materials")
    parts_seams = True

    precision = choice(
        "half",
        "Half floats are smaller; their error is at most 1/2048 of the largest offset.",
        {"half": "Half float (16 bit)", "full": "Full float (32 bit)"},
    )
    normals = switch(True, "Write a texture of normals beside the offsets.")

    def estimate(self, vertices, triangles, frames, v):
        try:
            width, rows, height = layout(vertices, frames)
        except EstampaError as err:
            return Estimate(0, "does not fit", f"{err.cause} {err.cure}")
        each = 6 if v["precision"] == "half" else 12
        images = 2 if v["normals"] else 1
        size = width * height * each * images + vertices * 40 + triangles * 12
        wrap = f", {rows} rows a frame" if rows > 1 else ""
        return Estimate(
            size,
            f"{width:,} × {height:,} texels{wrap}; up to {format_bytes(size)}: {frames} frames × "
            f"{vertices:,} vertices × {each} bytes × {images} image{'s' if images > 1 else ''}, before compression",
        )

    def write(self, job: Job, target: Path, progress):
        mesh, frames = job.mesh, job.frames
        width, rows, height = layout(mesh.count, len(frames))
        kind = np.float16 if job.v["precision"] == "half" else np.float32
        offsets = np.zeros((len(frames), rows * width, 3), kind)
        normals = np.zeros_like(offsets) if job.v["normals"] else None
        low, high, reach = np.full(3, np.inf), np.full(3, -np.inf), 0.0
        for i, frame in enumerate(frames):
            points = job.points(frame)
            offset = points - mesh.points
            reach = max(reach, float(np.linalg.norm(offset, axis=1).max()))
            if not reach <= float(np.finfo(kind).max):
                raise EstampaError(
                    job.item.name,
                    f"has offsets of {reach:.3g} m, too far for a half float.",
                    "Choose full float, or look for what flies away.",
                )
            offsets[i, : mesh.count] = offset
            if normals is not None:
                normals[i, : mesh.count] = mesh.normals(points)
            low, high = np.minimum(low, points.min(axis=0)), np.maximum(high, points.max(axis=0))
            progress(0.7 * (i + 1) / len(frames), f"Reading frame {frame}")

        named = lambda ending: target.with_name(target.name + ending)
        glb_path, offset_path, normal_path, json_path = map(named, (".glb", "_offset.exr", "_normal.exr", ".json"))
        vertex = np.arange(mesh.count)
        lookup = np.stack([(vertex % width + 0.5) / width, (vertex // width + 0.5) / height], axis=1)
        coordinates = [lookup] if mesh.uv is None else [mesh.uv, lookup]
        error = 2.0**-11 if job.v["precision"] == "half" else 2.0**-24
        told = {
            "kind": "vertex animation texture",
            "frame_rate": job.frame_rate,
            "first_frame": frames[0],
            "frames": len(frames),
            "vertices": mesh.count,
            "mesh": glb_path.name,
            "offset_texture": offset_path.name,
            "normal_texture": normal_path.name if normals is not None else None,
            "lookup": f"TEXCOORD_{len(coordinates) - 1}",
            "width": width,
            "height": height,
            "rows_per_frame": rows,
            "precision": job.v["precision"],
            "unit": "metre",
            "up": "+Y",
            "bounds_low": low.tolist(),
            "bounds_high": high.tolist(),
            "largest_offset": reach,
            "error_bound": error * reach + 2.0**-23 * float(np.abs(mesh.points).max()),
            "formula": FORMULA,
            "formula_uv": "sample offset_texture at lookup + (0, (frame - first_frame) * rows_per_frame / height), "
            "nearest texel, v downwards",
        }
        extras = {"vertex_animation_texture": json_path.name}
        files = {offset_path: lambda part: exr.write_image(part, offsets.reshape(height, width, 3))}
        if normals is not None:
            files[normal_path] = lambda part: exr.write_image(part, normals.reshape(height, width, 3))
        files[glb_path] = lambda part: glb.write_mesh(
            part, job.subject.name, mesh.points, mesh.normals(), mesh, coordinates, extras
        )
        # the description comes last and names the content of the others, so that files of two prints are never taken
        # for one
        sums = {}
        noted = {path: noting(write, path.name, sums) for path, write in files.items()}
        noted[json_path] = lambda part: part.write_text(json.dumps(told | {"blake2b": sums}, indent=1))
        progress(0.8, "Writing")
        write_together(noted)
        progress(1.0, "Written")
        return list(noted)

    def reader(self, target: Path):
        return TextureReader(target.with_name(target.name + ".json"))


def noting(write, name: str, sums: dict):
    """The same write, that notes the digest of what was written."""

    def noted(part: Path):
        write(part)
        sums[name] = sum_of(part)

    return noted


def sum_of(path: Path) -> str:
    with open(path, "rb") as file:
        return hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=16)).hexdigest()


class TextureReader:
    """Plays the files back by the formula in the JSON, and nothing else."""

    def __init__(self, json_path: Path):
        self.told = json.loads(json_path.read_text())
        folder = json_path.parent
        for name, wanted in self.told["blake2b"].items():
            if not (folder / name).exists() or sum_of(folder / name) != wanted:
                raise EstampaError(
                    name, f"does not belong to {json_path.name}: it is of another print, or damaged.", "Print it again."
                )
        self._rest = glb.read_attribute(folder / self.told["mesh"], "POSITION")
        self._lookup = glb.read_attribute(folder / self.told["mesh"], self.told["lookup"])
        self._offsets = exr.read_image(folder / self.told["offset_texture"])
        self.frames = list(range(self.told["first_frame"], self.told["first_frame"] + self.told["frames"]))
        self.frame_rate = self.told["frame_rate"]

    def points(self, frame: float) -> np.ndarray:
        width, height = self.told["width"], self.told["height"]
        step = int(frame) - self.told["first_frame"]
        column = np.floor(self._lookup[:, 0] * width).astype(int)
        # a float32 coordinate may fall a hair beside the texel's middle, never beside the texel
        row = np.floor(self._lookup[:, 1] * height).astype(int) + step * self.told["rows_per_frame"]
        return self._rest + self._offsets[row, column].astype(np.float32)
