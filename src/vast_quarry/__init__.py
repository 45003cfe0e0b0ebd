"""Vast Quarry: from overlapping photos to a clean, upright, textured model."""

import os

# GNU OpenMP is there on every machine that numba's wheels run on; other layers warn or are not thread-safe
os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")

__version__ = "0.1.0"
