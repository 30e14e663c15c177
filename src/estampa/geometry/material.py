"""Materials of a mesh: how each face looks, as far as motion is judged by it."""

from typing import NamedTuple

ALPHAS = ("opaque", "mask", "blend")


class Picture(NamedTuple):
    """An image as its file has it: a name, and the bytes of a PNG or JPEG."""

    name: str
    data: bytes

    def __repr__(self):
        return f"Picture({self.name!r}, {len(self.data):,} bytes)"


class Material(NamedTuple):
    """colour (3,) linear light, 0 to 1, times the picture where there is one.

    alpha -- "opaque"; "mask": what is less opaque than `cutoff` is not there; "blend": it is seen through
    uv -- which texture coordinates the picture lies by: "uv", "uv1", ...
    """

    name: str
    colour: tuple[float, float, float]
    picture: Picture | None = None
    alpha: str = "opaque"
    cutoff: float = 0.5
    opacity: float = 1.0
    two_sided: bool = True
    uv: str = "uv"
    missing: str = ""  # the name of a picture that was not there
    roughness: float = 1.0
    metallic: float = 0.0
    emission: tuple[float, float, float] = (0.0, 0.0, 0.0)  # linear light
