"""The processor that numbers are worked out for, fixed so that the same scene gives the same bits on several machines.

Compiled kernels, NumPy and its linear algebra each pick what the machine has, and wider vectors add in another order.
Where a machine has what the x86-64-v3 level asks for (x86-64 psABI: AVX2, FMA, BMI), all three are held to that level;
elsewhere they take what there is. It must be settled before Numba and NumPy load; `name()` says what came of it, and is
part of every solved frame's key.
"""

import os
import sys
from functools import cache
from pathlib import Path

LEVEL = "x86-64-v3"
_NEEDED = {"avx2", "fma", "bmi1", "bmi2", "f16c", "movbe", "abm"}  # as Linux names them
_WIDER = "X86_V4 AVX512_ICL AVX512_SPR"  # what NumPy would pick besides


def settle() -> None:
    """Set the level in the environment, where nobody has set one; before Numba and NumPy load."""
    flags = _flags()
    if not flags >= _NEEDED:
        return
    os.environ.setdefault("NUMBA_CPU_NAME", LEVEL)
    if os.environ["NUMBA_CPU_NAME"] == LEVEL:
        os.environ.setdefault("NUMBA_CPU_FEATURES", "+avx2,+fma,+bmi2")
    os.environ.setdefault("OPENBLAS_CORETYPE", "Haswell")
    if "avx512f" in flags and "numpy" not in sys.modules:
        os.environ.setdefault("NPY_DISABLE_CPU_FEATURES", _WIDER)


# Kernels of these folders are compiled into one another, across files
TOGETHER = (
    ("solve/contact", "solve/cloth"), ("motion",), ("geometry", "solve/ragdoll"), ("solve/rods",), ("solve/stems",)
)  # fmt: skip


def forget_stale_kernels() -> None:
    """Remove compiled kernels of a group of folders in which a file has changed since.

    Numba looks at the file of a kernel alone, and not at those of the kernels that it was compiled with: a changed
    one would go on in its old form, and be called in its new one.
    """
    home = Path(__file__).parent
    for folders in TOGETHER:
        files = sorted(f for folder in folders for f in (home / folder).glob("*.py"))
        mark = "\n".join(f"{f.name} {f.stat().st_size} {f.stat().st_mtime_ns}" for f in files)
        note = home / folders[0] / "__pycache__" / "kernels.mark"
        try:
            if note.exists() and note.read_text() == mark:
                continue
            for folder in folders:
                for index in (home / folder / "__pycache__").glob("*.nbi"):
                    index.unlink(missing_ok=True)
            note.parent.mkdir(exist_ok=True)
            note.write_text(mark)
        except OSError:  # a folder that is only read: nothing was compiled into it
            continue


@cache
def name() -> str:
    """What kernels and NumPy work for, as "x86-64-v3"; with more words where a script had loaded them before."""
    from llvmlite import binding
    from numba.core import config
    from numpy._core._multiarray_umath import __cpu_features__ as numpy_has

    compiled = config.CPU_NAME or binding.get_host_cpu_name()
    wide = "/wide" if compiled == LEVEL and numpy_has.get("X86_V4") else ""
    return compiled + wide


def _flags() -> set[str]:
    try:
        lines = Path("/proc/cpuinfo").read_text().splitlines()
    except OSError:
        return set()
    return set(next((line.split(":", 1)[1].split() for line in lines if line.startswith("flags")), ()))
