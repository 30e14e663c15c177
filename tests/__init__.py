"""Set before anything else is imported, so that what is solved in the tests has the bits that it has in the program."""

import os

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("NUMBA_NUM_THREADS", "2")  # also on one processor, so that what is said of threads is tried

import estampa  # settles the compile target before NumPy loads

assert estampa
