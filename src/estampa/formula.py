"""Formulas: small arithmetic expressions, read into a tree of a few known parts and worked out on whole arrays.

Nothing is executed: what is not in the tables below is refused when the formula is read. Angles inside sin and cos
are radians, as in mathematics; a formula's result is in the unit that its channel shows.
"""

import ast
import operator
from collections.abc import Callable
from functools import lru_cache

import numpy as np

from .errors import EstampaError
from .hashing import rand as hashed

LONGEST = 1000  # characters
LARGEST = 1e300
_BINARY = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: np.true_divide,
    ast.Mod: np.mod,
    ast.Pow: np.power,
}
_COMPARE = {
    ast.Lt: np.less,
    ast.LtE: np.less_equal,
    ast.Gt: np.greater,
    ast.GtE: np.greater_equal,
    ast.Eq: np.equal,
    ast.NotEq: np.not_equal,
}


def smoothstep(low, high, x):
    """0 below `low`, 1 above `high`, a smooth rise between."""
    t = ramp(low, high, x)
    return t * t * (3 - 2 * t)


def ramp(low, high, x):
    """0 below `low`, 1 above `high`, a straight rise between."""
    return np.clip((x - low) / (np.asarray(high, float) - low), 0, 1)


def noise(x, seed=0):
    """Gradient noise along a line, in about -1 to 1."""
    from .motion.gradient_noise import fractal, permutation

    x, seed = np.broadcast_arrays(np.asarray(x, float), np.asarray(seed, float))
    at = np.stack([x.ravel(), 0.37 + 17.13 * seed.ravel(), np.full(x.size, 0.61)], axis=1)
    if not np.isfinite(at).all():
        return np.full(x.shape, np.nan)
    return fractal(at, permutation(0)).reshape(x.shape)


def rand(element, seed=0):
    """A number in 0 to 1 that depends only on the element (a copy's i, say) and the seed."""
    element, seed = np.broadcast_arrays(np.asarray(element, float), np.asarray(seed, float))
    if not (np.isfinite(element).all() and np.isfinite(seed).all()):
        return np.full(element.shape, np.nan)
    code = np.floor(element).astype(np.int64) * 1_000_003 + np.floor(seed).astype(np.int64)
    return hashed(0, code.view(np.uint64), "formula")


# name -> (function, fewest and most arguments, what it gives)
FUNCTIONS: dict[str, tuple[Callable, int, int, str]] = {
    "sin": (np.sin, 1, 1, "sine of an angle in radians"),
    "cos": (np.cos, 1, 1, "cosine of an angle in radians"),
    "tan": (np.tan, 1, 1, "tangent of an angle in radians"),
    "asin": (np.arcsin, 1, 1, "angle in radians whose sine is x"),
    "acos": (np.arccos, 1, 1, "angle in radians whose cosine is x"),
    "atan": (np.arctan, 1, 1, "angle in radians whose tangent is x"),
    "atan2": (np.arctan2, 2, 2, "angle in radians of the point (x, y), given as y, x"),
    "sqrt": (np.sqrt, 1, 1, "square root"),
    "exp": (np.exp, 1, 1, "e to the power of x"),
    "log": (np.log, 1, 1, "natural logarithm"),
    "abs": (np.abs, 1, 1, "without its sign"),
    "floor": (np.floor, 1, 1, "the whole number below"),
    "ceil": (np.ceil, 1, 1, "the whole number above"),
    "round": (np.round, 1, 1, "the nearest whole number"),
    "sign": (np.sign, 1, 1, "-1, 0 or 1"),
    "min": (lambda *a: np.minimum.reduce(np.broadcast_arrays(*a)), 2, 9, "the smallest"),
    "max": (lambda *a: np.maximum.reduce(np.broadcast_arrays(*a)), 2, 9, "the largest"),
    "clamp": (lambda x, low, high: np.minimum(np.maximum(x, low), high), 3, 3, "x kept between low and high"),
    "mix": (lambda a, b, t: a + (np.asarray(b, float) - a) * t, 3, 3, "from a at t = 0 to b at t = 1"),
    "ramp": (ramp, 3, 3, "0 below low, 1 above high, straight between: ramp(low, high, x)"),
    "smoothstep": (smoothstep, 3, 3, "the same with a smooth rise: smoothstep(low, high, x)"),
    "noise": (noise, 1, 2, "smooth noise in -1 to 1: noise(t), noise(t, seed)"),
    "rand": (rand, 1, 2, "a random number in 0 to 1, by element and seed: rand(i), rand(i, seed)"),
}
NAMES = {
    "t": "time in seconds",
    "frame": "the frame",
    "i": "which copy, from 0 (0 when there are none)",
    "n": "how many copies (1 when there are none)",
    "loop": "place in the loop range, 0 at its start and 1 at its end",
    "pi": "3.14159…",
}


class Refused(ValueError):
    """A formula that cannot be read, and why."""


@lru_cache(maxsize=2048)
def read(text: str, inputs: tuple[str, ...] = ()) -> ast.expr:
    """The tree of a formula. Raises Refused when it is not one, or names something unknown."""
    if len(text) > LONGEST:
        raise Refused(f"is {len(text):,} characters long; at most {LONGEST:,} are read")
    try:
        tree = ast.parse(text.strip(), mode="eval").body
        _check(tree, inputs, 0)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as err:
        if isinstance(err, Refused):
            raise
        where = f" near character {err.offset}" if isinstance(err, SyntaxError) and err.offset else ""
        raise Refused(f"cannot be read{where}" if text.strip() else "is empty") from None
    return tree


def _check(node, inputs, depth):
    if depth > 60:
        raise Refused("is nested too deeply")
    deeper = lambda *parts: [_check(p, inputs, depth + 1) for p in parts]
    match node:
        case ast.Constant(value=bool() | int() | float()):
            # a whole number of many digits is no float at all
            if not -LARGEST <= node.value <= LARGEST:
                raise Refused("holds a number that is too large")
        case ast.Name():
            if node.id not in NAMES and node.id not in inputs:
                known = ", ".join([*inputs, *NAMES])
                more = f"; write {node.id}(…)" if node.id in FUNCTIONS else ""
                raise Refused(f"names “{node.id}”, which is unknown here (known: {known}){more}")
        case ast.BinOp() if type(node.op) in _BINARY:
            deeper(node.left, node.right)
        case ast.UnaryOp(op=ast.USub() | ast.UAdd()):
            deeper(node.operand)
        case ast.Compare() if all(type(op) in _COMPARE for op in node.ops):
            deeper(node.left, *node.comparators)
        case ast.IfExp():
            deeper(node.test, node.body, node.orelse)
        case ast.Call(func=ast.Name(id=name), keywords=[]):
            if name not in FUNCTIONS:
                raise Refused(f"calls “{name}”, which is unknown here (known: {', '.join(FUNCTIONS)})")
            _, least, most, _ = FUNCTIONS[name]
            if not least <= len(node.args) <= most:
                wants = f"{least}" if least == most else f"{least} to {most}"
                raise Refused(f"gives {name} {len(node.args)} values; it takes {wants}")
            deeper(*node.args)
        case _:
            raise Refused(f"holds “{ast.unparse(node)[:40]}”, which is no arithmetic")


def work_out(text: str, names: dict, inputs: tuple[str, ...] = ()):
    """The value of a formula: a float, or an array where a name is one. Not finite where the arithmetic fails."""
    with np.errstate(all="ignore"):
        return _value(read(text, inputs), names)


def _value(node, names):
    match node:
        case ast.Constant():
            return np.float64(node.value)
        case ast.Name():
            return np.pi if node.id == "pi" else names[node.id]
        case ast.BinOp():
            return _BINARY[type(node.op)](_value(node.left, names), _value(node.right, names))
        case ast.UnaryOp():
            value = _value(node.operand, names)
            return -value if isinstance(node.op, ast.USub) else value
        case ast.Compare():
            result, left = True, _value(node.left, names)
            for op, right in zip(node.ops, node.comparators, strict=True):
                right = _value(right, names)
                result, left = np.logical_and(result, _COMPARE[type(op)](left, right)), right
            return np.asarray(result, float)
        case ast.IfExp():
            parts = (_value(p, names) for p in (node.test, node.body, node.orelse))
            test, yes, no = parts
            return np.where(np.asarray(test) != 0, yes, no)
        case ast.Call():
            return FUNCTIONS[node.func.id][0](*(_value(a, names) for a in node.args))


def refusal(err: Refused, what: str) -> EstampaError:
    return EstampaError(what, f"{err}.", "Correct the formula, for example 0.4 + 0.3 * sin(t).")
