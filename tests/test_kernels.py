"""Kernels: each is compiled for one sort of arguments, since every further one costs seconds at the first use."""

import json
import subprocess
import sys

SCRIPT = """
import json, sys
import estampa
from estampa import warm
warm.warm()
from numba.core.dispatcher import Dispatcher
found = {}
for name, module in list(sys.modules.items()):
    for word, value in list(vars(module).items()) if name.startswith("estampa") else ():
        if isinstance(value, Dispatcher) and value.py_func.__module__.startswith("estampa"):
            found[f"{name}.{word}"] = [str(s) for s in value.signatures]
print(json.dumps(found))
"""


def test_every_kernel_that_is_called_has_one_signature():
    run = [sys.executable, "-c", SCRIPT]
    subprocess.run(run, capture_output=True, check=True)  # from here on all is there, and helpers are not compiled anew
    made = subprocess.run(run, capture_output=True, text=True, check=True)
    found = json.loads(made.stdout.splitlines()[-1])
    called = {name: signatures for name, signatures in found.items() if signatures}
    assert len(called) > 25, "what prepares the program calls the kernels"
    several = {name: signatures for name, signatures in called.items() if len(signatures) > 1}
    assert not several, several
