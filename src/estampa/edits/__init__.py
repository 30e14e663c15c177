"""The edits of a scene. The window, the command line and scripts all use these, so all can be undone."""

from .channels import link, reset_value, set_computed, set_formula, set_value, set_values
from .keys import move_key, remove_key, set_curve, set_curves, set_extend, set_key, set_segment, set_tangent
from .maps import add_map, add_target, remove_map, remove_target, rename_map, set_map
from .names import Names, free_name, unique_name
from .ranges import set_loop, set_range
from .things import (
    add_layer,
    add_mesh,
    add_thing,
    duplicate,
    mesh_ref,
    move_layer,
    remove,
    rename,
    set_locked,
    set_on,
    set_spots,
    set_start,
    split,
)

__all__ = [
    "Names",
    "add_layer",
    "add_map",
    "add_mesh",
    "add_target",
    "add_thing",
    "duplicate",
    "free_name",
    "link",
    "mesh_ref",
    "move_key",
    "move_layer",
    "remove",
    "remove_key",
    "remove_map",
    "remove_target",
    "rename",
    "rename_map",
    "reset_value",
    "set_computed",
    "set_curve",
    "set_curves",
    "set_extend",
    "set_formula",
    "set_key",
    "set_locked",
    "set_loop",
    "set_map",
    "set_on",
    "set_range",
    "set_segment",
    "set_spots",
    "set_start",
    "set_tangent",
    "set_value",
    "set_values",
    "split",
    "unique_name",
]
