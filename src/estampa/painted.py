"""Pictures that the demos wear, painted by numbers: made for the pier, encoded as PNG (W3C PNG, third edition)."""

import struct
import zlib
from functools import lru_cache

import numpy as np

from .geometry.material import Picture
from .hashing import rand


def encoded(pixels: np.ndarray) -> bytes:
    """(h, w, 4) uint8, rows from the top."""
    height, width = pixels.shape[:2]
    raw = np.concatenate([np.zeros((height, 1), np.uint8), pixels.reshape(height, -1)], axis=1).tobytes()
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(raw, 9)) + chunk(b"IEND", b"")


def _picture(name, rgb, alpha=None) -> Picture:
    """rgb (h, w, 3) as the screen shows it, 0 to 1; alpha (h, w)."""
    alpha = np.ones(rgb.shape[:2]) if alpha is None else alpha
    whole = np.concatenate([rgb, alpha[..., None]], axis=2)
    return Picture(name, encoded(np.round(np.clip(whole, 0, 1) * 255).astype(np.uint8)))


def _grid(height, width):
    """(v from the top, u) in the middles of pixels, 0 to 1."""
    v, u = np.meshgrid((np.arange(height) + 0.5) / height, (np.arange(width) + 0.5) / width, indexing="ij")
    return v, u


@lru_cache
def canvas() -> Picture:
    """Striped awning canvas, of worn threads, darker where it is lashed."""
    v, u = _grid(256, 768)
    red = (np.floor(u * 12) % 2 == 0)[..., None]
    rgb = np.where(red, [0.66, 0.20, 0.15], [0.93, 0.88, 0.77])
    number = np.arange(v.size)
    speck = rand(11, number, "thread").reshape(v.shape) - 0.5
    weave = 0.5 + 0.5 * np.sin(2 * np.pi * 128 * u) * np.sin(2 * np.pi * 90 * v)
    fade = 1.0 - 0.10 * np.exp(-v / 0.15)
    return _picture("canvas.png", rgb * (0.93 + 0.07 * weave + 0.05 * speck)[..., None] * fade[..., None])


@lru_cache
def blade() -> Picture:
    """A reed's leaf, along v: a pale rib, veins, brown tip; its edge is cut out, a little torn."""
    v, u = _grid(512, 64)
    away = np.abs(u - 0.5) * 2
    torn = 0.06 * np.sin(2 * np.pi * 9 * v + 1.0) * np.sin(2 * np.pi * 23 * v)
    rgb = np.array([0.33, 0.48, 0.20]) * (0.86 + 0.22 * v[..., None])
    rgb = rgb * (1 - 0.14 * (np.sin(2 * np.pi * 8 * u) ** 2)[..., None])
    rgb = rgb + np.exp(-((away / 0.10) ** 2))[..., None] * [0.20, 0.20, 0.10]
    tip = np.clip((0.16 - v) / 0.16, 0, 1)[..., None]  # v runs from the top: the tip of the leaf
    rgb = rgb * (1 - 0.6 * tip) + np.array([0.50, 0.36, 0.18]) * 0.6 * tip
    return _picture("blade.png", rgb, (away < 0.94 + torn).astype(float))
