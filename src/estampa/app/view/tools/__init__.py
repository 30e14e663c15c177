"""The tools that act in a pane. Each is an object with press, move, release and draw."""

from .gradient import Gradient
from .hand import Hand
from .joints import ChainTool, Joints
from .match import Match
from .paint import Paint
from .pick import Pick
from .place import Placing
from .tool import OrbitTool, Pan, Tool

TOOLS: dict[str, type[Tool]] = {
    "hand": Hand,
    "pick": Pick,
    "gradient": Gradient,
    "place": Placing,
    "joint": Joints,
    "chain": ChainTool,
    "paint": Paint,
    "match": Match,
}

__all__ = ["TOOLS", "OrbitTool", "Pan", "Tool"]
