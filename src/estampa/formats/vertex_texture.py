"""Vertex animation textures: how texels lie, the formula that plays them with NumPy and on a graphics card, and a
reader of their files."""

import hashlib
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from . import bounds, exr, glb

LARGEST = 8192  # a side; common practice, no source: what most graphics cards take
FORMULA = (
    "position(vertex, frame) = POSITION + offset[texel]; column = vertex % width; "
    "row = (frame - first) * rows_per_frame + vertex / width; row 0 is on top"
)
# the same, for the graphics card
SHADER = """
vec3 texel(sampler2D rows, vec2 lookup, int frame, int rows_per_frame) {
    ivec2 size = textureSize(rows, 0);
    int column = int(floor(lookup.x * float(size.x))), row = int(floor(lookup.y * float(size.y)));
    return texelFetch(rows, ivec2(column, row + frame * rows_per_frame), 0).xyz;
}
"""


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


def lookup_of(vertices: int, width: int, height: int) -> np.ndarray:
    """(n, 2) the texture coordinate of each vertex: the middle of its texel at the first frame."""
    vertex = np.arange(vertices)
    return np.stack([(vertex % width + 0.5) / width, (vertex // width + 0.5) / height], axis=1)


def texels_of(values: np.ndarray, kind=np.float16) -> tuple[np.ndarray, int]:
    """((height, width, 3) texels, rows a frame) of values (frames, n, 3)."""
    frames, count = values.shape[:2]
    width, rows, height = layout(count, frames)
    found = np.zeros((frames, rows * width, 3), kind)
    found[:, :count] = values
    return found.reshape(height, width, 3), rows


def sum_of(path: Path) -> str:
    """Digest of a file's content, by which files of two prints are never taken for one."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=16)).hexdigest()


def read_description(path: Path) -> dict:
    """A texture's JSON. Raises EstampaError where one of the files that it names is missing or of another print."""
    meta = bounds.read_json(path)
    for name, wanted in meta["blake2b"].items():
        if sum_of(bounds.inside(path, name)) != wanted:
            cause = f"does not belong to {path.name}: it is of another print, or damaged."
            raise EstampaError(name, cause, "Print it again.")
    return meta


class VertexTextureFile:
    """Plays the files back by the formula in the JSON, and nothing else.

    rest (n, 3) m; lookup (n, 2); triangles (t, 3); offsets (height, width, 3) m; frames, the scene's numbers of them
    """

    def __init__(self, path: Path):
        self.meta = meta = read_description(path)
        mesh = bounds.inside(path, meta["mesh"])
        self.rest, self.lookup = (glb.read_attribute(mesh, word) for word in ("POSITION", meta["lookup"]))
        self.triangles = glb.read_triangles(mesh)
        self.offsets = exr.read_image(bounds.inside(path, meta["offset_texture"]))
        count = bounds.whole(path.name, "frames", meta["frames"], LARGEST)
        self.frames = list(range(meta["first_frame"], meta["first_frame"] + count))
        self.frame_rate = bounds.positive(path.name, "frame rate", meta["frame_rate"])

    def at(self, step: int) -> np.ndarray:
        """(n, 3) float32 m, so many frames after the first."""
        height, width = self.offsets.shape[:2]
        column = np.floor(self.lookup[:, 0] * width).astype(int)
        # a float32 coordinate may fall a hair beside the texel's middle, never beside the texel
        row = np.floor(self.lookup[:, 1] * height).astype(int) + step * self.meta["rows_per_frame"]
        return self.rest + self.offsets[row, column].astype(np.float32)

    def points(self, frame: float) -> np.ndarray:
        """(n, 3) float32 m at a frame of the scene."""
        return self.at(int(frame) - self.frames[0])
